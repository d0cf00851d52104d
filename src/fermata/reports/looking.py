"""Questions about people that are no sums: who was inside at a time, who was near whom, what is unusual for somebody."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from fermata.analysis.combine import gather
from fermata.analysis.filters import Condition
from fermata.analysis.finish import value
from fermata.analysis.identify import opened
from fermata.analysis.presence import Contacts, inside_at
from fermata.analysis.stages import inside, select
from fermata.analysis.unusual import find
from fermata.errors import RequestError
from fermata.reports import caveats
from fermata.reports.model import Report
from fermata.reports.resolve import resolve
from fermata.reports.result import Records
from fermata.reports.run import Workplace, check_values, context_of
from fermata.timeline.lengths import exact
from fermata.timeline.periods import Period
from fermata.timeline.words import stamp

__all__ = ["contacts", "inside_now", "unusual"]

MICROSECOND = timedelta(microseconds=1)
Column = tuple[str, str, str, str, int]


def inside_now(
    report: Report,
    place: Workplace,
    now: datetime,
    at: datetime,
    *,
    opening: Sequence[str] = ("in",),
    closing: Sequence[str] = ("out",),
    back: str = "24 hours",
) -> Records:
    """Who is inside at the instant `at` (aware): whose last reading in the `back` before it is an entry. By place, then name."""
    start = (at - exact(back)).astimezone(UTC)
    period = f"{start.replace(tzinfo=None).isoformat()}Z/{at.astimezone(UTC).replace(tzinfo=None).isoformat()}Z"
    report = report.changed(
        period=period,
        columns=(
            "distinct user",
            *(f"distinct {n}" for n in ("device", "place") if n in place.schemas[report.log].by_name),
        ),
    )
    plan = resolve(report, place, now)
    strand = plan.strands[0]
    if "user" not in strand.schema.by_name or "action" not in strand.schema.by_name:
        raise RequestError(f"the log {strand.schema.name} has no user or no action, so nobody goes in or out")
    checked = resolve(report.changed(only=(*report.only, Condition("action", "is", (*opening, *closing)))), place, now)
    check_values(checked, place, place.source(checked))
    engine, table = opened(dataclasses.replace(strand, uses=()), place.source(plan))
    here = inside(select(table, strand), plan, strand, spans=False)
    last = inside_at(here, strand.schema, at.astimezone(UTC).replace(tzinfo=None), opening, closing)
    extra = [n for n in ("place", "device") if n in strand.schema.by_name]
    rows = engine.run(last.select("start_utc", "person", *extra, "file_id", "record_no")).to_pylist()
    rows.sort(key=lambda r: (*(str(r[n]) for n in extra[:1]), r["person"]))
    columns: list[Column] = [(n, n.capitalize(), "text", "", 0) for n in extra]
    columns += [
        ("user", "User", "text", "", 0),
        ("since", "Read at", "time", "", 0),
        ("for", "For", "duration", "h:mm:ss", 0),
        ("record", "Record", "text", "", 0),
    ]
    naive = at.astimezone(UTC).replace(tzinfo=None)
    listed = tuple(
        (
            *(r[n] for n in extra),
            r["person"],
            r["start_utc"],
            (naive - r["start_utc"]) // MICROSECOND,
            f"{r['file_id']}:{r['record_no']}",
        )
        for r in rows
    )
    zone = plan.stretch.calendar.zone
    head = dataclasses.replace(
        context_of(plan, place, now), title=f"Inside at {stamp(at, zone)[:16]}, by {strand.schema.name}",
        period=(words := f"last readings of the {back} before {stamp(at, zone)}"), period_text=words,
    )  # fmt: skip
    notes = [
        f"inside is whose last reading is {' or '.join(opening)}; who has none in the {back} before is not looked for",
        *caveats.known_beforehand(plan, place),
    ]
    if extra:
        notes.insert(0, f"{len({r['person'] for r in rows})} people inside")
    return Records(head.title, head, tuple(columns), listed, len(listed), notes=tuple(notes))


def contacts(report: Report, place: Workplace, now: datetime, person: str, *, within: str, at: str) -> Records:
    """Who was at the same place (the field `at`) as somebody, no more than `within` apart, in the report's period."""
    whole = report.changed(columns=("distinct user", f"distinct {at}"))
    plan = resolve(whole, place, now)
    strand = plan.strands[0]
    wanted = resolve(whole.changed(only={"user": person}), place, now).strands[0].selection.only[0]
    engine, table = opened(strand, place.source(plan))
    here = inside(select(table, strand), plan, strand, spans=strand.schema.spans)
    asked = Contacts(tuple(map(str, wanted.values)), at, exact(within) if within != "0" else timedelta(0))
    if (
        not engine.run(here.filter(here.person.isin(asked.person)).aggregate(n=lambda t: t.count()))
        .column(0)[0]
        .as_py()
    ):
        known = "" if wanted.known else ", and no register knows the name"
        raise RequestError(f"{strand.schema.name} has no event of {person!r} in {plan.stretch.words}{known}")
    rows = engine.run(asked.by_person(here, strand.schema)).to_pylist()
    rows.sort(key=lambda r: (-r["times"], r["person"], str(r["where"])))
    columns: tuple[Column, ...] = (
        ("user", "User", "text", "", 0), (at, at.capitalize(), "text", "", 0), ("times", "Times", "number", "", 0),
        ("first", "First", "time", "", 0), ("last", "Last", "time", "", 0),
        ("nearest", "Nearest", "duration", "h:mm:ss", 0), ("together", "Together", "duration", "h:mm:ss", 0),
    )  # fmt: skip
    listed = tuple(
        tuple(r[k] for k in ("person", "where", "times", "first", "last", "nearest", "together")) for r in rows
    )
    head = dataclasses.replace(
        context_of(plan, place, now), title=f"Near {' or '.join(asked.person)}: same {at}, within {within}"
    )
    notes = ["a time is a pair of stays, one of each, no further apart than that; nearest 0:00:00 is at once"]
    if not strand.schema.spans:
        notes.append(
            f"{strand.schema.name} has moments only, so nobody is together for a time; ask a log of visits for that"
        )
    notes += caveats.known_beforehand(plan, place)
    return Records(head.title, head, columns, listed, len(listed), notes=tuple(notes))


