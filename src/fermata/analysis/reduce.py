"""The last stage of a strand: its queries. What adds up is reduced once, at the finest level; the rest once per
level.
"""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fermata.analysis.buckets import Buckets
from fermata.analysis.filters import column, count_of
from fermata.analysis.measures import SUM, SWEPT, TOUCHED, Measure, component
from fermata.analysis.percentiles import RANKED, ranked
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.analysis.stages import each_value, inside, labelled, naive, placed, select, shaped
from fermata.engines.embedded import Engine
from fermata.errors import RequestError

__all__ = ["WAYS", "Reduction", "counted_once", "distinct", "reductions", "sums_of"]


IN_PIECE = 32  # spans of a group in each piece of the period, of which those that may hold a peak are looked at closely
MANY = 300_000  # spans from which on that pays
SAMPLE = 50_000  # of them, among which groups are counted
LEAST = 1_000  # pieces from which on it does
WAYS: dict[str, Callable[[Any], Any]] = {
    "sum": lambda c: c.sum().cast("int64"),
    "min": lambda c: c.min(),
    "max": lambda c: c.max(),
}


@dataclass(frozen=True)
class Reduction:
    """A query of a strand and how to read it; `plan` is a finer grouping it has been made for, if it has.

    `kind` is `sums` (components that roll up, labelled by start), `spread` (the same, with `e0` and `e1`, first and
    last base unit of the time), `seen` (one row per present value, with `e0` and `e1`), `touched` (the same of units of
    time), `level` (final figures of `keys`) or `levels` (final figures of all levels, `level` says which).
    """

    kind: str
    keys: tuple[Dimension, ...]
    expr: Any
    components: tuple[tuple[str, str], ...]
    plan: Plan | None = None


def sums_of(table: Any, strand: Strand, where: Any) -> dict[str, Any]:
    """The components that roll up, `time` apart, over the events for which `where` holds (None: all)."""
    found: dict[str, Any] = {}
    for _, measure in strand.measures:
        inner = measure.base or measure
        value = column(table, strand.schema.field(inner.of)) if inner.of else table.start_utc
        for name, _ in component(measure):
            kind = name.split()[0]
            if kind == "count":
                found[name] = count_of(table, where)
            elif kind == "total":
                found[name] = value.sum(where=where).cast("int64")
            elif kind == "filled":
                found[name] = count_of(value, where)
            elif kind in ("first", "min"):
                found[name] = value.min(where=where)
            elif kind in ("last", "max"):
                found[name] = value.max(where=where)
            elif outside := measure.outside:
                found[name] = outside.expression(value, where).cast("int64")
    return found


def reductions(engine: Engine, table: Any, plan: Plan, strand: Strand) -> list[Reduction]:
    """The queries that answer the strand's columns, over `table` (source and carried events, unfiltered)."""
    found: list[Reduction] = []
    kinds = {(m.base or m).name for _, m in strand.measures}
    kept = each_value(select(table, strand), plan, strand)
    rolled = dict(c for _, m in strand.measures for c in component(m))
    asked = counted_once(plan, strand)
    once = {
        of: held for of in asked if (held := _each_once(engine, kept, plan, strand, of, len(asked) == 1)) is not None
    }
    if "time" in rolled:
        found.append(_spread(engine, kept, plan, strand, rolled))
    elif rolled:
        here = next(iter(once.values())) if len(asked) == 1 and once else None
        found.append(_added_up(inside(kept, plan, strand, spans=False), here, plan, strand, rolled))
    for of in dict.fromkeys((m.base or m).of for _, m in strand.measures if (m.base or m).name == "present"):
        found.append(_seen(engine, kept, plan, strand, of))
    for unit in dict.fromkeys((m.base or m).unit for _, m in strand.measures if (m.base or m).name == TOUCHED):
        found.append(_touched(engine, kept, plan, strand, unit))
    if kinds & set(SWEPT):
        here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
        found += [sweep(engine, here, plan, strand, fields) for fields in field_levels(plan)]
    for measure in dict.fromkeys(m.base or m for _, m in strand.measures if (m.base or m).name == "over"):
        finer = by_user_and_unit(plan, measure)
        found.append(dataclasses.replace(_spread(engine, kept, finer, strand, {}), kind=str(measure), plan=finer))
    if "distinct" in kinds:
        here = inside(kept, plan, strand, spans=False)
        for level in plan.levels:
            found += _level(here, plan, strand, level, tuple(once))
            found += [distinct(held, plan, level, of) for of, held in once.items()]
    if kinds & set(RANKED):
        here = inside(kept, plan, strand, spans=False)
        found.append(Reduction("levels", plan.levels[0], *ranked(here, plan, strand, engine.builtin_percentile)))
    return found


