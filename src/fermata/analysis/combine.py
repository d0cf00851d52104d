"""From the engines' small tables to figures per group and level: units filled in, parts rolled up, strands joined."""

from __future__ import annotations

import dataclasses
import operator
from collections.abc import Callable, Iterator, Sequence
from datetime import timedelta
from typing import Any

from fermata.analysis.batching import alike, each, together
from fermata.analysis.fold import folded
from fermata.analysis.identify import opened
from fermata.analysis.measures import LENGTHS, MAX, MIN, ONWARDS, SUM, Measure, component
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.analysis.reduce import Reduction, reductions
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.window_measures import as_of_all, at_once, beyond, lengths, onwards
from fermata.engines.embedded import Engine
from fermata.timeline import Slot

__all__ = ["Figures", "gather", "regrouped"]

Key = tuple[Any, ...]
Figures = dict[tuple[Dimension, ...], dict[Key, dict[tuple[int, str], Any]]]
WAYS: dict[str, Callable[[Any, Any], Any]] = {SUM: operator.add, MIN: min, MAX: max}
Source = Callable[[Strand], tuple[Engine, Any]]


def gather(plan: Plan, source: Source) -> Figures:
    """Every component of every column: level -> group key -> (strand, component) -> exact value.

    `source` opens a strand's events on the engine they live on. Where a dimension holds several values, an event counts
    in each of them; the levels above it are gathered on their own, so that it counts once in every total.
    """
    several = plan.set_dimension
    if several is None:
        return _gathered(plan, source)
    if several == plan.across:
        above = dataclasses.replace(plan, across=None)
    else:
        above = dataclasses.replace(plan, by=plan.by[: plan.by.index(several)], zeros=(), totals=True)
    once = _gathered(above, source)
    each = _gathered(plan, source)
    return {level: figures if several in level else once[level] for level, figures in each.items()}


def regrouped(plan: Plan, figures: Figures, source: Source) -> Figures:
    """The figures with only the groups of the first dimension that the plan keeps, all others as one. Parts that add up
    are added up here; for measures that do not, the events are asked again.
    """
    measures = [m for s in plan.strands for _, m in s.measures]
    adds = all(
        component(m) and m.name not in (*LENGTHS, *ONWARDS) and (m.base or m).name not in LENGTHS for m in measures
    )
    if not adds or plan.set_dimension or plan.zeros:
        found = gather(plan, source)
        if plan.by[0].calendar:
            as_of_all(plan, found, figures)
        return found
    how = {c: way for m in measures for c, way in component(m)}
    rest = ELSE_LABEL if plan.by[0].calendar else ELSE_TEXT
    found = {}
    for level, groups in figures.items():
        if plan.by[0] not in level:
            found[level] = groups
            continue
        at = level.index(plan.by[0])
        into: dict[Key, dict[tuple[int, str], Any]] = {}
        found[level] = into
        for key, cells in groups.items():
            own = key if key[at] in (plan.kept or ()) else (*key[:at], rest, *key[at + 1 :])
            held = into.setdefault(own, {})
            for place, value in cells.items():
                known = held.get(place)
                if known is None or value is None:
                    held[place] = value if known is None else known
                else:
                    held[place] = WAYS[how[place[1]]](known, value)
    return found


def _gathered(plan: Plan, source: Source) -> Figures:
    figures: Figures = {level: {} for level in plan.levels}
    for numbers in alike(plan):
        if len(numbers) == 1 or not _strands_at_once(plan, numbers, source, figures):
            for number in numbers:
                _strand(plan, number, source, figures)
    for key in plan.zeros:
        if plan.kept is None or key[0] in plan.kept:
            for level in plan.levels:
                if plan.across not in level:
                    figures[level].setdefault(key[: len(level)], {})
    onwards(plan, figures)
    for number in range(len(plan.strands)):
        lengths(plan, number, figures)
    return figures


