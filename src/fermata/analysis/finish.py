"""Division, shares, ordering and layout: done once, on small tables, from exact figures."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Callable, Mapping
from itertools import zip_longest
from typing import Any

from fermata.analysis.combine import Figures, Key
from fermata.analysis.formula import Context, Quantity, unit
from fermata.analysis.measures import ONWARDS, Measure
from fermata.analysis.plan import MOST_ACROSS, ColumnPlan, Dimension, Plan
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.table import Column, Row, Table
from fermata.errors import RequestError
from fermata.timeline import Slot

__all__ = ["finish", "measure_of", "outermost", "value"]

NONE_SHOWN = "(none)"
Components = dict[tuple[int, str], Any]
Covered = Callable[[int, Slot], bool]
ZERO = ("count", "time", "total", "distinct", "present", "union", "overlap", "peak", "at", "over")


def reader(plan: Plan, column: ColumnPlan, grand: Components | None) -> Callable[[Components], Any]:
    """How a column's cell is read off a group's components: exact values as they are, means and shares divided once."""
    measure, place = column.measure, column.strand
    if column.formula:
        return _worked_out(plan, column, grand)
    if measure.name in ONWARDS and measure.base:
        inner = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        prefix = f"{measure.name} "
        return lambda found: inner(
            {(s, n.removeprefix(prefix)): v for (s, n), v in found.items() if n.startswith(prefix)}
        )
    if measure.name == "rank":
        return lambda found: found.get((place, str(measure)))
    if measure.base:
        part = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        whole = part(grand) if grand else None
        return lambda found: part(found) / whole if whole else None
    if measure.name == "mean":
        total, filled = (place, f"total {measure.of}"), (place, f"filled {measure.of}")
        return lambda found: _mean(plan, column, found[total], found[filled]) if found.get(filled) else None
    if measure.name in ("concurrency", "used", "uncovered"):
        return _of_length(measure, place)
    if measure.name in ("days", "workdays", "months"):
        return lambda found: found.get((place, measure.name))
    if measure.name == "at" and measure.of:
        return lambda found: found.get((place, str(measure)))
    name = (place, measure.name if measure.name in ("count", "time", "first", "last") else str(measure))
    if measure.name == "total" and any(c.field.name == measure.of and c.may_lack for c in plan.strands[place].computed):
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
        held = found.get((place, f"capacity {measure.of}")) if measure.name == "used" else 1
        return time / (length * held) if length and held else None

    return read


def _worked_out(plan: Plan, column: ColumnPlan, grand: Components | None) -> Callable[[Components], Any]:
    """A column's formula over its operands, read off a group's components."""
    parts = [(number, reader(plan, plan.columns[number], grand)) for number in column.operands]
    combined = _combined(plan, column)
    return lambda found: combined({number: part(found) for number, part in parts})


def _combined(plan: Plan, column: ColumnPlan) -> Callable[[Mapping[int, Any]], Any]:
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


def finish(plan: Plan, figures: Figures, covered: Covered) -> Table:
    """The finished table. `covered` tells whether a strand's log covers a unit, which makes an absence a zero."""
    _rank_groups(plan, figures)
    layout = _Layout(plan, figures, covered)
    keys = _with_totals(plan, _ordered(plan, figures, layout.grand))
    columns = [_dimension(plan, d) for d in plan.by] + _measures(plan, layout.across)
    return Table(tuple(columns), tuple(layout.row(key) for key in keys))


def _rank_groups(plan: Plan, figures: Figures) -> None:
    """Adds the place of each group among those beside it, for the measures that ask for it: equals share a place."""
    grand = figures.get((), {}).get(())
    for column in plan.columns:
        measure = column.measure
        if measure.name != "rank" or not measure.base:
            continue
        read = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        for level, groups in figures.items():
            at = len(level) - (2 if plan.across in level else 1)
            if at < 0:
                continue
            beside: dict[Key, list[tuple[Any, Components]]] = {}
            for key, found in groups.items():
                if key[at] not in (ELSE_TEXT, ELSE_LABEL) or (key[at] == ELSE_LABEL and not level[at].calendar):
                    beside.setdefault((*key[:at], *key[at + 1 :]), []).append((read(found), found))
            for one in beside.values():
                places: dict[Any, int] = {}
                for i, v in enumerate(sorted((v for v, _ in one if v is not None), reverse=True), 1):
                    places.setdefault(v, i)
                for v, found in one:
                    if v is not None:
                        found[(column.strand, str(measure))] = places[v]