def counted_once(plan: Plan, strand: Strand) -> list[str]:
    """The fields whose different values are worth setting apart before they are counted at each level: several levels,
    none of them cut fine, so that there are far fewer different values than events.
    """
    if len(plan.levels) < 2 or any(d.calendar and d.unit not in ("month", "quarter", "year") for d in plan.dimensions):
        return []
    return list(dict.fromkeys((m.base or m).of for _, m in strand.measures if (m.base or m).name == "distinct"))


def _added_up(here: Any, once: Any, plan: Plan, strand: Strand, rolled: dict[str, str]) -> Reduction:
    """The parts that roll up at the finest level, of events or of groups added up already."""
    finest = plan.levels[0]
    if once is None:
        keys, sums = labelled(here, plan, strand.schema, finest), _numbered(sums_of(here, strand, None))
    else:
        here, keys = once, [once[f"k{i}"] for i in range(len(finest))]
        sums = {f"c{i}": WAYS[how](once[f"c{i}"]) for i, how in enumerate(rolled.values())}
    expr = here.group_by(keys).aggregate(**sums) if keys else here.aggregate(**sums)
    return Reduction("sums", finest, expr, tuple(rolled.items()))


def _each_once(engine: Engine, kept: Any, plan: Plan, strand: Strand, of: str, alone: bool) -> Any:
    """Every value of a field once in each group of the finest level, kept by the engine; None for one that keeps
    nothing.

    The one such field there is (`alone`) has the parts that roll up beside each value, so that the events are read once
    for both.
    """
    here = inside(kept, plan, strand, spans=False)
    keys = labelled(here, plan, strand.schema, plan.levels[0])
    value = column(here, strand.schema.field(of)).name("v")
    rolls = alone and not any(name == "time" for _, m in strand.measures for name, _ in component(m))
    sums = _numbered(sums_of(here, strand, None)) if rolls else {}
    asked = here.group_by([*keys, value]).aggregate(**sums) if sums else here.select(*keys, value).distinct()
    held = engine.keep(asked)
    return None if held is asked else held


def distinct(once: Any, plan: Plan, level: tuple[Dimension, ...], of: str) -> Reduction:
    """How many different values there are in each group of a level."""
    finest = plan.levels[0]
    keys = [once[f"k{finest.index(d)}"].name(f"k{i}") for i, d in enumerate(level)]
    asked = Measure("distinct", of)
    expr = once.group_by(keys).aggregate(c0=once.v.nunique()) if keys else once.aggregate(c0=once.v.nunique())
    return Reduction("level", level, expr, ((str(asked), SUM),))


def by_user_and_unit(plan: Plan, measure: Measure) -> Plan:
    """The plan grouped by user and the measure's unit as well. Raises RequestError where its own groups would cut a
    user's unit.
    """
    whole = {
        "day": ("day", "week", "month", "quarter", "year", "weekday"),
        "week": ("week",),
        "month": ("month", "quarter", "year"),
    }
    for d in plan.dimensions:
        fine = d.name in whole[measure.unit] if d.calendar else d.name.partition(".")[0] == "user"
        if not fine and not (d.calendar and d.kind == "unit" and measure.unit == "day" and d.name != "hour"):
            raise RequestError(
                f"{measure} by {d.name} means nothing: a user's {measure.unit} falls into several; group by users "
                f"and {whole[measure.unit][0]}s"
            )
    more = [d for d in (Dimension("user", "field"), Dimension(measure.unit, "unit")) if d not in plan.dimensions]
    return dataclasses.replace(plan, by=(*plan.dimensions, *more), across=None, totals=False, kept=None)


def units_of(table: Any) -> tuple[Any, Any]:
    """The first and last base unit of the time, as reductions have them."""
    return table.e0_.name("e0"), table.e1_.name("e1")


def field_levels(plan: Plan) -> list[tuple[Dimension, ...]]:
    """The different sets of fields among the plan's groupings, calendar units left out."""
    return list(dict.fromkeys(tuple(d for d in level if not d.calendar) for level in plan.levels))


