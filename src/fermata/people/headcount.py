"""Who must be accounted for when a base is cleared: by their readings since a time, by hand, and at an assembly
point.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fermata.analysis.filters import Selection
from fermata.analysis.identify import opened
from fermata.analysis.presence import last_readings
from fermata.analysis.stages import inside, select
from fermata.errors import RequestError
from fermata.notes import Note
from fermata.reports.compile.resolve import identities, resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.register_list import context
from fermata.reports.result import ColumnDef, Records
from fermata.timeline.lengths import exact
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone

__all__ = ["Mark", "Muster", "Person", "muster", "sheet"]

MISSING, DOUBTFUL, ACCOUNTED = "missing", "doubtful", "accounted for"


@dataclass(frozen=True)
class Mark:
    """Somebody was accounted for by hand at `at` (aware), by a helper; with `undone`, that was taken back."""

    name: str
    by: str
    at: datetime
    note: str = ""
    undone: bool = False


@dataclass(frozen=True)
class Person:
    """One line: who, in which group, where and when last read, why they are doubtful, and by what and when accounted
    for.
    """

    name: str
    group: str
    place: str
    device: str
    read: datetime | None
    why: str = ""
    by: str = ""
    at: datetime | None = None


@dataclass(frozen=True)
class Muster:
    """Everybody a clearing asks about, and how it stands."""

    people: tuple[Person, ...]
    out: int
    nameless: int

    def of(self, group: str) -> list[Person]:
        """Those of a group."""
        return [p for p in self.people if p.group == group]

    @property
    def missing(self) -> int:
        """How many are not accounted for yet, the doubtful among them."""
        return len(self.of(MISSING)) + len(self.of(DOUBTFUL))


def muster(
    report: Report,
    place: Workplace,
    now: datetime,
    *,
    since: datetime,
    began: datetime,
    opening: Sequence[str],
    closing: Sequence[str],
    back: str,
    outer: Selection,
    assembly: Selection,
    marks: Iterable[Mark] = (),
) -> Muster:
    """How a clearing that began at `began` stands at `now` (aware), by the readings of the report's log and by marks.

    Asked about is everybody with a reading in [since, began] who is not clearly out; who came in before `since`, within
    `back`, and has no way out, or whose last reading is neither a way in nor out, is doubtful, never left out. Readings
    after `began` count: a way in adds somebody, a way out or a reading that `assembly` keeps accounts for them; a later
    way in undoes either. Only ways out that `outer` keeps are ways out of the base.
    """
    start = (since - exact(back)).astimezone(UTC)
    whole = report.changed(period=f"{_text(start)}/{_text(now)}", columns=("distinct user", "distinct action"), by=())
    plan = resolve(whole, place, now, listed=())
    strand = plan.strands[0]
    if not {"user", "action"} <= strand.schema.by_name.keys():
        raise RequestError(f"the log {strand.schema.name} has no user or no action, so nobody goes in or out")
    engine, table = opened(strand, place.source(plan))
    here = inside(select(table, strand), plan, strand, spans=False)
    exits, chosen = (identities(s.checked(strand.schema), strand.schema, place.registers) for s in (outer, assembly))
    rows = engine.run(last_readings(here, strand.schema, _naive(began), opening, closing, exits, chosen)).to_pylist()
    nameless = engine.run(
        here.filter(here.person.isnull() & here.action.isin([*opening, *closing])).aggregate(n=lambda t: t.count())
    )
    by_hand: dict[str, Mark] = {}
    for mark in marks:  # in the order they were written: the clocks of helpers may differ
        by_hand[mark.name] = mark
    people, out = [], 0
    known = {r["person"] for r in rows}
    for row in rows:
        found = _judged(row, _naive(since), by_hand.get(row["person"]))
        out += found is None
        people += [found] if found else []
    people += [
        Person(m.name, ACCOUNTED, "", "", None, "not on the list", _said(m), m.at)
        for m in by_hand.values() if m.name not in known and not m.undone
    ]  # fmt: skip
    order = (MISSING, DOUBTFUL, ACCOUNTED)
    people.sort(key=lambda p: (order.index(p.group), p.place, p.name))
    return Muster(tuple(people), out, nameless.column(0)[0].as_py())


def _judged(row: dict[str, Any], since: datetime, mark: Mark | None) -> Person | None:
    """One person's line; None for who is clearly out."""
    last = row["any_start"]
    came = row["in_after"]
    asked, why = _asked(row, since)
    if came is not None:
        again = "went in again" if asked else "came in"
        asked, why = MISSING, f"{again} after the beginning"
    if asked is None and not (mark and not mark.undone):
        return None
    which = "any" if came is None else "in"
    where = (row[f"{which}_place"] or "", row[f"{which}_device"] or "", _aware(last if came is None else came))
    accounted = [(at, f"way out at {row['out_device'] or 'a reader'}") for at in [row["out_after"]] if at]
    accounted += [
        (at, f"reading at {row['assembly_device'] or 'the assembly point'}") for at in [row["assembly_after"]] if at
    ]
    if mark and not mark.undone:
        accounted.append((_naive(mark.at), _said(mark)))
    if accounted:
        at, by = max(accounted)
        if came is None or at >= came:
            return Person(row["person"], ACCOUNTED, *where, why, by, _aware(at))
        return Person(row["person"], MISSING, *where, f"came in again after being accounted for ({by})")
    return Person(row["person"], asked or MISSING, *where, why)


