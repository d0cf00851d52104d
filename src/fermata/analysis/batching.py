"""Strands that differ by their filters only, reduced in one reading of their events."""

from __future__ import annotations

import dataclasses
import functools
import operator
from collections.abc import Sequence
from typing import Any

from fermata.analysis.filters import Selection, column, count_of
from fermata.analysis.measures import SUM, component
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.reduce import WAYS, Reduction, counted_once, distinct, sums_of
from fermata.analysis.stages import each_value, inside, labelled, rounded
from fermata.engines.embedded import Engine

__all__ = ["alike", "each", "together"]


def alike(plan: Plan) -> list[list[int]]:
    """The strands by number, those together that differ by their filters only and are answered by parts that roll up,
    or by different values that are set apart before they are counted, of one field for all of them.
    """
    found: list[tuple[Strand | None, set[str], list[int]]] = []
    for number, strand in enumerate(plan.strands):
        parts = {name for _, m in strand.measures for name, _ in component(m)}
        rest = {(m.base or m).name for _, m in strand.measures if not component(m)}
        fields = set(counted_once(plan.of(strand), strand))
        plain = "time" not in parts and rest <= {"distinct"} and bool(rest) == bool(fields)
        bare = dataclasses.replace(strand, selection=Selection(), measures=()) if plain and (parts or rest) else None
        same = next((f for f in found if bare and f[0] == bare and len(f[1] | fields) <= 1), None)
        if same is None:
            found.append((bare, fields, [number]))
        else:
            same[1].update(fields)
            same[2].append(number)
    return [numbers for *_, numbers in found]


def together(
    engine: Engine, table: Any, plan: Plan, strands: Sequence[Strand]
) -> tuple[Reduction, list[tuple[int, Reduction]]] | None:
    """One reading for strands that are alike: the parts of each, over the events its own filters keep, one strand's
    after the other's, then how many events each has, where that is not among its parts; and the queries of different
    values, level by level, with the place of their strand.

    None where different values are asked for and the engine keeps nothing.
    """

    tests = [s.selection.predicates(table, s.schema) for s in strands]
    flags = {f"w{i}_": functools.reduce(operator.and_, t) for i, t in enumerate(tests) if t}
    kept = table.mutate(**flags)
    if all(tests):
        kept = kept.filter(functools.reduce(operator.or_, [kept[w] for w in flags]))
    here = inside(each_value(rounded(kept, strands[0].rounding), plan, strands[0]), plan, strands[0], spans=False)
    keys = labelled(here, plan, strands[0].schema, plan.levels[0])
    wheres = [here[f"w{i}_"] if t else None for i, t in enumerate(tests)]
    sums = [expr for s, w in zip(strands, wheres, strict=True) for expr in sums_of(here, s, w).values()]
    numbers = _numbers(strands)
    counts = {n: count_of(here, w) for n, w in zip(numbers, wheres, strict=True) if n.startswith("n")}
    named = {f"c{i}": expr for i, expr in enumerate(sums)} | counts
    asked = next((of for s in strands for of in counted_once(plan, s)), "")
    if not asked:
        expr = here.group_by(keys).aggregate(**named) if keys else here.aggregate(**named)
        return Reduction("sums", plan.levels[0], expr, ()), []
    value = column(here, strands[0].schema.field(asked)).name("v")
    each_once = here.group_by([*keys, value]).aggregate(**named)
    once = engine.keep(each_once)
    if once is each_once:
        return None
    hows = [how for s in strands for _, how in dict(c for _, m in s.measures for c in component(m)).items()]
    folded = {f"c{i}": WAYS[how](once[f"c{i}"]) for i, how in enumerate(hows)} | {n: WAYS[SUM](once[n]) for n in counts}
    by = [once[f"k{i}"] for i in range(len(keys))]
    expr = once.group_by(by).aggregate(**folded) if by else once.aggregate(**folded)
    apart = [
        (i, distinct(once.filter(once[numbers[i]] > 0), plan, level, asked))
        for i, s in enumerate(strands)
        if counted_once(plan, s)
        for level in plan.levels
    ]
    return Reduction("sums", plan.levels[0], expr, ()), apart


def _numbers(strands: Sequence[Strand]) -> list[str]:
    """The column that says how many events each strand has: that of its count, or `n0`, `n1` ..."""
    found, at = [], 0
    for i, strand in enumerate(strands):
        parts = list(dict(c for _, m in strand.measures for c in component(m)))
        found.append(f"c{at + parts.index('count')}" if "count" in parts else f"n{i}")
        at += len(parts)
    return found


def each(rows: Any, strands: Sequence[Strand]) -> list[tuple[Any, tuple[tuple[str, str], ...]]]:
    """What such a query gave, strand by strand: its rows as if it had been asked alone, and its parts."""
    import pyarrow.compute as pc

    keys = [c for c in rows.column_names if c.startswith("k")]
    found, at = [], 0
    for strand, number in zip(strands, _numbers(strands), strict=True):
        parts = dict(c for _, m in strand.measures for c in component(m))
        own = rows.filter(pc.greater(rows.column(number), 0)) if keys else rows
        own = own.select([*keys, *(f"c{at + j}" for j in range(len(parts)))])
        found.append((own.rename_columns([*keys, *(f"c{j}" for j in range(len(parts)))]), tuple(parts.items())))
        at += len(parts)
    return found
