"""What a run rests on, in marks that tell one state from another: the events it saw, the registers, the settings, the
versions.

The mark of a log's events is their number and the sum, modulo 2^64, of a number for each: the last eight bytes of the
MD5 (RFC 1321) of its text, the lowest byte first. The text is its fields in the order of their names, `name=value`
joined by U+001F, times as microseconds since 1970, lists joined by U+001E, empty fields left out. The sum depends
neither on the order of events nor on how they are stored, so putting files together changes nothing. Which file and
record an event came from is no part of it.
"""

from __future__ import annotations

import dataclasses
import hashlib
import json
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from importlib import metadata
from typing import Any

from fermata._version import __version__
from fermata.analysis.plan import Plan
from fermata.analysis.stages import naive
from fermata.digest import digest
from fermata.errors import FermataError, RequestError
from fermata.fields import LogSchema
from fermata.reports.compile.binding import bound
from fermata.reports.compile.parts import resolved
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.reports.requests import Request
from fermata.reports.result import Answer, Page, RunResult
from fermata.timeline.periods import Period, Stretch
from fermata.timeline.zones import changes, offset, zone
from fermata.workspace.base import Base
from fermata.workspace.place import Place, widened

__all__ = ["contents", "figures", "fingerprint", "inputs", "leaves", "period_at", "periods", "plans_of"]

EVER = datetime(1900, 1, 1, tzinfo=UTC), datetime(9000, 1, 1, tzinfo=UTC)
SOURCE = ("file_id", "record_no", "event_no")  # where an event came from
PLACES = ("file", "record")  # the same in listings
RUNTIME = ("duckdb", "ibis-framework", "sqlglot", "holidays", "tzdata")
APART = (
    "logs",
    "registers",
    "viewers",
    "hours",
    "factors",
    "holidays",
    "patterns",
    "privacy",
    "mail",
    "display",
)  # told by marks of their own, or no part of figures


def mark(*parts: Any) -> str:
    """SHA-256 of values that JSON can hold, to 16 hex digits."""
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()[:16]


def leaves(report: Report, place: Place) -> list[Report]:
    """The reports that answer: itself, or each part of a page, bound to logs of the workspace. Raises RequestError."""
    if not report.parts:
        return [bound(report, place)]
    found = []
    for part in report.parts:
        try:
            found += leaves(resolved(report, part, place), place)
        except RequestError:
            continue  # the page itself says why the part has no answer
    return found


def plans_of(report: Report, place: Place, now: datetime) -> list[Plan]:
    """The plans of the events a report is about, those of each part of a page; none for registers. Raises
    RequestError.
    """
    found = []
    for asked in leaves(report, place):
        if asked.register_name:
            continue
        every = [n for n in place.schemas if place.extent(n)]
        here = [asked] if asked.log else [Report(log=n, period=asked.period, zone=asked.zone) for n in every]
        found += [resolve(one, place, now) for one in here]
    return found


def periods(report: Report, place: Place, now: datetime) -> tuple[str, ...]:
    """The exact periods a report is for now, as far as the calendar tells them: two runs with the same ones answer the
    same.
    """
    texts = sorted({(leaf.period, leaf.zone or place.calendar.zone_name) for leaf in leaves(report, place)})
    return tuple(period_at(text, name, place, now).exact for text, name in texts if text != "all")


def period_at(text: str, zone_name: str, place: Place, now: datetime) -> Stretch:
    """A period as the calendar tells it at a moment, whatever the logs hold. Raises RequestError."""
    return Period.parse(text, dataclasses.replace(place.calendar, zone_name=zone_name)).resolve(now, EVER)


def contents(plans: Iterable[Plan], place: Place) -> list[dict[str, Any]]:
    """The events of each log and stretch of time that the plans read: log, from, to (naive UTC, the end excluded),
    events, sum.
    """
    wanted: dict[tuple[str, datetime, datetime, bool], Plan] = {}
    for plan in plans:
        for strand in plan.strands:
            for name in strand.schema.stored_logs:
                start, end = widened(strand.stretch or plan.stretch, _reach(strand.schema), strand.rounding)
                wanted[name, start, end, strand.needs_spans or place.stored[name].spans] = plan
    found = []
    for (name, start, end, spans), plan in sorted(wanted.items(), key=lambda w: w[0]):
        events, total = _sum(place, place.stored[name], start, end, spans, plan.known)
        found.append({"log": name, "from": start.isoformat(), "to": end.isoformat(), "events": events, "sum": total})
    return found