def sweep(engine: Engine, here: Any, plan: Plan, strand: Strand, fields: tuple[Dimension, ...]) -> Reduction:
    """How much time there was with how many spans at once, by (fields, first unit, last unit, number).

    The ends of all spans are put in order and counted up and down; between two ends the number stays the same. Where
    only `union` is asked for, the running latest finish says it without the ends, which is quicker.
    """
    import ibis

    kinds = {(m.base or m).name for _, m in strand.measures}
    here = here.filter((here.x_ > here.s_).fill_null(False))
    keys = labelled(here, plan, strand.schema, fields)
    here = here.select(*keys, s_=here.s_, x_=here.x_)
    names = [f"k{i}" for i in range(len(keys))]
    if kinds & set(SWEPT) <= {"union", "uncovered"}:
        before = ibis.window(group_by=names, order_by=["s_", "x_"], preceding=(None, 1))
        table = here.mutate(latest=here.x_.max().over(before))
        table = table.mutate(
            s_=ibis.ifelse(table.latest > table.s_, table.latest, table.s_).fill_null(table.s_),
            n=ibis.literal(1, type="int64"),
        )
    else:
        ends = [here.select(*names, t=here[c], d=ibis.literal(d, type="int64")) for c, d in (("s_", 1), ("x_", -1))]
        both = ibis.union(*ends, distinct=False)
        if not plan.base and kinds & set(SWEPT) <= {"peak", "peak time"}:
            pieces = _pieces(engine, here, names) if engine.peaks_in_pieces else 0
            return _most(_near_peaks(both, names, plan, pieces) if pieces else both, names, fields)
        order = ["t", "d"]
        running = ibis.window(group_by=names, order_by=order, preceding=None, following=0)
        after = ibis.window(group_by=names, order_by=order)
        counted = both.d.cast("float64").sum().over(running)  # exact below 2^53, and three times as fast
        table = both.select(*names, s_=both.t, x_=both.t.lead().over(after), n=counted.cast("int64"))
    table = placed(table.filter((table.x_ > table.s_) & (table.n > 0)), plan)
    micro = table.x_.delta(table.s_, unit="microsecond")
    named = {"c0": micro.sum().cast("int64"), "first": table.s_.min(), "spans": table.count()}
    if plan.base:
        buckets = Buckets.of(plan.slots(plan.base))
        named["into_first"] = ibis.ifelse(table.e1_ > table.e0_, buckets.offset(table.s_), 0).sum().cast("int64")
    expr = table.group_by([*names, *units_of(table), table.n]).aggregate(**named)
    return Reduction("sweep", fields, expr, (("time", SUM),))


def _pieces(engine: Engine, here: Any, names: list[str]) -> int:
    """Into how many pieces to cut the period so that a few spans of a group begin in each; 0 where sorting all is
    quicker: few spans, or many groups.
    """
    count: int = engine.run(here.aggregate(n=here.count())).column(0)[0].as_py()
    if count < MANY:
        return 0
    some = here.limit(SAMPLE)
    row = engine.run(some.aggregate(**{n: some[n].nunique() for n in names})).to_pylist()[0] if names else {}
    pieces = count // (IN_PIECE * math.prod(max(n, 1) for n in row.values()))
    return pieces if pieces >= LEAST else 0


