"""How far deliveries have come, told from the shelf's record: what was due, what was made, what went out and what is in
doubt.

A run is a delivery at a planned time. An intent is written before anything is handed over; its outcome after. An intent
without an outcome is in doubt: the process may have been killed before, while or after the other side took it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

__all__ = ["GIVE_UP", "ByHand", "History", "Letter", "Run", "pause"]

FIRST, LONGEST, GIVE_UP = timedelta(minutes=5), timedelta(hours=6), timedelta(days=3)
LOOK_AGAIN = timedelta(days=1)  # at what holds a run back, while the archive stays as it is
FINAL = ("sent", "refused", "given up")


def pause(tries: int) -> timedelta:
    """How long to wait after so many failures: 5 minutes, then three times as long each time, 6 hours at most."""
    steps: int = 3 ** min(max(tries - 1, 0), 8)
    return min(FIRST * steps, LONGEST)


@dataclass
class Letter:
    """One message, set of files or request, known by its `identity`: whom it is for, and what became of it for each."""

    to: tuple[str, ...]
    states: dict[str, str] = field(default_factory=dict)
    why: str = ""
    tries: int = 0
    first: datetime | None = None
    last: datetime | None = None
    open: bool = False  # an intent without an outcome

    def begun(self, at: datetime) -> None:
        """Notes an intent."""
        self.open, self.first, self.last, self.tries = True, self.first or at, at, self.tries + 1

    def ended(self, outcomes: Iterable[Mapping[str, Any]]) -> None:
        """Notes the outcomes of an intent."""
        self.open = False
        for result in outcomes:
            self.states.update(dict.fromkeys(result["to"], result["state"]))
            self.why = result["why"] if result["state"] != "sent" else self.why

    @property
    def next(self) -> datetime | None:
        """When it is to be tried again; None where nobody is left, or it was never tried."""
        return self.last + pause(self.tries) if self.left and self.last else None

    @property
    def left(self) -> tuple[str, ...]:
        """Those it still has to reach."""
        return tuple(a for a in self.to if self.states.get(a) not in FINAL)

    @property
    def doubtful(self) -> tuple[str, ...]:
        """Those of whom nobody can tell whether it reached them."""
        return tuple(a for a in self.left if self.open or self.states.get(a) == "doubt")


@dataclass
class Run:
    """A delivery at a planned time. `over` is how it ended ("" while it has not), `stage` what it waits for or what
    failed, and `why`.
    """

    delivery: str
    planned: datetime
    begun: datetime
    by_hand: bool = False
    over: str = ""
    stage: str = ""
    why: str = ""
    tries: int = 0
    since: datetime | None = None  # the first failure in a row
    last: datetime | None = None
    archive: int = 0  # the state of the archive that a check last looked at
    made: bool = False
    items: dict[str, int] = field(default_factory=dict)  # part -> item of the shelf
    recipients: dict[str, tuple[str, ...]] = field(default_factory=dict)
    letters: dict[str, Letter] = field(default_factory=dict)

    def due(self, now: datetime, archive: int) -> bool:
        """Whether it is time to try again: what failed after a while, what is held or waits when the archive has
        changed, or a day later.
        """
        if self.last is None:
            return True
        if self.stage in ("held", "waits") and archive == self.archive:
            return now >= self.last + LOOK_AGAIN
        return not self.tries or now >= self.last + pause(self.tries)


@dataclass
class ByHand:
    """An item sent once more by hand: to which target (the keys of its table), told from others by `again`, and what
    became of it.
    """

    item: int
    target: Mapping[str, Any]
    again: str
    letter: Letter


@dataclass
class History:
    """All deliveries so far: when each was `first` seen, its runs by planned time, when it last went out, and names of
    files it placed; and what was sent `by_hand`, by identity.
    """

    first: dict[str, datetime] = field(default_factory=dict)
    runs: dict[tuple[str, datetime, bool], Run] = field(default_factory=dict)
    out: dict[str, datetime] = field(default_factory=dict)
    placed: dict[tuple[str, str, str], list[str]] = field(default_factory=dict)
    by_hand: dict[str, ByHand] = field(default_factory=dict)

    @classmethod
    def of(cls, entries: Iterable[Mapping[str, Any]]) -> History:
        """The history that the entries of the record tell."""
        found = cls()
        for entry in entries:
            found.add(entry)
        return found

    def add(self, entry: Mapping[str, Any]) -> None:
        """One more entry."""
        name, what = entry.get("delivery", ""), entry["what"]
        at = datetime.fromisoformat(entry["at"]) if "at" in entry else None
        if not name or at is None:
            self._of_hand(entry, at)
            return
        if what == "first seen":
            self.first[name] = at
            return
        planned = datetime.fromisoformat(entry["planned"])
        key = (name, planned, bool(entry.get("by_hand")))
        run = self.runs.setdefault(key, Run(name, planned, at, key[2]))
        if what == "kept":
            run.items[entry["part"]] = entry["item"]
        elif what == "part":
            run.recipients[entry["part"]] = tuple(entry["to"])
        elif what == "made":
            run.made, run.stage, run.why, run.tries, run.since = True, "", "", 0, None
        elif what in ("waits", "held", "failed"):
            run.stage, run.why, run.last, run.archive = what, entry["why"], at, entry.get("archive", 0)
            run.tries = run.tries + 1 if what == "failed" else 0
            run.since = (run.since or at) if what == "failed" else None
        elif what == "intent":
            run.letters.setdefault(entry["identity"], Letter(tuple(entry["all"]))).begun(at)
        elif what == "outcome":
            self._outcome(run, entry, at)
        elif what == "over":
            run.over, run.why = entry["how"], entry["why"]

    def _outcome(self, run: Run, entry: Mapping[str, Any], at: datetime) -> None:
        run.letters[entry["identity"]].ended(entry["outcomes"])
        for result in entry["outcomes"]:
            if result["state"] == "sent":
                self.out[run.delivery] = run.planned
                if entry.get("name"):
                    self.placed.setdefault((run.delivery, entry["part"], result["to"][0]), []).append(entry["name"])

    def _of_hand(self, entry: Mapping[str, Any], at: datetime | None) -> None:
        """An intent or outcome of an item sent by hand; those of older records do not say to which target, and are
        over.
        """
        identity = entry.get("identity", "")
        if entry["what"] == "intent" and "target" in entry and at:
            new = ByHand(entry["item"], entry["target"], entry["again"], Letter(tuple(entry["to"])))
            self.by_hand.setdefault(identity, new).letter.begun(at)
        elif entry["what"] == "outcome" and identity in self.by_hand:
            self.by_hand[identity].letter.ended(entry["outcomes"])

    @property
    def needed(self) -> set[int]:
        """The items of the shelf that somebody still waits for."""
        waiting = {h.item for h in self.by_hand.values() if h.letter.left}
        return waiting | {number for run in self.runs.values() if not run.over for number in run.items.values()}

    def of_delivery(self, name: str) -> list[Run]:
        """Its runs by planned time."""
        return sorted((r for r in self.runs.values() if r.delivery == name), key=lambda r: (r.planned, r.by_hand))

    def upto(self, name: str) -> datetime | None:
        """Up to when its timetable was looked through: its latest planned time, or when it was first seen; None for a
        new one.
        """
        planned = [r.planned for r in self.runs.values() if r.delivery == name and not r.by_hand]
        return max([*planned, *([self.first[name]] if name in self.first else [])], default=None)
