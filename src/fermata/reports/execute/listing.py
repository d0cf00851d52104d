"""Events behind figures, and events as such: listed with their fields, file and record number."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Self

from fermata.analysis import drill, explain
from fermata.analysis.cells import brought_to
from fermata.analysis.plan import Plan
from fermata.errors import RequestError, UnknownName
from fermata.fields import ADDABLE, Field, LogSchema
from fermata.kinds import headings
from fermata.notes import Note
from fermata.reports.compile.filter_values import check_values
from fermata.reports.compile.request import PLAIN
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.figures import context_by, context_of, narrowed
from fermata.reports.execute.filter_hints import broad
from fermata.reports.execute.listed import Listed, Reading, laid_out
from fermata.reports.execute.notes import known_beforehand, why_nothing
from fermata.reports.requests import Behind, Listing
from fermata.reports.result import ColumnDef, Context, Records, RunResult
from fermata.timeline.words import span

__all__ = [
    "AS_IT_IS",
    "PLAIN",
    "Layout",
    "behind",
    "has_records",
    "listed_events",
    "listing",
    "totals",
]

SHARED = ("union", "overlap")


@dataclass(frozen=True, slots=True)
class Layout:
    """How a listing is laid out: which fields (all by default), sorted by which (`-` in front for downwards), how many
    to pass over, with running numbers, with totals of all amounts; `second` are the fields set on a line of their own
    under each record, `most` how many at most are wanted. With `overlapping`, what began before the period and lasts
    into it is listed, too, each with its part `inside` the period.
    """

    fields: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    skip: int = 0
    numbers: bool = False
    totals: bool = False
    second: tuple[str, ...] = ()
    most: int | None = None
    overlapping: bool = False

    @classmethod
    def of(cls, report: Report, skip: int = 0) -> Self:
        """The layout of a report's listing."""
        shown = report.listing
        if shown is None:
            return cls(skip=skip)
        fields = (*shown.fields, *(f for f in shown.second if f not in shown.fields)) if shown.fields else ()
        return cls(fields, shown.sort, skip, shown.numbers, shown.totals, shown.second, shown.most, shown.overlapping)


AS_IT_IS = Layout()


def has_records(column: Any) -> None:
    """Raises RequestError for a figure that no list of records explains."""
    if column.formula:
        raise RequestError(
            f"{column.label} is worked out from {', '.join(column.formula.names)}; ask for the events of these"
        )
    if column.measure.records == "none":
        raise RequestError(
            f"{column.label} ({column.measure}) is made of no events of its own; ask for those of a count or an amount"
        )
    if column.measure.name == "running":
        raise RequestError(f"{column.label}: ask for the events of {column.measure.base}")


def behind(request: Behind, place: Workplace) -> Records:
    """The events behind a cell of a result, oldest first, with file, record number and contribution."""
    plan, cell, limit = request.plan, request.cell, request.limit
    column = plan.columns[cell.column]
    has_records(column)
    rows, strand, total = drill.records(plan, cell, place.source(plan), limit)
    kind, unit, scale = brought_to(plan, cell.column)
    where = ", ".join(f"{d.name} {_words(plan, d, k)}" for d, k in cell.keys) or "all"
    title = f"Events behind {column.label}: {where}"
    if column.measure.name in SHARED:
        title += " (each with its own time; together more than the figure where they overlap)"
    extra = ColumnDef("contribution", "Contribution", kind, unit, scale)
    context = context_by(plan, place, request.now, request.digest)
    fresh = tuple((n, at) for n, at in context.fresh if n in strand.schema.stored_logs)
    context = dataclasses.replace(context, filters=narrowed(strand), fresh=fresh)
    return _as_records(title, context, rows, strand.schema, place, total, AS_IT_IS, extra, limit=limit)


def listed_events(result: RunResult, strand: Any, read: Reading, count: int) -> Records:
    """Events of a strand as a listing of all its fields."""
    title = f"Events of {strand.schema.name}"
    return _as_records(title, result.context, read, strand.schema, result.place, count, AS_IT_IS)


