"""From a figure to its records: the strand stopped before the reduction, with the cell's keys.

Each record comes with its contribution: what it adds to the cell, or the value it brought.
"""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from fermata.analysis.buckets import Buckets
from fermata.analysis.business_hours import chosen, in_hours
from fermata.analysis.cells import measure_of
from fermata.analysis.combine import Source
from fermata.analysis.filters import column
from fermata.analysis.identify import as_recorded, opened
from fermata.analysis.measures import TOUCHED, Measure
from fermata.analysis.plan import Cell, Dimension, Plan, Strand
from fermata.analysis.recurring import gone_by
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT, in_kept, inside, naive, select
from fermata.errors import RequestError
from fermata.fields import PROVENANCE, Field
from fermata.timeline.units import base_unit

__all__ = ["columns_behind", "count", "earlier", "events", "events_alone", "pieces", "records"]

SPENT = "_spent_us"  # the column with an event's time in the units of a cell
MOST = 2**31 - 1  # rows that every engine can be asked for
WINDOW = 100_000  # events of a stretch of time that are put in order at once
Reading = Callable[[], Iterator[Any]]


def records(plan: Plan, cell: Cell, source: Source, limit: int | None = None) -> tuple[Reading, Strand, int]:
    """What opens the events behind a cell as Arrow tables, oldest first, their strand, and how many there are in all.

    Columns: the stored fields with provenance, and `contribution_` (1 for a count, microseconds inside the cell for
    time, the value for amounts). Distinct values are represented by the first event of each.
    """
    made = functools.partial(_behind, plan, cell, source, every=False)
    engine, kept, strand = made()
    return functools.partial(_read, made, limit), strand, count(engine, kept)


def pieces(plan: Plan, cell: Cell, source: Source) -> tuple[Any, Any]:
    """The engine and the events behind a cell as its table, in no order, with their times as `columns_behind` gives
    them; of a distinct count or an extreme all it looked at, with the value each brought.
    """
    engine, kept, _ = _behind(plan, cell, source, every=True)
    return engine, kept


def columns_behind(plan: Plan, columns: Sequence[int], source: Source) -> tuple[Any, Any]:
    """The engine and the events behind whole columns of one strand at once as its table, in no order.

    Each has `_at_utc` and `_until_utc`, the times the strand goes by, and for column N `_brought_N`: what it brought to
    it, nothing where it is not among its events. Units of time that events stand for are not looked at this way.
    """
    import ibis

    strand = dataclasses.replace(plan.strands[plan.columns[columns[0]].strand], uses=())
    plan = plan.of(strand)
    measures = {n: measure_of(plan, n) for n in columns}
    engine, table = opened(strand, source)
    kept = _within(select(table, strand), plan, strand, [], spans=any(m.needs_spans for m in measures.values()))
    brought = {}
    for n, measure in measures.items():
        among, value = _brought(kept, plan, strand, measure, [], every=True)
        brought[f"_brought_{n}"] = ibis.ifelse(among.fill_null(False), value, ibis.null(value.type()))
    kept = kept.mutate(_at_utc=kept.start_utc, _until_utc=kept.finish_utc, **brought)
    kept = kept.filter(ibis.or_(*(kept[c].notnull() for c in brought))).drop(*{SPENT} & set(kept.columns))
    return engine, as_recorded(kept, strand)


def count(engine: Any, kept: Any) -> int:
    """How many events a table of an engine has."""
    found: int = engine.run(kept.aggregate(n=kept.count())).column(0)[0].as_py()
    return found


