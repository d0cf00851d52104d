"""How a figure is read off a group's exact components: division happens here, once."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from typing import Any

from fermata.analysis.formula import Context, Quantity, unit
from fermata.analysis.measures import ONWARDS, Measure
from fermata.analysis.plan import ColumnPlan, Plan

__all__ = ["ZERO", "Components", "brought_to", "combined", "measure_of", "reader", "value"]

Components = dict[tuple[int, str], Any]
ZERO = ("count", "time", "total", "distinct", "present", "union", "overlap", "peak", "at", "over", "touched")


def reader(plan: Plan, column: ColumnPlan, grand: Components | None) -> Callable[[Components], Any]:
    """How a column's cell is read off a group's components: exact values as they are, means and shares divided once."""
    measure, place = column.measure, column.strand
    if column.formula:
        return _worked_out(plan, column, grand)
    if measure.name in ONWARDS and measure.base:
        inner = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        prefix = f"{measure.name} "

        def gone_on(found: Components) -> Any:
            parts = {(s, n.removeprefix(prefix)): v for (s, n), v in found.items() if n.startswith(prefix)}
            return inner(parts) if parts else None

        return gone_on
    if measure.name == "rank":
        return lambda found: found.get((place, str(measure)))
    if measure.base:
        part = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        whole = part(grand) if grand else None
        return lambda found: part(found) / whole if whole else None
    if measure.name == "mean":
        total, filled = (place, f"total {measure.of}"), (place, f"filled {measure.of}")
        return lambda found: _mean(plan, column, found[total], found[filled]) if found.get(filled) else None
    if measure.name in ("concurrency", "utilisation", "uncovered"):
        return _of_length(measure, place)
    if measure.name == "capacity":
        return lambda found: found.get((place, f"capacity {measure.of}"))
    if measure.name in ("days", "workdays", "months"):
        return lambda found: found.get((place, measure.name))
    if measure.name == "at" and measure.of:
        return lambda found: found.get((place, str(measure)))
    name = (place, measure.name if measure.name in ("count", "time", "first", "last") else str(measure))
    made = plan.strands[place].computed
    if measure.name == "total" and (plan.lacking or any(c.field.name == measure.of and c.may_lack for c in made)):
        filled = (place, f"filled {measure.of}")
        return lambda found: found.get(name) if found.get(filled) else None
    if measure.name in ZERO:
        return lambda found: found.get(name) or 0
    return lambda found: found.get(name)


def _of_length(measure: Measure, place: int) -> Callable[[Components], Any]:
    """Time against the length of the cell: nothing where the log does not cover any of it, or has no capacity."""
    name = "union" if measure.name == "uncovered" else "time"

    def read(found: Components) -> Any:
        length, time = found.get((place, "length")), found.get((place, name)) or 0
        if length is None:
            return None
        if measure.name == "uncovered":
            return length - time
        held = found.get((place, f"capacity {measure.of}")) if measure.name == "utilisation" else 1
        return time / (length * held) if length and held else None

    return read


def _worked_out(plan: Plan, column: ColumnPlan, grand: Components | None) -> Callable[[Components], Any]:
    """A column's formula over its operands, read off a group's components."""
    parts = [(number, reader(plan, plan.columns[number], grand)) for number in column.operands]
    work_out = combined(plan, column)
    return lambda found: work_out({number: part(found) for number, part in parts})


def combined(plan: Plan, column: ColumnPlan) -> Callable[[Mapping[int, Any]], Any]:
    """A column's formula over the cells of its operands, by column number."""
    formula, result = column.formula, Quantity(column.kind[0], unit(column.kind[1]), column.kind[2])
    kinds = [(plan.columns[number].kind, number) for number in column.operands]
    operands = [
        (name, number, Quantity(kind[0], (), kind[2]))
        for name, (kind, number) in zip(formula.names, kinds, strict=True)
    ]
    context, factors = _context(plan, column), dict(column.factors)

    def read(cells: Mapping[int, Any]) -> Any:
        values = {name: held.fraction(cells[number]) for name, number, held in operands}
        return formula.value(result, {**values, **factors}, context)

    return read


def _context(plan: Plan, column: ColumnPlan) -> Context:
    """What a formula's functions look at: the period, and what its log holds of it."""
    start, end = plan.stretch.start, plan.stretch.end
    covers = plan.strands[column.strand].covers
    upto = min(end, covers[1]) if covers else end
    return Context(*(t.replace(tzinfo=None) for t in (start, upto, covers[1] if covers else end)))


def value(plan: Plan, column: ColumnPlan, found: Components | None, grand: Components | None) -> Any:
    """One cell; None where there is nothing to read it from."""
    return None if found is None else reader(plan, column, grand)(found)


def _mean(plan: Plan, column: ColumnPlan, total: Any, n: Any) -> Any:
    field = plan.strands[column.strand].schema.field(column.measure.of)
    if field.type == "duration":
        return (2 * total + n) // (2 * n)  # whole microseconds, half up
    return total / (n * 10**field.scale)


def measure_of(plan: Plan, column: int) -> Measure:
    """The measure a column's records are of: a share's are those of its base."""
    measure = plan.columns[column].measure
    return measure.base or measure


def brought_to(plan: Plan, column: int) -> tuple[str, str, int]:
    """Type, unit and scale of what an event brings to a column: its time, whatever is made of that, the amount that is
    averaged, or a value of the column's own type.
    """
    schema, measure = plan.strands[plan.columns[column].strand].schema, measure_of(plan, column)
    if measure.needs_spans and measure.records != "representatives":
        measure = Measure("time")
    if measure.name == "mean":
        field = schema.field(measure.of)
        return field.type, field.unit, field.scale
    return measure.type_in(schema)
