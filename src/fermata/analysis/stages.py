"""The stages of a strand as engine expressions: select > shape > label > reduce.

Each stage is a function from table to table; nothing runs here. Figures that add up are reduced once at the finest
level; those that do not are reduced once per level.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from functools import cache
from typing import Any

from fermata.analysis.buckets import Buckets
from fermata.analysis.engine import Engine
from fermata.analysis.filters import column
from fermata.analysis.measures import SUM, SWEPT, Measure, component
from fermata.analysis.plan import Dimension, Plan, Rounding, Strand
from fermata.analysis.within import cut, in_hours
from fermata.errors import RequestError
from fermata.fields import LogSchema

__all__ = ["Reduction", "inside", "labelled", "reductions", "select"]

ELSE_TEXT, ELSE_LABEL = "\uffffelse", -1  # the rest of a top N; it sorts after every text


@dataclass(frozen=True)
class Reduction:
    """A query of a strand and how to read it; `plan` is a finer grouping it has been made for, if it has.

    `kind` is `sums` (components that roll up, labelled by start), `spread` (the same, with `e0` and `e1`, first and last
    base unit of the time), `seen` (one row per present value, with `e0` and `e1`) or `level` (final figures of `keys`).
    """

    kind: str
    keys: tuple[Dimension, ...]
    expr: Any
    components: tuple[tuple[str, str], ...]
    plan: Plan | None = None


def select(table: Any, strand: Strand) -> Any:
    """Only the events the strand's filters keep, their lengths rounded if the report says so (filters see them as they are)."""
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
    """Adds `began` (starts inside), the clipped ends `s` and `x`, and first and last base unit `e0`, `e1`.

    Where only certain hours count, a span is one row for each stretch of them it meets.
    """
    import ibis

    start, end = naive(plan.stretch.start), naive(plan.stretch.end)
    table = table.mutate(
        began=table.start_utc >= start,
        s=ibis.greatest(table.start_utc, start),
        x=ibis.ifelse(table.finish_utc.isnull(), table.finish_utc, ibis.least(table.finish_utc, end)),
    )
    if strand.hours:
        table = cut(engine, table, plan.stretch, strand)
    return placed(table, plan)


def placed(table: Any, plan: Plan) -> Any:
    """Adds the first and last base unit `e0`, `e1` of the time from `s` to `x`."""
    import ibis

    if not plan.base:
        return table.mutate(e0=ibis.literal(0, type="int64"), e1=ibis.literal(0, type="int64"))
    buckets = Buckets.of(plan.slots(plan.base))
    lasts = (table.x > table.s).fill_null(False)
    first = buckets.label(table.s)
    return table.mutate(e0=first, e1=ibis.ifelse(lasts, buckets.label(table.x, upper=True), first))


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


def _sums(table: Any, strand: Strand, where: Any) -> dict[str, Any]:
    """The components that roll up, `time` apart, over the events for which `where` holds (None: all)."""
    found: dict[str, Any] = {}
    for _, measure in strand.measures:
        inner = measure.base or measure
        value = column(table, strand.schema.field(inner.of)) if inner.of else table.start_utc
        for name, _ in component(measure):
            kind = name.split()[0]
            if kind == "count":
                found[name] = table.count(where=where)
            elif kind == "total":
                found[name] = value.sum(where=where).cast("int64")
            elif kind == "filled":
                found[name] = value.count(where=where)
            elif kind in ("first", "least"):
                found[name] = value.min(where=where)
            elif kind in ("last", "most"):
                found[name] = value.max(where=where)
    return found


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


def reductions(engine: Engine, table: Any, plan: Plan, strand: Strand) -> list[Reduction]:
    """The queries that answer the strand's columns, over `table` (source and carried events, unfiltered)."""
    found: list[Reduction] = []
    kinds = {(m.base or m).name for _, m in strand.measures}
    kept = each_value(select(table, strand), plan, strand)
    rolled = dict(c for _, m in strand.measures for c in component(m))
    if "time" in rolled:
        found.append(_spread(engine, kept, plan, strand, rolled))
    elif rolled:
        here = inside(kept, plan, strand, spans=False)
        finest = plan.levels[0]
        keys = labelled(here, plan, strand.schema, finest)
        sums = _sums(here, strand, None)
        expr = here.group_by(keys).aggregate(**_numbered(sums)) if keys else here.aggregate(**_numbered(sums))
        found.append(Reduction("sums", finest, expr, tuple((n, rolled[n]) for n in sums)))
    for of in dict.fromkeys((m.base or m).of for _, m in strand.measures if (m.base or m).name == "present"):
        found.append(_seen(engine, kept, plan, strand, of))
    if kinds & set(SWEPT):
        here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
        found += [sweep(here, plan, strand, fields) for fields in field_levels(plan)]
    for measure in dict.fromkeys(m.base or m for _, m in strand.measures if (m.base or m).name == "over"):
        finer = by_user_and_unit(plan, measure)
        found.append(dataclasses.replace(_spread(engine, kept, finer, strand, {}), kind=str(measure), plan=finer))
    if kinds & {"distinct", "median", "percentile"}:
        here = inside(kept, plan, strand, spans=False)
        asked = _counted_once(plan, strand)
        once = {of: held for of in asked if (held := _each_once(engine, here, plan, strand, of)) is not None}
        for level in plan.levels:
            found += _level(here, plan, strand, level, engine.builtin_percentile, tuple(once))
            found += [_distinct(held, plan, level, of) for of, held in once.items()]
    return found