def _strands_at_once(plan: Plan, numbers: list[int], source: Source, figures: Figures) -> bool:
    """The figures of strands that are alike, from one reading of their events; False where the engine cannot."""
    strands = [plan.strands[n] for n in numbers]
    engine, table = opened(strands[0], source)
    own = plan.of(strands[0])
    made = together(engine, table, own, strands)
    if made is None:
        return False
    asked, apart = made
    for number, (rows, parts) in zip(numbers, each(engine.run(asked.expr), strands), strict=True):
        if not parts:  # different values alone
            continue
        reduction = dataclasses.replace(asked, components=parts)
        whole = _by_unit(own, reduction, rows)
        for level in own.levels:
            rolled = _rolled(own, reduction, whole, level)
            _enter(figures.setdefault(level, {}), number, [name for name, _ in parts], rolled, len(level))
    for i, different in apart:
        names = [name for name, _ in different.components]
        rows = _columns(engine.run(different.expr))
        _enter(figures.setdefault(different.keys, {}), numbers[i], names, rows, len(different.keys))
    return True


def _strand(plan: Plan, number: int, source: Source, figures: Figures) -> None:
    """The figures of a strand."""
    strand = plan.strands[number]
    engine, table = opened(strand, source)
    own = plan.of(strand)
    for level in own.levels:
        figures.setdefault(level, {})
    for reduction in reductions(engine, table, own, strand):
        rows = engine.run(reduction.expr)
        names = [name for name, _ in reduction.components]
        if reduction.kind == "level":
            _enter(figures[reduction.keys], number, names, _columns(rows), len(reduction.keys))
            continue
        if reduction.kind == "levels":
            for level, own_rows in _level_by_level(own, rows):
                _enter(figures[level], number, names, _columns(own_rows), len(level))
            continue
        if reduction.kind == "touched" and reduction.plan:
            whole = _by_unit(reduction.plan, dataclasses.replace(reduction, kind="seen"), rows)
            for level in own.levels:
                keys = [f"d{own.dimensions.index(d)}" for d in level]
                once = whole.group_by([*keys, f"d{len(own.dimensions)}"]).aggregate([])
                counts = once.group_by(keys).aggregate([(f"d{len(own.dimensions)}", "count")])
                ordered = counts.select([*keys, f"d{len(own.dimensions)}_count"])
                _enter(figures[level], number, names, _columns(ordered), len(level))
            continue
        if reduction.plan:
            whole = _by_unit(reduction.plan, dataclasses.replace(reduction, kind="spread"), rows)
            time = next(f"c{i}" for i, name in enumerate(names) if name == "time")
            for level in own.levels:
                rolled = beyond(reduction.plan, own, whole, time, Measure.parse(reduction.kind), level)
                _enter(figures[level], number, [reduction.kind], _columns(rolled), len(level))
            continue
        whole = _by_unit(own, reduction, rows)
        for level in own.levels:
            if reduction.kind == "sweep":
                if tuple(d for d in level if not d.calendar) != reduction.keys:
                    continue
                names, swept = at_once(own, strand, whole, level)
                rolled = _columns(swept)
            else:
                rolled = _rolled(own, reduction, whole, level)
            _enter(figures[level], number, names, rolled, len(level))


def _by_unit(plan: Plan, reduction: Reduction, rows: Any) -> Any:
    """The rows with one column per dimension of the plan, named d0, d1 ...; time is spread over its units."""
    import pyarrow as pa

    if reduction.kind == "sums":
        return rows.rename_columns([c.replace("k", "d") if c.startswith("k") else c for c in rows.column_names])
    index, rows = _filled(plan, reduction, rows) if plan.base else (None, rows)
    field_position = {d: i for i, d in enumerate(reduction.keys)}
    base = plan.slots(plan.base)
    columns: dict[str, Any] = {}
    for i, dimension in enumerate(plan.dimensions):
        if dimension.calendar:
            columns[f"d{i}"] = pa.array(_labels_of(plan, dimension, base, i == 0)[index])
        elif dimension in field_position:
            columns[f"d{i}"] = rows.column(f"k{field_position[dimension]}")
    kept = [c for c in rows.column_names if (c[0] == "c" and c[1:].isdigit()) or c in ("seen", "n", "first")]
    return pa.table({**columns, **{c: rows.column(c) for c in kept}})


def _labels_of(plan: Plan, dimension: Dimension, base: Sequence[Slot], first: bool) -> Any:
    """For each base unit the dimension's label; of the `first` dimension only those a top N keeps."""
    import numpy as np

    own = plan.slots(dimension.unit)
    labels, _ = dimension.labels(own)
    starts = np.array([s.start.timestamp() for s in own])
    at = np.searchsorted(starts, np.array([b.start.timestamp() for b in base]), side="right") - 1
    found = np.array(labels, dtype=np.int64)[at]
    if first and plan.kept is not None:
        return np.where(np.isin(found, list(plan.kept)), found, ELSE_LABEL)
    return found


