"""Carrying out a report: the one way from a definition to figures."""

from __future__ import annotations

import contextlib
import dataclasses
import gc
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any, Protocol

from fermata._version import __version__
from fermata.analysis import drill, explain
from fermata.analysis.combine import Source, gather
from fermata.analysis.engine import DuckEngine
from fermata.analysis.filters import Condition, Selection
from fermata.analysis.finish import finish, measure_of, outermost
from fermata.analysis.plan import Cell, Plan, Strand
from fermata.archive import Snapshot
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.kinds import KINDS
from fermata.registers.directory import kind
from fermata.reports import caveats, judging
from fermata.reports.model import Report
from fermata.reports.resolve import Logs, lookups, resolve
from fermata.reports.result import Context, Records, RunResult
from fermata.timeline import Slot
from fermata.timeline.words import span, stamp

SHARED = ("union", "overlap")

__all__ = ["Workplace", "check_values", "context_of", "describe", "listing", "records_of", "run"]


class Workplace(Logs, Protocol):
    """A workspace as the runner needs it: its logs, their state, and a way to open their events."""

    engine: DuckEngine
    snapshot: Snapshot
    mappings: Mapping[str, str]

    def source(self, plan: Plan) -> Source:
        """Opens a strand's events for the plan's period: the only way to events there is."""


def run(report: Report, place: Workplace, now: datetime, *, explained: bool = False) -> RunResult:
    """The report's result at the instant `now` (aware). Raises UnknownName, RequestError, DataError."""
    with _uncollected(), place.engine.keeping():
        return _run(report, place, now, explained)


@contextlib.contextmanager
def _uncollected() -> Iterator[None]:
    """Without the garbage collector: a table is many small lasting objects that it would walk over and over."""
    on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()


def _run(report: Report, place: Workplace, now: datetime, explained: bool) -> RunResult:
    plan = resolve(report, place, now)
    source = place.source(plan)
    notes = check_values(plan, place, source)
    figures = gather(plan, source)
    if plan.top and plan.by:
        kept = outermost(plan, figures, plan.top)
        if len(kept) < len(figures[plan.by[:1]]):
            plan = dataclasses.replace(plan, kept=tuple(kept))
            figures = gather(plan, source)

    def covered(strand: int, slot: Slot) -> bool:
        extent = place.extent(plan.strands[strand].schema.name)
        return (
            extent is not None
            and slot.end > extent[0]
            and slot.start <= caveats.complete_to(place, plan, strand, extent)
        )

    table = finish(plan, figures, covered)
    notes += [*judging.compared_notes(plan, figures, report.whole), *judging.checked(plan, figures)]
    table, evidence = judging.with_verdicts(plan, table, source)
    notes += [*evidence, *judging.warned(table, report.warn)]
    nothing = not any(figures[plan.levels[-1]].values()) or _all_zero(table)
    steps = (
        tuple((s.schema.name, tuple(explain.steps(plan, s, source))) for s in plan.strands)
        if explained or nothing
        else ()
    )
    notes = [*caveats.gathered(plan, place, source), *notes]
    table, chosen = judging.kept_rows(table, report.rows)
    notes = [*chosen, *notes]
    if nothing:
        notes = [*caveats.why_nothing(plan, place, steps), *notes]
    return RunResult(report, plan, table, context_of(plan, place, now), tuple(dict.fromkeys(notes)), steps)


def _all_zero(table: Any) -> bool:
    return not any(cell for row in table.rows for cell in row.cells)


def context_of(plan: Plan, place: Workplace, now: datetime) -> Context:
    """What stands above and below the plan's result."""
    stretch = plan.stretch
    fresh = []
    for name in caveats.stored_logs(plan):
        if extent := place.extent(name):
            fresh.append((name, extent[1]))
    filters = dict.fromkeys(_narrowed(s) for s in plan.strands)
    return Context(
        title=plan.title,
        period=stretch.words,
        period_exact=stretch.exact,
        period_text=stretch.text,
        zone=stretch.calendar.zone_name,
        filters=" | ".join(filters),
        fresh=tuple(fresh),
        made_at=now,
        version=__version__,
        plan=plan.digest,
    )