def _with_totals(plan: Plan, keys: list[Key]) -> list[Key]:
    """The keys with their subtotals' after each group of more than one row, and the grand total's last."""
    depth = len(plan.by)
    if not depth:
        return [()]
    if not plan.totals:
        return keys
    sizes = Counter(key[:d] for key in keys for d in range(1, depth))
    found: list[Key] = []
    if depth == 1:
        return [*keys, ()]
    for key, following in zip_longest(keys, keys[1:]):
        found.append(key)
        ended = [key[:d] for d in range(depth - 1, 0, -1) if following is None or following[:d] != key[:d]]
        found += [group for group in ended if sizes[group] > 1]
    return [*found, ()]


def _dimension(plan: Plan, dimension: Dimension) -> Column:
    field = None if dimension.calendar else plan.strands[0].schema.field(dimension.name)
    return Column(dimension.name, dimension.label, "dimension", "text" if field is None else field.type)


def _across(plan: Plan, figures: Figures) -> list[Any]:
    """The values of the dimension across, in order; `...` stands for their total. Without one, just the total."""
    if not plan.across:
        return [...]
    if plan.across.calendar:
        labels, _ = plan.across.labels(plan.slots(plan.across.unit))
        values: list[Any] = sorted(set(labels))
    else:
        level = next(lv for lv in plan.levels if lv and lv[-1] is plan.across)
        values = sorted({k[-1] for k in figures[level]}, key=_natural)
    if len(values) > MOST_ACROSS:
        raise RequestError(
            f"{plan.across.name} has {len(values):,} values; at most {MOST_ACROSS} fit across: put it in by"
        )
    return [*values, ...]


def _measures(plan: Plan, across: list[Any]) -> list[Column]:
    found = []
    for label in across:
        for i, column in enumerate(plan.columns):
            if column.hidden:
                continue
            kind, unit, scale = column.kind
            heading = "Total" if label is ... else shown(plan, plan.across, label) if plan.across else ""
            found.append(
                Column(
                    f"m{i}" if label is ... else f"m{i}:{heading}",
                    column.label,
                    "measure",
                    kind,
                    unit,
                    scale,
                    i,
                    None if label is ... else label,
                    heading if plan.across else "",
                    label is ...,
                )
            )
    return found


def shown(plan: Plan, dimension: Dimension | None, key: Any) -> str:
    """A group's value as people read it."""
    if key == ELSE_TEXT or (dimension and dimension.calendar and key == ELSE_LABEL):
        return "(everyone else)" if dimension and dimension.name == "user" else "(all others)"
    if key is None:
        return NONE_SHOWN
    if dimension and dimension.calendar:
        return plan.weekday_or_label(dimension, key)
    if isinstance(key, bool):
        return "yes" if key else "no"
    return str(key)


class _Layout:
    """Rows from keys, with what all rows share looked up once."""

    def __init__(self, plan: Plan, figures: Figures, covered: Covered) -> None:
        self.plan = plan
        self.covered = covered
        self.across = _across(plan, figures)
        self.grand = figures.get((), {}).get(())
        depths = [d for d in range(len(plan.by) + 1) if plan.by[:d] in figures]
        self.whole = {d: figures[plan.by[:d]] for d in depths}
        self.spread = {d: figures[(*plan.by[:d], plan.across)] for d in depths} if plan.across else {}
        self.words: list[dict[Any, str]] = [{} for _ in plan.by]
        self.readers = [reader(plan, column, self.grand) for column in plan.columns]
        self.formulas = {i: _combined(plan, column) for i, column in enumerate(plan.columns) if column.formula}
        self.whole_period = Slot(plan.stretch.start, plan.stretch.end, "", plan.stretch.start)
        self.apart = len({s.schema.name for s in plan.strands}) > 1

    def row(self, key: Key) -> Row:
        """The finished row of a group."""
        depth = len(key)
        cells: list[Any] = []
        for label in self.across:
            found = self.whole[depth].get(key) if label is ... else self.spread[depth].get((*key, label))
            values = self.values(key, label, found)
            cells += [values[i] for i, column in enumerate(self.plan.columns) if not column.hidden]
        return Row(depth, key, tuple([self.word(i, k) for i, k in enumerate(key)]), tuple(cells))

    def values(self, key: Key, label: Any, found: Components | None) -> dict[int, Any]:
        """Every column's cell, hidden ones too; a formula is worked out from the cells before it, as they are shown."""
        cells: dict[int, Any] = {}
        for i, column in enumerate(self.plan.columns):
            if i in self.formulas:
                cells[i] = self.formulas[i](cells)
            else:
                missing = self.missing(column, key, label, found)
                cells[i] = self.absent(column, key, label) if missing else self.readers[i](found or {})
        return cells

    def missing(self, column: ColumnPlan, key: Key, label: Any, found: Components | None) -> bool:
        """Whether a group has nothing of the column's log; a sum of nothing over time the log does not cover is nothing too."""
        if found is None or not self.apart:
            return found is None
        own = [v for (strand, _), v in found.items() if strand == column.strand]
        return not own or not (any(own) or self.covers(column, key, label))

    def covers(self, column: ColumnPlan, key: Key, label: Any) -> bool:
        """Whether the column's log covers any of the cell's unit; beside other logs, any of the period where it has none."""
        slot = _slot(self.plan, key, label) or (self.whole_period if self.apart else None)
        return slot is None or self.covered(column.strand, slot)

    def absent(self, column: ColumnPlan, key: Key, label: Any) -> Any:
        """The figure of a group without events: zero where the log covers its unit and the measure has a zero."""
        if (column.measure.base or column.measure).name in ZERO and self.covers(column, key, label):
            return 0.0 if column.measure.name == "share" else 0
        return None

    def word(self, i: int, key: Any) -> str:
        """A group's value in words, each made once."""
        known = self.words[i]
        if key not in known:
            known[key] = shown(self.plan, self.plan.by[i], key)
        return known[key]


