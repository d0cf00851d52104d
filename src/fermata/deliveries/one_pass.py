"""One pass over the timetable: where it stands, and what it writes into the record."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fermata.archive.shelf import Shelf
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import GIVE_UP, History, Run, pause
from fermata.proof import fingerprint
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone
from fermata.workspace.base import Base

__all__ = ["Pass"]


@dataclass
class Pass:
    """One pass over the timetable, with the archive in the state of that number; `named` if for one delivery only."""

    base: Base
    shelf: Shelf
    history: History
    now: datetime
    archive: int
    named: bool
    retry: bool
    told: list[Sent] = field(default_factory=list)

    def note(self, run: Run, what: str, **facts: Any) -> None:
        """Writes a line of the record, durably, and knows it."""
        entry = {
            "what": what, "delivery": run.delivery, "planned": fingerprint.utc(run.planned), "by_hand": run.by_hand,
            "at": fingerprint.utc(self.now), **facts,
        }  # fmt: skip
        self.shelf.record.add(entry)
        self.history.add(entry)

    def over(self, run: Run, how: str, why: str = "") -> Sent:
        """Notes that a run is over, and how."""
        self.note(run, "over", how=how, why=why)
        return Sent(run.delivery, run.planned, how, why=why)

    def failed(self, run: Run, why: str) -> Sent:
        """A run that could not be made: tried again after a while, given up after three days."""
        self.note(run, "failed", why=why)
        if run.since and self.now - run.since >= GIVE_UP:
            return self.over(run, "given up", why)
        return Sent(
            run.delivery,
            run.planned,
            "failed",
            why=f"{why} (tried again from {self.words(self.now + pause(run.tries))})",
        )

    def words(self, at: datetime) -> str:
        """An instant on the workspace's clock."""
        return stamp(at, zone(self.base.config.workspace.zone))[:16]

    def begun(self, run: Run) -> Run:
        """Notes that a run has begun."""
        self.note(run, "begun")
        return self.history.runs[run.delivery, run.planned, run.by_hand]
