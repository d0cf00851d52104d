"""The stages of a strand as engine expressions before it is reduced: select > shape > label.

Each stage is a function from table to table; nothing runs here.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fermata.analysis.buckets import Buckets
from fermata.analysis.business_hours import cut, in_hours
from fermata.analysis.plan import Dimension, Plan, Rounding, Strand
from fermata.engines.embedded import Engine
from fermata.fields import LogSchema

__all__ = [
    "ELSE_LABEL",
    "ELSE_TEXT",
    "each_value",
    "in_kept",
    "inside",
    "labelled",
    "naive",
    "placed",
    "rounded",
    "select",
    "shaped",
]

ELSE_TEXT, ELSE_LABEL = "\uffffelse", -1  # the rest of a top N; it sorts after every text


def select(table: Any, strand: Strand) -> Any:
    """Only the events the strand's filters keep, their lengths rounded if the report says so (filters see them as they
    are).
    """
    predicates = strand.selection.predicates(table, strand.schema)
    return rounded(table.filter(predicates) if predicates else table, strand.rounding)


def rounded(table: Any, rounding: Rounding | None) -> Any:
    """Each span with its length rounded to whole steps, from its start; half a step goes up with `nearest`."""
    if rounding is None:
        return table
    step = rounding.step
    length = table.finish_utc.delta(table.start_utc, unit="microsecond")
    more = {"up": step - 1, "down": 0, "nearest": step // 2}[rounding.way]
    whole = ((length + more) // step).cast("int64") * step
    return table.mutate(finish_utc=table.start_utc + whole.as_interval("us"))


def naive(at: datetime) -> Any:
    """A UTC instant as an engine literal without zone."""
    import ibis

    return ibis.timestamp(at.replace(tzinfo=None).isoformat())


def inside(table: Any, plan: Plan, strand: Strand, *, spans: bool) -> Any:
    """Only events that start in the period, and in the hours that count, or, with `spans`, have any time in it."""
    start, end = naive(plan.stretch.start), naive(plan.stretch.end)
    if not spans:
        kept = table.filter((table.start_utc >= start) & (table.start_utc < end))
        return kept.filter(in_hours(kept, plan.stretch, strand)) if strand.hours else kept
    return table.filter((table.start_utc < end) & ((table.start_utc >= start) | (table.finish_utc > start)))


def shaped(engine: Engine, table: Any, plan: Plan, strand: Strand) -> Any:
    """Adds `began_` (starts inside), the clipped ends `s_` and `x_`, and first and last base unit `e0_`, `e1_`.

    Where only certain hours count, a span is one row for each stretch of them it meets.
    """
    import ibis

    start, end = naive(plan.stretch.start), naive(plan.stretch.end)
    table = table.mutate(
        began_=table.start_utc >= start,
        s_=ibis.ifelse(table.start_utc < start, start, table.start_utc),
        x_=ibis.ifelse(table.finish_utc > end, end, table.finish_utc),
    )
    if strand.hours:
        table = cut(engine, table, plan.stretch, strand)
    return placed(table, plan)


def placed(table: Any, plan: Plan) -> Any:
    """Adds the first and last base unit `e0_`, `e1_` of the time from `s_` to `x_`."""
    import ibis

    if not plan.base:
        return table.mutate(e0_=ibis.literal(0, type="int64"), e1_=ibis.literal(0, type="int64"))
    buckets = Buckets.of(plan.slots(plan.base))
    lasts = (table.x_ > table.s_).fill_null(False)
    first = buckets.label(table.s_)
    return table.mutate(e0_=first, e1_=ibis.ifelse(lasts, buckets.label(table.x_, upper=True), first))


def labelled(table: Any, plan: Plan, schema: LogSchema, keys: Sequence[Dimension], at: str = "start_utc") -> list[Any]:
    """The group keys as named expressions: fields as they are, calendar labels from the instant `at`."""
    import ibis

    found = []
    for i, key in enumerate(keys):
        if key.calendar:
            slots = plan.slots(key.unit)
            expr = Buckets.of(slots, *key.labels(slots)).label(table[at])
        else:
            expr = table[schema.field(key.name).stored]
        if plan.kept is not None and i == 0 and key is plan.by[0]:
            rest = ibis.literal(ELSE_LABEL if expr.type().is_integer() else ELSE_TEXT, type=expr.type())
            expr = ibis.ifelse(in_kept(expr, plan), expr, rest)
        found.append(expr.name(f"k{i}"))
    return found


def in_kept(expr: Any, plan: Plan) -> Any:
    """Whether a value of the first dimension is among those a top N keeps; true or false, never null."""
    named = [k for k in plan.kept or () if k is not None]
    test = expr.isin(named).fill_null(False)
    return test | expr.isnull() if None in (plan.kept or ()) else test


def each_value(table: Any, plan: Plan, strand: Strand) -> Any:
    """The events once for each value of the plan's set dimension; an event without any has one row, without value."""
    import ibis

    if plan.set_dimension is None:
        return table
    stored = strand.schema.field(plan.set_dimension.name).stored
    values = table[stored]
    nothing = ibis.array([ibis.null("string")])
    filled = ibis.ifelse((values.length() > 0).fill_null(False), values, nothing)
    return table.mutate(**{stored: filled}).mutate(**{stored: ibis._[stored].unnest()})
