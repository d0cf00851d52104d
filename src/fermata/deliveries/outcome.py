"""What became of an attempt to hand something over, and of a delivery."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

__all__ = ["Outcome", "Sent"]

FAILURES = ("failed", "later", "refused", "doubt", "missed", "given up", "no address", "in no part")


@dataclass(frozen=True)
class Outcome:
    """`sent`; `later` (a failure that may pass); `refused` (one that will not); `doubt` (nobody can tell whether it
    arrived).

    `why` is what the other side or the system said; `to` are the recipients it is about, none for all.
    """

    state: Literal["sent", "later", "refused", "doubt"]
    why: str = ""
    to: tuple[str, ...] = ()


@dataclass(frozen=True)
class Sent:
    """What became of a delivery's run, or of one handing over of it: `what` in a word (sent, later, refused, doubt,
    waits, held, failed, not needed, quiet, same period, missed, empty, no address, in no part, given up, first seen),
    `to` whom, and `why`.
    """

    delivery: str
    planned: datetime | None
    what: str
    to: str = ""
    why: str = ""
    part: str = ""

    @property
    def failed(self) -> bool:
        """Whether somebody should look at it."""
        return self.what in FAILURES