def _counted_once(plan: Plan, strand: Strand) -> list[str]:
    """The fields whose different values are worth setting apart before they are counted at each level: several levels, none of them cut
    fine, so that there are far fewer different values than events.
    """
    if len(plan.levels) < 2 or any(d.calendar and d.unit not in ("month", "quarter", "year") for d in plan.dimensions):
        return []
    return list(dict.fromkeys((m.base or m).of for _, m in strand.measures if (m.base or m).name == "distinct"))


def _each_once(engine: Engine, here: Any, plan: Plan, strand: Strand, of: str) -> Any:
    """Every value of a field once in each group of the finest level, kept by the engine; None for one that keeps nothing."""
    keys = labelled(here, plan, strand.schema, plan.levels[0])
    asked = here.select(*keys, v=column(here, strand.schema.field(of))).distinct()
    held = engine.keep(asked)
    return None if held is asked else held


def _distinct(once: Any, plan: Plan, level: tuple[Dimension, ...], of: str) -> Reduction:
    """How many different values there are in each group of a level."""
    finest = plan.levels[0]
    keys = [once[f"k{finest.index(d)}"].name(f"k{i}") for i, d in enumerate(level)]
    asked = Measure("distinct", of)
    expr = once.group_by(keys).aggregate(c0=once.v.nunique()) if keys else once.aggregate(c0=once.v.nunique())
    return Reduction("level", level, expr, ((str(asked), SUM),))


def by_user_and_unit(plan: Plan, measure: Measure) -> Plan:
    """The plan grouped by user and the measure's unit as well. Raises RequestError where its own groups would cut a user's unit."""
    whole = {
        "day": ("day", "week", "month", "quarter", "year", "weekday"),
        "week": ("week",),
        "month": ("month", "quarter", "year"),
    }
    for d in plan.dimensions:
        fine = d.name in whole[measure.unit] if d.calendar else d.name.partition(".")[0] == "user"
        if not fine and not (d.calendar and d.kind == "unit" and measure.unit == "day" and d.name != "hour"):
            raise RequestError(
                f"{measure} by {d.name} means nothing: a user's {measure.unit} falls into several; group by users and {whole[measure.unit][0]}s"
            )
    more = [d for d in (Dimension("user", "field"), Dimension(measure.unit, "unit")) if d not in plan.dimensions]
    return dataclasses.replace(plan, by=(*plan.dimensions, *more), across=None, totals=False, kept=None)


def field_levels(plan: Plan) -> list[tuple[Dimension, ...]]:
    """The different sets of fields among the plan's groupings, calendar units left out."""
    return list(dict.fromkeys(tuple(d for d in level if not d.calendar) for level in plan.levels))


def sweep(here: Any, plan: Plan, strand: Strand, fields: tuple[Dimension, ...]) -> Reduction:
    """How much time there was with how many spans at once, by (fields, first unit, last unit, number).

    The ends of all spans are put in order and counted up and down; between two ends the number stays the same. Where only
    `union` is asked for, the running latest finish says it without the ends, which is quicker.
    """
    import ibis

    kinds = {(m.base or m).name for _, m in strand.measures}
    here = here.filter((here.x > here.s).fill_null(False))
    keys = labelled(here, plan, strand.schema, fields)
    here = here.select(*keys, s=here.s, x=here.x)
    names = [f"k{i}" for i in range(len(keys))]
    if kinds & set(SWEPT) <= {"union", "uncovered"}:
        before = ibis.window(group_by=names, order_by=["s", "x"], preceding=(None, 1))
        table = here.mutate(latest=here.x.max().over(before))
        table = table.mutate(
            s=ibis.ifelse(table.latest > table.s, table.latest, table.s).fill_null(table.s),
            n=ibis.literal(1, type="int64"),
        )
    else:
        ends = [here.select(*names, t=here[c], d=ibis.literal(d, type="int64")) for c, d in (("s", 1), ("x", -1))]
        both = ibis.union(*ends, distinct=False)
        at = both.group_by([*names, "t"]).aggregate(d=both.d.sum().cast("int64"))
        running = ibis.window(group_by=names, order_by="t", preceding=None, following=0)
        after = ibis.window(group_by=names, order_by="t")
        table = at.mutate(n=at.d.sum().over(running).cast("int64"), s=at.t, x=at.t.lead().over(after))
    table = placed(table.filter((table.x > table.s) & (table.n > 0)), plan)
    micro = table.x.delta(table.s, unit="microsecond")
    named = {"c0": micro.sum().cast("int64"), "first": table.s.min(), "spans": table.count()}
    if plan.base:
        buckets = Buckets.of(plan.slots(plan.base))
        named["into_first"] = ibis.ifelse(table.e1 > table.e0, buckets.offset(table.s), 0).sum().cast("int64")
    expr = table.group_by([*names, table.e0, table.e1, table.n]).aggregate(**named)
    return Reduction("sweep", fields, expr, (("time", SUM),))