def _behind(plan: Plan, cell: Cell, source: Source, *, every: bool) -> tuple[Any, Any, Strand]:
    """The engine, the events behind a cell as its table, and their strand."""
    import ibis

    strand = dataclasses.replace(plan.strands[plan.columns[cell.column].strand], uses=())
    plan = plan.of(strand)
    measure = measure_of(plan, cell.column)
    engine, table = opened(strand, source)
    here = select(table, strand)
    if every:
        here = here.mutate(_at_utc=here.start_utc, _until_utc=here.finish_utc)
    for dimension, key in cell.keys:
        if not dimension.calendar:
            here = here.filter(_equal(here[strand.schema.field(dimension.name).stored], key, plan))
    calendar = [(d, k) for d, k in cell.keys if d.calendar]
    if measure.name == TOUCHED:
        kept = inside(here, plan, strand, spans=True)
        return engine, as_recorded(_touching(kept, plan, measure.unit, calendar, every), strand), strand
    kept = _within(here, plan, strand, calendar, spans=measure.needs_spans)
    among, value = _brought(kept, plan, strand, measure, calendar, every=every)
    kept = kept.filter(among).mutate(contribution_=value).drop(*{SPENT} & set(kept.columns))
    kept = kept.filter(kept.contribution_.notnull())
    if every:
        pass
    elif measure.records == "representatives":
        value = kept[strand.schema.field(measure.of).stored]
        window = ibis.window(group_by=[value], order_by=[kept.start_utc, *(kept[p] for p in PROVENANCE)])
        kept = kept.filter(value.notnull()).mutate(nth_=ibis.row_number().over(window))
        kept = kept.filter(kept.nth_ == 0).drop("nth_").mutate(contribution_=ibis.literal(1, type="int64"))
    elif measure.records == "witnesses":
        kept = kept.filter(kept.contribution_ == _witness(plan, cell, source))
    return engine, as_recorded(kept, strand), strand


def _within(table: Any, plan: Plan, strand: Strand, calendar: list[tuple[Dimension, Any]], *, spans: bool) -> Any:
    """The events of the period; with `spans`, those with any time in it, and `SPENT`, how much of it in calendar
    units.
    """
    kept = inside(table, plan, strand, spans=spans)
    return kept.mutate(**{SPENT: _time_inside(kept, plan, strand, calendar)}) if spans else kept


def _brought(
    kept: Any, plan: Plan, strand: Strand, measure: Measure, calendar: list[tuple[Dimension, Any]], *, every: bool
) -> tuple[Any, Any]:
    """Whether an event is among those of a measure in calendar units, and what it brings to it; one that brings nothing
    is not.
    """
    import ibis

    if measure.needs_spans and measure.name != "present":
        return kept[SPENT] > 0, kept[SPENT]
    began = _starts_inside(kept, plan, calendar)
    if measure.needs_spans:
        time = kept[SPENT]
        return (time > 0) | began, column(kept, strand.schema.field(measure.of)) if every else time
    if strand.hours:
        began = began & in_hours(kept, plan.stretch, strand)
    if measure.name in ("first", "last"):
        return began, kept.start_utc
    if measure.of and (every or measure.name != "distinct"):
        return began, column(kept, strand.schema.field(measure.of))
    return began, ibis.literal(1, type="int64")


def _touching(kept: Any, plan: Plan, unit: str, calendar: list[tuple[Dimension, Any]], every: bool) -> Any:
    """The events that stand for the units of time they have any time in: of each unit the first, with how many units it
    stands for; with `every`, all of them once a unit, with its number.
    """
    import ibis

    if base_unit([*(d.name for d, _ in calendar), unit]) != unit:
        raise RequestError(
            f"this report counts {unit}s: its events can be listed by {unit} or longer units, not by shorter ones"
        )
    slots = plan.slots(unit)
    buckets = Buckets.of(slots)
    start, end = naive(plan.stretch.start), naive(plan.stretch.end)
    s = ibis.greatest(kept.start_utc, start)
    x = ibis.ifelse(kept.finish_utc.isnull(), kept.finish_utc, ibis.least(kept.finish_utc, end))
    first = buckets.label(s)
    last = ibis.ifelse((x > s).fill_null(False), buckets.label(x, upper=True), first)
    each = kept.mutate(touched_=ibis.range(first, last + 1).unnest())
    if calendar:
        held = stretches(plan, calendar)
        numbers = [i for i, slot in enumerate(slots) if any(a <= slot.start < b for a, b in held)]
        each = each.filter(each.touched_.isin(numbers)) if numbers else each.filter(ibis.literal(False))
    if every:
        return each.mutate(contribution_=each.touched_).drop("touched_")
    order = [each.start_utc, *(each[p] for p in PROVENANCE)]
    nth = ibis.row_number().over(ibis.window(group_by=each.touched_, order_by=order))
    each = each.mutate(nth_=nth)
    each = each.filter(each.nth_ == 0)
    same = ibis.window(group_by=[each[p] for p in PROVENANCE])
    line = ibis.row_number().over(ibis.window(group_by=[each[p] for p in PROVENANCE], order_by=each.touched_))
    each = each.mutate(contribution_=each.count().over(same), nth_=line)
    return each.filter(each.nth_ == 0).drop("nth_", "touched_")


