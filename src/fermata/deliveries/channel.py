"""Ways from another package by which a result is handed over: `channel = "NAME"` in a delivery's target.

Another package declares a function as an entry point of the group `fermata.channels`:

    def hand_over(letter: Letter) -> Outcome: ...

Its files are on the shelf and stay as they are. What it returns decides what comes next: `later` is tried again, longer
and longer apart, `refused` is not, `doubt` stays with people or goes again under the same identity, as the delivery
says. An exception counts as `later` with its words.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path

from fermata.deliveries.outcome import Outcome
from fermata.errors import UnknownName

__all__ = ["Letter", "channels", "give"]


@dataclass(frozen=True)
class Letter:
    """What a channel hands over: `files`, the `subject` and `text` that a mail would have, to an `address` (what the
    target says). `identity` is the same whenever the same thing is tried again. `token` is the target's secret and is
    not to be printed. `options` are the target's.
    """

    address: str
    files: tuple[Path, ...]
    subject: str
    text: str
    identity: str
    token: str = field(default="", repr=False)
    options: Mapping[str, str] = field(default_factory=dict)


@functools.cache
def channels() -> dict[str, EntryPoint]:
    """The channels that are installed, by name."""
    return {e.name: e for e in entry_points(group="fermata.channels")}


def give(name: str, letter: Letter) -> Outcome:
    """Hands a letter over by a channel. Raises UnknownName; whatever the channel raises is an outcome."""
    if name not in channels():
        raise UnknownName.of("channel", name, channels(), where="(a package that declares it is not installed)")
    hand_over: Callable[[Letter], object] = channels()[name].load()
    try:
        found = hand_over(letter)
    except Exception as e:
        return Outcome("later", f"{name}: {e or type(e).__name__}")
    if not isinstance(found, Outcome):
        return Outcome("doubt", f"{name}: it returned {type(found).__name__}, not an Outcome")
    return found