def _slot(plan: Plan, key: Key, label: Any) -> Slot | None:
    """The stretch a cell is about, where one of its dimensions is a calendar unit."""
    pairs: list[tuple[Dimension, Any]] = list(zip(plan.by, key, strict=False))
    if plan.across and label is not ...:
        pairs.append((plan.across, label))
    for dimension, number in pairs:
        if dimension.kind == "unit" and number != ELSE_LABEL:
            slot: Slot = plan.slots(dimension.unit)[number]
            return slot
    return None


def _natural(key: Any) -> tuple[bool, Any]:
    """Texts by code point, numbers and units by size, the empty last."""
    return (key is None, 0 if key is None else key)


def _ordered(plan: Plan, figures: Figures, grand: Components | None) -> list[Key]:
    """The body's keys in display order: groups by their own subtotal, rows within by theirs."""
    body = list(figures[plan.by])
    if not plan.by:
        return []
    if len(plan.by) == 1 and plan.by[0].calendar:
        labels, _ = plan.by[0].labels(plan.slots(plan.by[0].unit))
        body = list(dict.fromkeys([*body, *((n,) for n in sorted(set(labels)))])) if plan.top is None else body

    if not plan.sort and plan.kept is None:
        return sorted(body, key=lambda key: [_natural(k) for k in key])
    ranks: dict[Key, list[Any]] = {}

    def rank(group: Key) -> list[Any]:
        if group not in ranks:
            ranks[group] = _rank(plan, figures, grand, group)
        return ranks[group]

    return sorted(body, key=lambda key: [rank(key[:d]) for d in range(1, len(key) + 1)])


def _rank(plan: Plan, figures: Figures, grand: Components | None, group: Key) -> list[Any]:
    """What a group sorts by among its siblings: the rest of a top N last, then the sort, then its own name."""
    depth, name = len(group), group[-1]
    found = figures.get(plan.by[:depth], {}).get(group)
    parts: list[Any] = [plan.kept is not None and name in (ELSE_TEXT, ELSE_LABEL)]
    for number, descending in plan.sort:
        if number >= 0:
            parts.append(_Sorted(value(plan, plan.columns[number], found, grand), descending))
        elif -1 - number == depth - 1:
            parts.append(_Sorted(_natural(name), descending))
    return [*parts, _natural(name)]


class _Sorted:
    """A sort key that can run downwards; the unknown always comes last."""

    __slots__ = ("descending", "value")

    def __init__(self, value: Any, descending: bool) -> None:
        self.value = value
        self.descending = descending

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Sorted) and self.value == other.value

    def __lt__(self, other: _Sorted) -> bool:
        if self.value is None or other.value is None:
            return self.value is not None and other.value is None
        return bool(other.value < self.value if self.descending else self.value < other.value)


def outermost(plan: Plan, figures: Figures, n: int) -> list[Any]:
    """The `n` values of the first dimension that rank highest, ties at the end included.

    They rank by the first measure of the sort, or by the first column if the sort names none.
    """
    column = next((plan.columns[i] for i, _ in plan.sort if i >= 0), plan.columns[0])
    grand = figures.get((), {}).get(())
    first = figures[plan.by[:1]]
    ranked = sorted(
        ((value(plan, column, found, grand), key[0]) for key, found in first.items()),
        key=lambda p: (_Sorted(p[0], True), _natural(p[1])),
    )
    if len(ranked) <= n:
        return [k for _, k in ranked]
    least = ranked[n - 1][0]
    return [k for v, k in ranked if v is not None and (least is None or v >= least)]


def measure_of(plan: Plan, column: int) -> Measure:
    """The measure a column's records are of: a share's are those of its base."""
    measure = plan.columns[column].measure
    return measure.base or measure
