"""What each filter takes away, and which names a pattern or an exact filter matched."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.analysis.combine import Source
from fermata.analysis.filters import Condition, column, count_of, holds
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside, select

__all__ = ["Step", "any_kept", "counted", "fits", "matched", "steps"]

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
        named[f"n{i}"] = count_of(here, kept)
    row = engine.run(here.aggregate(**named))
    counts = [row.column(i)[0].as_py() for i in range(row.num_columns)]
    texts = ["in the period", *(text for text, _, _ in strand.selection.steps())]
    before = [counts[0], *counts]
    return [Step(t, n, b - n) for t, n, b in zip(texts, counts, before, strict=False)]


def matched(
    plan: Plan,
    strand: Strand,
    field: str,
    source: Source,
    *,
    values: tuple[Any, ...] | None = None,
    fits: Condition | None = None,
    kept: bool = True,
) -> list[str]:
    """The different values of a field among the events the strand keeps in the period (all of the period if not
    `kept`), in order; with `fits`, only those that meet the condition.

    With `values`, only those of them that occur, before any filter.
    """
    engine, table = opened(strand, source)
    spec = strand.schema.field(field)
    here = inside(table, plan, strand, spans=strand.needs_spans)
    several = spec.type == "tags"
    if (
        values is not None and len(values) <= MOST_SOUGHT
    ):  # one event of each is enough: the engine stops where it finds it
        each = [
            here.filter(holds(here, Condition(field, "is", (v,)), spec)).select(v=_text(v)).limit(1) for v in values
        ]
        found = engine.run(functools.reduce(lambda a, b: a.union(b), each))
        return sorted(str(v) for v in found.column(0).to_pylist())
    if values is None and kept:
        here = select(here, strand)
    test = Condition(field, "is", values) if values is not None else fits
    here = here.filter(holds(here, test, spec)) if test else here
    value = column(here, spec)
    found = engine.run(here.select(v=value.unnest() if several else value).distinct())
    wanted = None if values is None else set(values)
    return sorted(str(v) for v in found.column(0).to_pylist() if v is not None and (wanted is None or v in wanted))


def fits(plan: Plan, strand: Strand, conditions: Sequence[Condition], source: Source) -> list[bool]:
    """Whether any event of the period, before any filter, meets each of the conditions; one query for all."""
    engine, table = opened(strand, source)
    here = inside(table, plan, strand, spans=strand.needs_spans)
    named = {f"n{i}": count_of(here, holds(here, c, strand.schema.field(c.field))) for i, c in enumerate(conditions)}
    row = engine.run(here.aggregate(**named))
    return [bool(row.column(i)[0].as_py()) for i in range(row.num_columns)]


def any_kept(plan: Plan, strand: Strand, source: Source) -> bool:
    """Whether the strand keeps any event that starts in the period."""
    engine, table = opened(strand, source)
    here = inside(select(table, strand), plan, strand, spans=False)
    return bool(engine.run(here.select(one=_text("")).limit(1)).num_rows)


def counted(plan: Plan, strand: Strand, field: str, source: Source) -> list[tuple[str, int, datetime, datetime]]:
    """Each value of a field among the events the strand keeps in the period, with their number, first and last start
    (naive UTC).
    """
    engine, table = opened(dataclasses.replace(strand, uses=()), source)
    here = inside(select(table, strand), plan, strand, spans=False)
    value = column(here, strand.schema.field(field))
    grouped = here.group_by(v=value).aggregate(n=here.count(), a=here.start_utc.min(), b=here.start_utc.max())
    rows = engine.run(grouped.order_by("v")).to_pylist()
    return [(r["v"], r["n"], r["a"], r["b"]) for r in rows]


def _text(value: Any) -> Any:
    """A text as an engine literal."""
    import ibis

    return ibis.literal(str(value))