def _narrowed(strand: Strand) -> str:
    """What a strand counts, in words: its filters, hours, rounding, and another date it goes by."""
    more = []
    if strand.hours:
        name = strand.hours.others.name if not strand.hours.by else f"those of each {strand.hours.by}"
        more.append(f"{'outside' if strand.hours.others.outside else 'only'} hours {name}")
    if strand.rounding:
        more.append(f"lengths rounded {strand.rounding.way} to {span(strand.rounding.step)}")
    if strand.dated:
        more.append(f"dated by {strand.dated}")
    text = str(strand.selection)
    return "; ".join([text, *more] if text != "all events" or not more else more)


def check_values(plan: Plan, place: Workplace, source: Source) -> list[str]:
    """Refuses exact values that no event of the log ever had; notes those that none in the period has."""
    notes = []
    for strand in (s for s in plan.strands if s.stretch is None):
        for condition in [c for group in (strand.selection.only, *strand.selection.any_of) for c in group]:
            field = strand.schema.field(condition.field)
            if condition.kind == "like":
                notes.append(_matched_note(plan, strand, condition.field, str(condition), source))
            if condition.kind != "is" or field.type != "text":
                continue
            here = explain.matched(plan, strand, field.name, source, values=condition.values)
            missing = [v for v in condition.values if v not in here]
            if condition.said and (here or condition.known):
                notes += [] if here else [_looked_for(place, field, condition)]
            elif missing:
                notes += _missing(plan, place, strand, field, missing)
    return notes


def _looked_for(place: Workplace, field: Field, condition: Condition) -> str:
    """That somebody or something a register knows has no event, with every name that was looked for."""
    register = place.registers.of(field)
    names = register.named(condition.values) if register else []
    return f"no event of this period fits '{condition}'; looked for: {'; '.join(names)}"


def _missing(plan: Plan, place: Workplace, strand: Strand, field: Field, missing: list[Any]) -> list[str]:
    everything = _whole(plan, place, strand.schema)
    found = lookups(place.registers, strand.schema, [field.name], everything.stretch)
    ever = explain.matched(
        everything, Strand(strand.schema, Selection(), (), found), field.name, place.source(everything)
    )
    for value in missing:
        if value not in ever and value in _vocabulary(strand.schema, field):
            return [_never_written(strand.schema, field, value, ever)]
        if value not in ever:
            raise UnknownName.of(
                field.name, str(value), [*ever, *_texts(place, field)], where=f"in the log {strand.schema.name}"
            )
    return [
        f"no event in this period has {field.name} {', '.join(repr(v) for v in missing)}, though the log knows the name"
    ]


def _texts(place: Workplace, field: Field) -> list[str]:
    """The names by which a register knows what the field holds."""
    register = place.registers.of(field) if "." not in field.name else None
    return [t for v in register.versions for t in v.names.get(kind(field), ())] if register else []


def _vocabulary(schema: LogSchema, field: Field) -> dict[str, str]:
    return KINDS[schema.kind].values(field.name) if schema.kind in KINDS else {}


def _never_written(schema: LogSchema, field: Field, value: str, ever: list[str]) -> str:
    """That no event ever had a word of the kind. Raises RequestError while the log holds words of its own."""
    others = [v for v in ever if v not in _vocabulary(schema, field)]
    if others:
        listed = ", ".join(repr(v) for v in others[:5]) + (f" and {len(others) - 5} more" if len(others) > 5 else "")
        raise RequestError(
            f"no event of {schema.name} has {field.name} {value!r}, but some have {listed}, which the kind {schema.kind!r} does "
            f"not know; if one of them means {value}, say so in [logs.{schema.name}.fields]: "
            f'{field.name} = {{ column = "...", values = {{ "{others[0]}" = "{value}" }} }}'
        )
    return f"no event of the whole log has {field.name} {value!r}"


def _whole(plan: Plan, place: Workplace, schema: LogSchema) -> Plan:
    """The same plan over everything the log holds."""
    report = Report(log=schema.name, period="all", zone=plan.stretch.calendar.zone_name)
    return resolve(report, place, plan.stretch.end)


