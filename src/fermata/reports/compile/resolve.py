"""From a report to a plan: names checked, the period made absolute, columns gathered into strands."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol

from fermata.analysis.derive import unpaired
from fermata.analysis.filters import Condition, Selection
from fermata.analysis.measures import Measure
from fermata.analysis.plan import ColumnPlan, Dimension, Lookup, Plan, Strand
from fermata.digest import digest
from fermata.errors import RequestError, UnknownName, none_declared
from fermata.fields import LogSchema
from fermata.kinds import headings
from fermata.registers.directory import Directory, kind
from fermata.registers.register import EVER
from fermata.reports.compile.access import View
from fermata.reports.compile.calendars import Terms
from fermata.reports.compile.columns import Ask, Columns, dimension_names, pairing_shown, rounding
from fermata.reports.compile.comparison import compared
from fermata.reports.compile.generated_logs import Pattern
from fermata.reports.compile.zero_rows import zero_rows
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report
from fermata.timeline import Calendar, Period, Stretch
from fermata.timeline.zones import to_utc, zone

__all__ = ["Logs", "computed_fields", "identities", "lookups", "no_events", "resolve", "stretch_over"]


class Logs(Protocol):
    """What a report needs to know of a workspace's logs."""

    calendar: Calendar
    schemas: Mapping[str, LogSchema]
    registers: Directory

    @property
    def terms(self) -> Terms:
        """Hours and factors."""

    def working(self) -> Mapping[str, Pattern]:
        """The working patterns by name."""

    @property
    def view(self) -> View:
        """Whose view of the data this is."""

    @property
    def barred(self) -> Mapping[str, str]:
        """The logs that cannot be narrowed to it, and why."""

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, aware UTC, both inclusive; None if it holds none."""

    def until(self, log: str) -> datetime:
        """The end of what the log holds, aware UTC, excluded: past its last start and its last finish."""


def resolve(report: Report, logs: Logs, now: datetime, *, listed: Iterable[str] | None = None) -> Plan:
    """The plan of `report` at the instant `now`. Raises UnknownName, RequestError; reads no events.

    With `listed`, for a listing, names are resolved in all of the log's fields and in those named, and not just in
    those the report asks about.
    """
    calendar = logs.calendar
    if report.zone:
        zone(report.zone)
        calendar = dataclasses.replace(calendar, zone_name=report.zone)

    def ask(spec: ColumnSpec) -> Ask:
        schema = logs.registers.widened(known_log(logs, spec.log or report.log))
        if report.date_field:
            _dated(schema, report.date_field)
        chosen = _joined(report.selection, spec.selection).checked(schema)
        selection = pairing_shown(identities(chosen, schema, logs.registers), schema, unpaired(schema.derivation))
        hours = spec.hours or report.hours
        return Ask(schema, selection, logs.terms.hours_of(hours) if hours else None)

    asked = [ask(spec) for spec in report.columns if spec.measure]
    schemas = list(dict.fromkeys(a.schema for a in asked)) or [ask(ColumnSpec(measure="count")).schema]
    by = tuple(Dimension.of(name, schemas, calendar) for name in report.by)
    across = Dimension.of(report.across, schemas, calendar) if report.across else None
    by, across = _headed(by, across, schemas)
    stretch = _stretch(report, logs, schemas, calendar, now)
    gathered = Columns(
        report, ask, logs, compared(report, stretch, now, _covered(logs, schemas[0])),
        lambda schema: _past(stretch, _covered(logs, schema)),
    )  # fmt: skip
    for spec in report.columns:
        gathered.add(spec)
    checks = tuple(gathered.check(text) for text in report.checks)
    columns = gathered.columns

    made = _Strands(report, logs, now, stretch, tuple(columns), dimension_names(by, across), listed)
    return Plan(
        title=report.title or _title(report, columns, by, across),
        stretch=stretch,
        by=by,
        across=across,
        strands=tuple(made.strand(n, one) for n, one in enumerate(gathered.asks)),
        columns=tuple(columns),
        sort=_sort(report, columns, by),
        top=report.top,
        totals=report.totals,
        zeros=zero_rows(report.zero_rows, by, schemas[0], logs.registers, stretch, gathered.asks[0].selection.only)
        if report.zero_rows
        else (),
        known=known_at(report.as_known, calendar, now) if report.as_known else None,
        checks=checks,
        seen=logs.view.digest,
        workdays=logs.terms.workdays if any(c.measure.name == "workdays" for c in columns) else None,
    )


@dataclass(frozen=True)
class _Strands:
    """What the strands of a plan have in common; `grouped` are the fields among its dimensions."""

    report: Report
    logs: Logs
    now: datetime
    stretch: Stretch
    columns: tuple[ColumnPlan, ...]
    grouped: list[str]
    listed: Iterable[str] | None

    def strand(self, number: int, one: Ask) -> Strand:
        """The strand of that number."""
        report, logs, stretch, columns, listed = self.report, self.logs, self.stretch, self.columns, self.listed
        schema, covers = one.schema, _covered(logs, one.schema)
        measures = tuple((i, c.measure) for i, c in enumerate(columns) if c.formula is None and c.strand == number)
        measures += tuple((i, c.measure.base) for i, c in enumerate(columns) if c.earlier == number and c.measure.base)
        ofs = [of for _, m in measures if (of := (m.base or m).of)]
        wanted = [*self.grouped, *(c.field for c in one.selection.conditions), *ofs]
        wanted += [one.hours.by] if one.hours and one.hours.by else []
        wanted += [report.date_field] if report.date_field else []
        if listed is not None:
            wanted += [*(f.name for f in schema.fields), *listed]
        made = computed_fields(schema, wanted)
        wanted = [*wanted, *(n for c in made for n in c.needs)]
        own = one.stretch or stretch
        return Strand(
            schema, one.selection, measures, lookups(logs.registers, schema, wanted,
            _ever(own) if report.date_field else own), made,
            (own.start, own.end), covers,
            _capacities(logs.registers, schema, measures, own),
            uses=() if listed is not None else _uses(schema, wanted), origin=_origin(logs, schema, self.now),
            hours=one.hours, rounding=rounding(report.rounding), stretch=one.stretch, units=one.units,
            date_field=report.date_field or "",
        )  # fmt: skip


def no_events(logs: Iterable[str]) -> RequestError:
    """That the logs hold none, and where to look for them."""
    names = list(dict.fromkeys(logs))
    if not names:
        return none_declared("log")
    alone = len(names) == 1
    which = f"the log {names[0]} holds no events" if alone else f"the logs {', '.join(names)} hold no events"
    bring = f"fermata import {names[0]}" if alone else "fermata import"
    return RequestError(
        f"{which}; bring events in with: {bring}; what became of files imported before: fermata import --list"
    )


def stretch_over(report: Report, logs: Logs, names: Iterable[str], now: datetime) -> Stretch:
    """The report's period, made absolute over the logs of those names. Raises RequestError if they hold nothing yet."""
    calendar = logs.calendar
    if report.zone:
        zone(report.zone)
        calendar = dataclasses.replace(calendar, zone_name=report.zone)
    extents = [(e[0], logs.until(n)) for n in names if (e := logs.extent(n))]
    if not extents:
        raise no_events(n for name in names for n in logs.schemas[name].stored_logs)
    return Period.parse(report.period, calendar).resolve(now, (min(a for a, _ in extents), max(b for _, b in extents)))


