"""Figures that need more than adding up: at once, lengths of cells, and what goes on from unit to unit."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from datetime import timedelta
from typing import Any

from fermata.analysis.business_hours import inside_length, stretches_of
from fermata.analysis.measures import LENGTHS, ONWARDS, Measure, component
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.errors import RequestError
from fermata.timeline import Slot
from fermata.timeline.periods import last_moment

__all__ = ["as_of_all", "at_once", "beyond", "eventless", "lengths", "onwards"]

Level = tuple[Dimension, ...]
MICROSECOND = timedelta(microseconds=1)


def at_once(plan: Plan, strand: Strand, rows: Any, level: Level) -> tuple[list[str], Any]:
    """The components of union, overlap, peak, its moment and the times at so many, per group of a level.

    `rows` have a column d0, d1 ... per dimension, `n` at once, `c0` microseconds of it, and `first`, where it began.
    """
    import pyarrow.compute as pc

    keys = [f"d{plan.dimensions.index(d)}" for d in level]
    time, n = rows.column("c0"), rows.column("n")
    rows = rows.append_column("overlap", pc.if_else(pc.greater_equal(n, 2), time, 0))
    asked = [(m.base or m) for _, m in strand.measures if (m.base or m).name == "at"]
    for i, measure in enumerate(asked):
        least: Any = _capacities(strand, level, keys, measure.of, rows) if measure.of else int(measure.percent)
        rows = rows.append_column(f"at{i}", pc.if_else(pc.greater_equal(n, least), time, 0))
    rows = rows.sort_by([("n", "descending"), ("first", "ascending")])
    sums = [("c0", "sum"), ("overlap", "sum"), *((f"at{i}", "sum") for i in range(len(asked)))]
    rolled = rows.group_by(keys, use_threads=False).aggregate([*sums, ("n", "first"), ("first", "first")])
    named = ["union", "overlap", *map(str, asked), "peak", "peak time"]
    return named, rolled.select([*keys, *(f"{c}_{how}" for c, how in sums), "n_first", "first_first"])


def beyond(plan: Plan, own: Plan, rows: Any, time: str, measure: Measure, level: Level) -> Any:
    """Each user's time of a unit beyond the measure's limit, added up per group of a level, key columns first.

    `plan` is the finer grouping of the rows; what a top N of `own` does not keep becomes its rest here.
    """
    import pyarrow as pa
    import pyarrow.compute as pc

    every = [f"d{i}" for i in range(len(plan.dimensions))]
    whole = rows.group_by(every).aggregate([(time, "sum")])
    more = pc.max_element_wise(pc.subtract(whole.column(f"{time}_sum"), round(measure.percent * 3_600_000_000)), 0)
    keys = [f"d{plan.dimensions.index(d)}" for d in level]
    if own.kept is not None:
        first = whole.column("d0")
        rest = ELSE_LABEL if own.by[0].calendar else ELSE_TEXT
        kept = pc.is_in(first, value_set=pa.array(list(own.kept), type=first.type))
        whole = whole.set_column(
            whole.column_names.index("d0"), "d0", pc.if_else(kept, first, pa.scalar(rest, first.type))
        )
    return whole.append_column("more", more).group_by(keys).aggregate([("more", "sum")]).select([*keys, "more_sum"])


def _capacities(strand: Strand, level: Level, keys: Sequence[str], field: str, rows: Any) -> Any:
    """The capacity of each row's value of a field; null where there is none, or the level does not tell them apart."""
    import pyarrow as pa

    place = next((k for k, d in zip(keys, level, strict=True) if d.name == field), None)
    held = dict(strand.capacities)
    values = rows.column(place).to_pylist() if place else [None] * len(rows)
    return pa.chunked_array([pa.array([held.get(str(v)) for v in values], type=pa.int64())])


def lengths(plan: Plan, number: int, figures: Any) -> None:
    """Adds the length of each cell, its days and workdays, and its capacity, for a strand whose measures ask for
    them.
    """
    strand = plan.strands[number]
    asked = [(m.base or m) for _, m in strand.measures if (m.base or m).name in LENGTHS]
    if not asked:
        return
    own = plan.of(strand)
    by_hours = strand.hours.by if strand.hours else ""
    in_days = any(m.name in ("days", "workdays", "months") for m in asked)
    for level in sorted(plan.levels, key=lambda level: plan.across in level):  # rows before the cells of a grid
        if by_hours and by_hours not in [d.name for d in level]:
            if not plan.totals:
                continue
            raise RequestError(
                f"{asked[0]}: the hours go by {by_hours}; group by it first, and leave totals out (--no-totals)"
            )
        calendar = [d for d in level if d.calendar]
        told: dict[Any, dict[Any, dict[str, int]]] = {}
        if not by_hours:
            told[None] = dict(_cells(own, strand, calendar, None, in_days))
            if level in own.levels:
                _with_empty(plan, figures, level, told[None])
        for key, found in figures[level].items():
            value = next((k for k, d in zip(key, level, strict=True) if d.name == by_hours), None) if by_hours else None
            if value not in told:
                told[value] = dict(_cells(own, strand, calendar, value, in_days))
            for name, length in told[value].get(_units(level, key), {}).items():
                found[(number, name)] = length
            for measure in asked:
                if measure.name in ("utilisation", "capacity"):
                    held = next((k for k, d in zip(key, level, strict=True) if d.name == measure.of), None)
                    found[(number, f"capacity {measure.of}")] = dict(strand.capacities).get(str(held))


