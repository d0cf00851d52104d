"""From a report to a plan: names checked, the period made absolute, columns gathered into strands."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Protocol

from fermata.analysis.filters import Condition, Selection
from fermata.analysis.measures import Measure
from fermata.analysis.plan import ColumnPlan, Dimension, Lookup, Plan, Strand
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.registers.directory import Directory, kind
from fermata.reports.everyone import zero_rows
from fermata.reports.model import Report
from fermata.timeline import Calendar, Period, Stretch
from fermata.timeline.zones import to_utc, zone

__all__ = ["Logs", "resolve"]


class Logs(Protocol):
    """What a report needs to know of a workspace's logs."""

    calendar: Calendar
    schemas: Mapping[str, LogSchema]
    registers: Directory

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, aware UTC, both inclusive; None if it holds none."""

    def until(self, log: str) -> datetime:
        """The end of what the log holds, aware UTC, excluded: past its last start and its last finish."""


def resolve(report: Report, logs: Logs, now: datetime, *, every_field: bool = False) -> Plan:
    """The plan of `report` at the instant `now`. Raises UnknownName, RequestError; reads no events.

    With `every_field`, names are resolved in all fields, for a listing, and not just in those the report asks about.
    """
    calendar = logs.calendar
    if report.zone:
        zone(report.zone)
        calendar = dataclasses.replace(calendar, zone_name=report.zone)
    strands: list[tuple[LogSchema, Selection]] = []
    columns = []
    for spec in report.columns:
        schema = logs.registers.widened(known_log(logs, spec.log or report.log))
        chosen = _joined(report.selection, spec.selection).checked(schema)
        selection = _identities(chosen, schema, logs.registers)
        if (schema, selection) not in strands:
            strands.append((schema, selection))
        measure = Measure.parse(spec.measure)
        measure.type_in(schema)
        columns.append(ColumnPlan(spec.heading, measure, strands.index((schema, selection))))
    by = tuple(Dimension.of(name, [s for s, _ in strands], calendar) for name in report.by)
    across = Dimension.of(report.across, [s for s, _ in strands], calendar) if report.across else None
    extents = [e for s, _ in strands if (e := logs.extent(s.name))]
    if not extents:
        names = ", ".join(dict.fromkeys(s.name for s, _ in strands))
        raise RequestError(f"the log {names} holds no events yet; import some with: fermata import {names}")
    whole = (min(a for a, _ in extents), max(logs.until(s.name) for s, _ in strands if logs.extent(s.name)))
    stretch = Period.parse(report.period, calendar).resolve(now, whole)

    def strand(number: int, schema: LogSchema, selection: Selection) -> Strand:
        measures = tuple((i, c.measure) for i, c in enumerate(columns) if c.strand == number)
        asked = [d.name for d in (*by, *((across,) if across else ())) if not d.calendar]
        asked += [c.field for c in selection.conditions]
        asked += [of for _, m in measures if (of := (m.base or m).of)]
        wanted = [*schema.by_name] if every_field else asked
        return Strand(schema, selection, measures, lookups(logs.registers, schema, wanted, stretch))

    return Plan(
        title=report.title or _title(report, columns, by, across),
        stretch=stretch,
        by=by,
        across=across,
        strands=tuple(strand(n, schema, selection) for n, (schema, selection) in enumerate(strands)),
        columns=tuple(columns),
        sort=_sort(report, columns, by),
        top=report.top,
        totals=report.totals,
        zeros=zero_rows(report.every, by, strands[0][0], logs.registers, stretch, strands[0][1].only)
        if report.every
        else (),
        known=known_at(report.known, calendar, now) if report.known else None,
    )


def known_at(text: str, calendar: Calendar, now: datetime) -> datetime:
    """The instant that a time, or the end of a date or period, means in the calendar's zone. Raises RequestError."""
    if re.fullmatch(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?([+-]\d\d:\d\d|Z)?", text):
        at = datetime.fromisoformat(text)
        return at if at.tzinfo else to_utc(at, calendar.zone)
    return Period.parse(text, calendar).resolve(now).end


def lookups(registers: Directory, schema: LogSchema, wanted: Iterable[str], stretch: Stretch) -> tuple[Lookup, ...]:
    """What of the registers a strand over the stretch needs; spans may have begun at any time before it."""
    start = None if schema.spans else stretch.start.astimezone(UTC).replace(tzinfo=None)
    end = stretch.end.astimezone(UTC).replace(tzinfo=None)
    found = []
    for field, register, attributes, whole, rows in registers.rows(schema, wanted, start, end):
        columns = {"text": "text", "since": "time", "until": "time", "label": "text"}
        columns |= {a: "texts" if register.several(a) else "text" for a in attributes}
        values = tuple(tuple(_frozen(r[c]) for c in columns) for r in rows)
        found.append(Lookup(field.name, kind(field), register.digest, attributes, whole, columns, values))
    return tuple(found)


def _frozen(value: object) -> object:
    return tuple(value) if isinstance(value, list) else value


def _identities(selection: Selection, schema: LogSchema, registers: Directory) -> Selection:
    """The selection with every name in the place of which a register has an identity or a whole unit."""

    def one(condition: Condition) -> Condition:
        field = schema.field(condition.field)
        if condition.kind != "is" or field.type != "text":
            return condition
        meant = [registers.meant(field, str(v)) for v in condition.values]
        values = tuple(dict.fromkeys(v for found, _ in meant for v in found))
        known = all(known for _, known in meant)
        if values == condition.values and not known:
            return condition
        return Condition(field.name, "is", values, said=str(condition), known=known)

    only, without = (tuple(map(one, cs)) for cs in (selection.only, selection.without))
    return Selection(only, without, tuple(tuple(map(one, group)) for group in selection.any_of))


def known_log(logs: Logs, name: str) -> LogSchema:
    """The schema of the log called `name`. Raises UnknownName."""
    if name not in logs.schemas:
        raise UnknownName.of("log", name, logs.schemas)
    return logs.schemas[name]


def _joined(outer: Selection, inner: Selection) -> Selection:
    """Both selections: what a column keeps narrows what the report keeps, also where they name the same field."""
    narrower = tuple(tuple(c for c in inner.only if c.field == f) for f in dict.fromkeys(c.field for c in inner.only))
    return Selection(outer.only, outer.without + inner.without, outer.any_of + inner.any_of + narrower)


def _title(report: Report, columns: list[ColumnPlan], by: tuple[Dimension, ...], across: Dimension | None) -> str:
    heads = [c.label for c in columns]
    title = f"{report.log.capitalize()}: {', '.join([heads[0], *(h.lower() for h in heads[1:])])}"
    if by:
        title += " by " + ", ".join(d.name for d in by)
    return title + (f", {across.name} across" if across else "")


def _sort(report: Report, columns: list[ColumnPlan], by: tuple[Dimension, ...]) -> tuple[tuple[int, bool], ...]:
    found = []
    for text in report.sort:
        name, descending = text.removeprefix("-").strip(), text.startswith("-")
        places = {c.label.lower(): i for i, c in reversed(list(enumerate(columns)))}
        places |= {str(c.measure): i for i, c in reversed(list(enumerate(columns)))}
        places |= {d.name.lower(): -1 - i for i, d in enumerate(by)}
        key = name.lower() if name.lower() in places else name.lower().replace("-", " ")
        if key not in places:
            known = [*(c.label for c in columns), *(d.name for d in by)]
            raise UnknownName.of("column", name, known, where="to sort by")
        found.append((places[key], descending))
    if not found and report.top:
        return ((0, True),)
    return tuple(found)