def _stretch(report: Report, logs: Logs, schemas: Sequence[LogSchema], calendar: Calendar, now: datetime) -> Stretch:
    """The report's period, made absolute. Raises RequestError if the logs hold nothing yet."""
    extents = [e for s in schemas if (e := logs.extent(s.name))]
    if not extents:
        raise no_events(n for s in schemas for n in s.stored_logs)
    whole = (min(a for a, _ in extents), max(logs.until(s.name) for s in schemas if logs.extent(s.name)))
    return Period.parse(report.period, calendar).resolve(now, whole)


def _covered(logs: Logs, schema: LogSchema) -> tuple[datetime, datetime] | None:
    """From the first start to past the last moment of what a log holds."""
    extent = logs.extent(schema.name)
    return (extent[0], logs.until(schema.name)) if extent else None


def _past(stretch: Stretch, covers: tuple[datetime, datetime] | None) -> Stretch:
    """Everything before the period."""
    first = min(covers[0], stretch.start - timedelta(microseconds=1)) if covers else stretch.start - timedelta(days=1)
    return dataclasses.replace(
        stretch, start=first, end=stretch.start, text="before", relative=False, days=None, notes=()
    )


def _dated(schema: LogSchema, name: str) -> None:
    """Raises RequestError, UnknownName unless events can go by the time field `name`."""
    field = schema.field(name)
    if field.type != "time":
        raise RequestError(f"date_field {name}: {name} is a {field.type}; a period goes by a time")


def _ever(stretch: Stretch) -> Stretch:
    """All there may be: events that go by another date may have begun at any time."""
    first, last = (t.replace(tzinfo=UTC) for t in (EVER, datetime(9000, 1, 1)))
    return dataclasses.replace(stretch, start=first, end=last)


def computed_fields(schema: LogSchema, wanted: Iterable[str]) -> tuple[Any, ...]:
    """The computed fields among those wanted, and those they are made from, in the order they were declared."""
    needed = set(wanted)
    for one in reversed(schema.computed):
        if one.field.name in needed:
            needed.update(one.needs)
    return tuple(c for c in schema.computed if c.field.name in needed)


def _origin(logs: Logs, schema: LogSchema, now: datetime) -> str:
    """What tells what a generated log is made of from an earlier state of it."""
    name = getattr(schema.derivation, "register", "")
    if not name:
        return ""
    today = now.astimezone(zone(schema.zone)).date()
    patterns = logs.working() if getattr(schema.derivation, "pattern", "") else {}
    return digest(logs.registers.register(name).digest, patterns, logs.terms.workdays, today)