def unusual(
    report: Report, place: Workplace, now: datetime, *, unit: str = "day", history: int = 28, factor: float = 2.0
) -> Records:
    """Units of the report's period in which a group of `by` (user unless told) has far more than its own usual.

    The figure is the report's first column; the history is all before the period, of at least `history` units since the
    group's first event.
    """
    by = report.by or ("user",)
    logs = place.extent(report.log)
    stretch = Period.parse(report.period, place.calendar).resolve(
        now, (logs[0], place.until(report.log)) if logs else None
    )
    text = f"../{stretch.end.astimezone(UTC).replace(tzinfo=None).isoformat()}Z"
    plan = resolve(report.changed(period=text, by=(*by, unit), totals=False, columns=report.columns[:1]), place, now)
    if plan.by[-1].kind != "unit":
        raise RequestError(f"{unit} is no calendar unit; history is counted in days, weeks or months")
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
    kind, of, scale = column.kind
    named = [d.label for d in plan.by[:-1]]
    columns = [(d.name, label, "text", "", 0) for d, label in zip(plan.by, named, strict=False)]
    columns += [(unit, unit.capitalize(), "text", "", 0)]
    columns += [
        (n, label, str(kind), of, scale)
        for n, label in (
            ("figure", column.label),
            ("usual", "Usual at most"),
            ("median", "Median"),
            ("highest", "Highest before"),
        )
    ]
    columns += [("history", f"{unit.capitalize()}s of history", "number", "", 0)]
    listed = tuple(
        (*map(str, f.group), slots[f.unit].label, f.figure, f.usual, f.median, f.highest, f.history) for f in found
    )
    head = dataclasses.replace(
        context_of(plan, place, now), title=f"Unusual {column.label[:1].lower()}{column.label[1:]} in {report.log}, by {', '.join(by)}",
        period=f"{stretch.words}, against all before",
    )  # fmt: skip
    notes = [
        f"unusual is more than {factor:g} times the 95th percentile of one's own {unit}s since one's first event (those without any "
        f"counted as 0, and a percentile of 0 as the smallest figure of the history); at least {history} {unit}s of history are needed"
    ]
    if short:
        shown = ", ".join(" ".join(map(str, g)) for g in short[:5]) + (" ..." if len(short) > 5 else "")
        notes.append(f"{len(short):,} have too short a history for a claim: {shown}")
    notes += caveats.known_beforehand(plan, place)
    return Records(head.title, head, tuple(columns), listed, len(listed), notes=tuple(notes))