def _asked(row: dict[str, Any], since: datetime) -> tuple[str | None, str]:
    """The group somebody was in at the beginning, and why they are doubtful."""
    io, last = row["io_start"], row["any_start"]
    if io is not None and row["io_opening"]:
        return (MISSING, "") if io >= since else (DOUBTFUL, "came in before the time asked about, and no way out")
    if last is not None and last >= since and (io is None or last > io):
        return DOUBTFUL, f"last reading is {row['any_action']}, neither in nor out"
    return None, ""


def _said(mark: Mark) -> str:
    return mark.by + (f": {mark.note}" if mark.note else "")


def _naive(at: datetime) -> datetime:
    return at.astimezone(UTC).replace(tzinfo=None)


def _aware(at: datetime | None) -> datetime | None:
    return at.replace(tzinfo=UTC) if at else None


def _text(at: datetime) -> str:
    return f"{_naive(at).isoformat()}Z"


def sheet(
    found: Muster,
    title: str,
    place: Workplace,
    now: datetime,
    since: datetime,
    began: datetime,
    numbers: Mapping[str, int],
) -> Records:
    """The list to work with and to print: the missing first, by place, then the doubtful, then those accounted for;
    each person keeps their number.
    """
    tz = zone(place.calendar.zone_name)
    columns: tuple[ColumnDef, ...] = (
        ColumnDef("done", "Done"), ColumnDef("number", "No.", "number"), ColumnDef("group", "Group"),
        ColumnDef("place", "Place"),
        ColumnDef("user", "Name"), ColumnDef("device", "Last reading at"), ColumnDef("read", "Read", "time"),
        ColumnDef("by", "Accounted for by"), ColumnDef("at", "When", "time"), ColumnDef("why", "Remark"),
    )  # fmt: skip
    rows: tuple[tuple[Any, ...], ...] = tuple(
        (
            "[x]" if p.group == ACCOUNTED else "[ ]", numbers.get(p.name), p.group, p.place or None, p.name,
            p.device or None, p.read,
            p.by or None, p.at, p.why or None,
        )
        for p in found.people
    )  # fmt: skip
    words = f"readings since {stamp(since, tz)[:16]}, begun {stamp(began, tz)[:16]}, as of {stamp(now, tz)[:16]}"
    done = len(found.of(ACCOUNTED))
    state = "nobody is missing" if not found.missing else f"{found.missing} of {len(found.people)} not accounted for"
    head = dataclasses.replace(context(tz.key, now, f"{title}: {state}", words), filters="all events")
    notes = [
        Note(
            f"{len(found.of(MISSING))} missing, {len(found.of(DOUBTFUL))} doubtful, {done} accounted for; {found.out} "
            "were clearly out at the beginning",
            "count",
        ),
        Note("who came in behind somebody else, or without a reading, is on no list: ask", "safety"),
    ]
    if found.nameless:
        notes.append(Note(f"{found.nameless} ways in or out name nobody", "names"))
    kept = [
        i
        for i, c in enumerate(columns)
        if c.name in ("done", "number", "group", "user") or any(r[i] is not None for r in rows)
    ]
    columns, rows = tuple(columns[i] for i in kept), tuple(tuple(r[i] for i in kept) for r in rows)
    second = tuple(c.name for c in columns if c.name in ("by", "at", "why"))
    return Records(head.title, head, columns, rows, len(rows), notes=tuple(notes), second=second, large=True)