def _with_empty(plan: Plan, figures: Any, level: Level, units: Mapping[Any, Any]) -> None:
    """Adds what has a length without any events: each unit by itself, and the cells of a grid's rows."""
    if plan.across is None or plan.across not in level:
        if len(level) <= 1 and all(d.calendar for d in level):
            kept = plan.kept if level and level == plan.by[:1] else None
            for unit in units:
                if kept is None or unit[0] in kept:
                    figures[level].setdefault(unit, {})
        return
    beside = dict.fromkeys(key[-1:] for key in (units if plan.across.calendar else figures[level]))
    for row, value in itertools.product(figures[level[:-1]], beside):
        if _units(level, (*row, *value)) in units:
            figures[level].setdefault((*row, *value), {})


def _units(level: Level, key: Sequence[Any]) -> tuple[Any, ...]:
    """The calendar units of a group."""
    return tuple(k for k, d in zip(key, level, strict=True) if d.calendar)


def eventless(groups: Mapping[Any, Mapping[tuple[int, str], Any]]) -> bool:
    """Whether no figure of any group is of events; a length and a capacity are there without them."""
    of_cells = ("length", *LENGTHS)
    return not any(value for found in groups.values() for (_, name), value in found.items()
                   if name.split()[0] not in of_cells)  # fmt: skip


def _cells(
    plan: Plan, strand: Strand, calendar: Sequence[Dimension], value: Any, days: bool
) -> Iterator[tuple[Any, dict[str, int]]]:
    """For each combination of calendar labels: microseconds covered by the log and within the hours, days, workdays."""
    from fermata.timeline.units import base_unit

    base = base_unit([*(d.name for d in calendar), *(["day"] if days else [])])
    units = list(plan.slots(base))
    named = [_labels(plan, d, units) for d in calendar]
    dates = _labels(plan, Dimension("day", "unit"), units) if days else []
    low, high = strand.covers or (plan.stretch.start, plan.stretch.end)
    high = last_moment(high)
    edges = stretches_of(strand.hours, plan.stretch, value) if strand.hours else ()
    found: dict[Any, dict[str, Any]] = {}
    for i, unit in enumerate(units):
        start, end = max(unit.start, low), min(unit.end, high)
        if start >= end:
            continue
        cell = found.setdefault(tuple(n[i] for n in named), {"length": 0, "days": set()})
        cell["length"] += inside_length(start, end, edges) if strand.hours else (end - start) // MICROSECOND
        if days:
            cell["days"].add(dates[i])
    every = list(plan.slots("day")) if days else []
    for key, cell in found.items():
        here = [every[i].begins.date() for i in cell["days"]]
        open_ = [d for d in here if plan.workdays is None or plan.workdays.minutes(d)]
        months = {(d.year, d.month) for d in here}
        yield key, {"length": cell["length"], "days": len(here), "workdays": len(open_), "months": len(months)}


def _labels(plan: Plan, dimension: Dimension, units: Sequence[Slot]) -> list[int]:
    """For each unit the dimension's label."""
    from bisect import bisect_right

    own = plan.slots(dimension.unit)
    labels, _ = dimension.labels(own)
    starts = [s.start for s in own]
    return [labels[bisect_right(starts, u.start) - 1] for u in units]


def onwards(plan: Plan, figures: Any) -> None:
    """Adds what running, opening and all-time measures need: per group each unit's figure with all those before it.
    Where a top N keeps only some units, theirs are those of all units; see `as_of_all`.
    """
    if plan.kept is not None and plan.by[0].calendar:
        return
    for column in plan.columns:
        measure = column.measure
        if measure.name not in ONWARDS or not measure.base:
            continue
        for level in plan.levels:
            _go_on(plan, figures, level, column, measure)


def as_of_all(plan: Plan, figures: Any, every: Any) -> None:
    """Gives the units that a top N keeps what goes on from unit to unit in the figures of `every` unit; the rest of
    them, which lie before and after each other, have none.
    """
    for level, groups in every.items():
        at = level.index(plan.by[0]) if plan.by[0] in level else None
        for key, cells in groups.items():
            if at is None or key[at] in (plan.kept or ()):
                parts = {place: value for place, value in cells.items() if place[1].split()[0] in ONWARDS}
                if parts:
                    figures[level].setdefault(key, {}).update(parts)


def _go_on(plan: Plan, figures: Any, level: Level, column: Any, measure: Measure) -> None:
    units = [d for d in level if d.calendar]
    if any(d.kind == "part" for d in units) or len(units) > 1:
        raise RequestError(
            f"{measure} goes on from one unit to the next; group by one calendar unit, not "
            f"{', '.join(d.name for d in units)}"
        )
    fields = tuple(d for d in level if not d.calendar)
    found = figures[level]
    place = level.index(units[0]) if units else -1
    earlier = figures.get(fields, {})
    groups = found
    if units:
        told = (tuple(k for i, k in enumerate(key) if i != place) for key in found)
        groups = dict.fromkeys([*told, *earlier])
    order = range(len(plan.slots(units[0].unit)) + len(plan.beyond(units[0].unit))) if units else (0,)
    for group in groups:
        before = {name: earlier.get(group, {}).get((column.earlier, name)) for name, _ in component(measure)}
        within: dict[str, Any] = dict.fromkeys(before)
        for unit in order:
            key = (*group[:place], unit, *group[place:]) if units else group
            if unit == ELSE_LABEL:
                continue
            cell = found.setdefault(key, {})
            for name, how in component(measure):
                here = cell.get((column.strand, name))
                until = _joined(within[name], here, how)
                parts = {
                    "running": until,
                    "opening": _joined(before[name], within[name], how),
                    "all-time": _joined(before[name], until, how),
                }
                cell[(column.strand, f"{measure.name} {name}")] = parts[measure.name]
                within[name] = until


def _joined(a: Any, b: Any, how: str) -> Any:
    if a is None or b is None:
        return b if a is None else a
    return a + b if how == "sum" else min(a, b) if how == "min" else max(a, b)
