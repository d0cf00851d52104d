"""What is unusual for somebody: far more than their own usual."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from fermata.analysis.cells import value
from fermata.analysis.combine import gather
from fermata.analysis.plan import Plan
from fermata.analysis.unusual import find
from fermata.errors import RequestError, plural
from fermata.notes import Note
from fermata.reports.compile.filter_values import check_values
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.figures import context_by
from fermata.reports.execute.notes import known_beforehand
from fermata.reports.requests import Unusual
from fermata.reports.result import ColumnDef, Records
from fermata.timeline import Stretch
from fermata.timeline.words import stamp

__all__ = ["asked", "unusual"]


def asked(request: Unusual, place: Workplace) -> Records:
    """The answer to a question for what is unusual."""
    ask = request.report.ask
    assert ask
    report = request.report.changed(ask=None)
    return unusual(
        report,
        request.stretch,
        place,
        request.now,
        request.digest,
        unit=ask.unit,
        history=ask.history,
        factor=ask.factor,
    )


def unusual(
    report: Report, stretch: Stretch, place: Workplace, now: datetime, digest: str = "", *, unit: str = "day",
    history: int = 28, factor: float = 2.0,
) -> Records:  # fmt: skip
    """Units of the report's period in which a group of `by` (user by default) has far more than its own usual.

    The figure is the report's first column; the history is all before the period, of at least `history` units since the
    group's first event.
    """
    by = report.by or ("user",)
    extent = place.extent(report.log)
    if extent and extent[0] >= stretch.end:
        began = stamp(extent[0], stretch.calendar.zone)[:16]
        raise RequestError(f"{report.log} begins on {began}; nothing before it can be held against what is usual")
    text = f"../{stretch.end.astimezone(UTC).replace(tzinfo=None).isoformat()}Z"
    plan = resolve(report.changed(period=text, by=(*by, unit), totals=False, columns=report.columns[:1]), place, now)
    if plan.by[-1].kind != "unit":
        raise RequestError(f"{unit} is no calendar unit; history is counted in days, weeks or months")
    said = check_values(plan, place, place.source(plan))
    column = plan.columns[0]
    if column.kind[0] not in ("number", "duration", "money", "decimal"):
        raise RequestError(f"{column.label} is a {column.kind[0]}; what is usual is said of counts and amounts")
    level = plan.by
    figures: dict[Any, dict[int, int]] = {}
    for key, parts in gather(plan, place.source(plan))[level].items():
        if all(k is not None for k in key[:-1]):
            figures.setdefault(key[:-1], {})[key[-1]] = value(plan, column, parts, None) or 0
    slots = plan.slots(unit)
    first = next((i for i, s in enumerate(slots) if s.start >= stretch.start), len(slots))
    wanted = range(first, len(slots))
    begun = {group: range(min(units), first) for group, units in figures.items()}
    found, short = find(figures, begun, wanted, least=history, factor=factor)
    listed = tuple(
        (*map(str, f.group), slots[f.unit].label, f.figure, f.usual, f.median, f.highest, f.history) for f in found
    )
    title = f"Unusual {column.label[:1].lower()}{column.label[1:]} in {report.log}, by {', '.join(by)}"
    head = dataclasses.replace(
        context_by(plan, place, now, digest),
        title=title,
        period=f"{stretch.words}, against all before",
        period_exact=stretch.exact,
        period_text=stretch.text,
    )
    ready = sum(len(before) >= history for before in begun.values())
    notes = [*_told(by, unit, history, factor, ready, len(found), short), *said, *known_beforehand(plan, place)]
    return Records(head.title, head, _columns(plan, unit), listed, len(listed), notes=tuple(notes))


def _told(
    by: Sequence[str], unit: str, history: int, factor: float, ready: int, found: int, short: list[Any]
) -> list[Note]:
    """What is called unusual, how many have the history for it, and whether nobody is."""
    told = (
        f"unusual is more than {factor:g} times the 95th percentile of one's own {unit}s since one's first event "
        "(those without any counted as 0, and a percentile of 0 as the smallest figure of the history); "
        f"at least {history} {unit}s of history are needed"
    )
    notes = [Note(told, "method")]
    if not ready:
        notes.append(Note(f"nobody has {history} {unit}s of history before the period: nothing examined", "examined"))
    elif not found:
        who = f"{ready:,} {plural(by[0]) if len(by) == 1 else 'groups'}"
        notes.append(Note(f"nothing is beyond the usual of the {who} with enough history", "usual"))
    if short:
        shown = ", ".join(" ".join(map(str, g)) for g in short[:5]) + (" ..." if len(short) > 5 else "")
        notes.append(Note(f"{len(short):,} have too short a history for a claim: {shown}", "scope"))
    return notes


def _columns(plan: Plan, unit: str) -> tuple[ColumnDef, ...]:
    """The group, the unit, its figure beside what is usual, and how long the history is."""
    kind, of, scale = plan.columns[0].kind
    figures = (
        ("figure", plan.columns[0].label), ("usual", "Usual at most"), ("median", "Median"),
        ("highest", "Highest before"),
    )  # fmt: skip
    return (
        *(ColumnDef(d.name, d.label) for d in plan.by[:-1]),
        ColumnDef(unit, unit.capitalize()),
        *(ColumnDef(name, label, str(kind), of, scale) for name, label in figures),
        ColumnDef("history", f"{unit.capitalize()}s of history", "number"),
    )