def _numbered(named: dict[str, Any]) -> dict[str, Any]:
    """Components under short column names c0, c1 ... in their order."""
    return {f"c{i}": expr for i, expr in enumerate(named.values())}


def _spread(engine: Engine, kept: Any, plan: Plan, strand: Strand, rolled: dict[str, str]) -> Reduction:
    """Clipped time by (fields, first unit, last unit). Time is linear in the two ends, so the units between can be
    filled in after the reduction, exactly, and no event is ever multiplied."""
    fields = tuple(d for d in plan.dimensions if not d.calendar)
    here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
    keys = [*labelled(here, plan, strand.schema, fields), *((here.e0, here.e1) if plan.base else ())]
    sums = _sums(here, strand, here.began)
    sums["time"] = here.x.delta(here.s, unit="microsecond").sum().cast("int64")
    extra = {}
    if plan.base:
        import ibis

        buckets = Buckets.of(plan.slots(plan.base))
        extra = {
            "spans": here.count(),
            "into_first": ibis.ifelse(here.e1 > here.e0, buckets.offset(here.s), 0).sum().cast("int64"),
        }
    named = {**_numbered(sums), **extra}
    expr = here.group_by(keys).aggregate(**named) if keys else here.aggregate(**named)
    return Reduction("spread", fields, expr, tuple((n, rolled.get(n, SUM)) for n in sums))


def _seen(engine: Engine, kept: Any, plan: Plan, strand: Strand, of: str) -> Reduction:
    """Each value of a field with the units it had any time in; a bare instant counts where it is."""
    fields = tuple(d for d in plan.dimensions if not d.calendar)
    here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
    value = here[strand.schema.field(of).stored]
    here = here.mutate(seen=value).filter(lambda t: t.seen.notnull())
    keys = [*labelled(here, plan, strand.schema, fields), here.seen, here.e0, here.e1]
    return Reduction("seen", fields, here.group_by(keys).aggregate(c0=here.count()), ((f"present {of}", SUM),))


def _level(
    here: Any,
    plan: Plan,
    strand: Strand,
    level: tuple[Dimension, ...],
    builtin: bool,
    apart_already: tuple[str, ...] = (),
) -> list[Reduction]:
    """Distinct counts, but of the fields counted already, and percentiles of one level, from the events themselves."""
    keys = labelled(here, plan, strand.schema, level)
    together: dict[str, Any] = {}
    apart: list[Reduction] = []
    for _, measure in strand.measures:
        inner = measure.base or measure
        if inner.name not in ("distinct", "median", "percentile") or (
            inner.name == "distinct" and inner.of in apart_already
        ):
            continue
        value = column(here, strand.schema.field(inner.of))
        if inner.name == "distinct":
            together[str(inner)] = value.nunique()
        elif builtin:
            together[str(inner)] = _quantile_disc()(value, Decimal(str(percent_of(inner))) / 100)
        else:
            apart.append(_by_rank(here, value, keys, level, inner))
    if together:
        named = _numbered(together)
        expr = here.group_by(keys).aggregate(**named) if keys else here.aggregate(**named)
        apart.insert(0, Reduction("level", level, expr, tuple((n, SUM) for n in together)))
    return apart


def percent_of(measure: Measure) -> float:
    """The share in per cent a median or percentile is taken at."""
    return 50.0 if measure.name == "median" else measure.percent


@cache
def _quantile_disc() -> Any:
    import ibis

    @ibis.udf.agg.builtin(name="quantile_disc", signature=(("int64", "decimal(9, 6)"), "int64"))
    def nearest_rank(value, share):  # type: ignore[no-untyped-def]  # its types are the signature above
        """The smallest value with at least `share` of the values at or below it."""

    return nearest_rank


def _by_rank(here: Any, value: Any, keys: list[Any], level: tuple[Dimension, ...], measure: Measure) -> Reduction:
    """Nearest rank by numbering the values: for engines without an aggregate for it."""
    import ibis

    named = here.mutate(*keys, v=value).filter(lambda t: t.v.notnull())
    groups = [named[f"k{i}"] for i in range(len(keys))]
    window = ibis.window(group_by=groups, order_by=named.v)
    ranked = named.mutate(
        rank=ibis.row_number().over(window) + 1, size=named.v.count().over(ibis.window(group_by=groups))
    )
    milli = round(percent_of(measure) * 1000)
    at = ((ranked["size"] * milli + 99_999) / 100_000).floor().cast("int64")
    chosen = ranked.filter(ranked["rank"] == at)
    by = [chosen[f"k{i}"] for i in range(len(keys))]
    expr = chosen.group_by(by).aggregate(c0=chosen.v.min()) if by else chosen.aggregate(c0=chosen.v.min())
    return Reduction("level", level, expr, ((str(measure), SUM),))