def _filled(plan: Plan, reduction: Reduction, rows: Any) -> tuple[Any, Any]:
    """One row per base unit instead of one per (first, last) pair, and the unit of each row.

    Of n spans from unit a to unit b, a gets n * length(a) less the sum of their starts within a, each unit between n
    times its length, and b what is then left of their whole time.
    """
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute

    e0, e1 = (rows.column(c).to_numpy() for c in ("e0", "e1"))
    counts = e1 - e0 + 1
    parent = np.repeat(np.arange(len(rows)), counts)
    ends = np.cumsum(counts)
    position = np.arange(len(parent)) - np.repeat(ends - counts, counts)
    unit = e0[parent] + position
    first, last = position == 0, unit == e1[parent]
    taken = rows.take(pa.array(parent))
    if reduction.kind == "seen":
        return unit, taken
    slots = plan.slots(plan.base)
    starts = _microseconds([s.start - slots[0].start for s in slots])
    lengths = _microseconds([s.end - s.start for s in slots])
    spans, into_first = (taken.column(c).to_numpy() for c in ("spans", "into_first"))
    for i, (name, how) in enumerate(reduction.components):
        column = taken.column(f"c{i}")
        if name == "time":
            whole = column.fill_null(0).to_numpy()
            before_last = spans * (starts[unit] - starts[e0[parent]]) - into_first
            inner = spans * lengths[unit] - np.where(first, into_first, 0)
            values = pa.array(np.where(first & last, whole, np.where(last, whole - before_last, inner)))
        else:
            empty = pa.scalar(0 if how == "sum" else None, type=column.type)
            values = _only(column, pa.array(first), empty)
        taken = taken.set_column(taken.column_names.index(f"c{i}"), f"c{i}", values)
    if reduction.kind == "sweep":
        begins = pa.array([s.start.replace(tzinfo=None) for s in slots], type=taken.column("first").type)
        at = pa.compute.if_else(pa.array(first), taken.column("first"), begins.take(pa.array(unit)))
        taken = taken.set_column(taken.column_names.index("first"), "first", at)
    return unit, taken


def _microseconds(lengths: Sequence[timedelta]) -> Any:
    import numpy as np

    return np.array([t // timedelta(microseconds=1) for t in lengths], dtype=np.int64)


def _only(column: Any, mask: Any, otherwise: Any) -> Any:
    import pyarrow.compute as pc

    return pc.if_else(mask, column, otherwise)


def _rolled(plan: Plan, reduction: Reduction, rows: Any, level: tuple[Dimension, ...]) -> list[list[Any]]:
    """The components of one level from those of the finest, as columns of values, keys first."""
    keys = [f"d{plan.dimensions.index(d)}" for d in level]
    if reduction.kind == "seen":
        once = rows.group_by([*keys, "seen"]).aggregate([])
        rolled = once.group_by(keys).aggregate([("seen", "count")])
        return _columns(rolled.select([*keys, "seen_count"]))
    wanted = [(f"c{i}", how) for i, (_, how) in enumerate(reduction.components)]
    return folded(rows, keys, wanted)


def _level_by_level(plan: Plan, rows: Any) -> Iterator[tuple[tuple[Dimension, ...], Any]]:
    """Each level with its rows of a query that answers all of them."""
    import pyarrow.compute as pc

    figures = [c for c in rows.column_names if c.startswith("c")]
    for number, level in enumerate(plan.levels):
        keys = [f"k{plan.levels[0].index(d)}" for d in level]
        yield level, rows.filter(pc.equal(rows.column("level"), number)).select([*keys, *figures])


def _columns(rows: Any) -> list[list[Any]]:
    return [c.to_pylist() for c in rows.columns]


def _enter(
    into: dict[Key, dict[tuple[int, str], Any]],
    strand: int,
    names: Sequence[str],
    columns: Sequence[list[Any]],
    width: int,
) -> None:
    keys = list(zip(*columns[:width], strict=True)) if width else [()] * len(columns[0])
    for name, values in zip(names, columns[width:], strict=True):
        place = (strand, name)
        for key, value in zip(keys, values, strict=True):
            if key in into:
                into[key][place] = value
            else:
                into[key] = {place: value}