def _near_peaks(ends: Any, names: list[str], plan: Plan, count: int) -> Any:
    """The ends that may hold the peak of their group, with `piece`, the part of the period they are in, and how many
    were `there` when it began.

    In no piece can there be more than were there when it began and came in it; what is left at the end of each was
    there once. So only pieces that may reach the highest of these matter.
    """
    import ibis

    length = (plan.stretch.end - plan.stretch.start) // timedelta(microseconds=1)
    since = ends.t.delta(naive(plan.stretch.start), unit="microsecond")
    known = [
        e
        for n in names
        for e in (ends[n].isnull().name(f"{n}_no"), ends[n].cast("string").fill_null("").name(f"{n}_as"))
    ]  # equal where the groups are, also those without a value, in a way that every engine can hash
    ends = ends.mutate(*known, piece=(since // max(length // count, 1)).cast("int64"))
    same = [e.get_name() for e in known]
    pieces = ends.group_by([*same, "piece"]).aggregate(more=ends.d.sum().cast("float64"), came=(ends.d > 0).sum())
    until = ibis.window(group_by=same, order_by="piece", preceding=None, following=0)
    pieces = pieces.mutate(left=pieces.more.sum().over(until))
    pieces = pieces.mutate(there=pieces.left - pieces.more, surely=pieces.left.max().over(ibis.window(group_by=same)))
    pieces = pieces.filter((pieces.came > 0) & (pieces.there + pieces.came >= pieces.surely))
    pieces = pieces.select(*(pieces[n].name(f"{n}_p") for n in same), pieces.there, at=pieces.piece)
    tests = [ends.piece == pieces["at"], *(ends[n] == pieces[f"{n}_p"] for n in same)]
    return ends.inner_join(pieces, tests)


def _most(ends: Any, names: list[str], fields: tuple[Dimension, ...]) -> Reduction:
    """How many there were at once, and when first; how long it lasted is not asked, so that ends at one instant need
    not be put together.

    Of these, those that leave are counted before those that come: on the way no number is higher than it is before or
    after.
    """
    import ibis

    apart = "there" in ends.columns
    running = ibis.window(
        group_by=[*names, "piece"] if apart else names, order_by=["t", "d"], preceding=None, following=0
    )
    number = ends.d.cast("float64").sum().over(running)  # exact, as above
    table = ends.mutate(n=(number + ends.there if apart else number).cast("int64"))
    asked = table.filter(table.n > 0).group_by([*names, "n"]).aggregate(first=lambda t: t.t.min())
    zero = ibis.literal(0, type="int64")
    return Reduction("sweep", fields, asked.mutate(c0=zero, e0=zero, e1=zero), (("time", SUM),))


def _numbered(named: dict[str, Any]) -> dict[str, Any]:
    """Components under short column names c0, c1 ... in their order."""
    return {f"c{i}": expr for i, expr in enumerate(named.values())}


def _spread(engine: Engine, kept: Any, plan: Plan, strand: Strand, rolled: dict[str, str]) -> Reduction:
    """Clipped time by (fields, first unit, last unit). Time is linear in the two ends, so the units between can be
    filled in after the reduction, exactly, and no event is ever multiplied."""
    fields = tuple(d for d in plan.dimensions if not d.calendar)
    here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
    keys = [*labelled(here, plan, strand.schema, fields), *(units_of(here) if plan.base else ())]
    sums = sums_of(here, strand, here.began_)
    sums["time"] = here.x_.delta(here.s_, unit="microsecond").sum().cast("int64")
    extra = {}
    if plan.base:
        import ibis

        buckets = Buckets.of(plan.slots(plan.base))
        extra = {
            "spans": here.count(),
            "into_first": ibis.ifelse(here.e1_ > here.e0_, buckets.offset(here.s_), 0).sum().cast("int64"),
        }
    named = {**_numbered(sums), **extra}
    expr = here.group_by(keys).aggregate(**named) if keys else here.aggregate(**named)
    return Reduction("spread", fields, expr, tuple((n, rolled.get(n, SUM)) for n in sums))


def _seen(engine: Engine, kept: Any, plan: Plan, strand: Strand, of: str) -> Reduction:
    """Each value of a field with the units it had any time in; a bare instant counts where it is."""
    fields = tuple(d for d in plan.dimensions if not d.calendar)
    here = shaped(engine, inside(kept, plan, strand, spans=True), plan, strand)
    value = here[strand.schema.field(of).stored]
    here = here.mutate(seen_=value).filter(lambda t: t.seen_.notnull())
    keys = [*labelled(here, plan, strand.schema, fields), here.seen_.name("seen"), *units_of(here)]
    return Reduction("seen", fields, here.group_by(keys).aggregate(c0=here.count()), ((f"present {of}", SUM),))


def _touched(engine: Engine, kept: Any, plan: Plan, strand: Strand, unit: str) -> Reduction:
    """The units of the calendar that events have any time in, by first and last base unit; a bare instant counts where
    it is.
    """
    finer = dataclasses.replace(plan, by=(*plan.dimensions, Dimension(unit, "unit")), across=None, totals=False)
    fields = tuple(d for d in plan.dimensions if not d.calendar)
    here = shaped(engine, inside(kept, plan, strand, spans=True), finer, strand)
    keys = [*labelled(here, plan, strand.schema, fields), *units_of(here)]
    named = ((str(Measure(TOUCHED, unit=unit)), SUM),)
    return Reduction("touched", fields, here.group_by(keys).aggregate(c0=here.count()), named, finer)


def _level(
    here: Any, plan: Plan, strand: Strand, level: tuple[Dimension, ...], apart: tuple[str, ...]
) -> list[Reduction]:
    """Distinct counts of one level from the events themselves, but of the fields counted `apart`."""
    measures = [m.base or m for _, m in strand.measures]
    fields = [of for of in dict.fromkeys(m.of for m in measures if m.name == "distinct") if of not in apart]
    if not fields:
        return []
    keys = labelled(here, plan, strand.schema, level)
    named = _numbered({of: column(here, strand.schema.field(of)).nunique() for of in fields})
    expr = here.group_by(keys).aggregate(**named) if keys else here.aggregate(**named)
    return [Reduction("level", level, expr, tuple((str(Measure("distinct", of)), SUM) for of in fields))]
