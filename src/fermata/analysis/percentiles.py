"""Medians and percentiles of all levels of a report in one reading of its events, by nearest rank.

A total's median does not follow from those of its rows, so each event stands once for each level, with the groups that
the level has.
"""

from __future__ import annotations

from decimal import Decimal
from functools import cache
from typing import Any

from fermata.analysis.filters import column
from fermata.analysis.measures import SUM, Measure
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.analysis.stages import labelled

__all__ = ["RANKED", "ranked"]

RANKED = ("median", "percentile")


def ranked(here: Any, plan: Plan, strand: Strand, builtin: bool) -> tuple[Any, tuple[tuple[str, str], ...]]:
    """The query over the events `here`, and the components it has. Its rows are of the level with the number `level`
    (in the order of `plan.levels`), in groups k0, k1 ... of the finest, which are empty where the level has not got
    them.
    """
    asked = list(dict.fromkeys(m for _, part in strand.measures if (m := part.base or part).name in RANKED))
    keys = labelled(here, plan, strand.schema, plan.levels[0])
    fields = list(dict.fromkeys(m.of for m in asked))
    values = [column(here, strand.schema.field(of)).name(f"v{i}") for i, of in enumerate(fields)]
    table, groups = _for_each_level(here.select(*keys, *values), plan.levels)
    of = {m: f"v{fields.index(m.of)}" for m in asked}
    expr = _aggregated(table, groups, of) if builtin else _by_rank(table, groups, of)
    return expr, tuple((str(m), SUM) for m in asked)


def _for_each_level(table: Any, levels: list[tuple[Dimension, ...]]) -> tuple[Any, list[str]]:
    """The rows once for each level, with its number, and the names of what they are grouped by."""
    import ibis

    names = [f"k{i}" for i in range(len(levels[0]))]
    numbers = [ibis.literal(n, type="int64") for n in range(len(levels))]
    if len(levels) > 1:
        table = table.cross_join(ibis.array(numbers).unnest().name("level").as_table())
    else:
        table = table.mutate(level=numbers[0])
    held = {
        name: ibis.ifelse(table.level.isin(having), table[name], ibis.null(table[name].type()))
        for name, d in zip(names, levels[0], strict=True)
        if len(having := [n for n, level in enumerate(levels) if d in level]) < len(levels)
    }
    return table.mutate(**held) if held else table, ["level", *names]


def percent_of(measure: Measure) -> float:
    """The share in per cent a median or percentile is taken at."""
    return 50.0 if measure.name == "median" else measure.percent


def _aggregated(table: Any, groups: list[str], of: dict[Measure, str]) -> Any:
    """With the engine's own aggregate, which puts the values of a group in order once for all shares of them."""
    import ibis

    shares = {v: [Decimal(str(percent_of(m))) / 100 for m, own in of.items() if own == v] for v in of.values()}
    lists = {f"{v}_at": _quantile_disc()(table[v], ibis.literal(s, type=SHARES)) for v, s in shares.items()}
    found = table.group_by(groups).aggregate(**lists)
    at = {m: [o for o, own in of.items() if own == v].index(m) for m, v in of.items()}
    return found.select(*groups, **{f"c{i}": found[f"{v}_at"][at[m]] for i, (m, v) in enumerate(of.items())})


SHARES = "array<decimal(9, 6)>"


@cache
def _quantile_disc() -> Any:
    import ibis

    @ibis.udf.agg.builtin(name="quantile_disc", signature=(("int64", SHARES), "array<int64>"))
    def nearest_ranks(value, shares):  # type: ignore[no-untyped-def]  # its types are the signature above
        """For each share the smallest value with at least so many of the values at or below it."""

    return nearest_ranks


def _by_rank(table: Any, groups: list[str], of: dict[Measure, str]) -> Any:
    """By numbering the values of a group in their order: for engines without an aggregate that is exact."""
    import ibis

    within = ibis.window(group_by=groups)
    numbered: dict[str, Any] = {}
    for v in dict.fromkeys(of.values()):
        order = ibis.window(group_by=groups, order_by=table[v].asc(nulls_first=False))
        numbered |= {f"{v}_rank": ibis.row_number().over(order) + 1, f"{v}_size": table[v].count().over(within)}
    table = table.mutate(**numbered)
    chosen = {}
    for i, (measure, v) in enumerate(of.items()):
        milli = round(percent_of(measure) * 1000)
        at = ((table[f"{v}_size"] * milli + 99_999) / 100_000).floor().cast("int64")
        chosen[f"c{i}"] = table[v].min(where=table[f"{v}_rank"] == at)
    return table.group_by(groups).aggregate(**chosen)