def _matched_note(plan: Plan, strand: Strand, field: str, text: str, source: Source) -> str:
    found = explain.matched(plan, strand, field, source)
    shown = ", ".join(found[:10]) + (f" and {len(found) - 10} more" if len(found) > 10 else "")
    return f"{text}: {len(found)} matched" + (f" ({shown})" if found else "")


def describe(report: Report, place: Workplace, now: datetime) -> list[tuple[str, str]]:
    """What a run would do, in words, without running it: period, zone, filters, coverage, expected size."""
    plan = resolve(report, place, now)
    stretch = plan.stretch
    lines = [
        ("Report", plan.title),
        ("Period", f"{stretch.words} ({stretch.text}{', moves with the clock' if stretch.relative else ''})"),
        ("Exactly", f"{stretch.exact}, the end excluded; {stretch.calendar.zone_name}"),
    ]
    for strand in plan.strands:
        name = strand.schema.name
        extent = place.extent(name)
        if extent is None:
            lines.append(("Log", f"{name}: no events yet"))
            continue
        own = strand.stretch or stretch
        parts = [p for log in strand.schema.stored_logs for p in place.snapshot.months(log, own.start, own.end)]
        lines += [
            ("Log", f"{name}: {_narrowed(strand)}"),
            (
                "Covered",
                f"{stamp(extent[0], stretch.calendar.zone)} to {stamp(extent[1], stretch.calendar.zone)}",
            ),
            (
                "To read",
                f"at most {sum(p.rows for p in parts):,} events in {len(parts)} file{'' if len(parts) == 1 else 's'}, {sum(p.size for p in parts) / 1e6:,.1f} MB",
            ),
        ]
    lines.append(("Grouped by", ", ".join(d.name for d in plan.by) or "nothing: one row"))
    if plan.across:
        lines.append(("Across", plan.across.name))
    lines += [("Columns", ", ".join(f"{c.label} ({c.measure})" for c in plan.columns)), ("Plan", plan.digest)]
    return lines + [("Note", n) for n in caveats.known_beforehand(plan, place)]


def _has_records(column: Any) -> None:
    """Raises RequestError for a figure that no list of records explains."""
    if column.formula:
        raise RequestError(
            f"{column.label} is worked out from {', '.join(column.formula.names)}; ask for the records of these"
        )
    if column.measure.records == "none":
        raise RequestError(
            f"{column.label} ({column.measure}) is about a moment or a length, and has no records of its own"
        )
    if column.measure.name == "running":
        raise RequestError(f"{column.label}: ask for the records of {column.measure.base}")


def records_of(result: RunResult, place: Workplace, cell: Cell, limit: int | None = None) -> Records:
    """The events behind a cell of a result, oldest first, with file, record number and contribution."""
    plan, column = result.plan, result.plan.columns[cell.column]
    _has_records(column)
    rows, strand, total = drill.records(plan, cell, place.source(plan), limit)
    kind, unit, scale = measure_of(plan, cell.column).type_in(strand.schema)
    if kind in ("mean", "mean duration"):
        field = strand.schema.field(column.measure.of)
        kind, unit, scale = field.type, field.unit, field.scale
    where = ", ".join(f"{d.name} {_words(plan, d, k)}" for d, k in cell.keys) or "all"
    title = f"Records behind {column.label}: {where}"
    if column.measure.name in SHARED:
        title += " (each with its own time; together more than the figure where they overlap)"
    extra = ("contribution", "Contribution", str(kind), unit, scale)
    return _as_records(title, result.context, rows, strand.schema, place, total, extra)


def listing(report: Report, place: Workplace, now: datetime, limit: int | None = None) -> Records:
    """The events a report's filters keep in its period, oldest first."""
    plan = resolve(report, place, now, every_field=True)
    source = place.source(plan)
    notes = check_values(plan, place, source)
    rows, total = drill.events(plan, source, limit)
    schema = plan.strands[0].schema
    context = dataclasses.replace(context_of(plan, place, now), title=report.title or f"Events of {schema.name}")
    found = _as_records(context.title, context, rows, schema, place, total, None)
    notes = [*caveats.known_beforehand(plan, place), *notes]
    return dataclasses.replace(found, notes=tuple(notes))


