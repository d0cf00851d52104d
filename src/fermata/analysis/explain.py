"""What each filter takes away, and which names a pattern or an exact filter matched."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

from fermata.analysis.combine import Source
from fermata.analysis.filters import column
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside, select

__all__ = ["Step", "matched", "steps"]

MOST_SOUGHT = 12  # values that are looked for one by one


@dataclass(frozen=True, slots=True)
class Step:
    """One filter: its words, the events left after it, and how many it took away from those before."""

    text: str
    left: int
    removed: int


def steps(plan: Plan, strand: Strand, source: Source) -> list[Step]:
    """The events in the period, then after each filter in turn; one query for all."""
    engine, table = opened(strand, source)
    here = inside(table, plan, strand, spans=strand.needs_spans)
    kept, named = None, {"n0": here.count()}
    for i, test in enumerate(strand.selection.predicates(here, strand.schema), 1):
        kept = test if kept is None else kept & test
        named[f"n{i}"] = here.count(where=kept)
    row = engine.run(here.aggregate(**named))
    counts = [row.column(i)[0].as_py() for i in range(row.num_columns)]
    texts = ["in the period", *(text for text, _, _ in strand.selection.steps())]
    before = [counts[0], *counts]
    return [Step(t, n, b - n) for t, n, b in zip(texts, counts, before, strict=False)]


def matched(
    plan: Plan, strand: Strand, field: str, source: Source, *, values: tuple[Any, ...] | None = None
) -> list[str]:
    """The different values of a field among the events the strand keeps in the period, in order.

    With `values`, only those of them that occur, before any filter.
    """
    engine, table = opened(strand, source)
    spec = strand.schema.field(field)
    here = inside(table, plan, strand, spans=strand.needs_spans)
    if values is None or len(values) > MOST_SOUGHT:
        here = select(here, strand) if values is None else here.filter(column(here, spec).isin(values))
        found = engine.run(here.select(v=column(here, spec)).distinct())
    else:  # one event of each is enough: the engine stops where it finds it
        each = [here.filter(column(here, spec) == v).select(v=column(here, spec)).limit(1) for v in values]
        found = engine.run(functools.reduce(lambda a, b: a.union(b), each))
    return sorted(str(v) for v in found.column(0).to_pylist() if v is not None)