def _reach(schema: LogSchema) -> timedelta:
    """How far beyond a period the events reach that a log's are made of."""
    made = schema.derivation
    inputs = getattr(made, "inputs", ())
    return (made.reach + max(map(_reach, inputs))) if made and inputs else timedelta(0)


def _sum(
    place: Place, held: LogSchema, start: datetime, end: datetime, spans: bool, known: datetime | None
) -> tuple[int, str]:
    engine, table = place.events(held, start, end, spans=spans, known=known)
    first, last = (naive(t.replace(tzinfo=UTC)) for t in (start, end))
    here = table.start_utc >= first
    if spans:
        here = here | (table.finish_utc > first).fill_null(True)
    n, total = engine.summed(
        table.filter(table.start_utc < last, here), {c: k for c, k in held.columns.items() if c not in SOURCE}
    )
    return n, f"{total:016x}"


def figures(answer: Answer) -> str:
    """A mark of all figures and texts of an answer; what is said about them (notes, who made it) and where records
    stand is left out.
    """
    told = hashlib.sha256()
    for line in _lines(answer):
        told.update(json.dumps(line, default=str).encode() + b"\n")
    return told.hexdigest()[:16]


def _lines(answer: Answer) -> Iterable[Any]:
    if isinstance(answer, Page):
        for part in answer.parts:
            yield part.title, part.verdict
            yield from _lines(part.item) if part.item is not None else (part.note,)
    elif isinstance(answer, RunResult):
        yield [(c.label, c.type, c.unit, c.scale) for c in answer.table.columns]
        yield from ((r.level, r.shown, r.cells) for r in answer.table.rows)
    else:
        keep = [i for i, c in enumerate(answer.columns) if c.name not in PLACES]
        yield [answer.columns[i] for i in keep], answer.total
        yield from ([row[i] for i in keep] for row in answer.rows)


def inputs(base: Base, place: Place, plans: Iterable[Plan]) -> dict[str, Any]:
    """The marks of all that a run's figures rest on beside the events: mappings of its logs, registers, settings,
    zones, versions.
    """
    plans = list(plans)
    logs = sorted({n for p in plans for s in p.strands for n in s.schema.stored_logs})
    tables = base.config.model_dump(mode="json", exclude=set(APART), by_alias=True)
    registers = {}
    for name in base.config.registers:
        try:
            registers[name] = place.registers.register(name).digest
        except FermataError as e:  # one that the figures may not need
            registers[name] = str(e)
    terms = place.terms
    return {
        "mappings": {n: place.mappings[n] for n in logs},
        "registers": registers,
        "hours": {name: digest(held) for name, held in terms.hours.items()},
        "factors": {name: digest(held) for name, held in terms.factors.items()},
        "patterns": {name: digest(held) for name, held in place.working().items()},
        "workdays": {"of the workspace": digest(terms.workdays)} if terms.workdays else {},
        "computed": {f"{s.name}.{c.field.name}": digest(c) for s in place.schemas.values() for c in s.computed},
        "settings": {name: mark(table) for name, table in tables.items() if table},
        "zones": {n: _zone_data(n, plans) for n in sorted({p.stretch.calendar.zone_name for p in plans})},
        "versions": {"fermata": __version__, **{n: metadata.version(n) for n in RUNTIME}},
    }


def _zone_data(name: str, plans: Iterable[Plan]) -> str:
    """A mark of a zone's offsets over the plans' periods."""
    tz = zone(name)
    own = [p.stretch for p in plans if p.stretch.calendar.zone_name == name]
    start, end = min(s.start for s in own), max(s.end for s in own)
    return mark(offset(start, tz), [(c.at, c.after) for c in changes(start, end, tz)])


def fingerprint(request: Request, seen: list[dict[str, Any]]) -> str:
    """The mark of a request with the events it saw: the same one gives the same figures, whatever the engine."""
    return mark(request.digest, seen)


def utc(at: datetime) -> str:
    """An aware instant in UTC, as the record writes it."""
    return at.astimezone(UTC).isoformat()
