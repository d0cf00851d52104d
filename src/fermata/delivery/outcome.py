"""What became of an attempt to hand something over."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

__all__ = ["Outcome"]


@dataclass(frozen=True)
class Outcome:
    """`sent`; `later` (a failure that may pass); `refused` (one that will not); `doubt` (nobody can tell whether it arrived).

    `why` is what the other side or the system said; `to` are the recipients it is about, none for all.
    """

    state: Literal["sent", "later", "refused", "doubt"]
    why: str = ""
    to: tuple[str, ...] = ()