def listing(request: Listing, place: Workplace) -> Records:
    """The events a report's filters keep in its period, oldest first unless the layout says otherwise.

    Exact values that no event ever had are refused. Raises UnknownName for a field to show or sort by that the log does
    not have.
    """
    report, plan = request.report, request.plan
    layout = Layout.of(report, request.skip)
    source = place.source(plan)
    limit = min((n for n in (request.limit, layout.most) if n), default=None)
    notes = check_values(plan, place, source)
    schema = plan.strands[0].schema
    order = [(schema.field(name.removeprefix("-")), name.startswith("-")) for name in layout.sort]
    listed = {*PLAIN, *(f.name for f in schema.fields)}
    shown = dataclasses.replace(
        schema, fields=(*schema.fields, *(schema.field(n) for n in layout.fields if n not in listed))
    )
    every = [*shown.fields, *([schema.field("duration")] if schema.spans else [])]
    added = [
        f
        for f in every
        if f.addable and (f.name in layout.fields or (not layout.fields and (f.unit or f.type != "number")))
    ]
    reaching = layout.overlapping and schema.spans
    rows, total, sums = drill.events(
        plan, source, limit, order, layout.skip, added if layout.totals else (), reaching=reaching
    )
    context = dataclasses.replace(context_of(request, place), title=report.title or f"Events of {schema.name}")
    found = _as_records(context.title, context, rows, shown, place, total, layout, limit=limit)
    amounts = [f"{f.name} {_amount(f, n)}" for f, n in zip(added, sums, strict=True)] if sums else []
    summed = [Note(f"totals of all {total:,}: {'; '.join(amounts)}", "count")] if amounts else []
    many = broad(plan, plan.strands[0], source, total, "events") if layout.most is None else []
    if not total:
        steps = ((schema.name, tuple(explain.steps(plan, plan.strands[0], source))),)
        notes = [*why_nothing(plan, place, steps, notes), *notes]
    notes = [*summed, *known_beforehand(plan, place), *notes, *many]
    if schema.spans and not reaching and plan.stretch.text != "all":
        before, count = drill.earlier(plan, source)
        names = [c.name for c in found.columns if c.name != "number"]
        if count:
            verb, they = ("event", "it") if count == 1 else ("events", "them")
            told = f"{count:,} more {verb} began before the period and {'lasts' if count == 1 else 'last'} into it"
            notes.insert(0, Note(told, "earlier", f"--overlapping lists {they}, too"))
            found = dataclasses.replace(
                found, earlier=Listed(laid_out(before, shown, _files(schema, place), names, int(layout.numbers)), count)
            )
    return dataclasses.replace(found, notes=tuple(notes))


def totals(columns: Sequence[ColumnDef], rows: Sequence[tuple[Any, ...]]) -> str:
    """The totals of the amounts among a listing's columns, in words."""
    added = [(i, Field(n, kind, unit, scale)) for i, (n, _, kind, unit, scale) in enumerate(columns) if kind in ADDABLE]
    told = [f"{f.name} {_amount(f, sum(r[i] or 0 for r in rows))}" for i, f in added]
    return f"totals of all {len(rows):,}: {'; '.join(told) or 'no amount is listed'}"


def _amount(field: Field, amount: int | None) -> str:
    if field.type == "duration":
        return span(amount or 0)
    return f"{Decimal(amount or 0).scaleb(-field.scale):,}{' ' + field.unit if field.unit else ''}"


def _words(plan: Plan, dimension: Any, key: Any) -> str:
    from fermata.analysis.finish import shown

    return shown(plan, dimension, key)


def _as_records(
    title: str, context: Context, read: Reading, schema: LogSchema, place: Workplace, total: int, layout: Layout,
    *extra: ColumnDef,
    limit: int | None = None,
) -> Records:  # fmt: skip
    """The listing of events that `read` opens, as the layout wants it, at most `limit`; `extra` columns come last."""
    columns: list[ColumnDef] = [ColumnDef("start", "Start", "time")]
    if schema.spans:
        columns += [ColumnDef("finish", "Finish", "time"), ColumnDef("duration", "Duration", "duration", "h:mm:ss")]
    heads = headings([f.name for f in schema.fields], schema.kind)
    columns += [ColumnDef(f.name, h, f.type, f.unit, f.scale) for f, h in zip(schema.fields, heads, strict=True)]
    part: ColumnDef = ColumnDef("inside", "In the period", "duration", "h:mm:ss")
    columns += [part] if schema.spans and layout.overlapping else []
    where: list[ColumnDef] = [ColumnDef("file", "File"), ColumnDef("record", "Record")]
    columns += [*([] if place.view.rewrites else where), *extra]  # which record it is tells what stands in it
    if layout.fields:
        by_name = {c.name: c for c in (*columns, *([part] if schema.spans else []))}
        if unknown := [n for n in layout.fields if n not in by_name]:
            raise UnknownName.of("field", unknown[0], by_name, where=f"in the log {schema.name}")
        columns = [by_name[name] for name in layout.fields]
    names = [c.name for c in columns]
    if layout.numbers:
        columns.insert(0, ColumnDef("number", "No.", "number"))
    files = _files(schema, place)
    left = max(total - layout.skip, 0)
    first = layout.skip + 1 if layout.numbers else 0
    rows = Listed(laid_out(read, schema, files, names, first), min(left, left if limit is None else limit))
    below = tuple(name for name in names if name in layout.second)
    return Records(title, context, tuple(columns), rows, left, second=below)


def _files(schema: LogSchema, place: Workplace) -> dict[str, Any]:
    """The files behind a log's events, by stored log and number."""
    return {name: place.state(name).files for name in schema.stored_logs}