def _words(plan: Plan, dimension: Any, key: Any) -> str:
    from fermata.analysis.finish import shown

    return shown(plan, dimension, key)


def _as_records(
    title: str,
    context: Context,
    rows: Any,
    schema: LogSchema,
    place: Workplace,
    total: int,
    extra: tuple[str, str, str, str, int] | None,
) -> Records:
    logs = {name: place.snapshot.manifest.log(name).files for name in schema.stored_logs}
    columns: list[tuple[str, str, str, str, int]] = [("start", "Start", "time", "", 0)]
    values = [rows.column("start_utc").to_pylist()]
    if schema.spans:
        columns += [("finish", "Finish", "time", "", 0), ("duration", "Duration", "duration", "h:mm:ss", 0)]
        finishes = rows.column("finish_utc").to_pylist()
        spans = [
            None if f is None else round((f - s).total_seconds() * 1e6)
            for s, f in zip(values[0], finishes, strict=True)
        ]
        values += [finishes, spans]
    for field in schema.fields:
        columns.append((field.name, field.name.capitalize().replace("_", " "), field.type, field.unit, field.scale))
        values.append(rows.column(field.stored).to_pylist())
    columns += [("file", "File", "text", "", 0), ("record", "Record", "text", "", 0)]
    ids = rows.column("file_id").to_pylist()
    names = (
        rows.column("log").to_pylist()
        if len(logs) > 1 and "log" in rows.column_names
        else [next(iter(logs))] * len(ids)
    )
    origin = f"register {schema.derivation.register}" if hasattr(schema.derivation, "register") else ""
    values.append(
        [origin or (logs[n][i].path if i in logs[n] else f"file {i}") for n, i in zip(names, ids, strict=True)]
    )
    values.append([f"{i}:{n}" for i, n in zip(ids, rows.column("record_no").to_pylist(), strict=True)])
    if extra:
        columns.append(extra)
        values.append(rows.column("contribution").to_pylist())
    listed = tuple(zip(*values, strict=True))
    return Records(title, context, tuple(columns), listed, total)


def cell_of(result: RunResult, at: Mapping[str, str], column: str | None) -> Cell:
    """The cell that `at` (dimension name -> shown value) and a column heading or measure name. Raises UnknownName."""
    plan = result.plan
    number = _column_number(plan, column)
    keys = []
    for name, text in at.items():
        words = name.lower().replace("-", " ")
        dimension = next((d for d in plan.dimensions if words == d.name.replace("_", " ") or name == d.name), None)
        if dimension is None:
            raise UnknownName.of("dimension", name, [d.name for d in plan.dimensions], where="in this report")
        keys.append((dimension, _key(result, dimension, text)))
    given = [d for d, _ in keys]
    depth = len([d for d in given if d in plan.by])
    if set(given) - {plan.across} != set(plan.by[:depth]):
        missing = next(d for d in plan.by if d not in given)
        raise RequestError(f"a figure of this report is named from the outermost group on: give {missing.name} too")
    ordered = sorted(keys, key=lambda k: plan.dimensions.index(k[0]))
    return Cell(tuple(ordered), number)


def _column_number(plan: Plan, column: str | None) -> int:
    if column is None:
        return 0
    for i, c in enumerate(plan.columns):
        if column.lower() in (c.label.lower(), str(c.measure)):
            return i
    raise UnknownName.of("column", column, [c.label for c in plan.columns], where="in this report")


def _key(result: RunResult, dimension: Any, text: str) -> Any:
    """The raw value of a dimension from its shown text."""
    table, plan = result.table, result.plan
    if dimension in plan.by:
        i = plan.by.index(dimension)
        pairs = {r.shown[i]: r.keys[i] for r in table.rows if len(r.keys) > i}
    else:
        pairs = {c.across_label: c.across for c in table.measures if not c.across_total}
    if text in pairs:
        return pairs[text]
    raise UnknownName.of(dimension.name, text, pairs, where="in this result")