def _uses(schema: LogSchema, wanted: Iterable[str]) -> tuple[str, ...]:
    """The columns that a derived log's figures need."""
    if schema.derivation is None:
        return ()
    held = {f.name: f.stored for f in schema.fields}
    named = dict.fromkeys(held[base] for n in (*wanted, "pairing") if (base := n.partition(".")[0]) in held)
    return ("start_utc", "finish_utc", *named)


def _capacities(
    registers: Directory, schema: LogSchema, measures: Sequence[tuple[int, Measure]], stretch: Stretch
) -> tuple[tuple[str, int], ...]:
    """The capacity of each value of the field that measures ask about, as it is at the end of the period."""
    fields = {
        inner.of for _, m in measures if (inner := m.base or m).name in ("at", "utilisation", "capacity") and inner.of
    }
    found: dict[str, int] = {}
    for name in sorted(fields):
        register = registers.of(schema.field(name))
        if register is None or "capacity" not in register.table.attributes:
            raise RequestError(
                f"the capacity of {name} is not known: no register that knows it has an attribute capacity"
            )
        end = stretch.end.astimezone(UTC).replace(tzinfo=None)
        start = stretch.start.astimezone(UTC).replace(tzinfo=None)
        for version in register.valid(start, end):
            text = str(register.value(version, "capacity") or "")
            if text and not text.isdigit():
                raise RequestError(f"{version.place}: the capacity {text!r} is not a whole number")
            if text:
                found[register.labels[version.id]] = int(text)
    return tuple(sorted(found.items()))


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


def identities(selection: Selection, schema: LogSchema, registers: Directory) -> Selection:
    """The selection with every name in the place of which a register has an identity or a whole unit."""

    def one(condition: Condition) -> Condition:
        field = schema.field(condition.field)
        if condition.kind != "is" or field.type != "text":
            return condition
        meant = [(str(v), *registers.meant(field, str(v))) for v in condition.values]
        values = tuple(dict.fromkeys(v for _, found, _ in meant for v in found))
        unknown = tuple((text, tuple(found)) for text, found, known in meant if not known)
        if values == condition.values and len(unknown) == len(meant):
            return condition
        return Condition(field.name, "is", values, str(condition), unknown)

    only, without = (tuple(map(one, cs)) for cs in (selection.only, selection.without))
    return Selection(only, without, tuple(tuple(map(one, group)) for group in selection.any_of))


def known_log(logs: Logs, name: str) -> LogSchema:
    """The schema of the log called `name`. Raises UnknownName."""
    if name in logs.barred:
        raise RequestError(logs.barred[name])
    if name not in logs.schemas:
        raise UnknownName.of("log", name, logs.schemas)
    return logs.schemas[name]


def _joined(outer: Selection, inner: Selection) -> Selection:
    """Both selections: what a column keeps narrows what the report keeps, also where they name the same field."""
    narrower = tuple(tuple(c for c in inner.only if c.field == f) for f in dict.fromkeys(c.field for c in inner.only))
    return Selection(outer.only, outer.without + inner.without, outer.any_of + inner.any_of + narrower)


def _headed(
    by: tuple[Dimension, ...], across: Dimension | None, schemas: Sequence[LogSchema]
) -> tuple[tuple[Dimension, ...], Dimension | None]:
    """The groups with the headings of their logs' kind, where all are of one."""
    kinds = {schema.kind for schema in schemas}
    fields = [d.name for d in (*by, *filter(None, (across,))) if not d.calendar]
    named = dict(zip(fields, headings(fields, kinds.pop() if len(kinds) == 1 else ""), strict=True))

    def called(one: Dimension) -> Dimension:
        return dataclasses.replace(one, heading=named.get(one.name, ""))

    return tuple(called(d) for d in by), called(across) if across else None


def _title(report: Report, columns: list[ColumnPlan], by: tuple[Dimension, ...], across: Dimension | None) -> str:
    heads = [c.label for c in columns if not c.hidden]
    title = f"{report.log.capitalize()}: {', '.join([heads[0], *(_small(h) for h in heads[1:])])}"
    if by:
        title += " by " + " and ".join(
            filter(None, (", ".join(_small(d.label) for d in by[:-1]), _small(by[-1].label)))
        )
    return title + (f", {_small(across.label)} across" if across else "")


def _small(heading: str) -> str:
    """A heading inside a sentence: its first letter small, unless it is an abbreviation."""
    return heading if heading[1:2].isupper() else heading[:1].lower() + heading[1:]


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
            plain, _, way = name.rpartition(" ")
            if way.lower() in ("asc", "desc", "ascending", "descending") and plain.lower() in places:
                raise RequestError(f"sort: write {'-' if way.lower().startswith('desc') else ''}{plain}, not {text!r}")
            raise UnknownName.of("column", name, known, where="to sort by")
        found.append((places[key], descending))
    if not found and report.top:
        return ((0, columns[0].measure.name != "rank"),)  # the highest figure, or the first place
    return tuple(found)