def events(
    plan: Plan,
    source: Source,
    limit: int | None = None,
    order: Sequence[tuple[Field, bool]] = (),
    skip: int = 0,
    totals: Sequence[Field] = (),
    *,
    reaching: bool = False,
) -> tuple[Reading, int, list[Any]]:
    """What opens the events of the plan's first strand that start in the period, how many there are, and the sums of
    some fields.

    Oldest first, or by fields (True for downwards), the empty last; `skip` of them are passed over. With `reaching`,
    those that began before the period and last into it are among them. Of spans each has `inside_us_`, the microseconds
    of it in the period.
    """
    strand = plan.strands[0]
    made = functools.partial(_of_period, plan, source, reaching)
    engine, kept = made()
    sums = {f"s{i}": column(kept, f).sum().cast("int64") for i, f in enumerate(totals)}
    row = engine.run(kept.aggregate(n=kept.count(), **sums))
    found = [row.column(i)[0].as_py() for i in range(row.num_columns)]
    whole = functools.partial(_read, made, limit, order, skip)
    if order or skip or reaching or limit is not None or strand.schema.derivation is not None or found[0] <= 2 * WINDOW:
        return whole, found[0], found[1:]
    return functools.partial(_in_windows, made, plan, found[0] // WINDOW), found[0], found[1:]


def events_alone(plan: Plan, source: Source, limit: int | None, *, reaching: bool) -> Reading:
    """What opens the events as `events` gives them, oldest first; how many there are is not asked."""
    return functools.partial(_read, functools.partial(_of_period, plan, source, reaching), limit)


def _of_period(plan: Plan, source: Source, reaching: bool) -> tuple[Any, Any]:
    """The engine and the events of the plan's first strand, as `events` gives them, in no order."""
    strand = plan.strands[0]
    engine, table = opened(strand, source)
    every = select(table, strand)
    kept = inside(every, plan, strand, spans=False)
    if reaching:
        kept = kept.union(reach_in(every, plan), distinct=False)
    if strand.schema.spans:
        kept = kept.mutate(inside_us_=_inside(kept, [(plan.stretch.start, plan.stretch.end)]))
    return engine, as_recorded(kept, strand)


def reach_in(table: Any, plan: Plan) -> Any:
    """The spans that began before the plan's period and have time in it."""
    start = naive(plan.stretch.start)
    return table.filter((table.start_utc < start) & (table.finish_utc > start))


def earlier(plan: Plan, source: Source) -> tuple[Reading, int]:
    """What opens the events of the plan's first strand that began before the period and last into it, oldest first, and
    how many there are.
    """
    made = functools.partial(_before_period, plan, source)
    return functools.partial(_read, made, None), count(*made())


def _before_period(plan: Plan, source: Source) -> tuple[Any, Any]:
    """The engine and the events that `earlier` gives, in no order."""
    strand = plan.strands[0]
    engine, table = opened(strand, source)
    kept = reach_in(select(table, strand), plan)
    return engine, as_recorded(kept.mutate(inside_us_=_inside(kept, [(plan.stretch.start, plan.stretch.end)])), strand)


def _read(
    made: Callable[[], Sequence[Any]], limit: int | None, order: Sequence[tuple[Field, bool]] = (), skip: int = 0
) -> Iterator[Any]:
    """The rows of what `made` gives (an engine and a table), which is made when they are read: an engine keeps nothing
    beyond the run that found them.
    """
    engine, table = made()[:2]
    yield from engine.stream(_listed(table, limit, order, skip))


def _in_windows(made: Callable[[], Sequence[Any]], plan: Plan, count: int) -> Iterator[Any]:
    """Very many events, oldest first, one stretch of the period after the other: only a stretch is sorted at a time."""
    engine, table = made()
    length = (plan.stretch.end - plan.stretch.start) / count
    edges = [*(plan.stretch.start + length * n for n in range(count)), plan.stretch.end]
    yield from engine.in_order(table, ("start_utc", *PROVENANCE), [t.replace(tzinfo=None) for t in edges])


def _listed(table: Any, limit: int | None, order: Sequence[tuple[Field, bool]] = (), skip: int = 0) -> Any:
    import ibis

    keys = [
        ibis.desc(column(table, f), nulls_first=False) if down else ibis.asc(column(table, f), nulls_first=False)
        for f, down in order
    ]
    rest = [c for c in ("start_utc", *PROVENANCE) if c not in {f.stored for f, _ in order}]
    ordered = table.order_by([*keys, *(table[c] for c in rest)])
    most = None if limit is None else min(limit, MOST)
    return ordered.limit(most, offset=skip) if limit is not None or skip else ordered


def _equal(here: Any, key: Any, plan: Plan) -> Any:
    if here.type().is_array():
        return ~(here.length() > 0).fill_null(False) if key is None else here.contains(key).fill_null(False)
    if key == ELSE_TEXT:
        return ~in_kept(here, plan)
    return here.isnull() if key is None else (here == key).fill_null(False)


def _starts_inside(table: Any, plan: Plan, calendar: list[tuple[Dimension, Any]]) -> Any:
    """Whether an event starts in the period and in every calendar unit of the cell."""
    test = (table.start_utc >= naive(plan.stretch.start)) & (table.start_utc < naive(plan.stretch.end))
    for dimension, key in calendar:
        slots = plan.slots(dimension.unit)
        label = Buckets.of(slots, *dimension.labels(slots)).label(table.start_utc)
        test = test & (~in_kept(label, plan) if key == ELSE_LABEL else label == key)
    return test


def _time_inside(table: Any, plan: Plan, strand: Strand, calendar: list[tuple[Dimension, Any]]) -> Any:
    """Microseconds of each span inside the cell's stretches of time, within the hours that count.

    A cell of one unit is one stretch; a recurring part (every Monday), or hours, are many, joined where they touch.
    """
    cell = stretches(plan, calendar)
    if not strand.hours:
        return _inside(table, cell)

    def here(_: int, open_: Any) -> Any:
        both = [(max(a, c), min(b, d)) for a, b in cell for c, d in open_ if max(a, c) < min(b, d)]
        return _inside(table, both)

    return chosen(table, strand, plan.stretch, here)


def _inside(table: Any, found: list[tuple[Any, Any]]) -> Any:
    """Microseconds of each span inside stretches in order: what of them has gone by at its finish, less that at its
    start.
    """
    import ibis

    if not found:
        return ibis.literal(0, type="int64")
    spent = gone_by(table.finish_utc, tuple(found)) - gone_by(table.start_utc, tuple(found))
    return ibis.ifelse(table.finish_utc.isnull(), 0, spent)  # engines disagree with nothing in least and greatest


def stretches(plan: Plan, calendar: list[tuple[Dimension, Any]]) -> list[tuple[Any, Any]]:
    """The UTC stretches in which every calendar dimension of a cell has its value, touching ones joined."""
    kept: list[tuple[Any, Any]] = [(plan.stretch.start, plan.stretch.end)]
    for dimension, key in calendar:
        slots = plan.slots(dimension.unit)
        labels, _ = dimension.labels(slots)
        kept_labels = plan.kept or ()
        own = [
            (s.start, s.end)
            for s, label in zip(slots, labels, strict=True)
            if label == key or (key == ELSE_LABEL and label not in kept_labels)
        ]
        kept = [(max(a, c), min(b, d)) for a, b in kept for c, d in own if max(a, c) < min(b, d)]
    joined: list[tuple[Any, Any]] = []
    for start, end in kept:
        if joined and joined[-1][1] == start:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return joined


def _witness(plan: Plan, cell: Cell, source: Source) -> Any:
    """The value of the cell, found again, as an engine literal."""
    import ibis

    from fermata.analysis.cells import value
    from fermata.analysis.combine import gather

    level = tuple(d for d, _ in cell.keys)
    kept = plan.kept if level[:1] == plan.by[:1] else None
    own = dataclasses.replace(plan, by=level, across=None, totals=True, zeros=(), kept=kept)  # whatever the table shows
    found = gather(own, source)[level].get(tuple(k for _, k in cell.keys))
    got = value(plan, plan.columns[cell.column], found, None)
    if got is None:
        return ibis.null()
    return ibis.timestamp(got.isoformat()) if hasattr(got, "isoformat") else ibis.literal(got)
