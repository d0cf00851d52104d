"""From a report to a plan: names checked, the period made absolute, columns gathered into strands."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Mapping
from datetime import datetime
from typing import Protocol

from fermata.analysis.filters import Selection
from fermata.analysis.measures import Measure
from fermata.analysis.plan import ColumnPlan, Dimension, Plan, Strand
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.reports.model import Report
from fermata.timeline import Calendar, Period
from fermata.timeline.zones import to_utc, zone

__all__ = ["Logs", "resolve"]


class Logs(Protocol):
    """What a report needs to know of a workspace's logs."""

    calendar: Calendar
    schemas: Mapping[str, LogSchema]

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, aware UTC, both inclusive; None if it holds none."""

    def until(self, log: str) -> datetime:
        """The end of what the log holds, aware UTC, excluded: past its last start and its last finish."""


def resolve(report: Report, logs: Logs, now: datetime) -> Plan:
    """The plan of `report` at the instant `now`. Raises UnknownName, RequestError; reads no events."""
    calendar = logs.calendar
    if report.zone:
        zone(report.zone)
        calendar = dataclasses.replace(calendar, zone_name=report.zone)
    strands: list[tuple[LogSchema, Selection]] = []
    columns = []
    for spec in report.columns:
        schema = known_log(logs, spec.log or report.log)
        selection = _joined(report.selection, spec.selection).checked(schema)
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
    return Plan(
        title=report.title or _title(report, columns, by, across),
        stretch=Period.parse(report.period, calendar).resolve(now, whole),
        by=by,
        across=across,
        strands=tuple(
            Strand(schema, selection, tuple((i, c.measure) for i, c in enumerate(columns) if c.strand == n))
            for n, (schema, selection) in enumerate(strands)
        ),
        columns=tuple(columns),
        sort=_sort(report, columns, by),
        top=report.top,
        totals=report.totals,
        known=known_at(report.known, calendar, now) if report.known else None,
    )


def known_at(text: str, calendar: Calendar, now: datetime) -> datetime:
    """The instant that a time, or the end of a date or period, means in the calendar's zone. Raises RequestError."""
    if re.fullmatch(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?([+-]\d\d:\d\d|Z)?", text):
        at = datetime.fromisoformat(text)
        return at if at.tzinfo else to_utc(at, calendar.zone)
    return Period.parse(text, calendar).resolve(now).end


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
