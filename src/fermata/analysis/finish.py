"""Division, shares, ordering and layout: done once, on small tables, from exact figures."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from itertools import groupby, repeat
from operator import itemgetter
from typing import Any

from fermata.analysis.cells import ZERO, Components, combined, reader
from fermata.analysis.combine import Figures, Key
from fermata.analysis.measures import ADDS
from fermata.analysis.order import natural, ordered
from fermata.analysis.plan import MOST_ACROSS, ColumnPlan, Dimension, Plan
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.table import Column, Row, Table
from fermata.errors import RequestError
from fermata.timeline import Slot

__all__ = ["NONE_SHOWN", "finish", "shown"]

NONE_SHOWN = "(none)"
MAKE_ROW = partial(tuple.__new__, Row)  # as Row(*four) does, without a call of Python for each of many rows
Covered = Callable[[int, Slot], bool]


def finish(plan: Plan, figures: Figures, covered: Covered, every: Figures | None = None) -> Table:
    """The finished table. `covered` tells whether a strand's log covers a unit, which makes an absence a zero; `every`
    are the figures of all groups where a top N has put most of them together.
    """
    _rank_groups(plan, figures)
    if every:  # a place is that among all groups
        _rank_groups(plan, every)
        for level, groups in figures.items():
            if _ranked(plan, level) == 0:
                for key in groups.keys() & every[level].keys():
                    groups[key] |= {at: n for at, n in every[level][key].items() if at[1].startswith("rank ")}
    single = _Layout(dataclasses.replace(plan, kept=None), every, covered) if every else None
    layout = _Layout(plan, figures, covered, single)
    keys = _with_totals(plan, ordered(plan, figures, layout.cell))
    columns = [_dimension(plan, d) for d in plan.by] + _measures(plan, layout.across)
    rows = layout.rows(keys)
    return Table(tuple(columns), rows, tuple(layout.partial))


def _rank_groups(plan: Plan, figures: Figures) -> None:
    """Adds the place of each group among those beside it, for the measures that ask for it: equals share a place."""
    grand = figures.get((), {}).get(())
    for column in plan.columns:
        measure = column.measure
        if measure.name != "rank" or not measure.base:
            continue
        read = reader(plan, dataclasses.replace(column, measure=measure.base), grand)
        for level, groups in figures.items():
            at = _ranked(plan, level)
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


def _ranked(plan: Plan, level: tuple[Dimension, ...]) -> int:
    """Which dimension of a level has the groups that are beside each other: the last of the rows."""
    return len(level) - (2 if plan.across in level else 1)


def _with_totals(plan: Plan, keys: list[Key]) -> list[Key]:
    """The keys with their subtotals' after each group of more than one row, and the grand total's last."""
    depth = len(plan.by)
    if not depth:
        return [()]
    if not plan.totals:
        return keys
    return [*_with_subtotals(keys, 0, depth), ()]


def _with_subtotals(keys: Sequence[Key], at: int, depth: int) -> Iterable[Key]:
    """The keys, alike up to place `at`, with those of the groups below it that have more than one row."""
    if at == depth - 1:
        return keys
    found: list[Key] = []
    for name, group in groupby(keys, itemgetter(at)):
        rows = list(group)
        found += _with_subtotals(rows, at + 1, depth)
        if len(rows) > 1:
            found.append((*rows[0][:at], name))
    return found


def _dimension(plan: Plan, dimension: Dimension) -> Column:
    field = None if dimension.calendar else plan.strands[0].schema.field(dimension.name)
    unit = dimension.unit if dimension.kind == "unit" and field is None else ""
    return Column(dimension.name, dimension.label, "dimension", "text" if field is None else field.type, unit)


def _across(plan: Plan, figures: Figures) -> list[Any]:
    """The values of the dimension across, in order; `...` stands for their total. Without one, just the total."""
    if not plan.across:
        return [...]
    if plan.across.calendar:
        labels, _ = plan.across.labels((*plan.slots(plan.across.unit), *plan.beyond(plan.across.unit)))
        values: list[Any] = sorted(set(labels))
    else:
        level = next(lv for lv in plan.levels if lv and lv[-1] is plan.across)
        values = sorted({k[-1] for k in figures[level]}, key=natural)
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

    def __init__(self, plan: Plan, figures: Figures, covered: Covered, single: _Layout | None = None) -> None:
        self.plan = plan
        self.single = single or self  # the groups one by one, before a top N put them together
        self.partial: dict[str, None] = {}
        self.covered = covered
        self.across = _across(plan, figures)
        self.grand = figures.get((), {}).get(())
        depths = [d for d in range(len(plan.by) + 1) if plan.by[:d] in figures]
        self.whole = {d: figures[plan.by[:d]] for d in depths}
        self.spread = {d: figures[(*plan.by[:d], plan.across)] for d in depths} if plan.across else {}
        self.words = [_Words(plan, d).__getitem__ for d in plan.by]
        self.known: dict[tuple[Key, Any], dict[int, Any]] = {}
        self.readers = [reader(plan, column, self.grand) for column in plan.columns]
        self.formulas = {i: combined(plan, column) for i, column in enumerate(plan.columns) if column.formula}
        self.apart = len({s.schema.name for s in plan.strands}) > 1
        self.own = [plan.of(s) for s in plan.strands]
        self.pairs = [{i, c.beside} for i, c in enumerate(plan.columns) if c.beside is not None]
        every = not any(c.formula or c.hidden or c.measure.within for c in plan.columns)
        self.plain = every and not self.apart and self.across == [...]

    def rows(self, keys: Sequence[Key]) -> tuple[Row, ...]:
        """The finished rows of the groups."""
        levels = list(map(len, keys))
        found: list[Any] = [None]
        if self.plain:
            found = [self.whole[level].get(key) for level, key in zip(levels, keys, strict=True)]
        if None in found or not self.readers:
            cells: Iterable[tuple[Any, ...]] = map(self.cells, keys)
        else:  # each cell is read off what there is
            cells = zip(*(map(read, found) for read in self.readers), strict=True)
        return tuple(map(MAKE_ROW, zip(levels, keys, self.in_words(levels, keys), cells, strict=True)))

    def cell(self, key: Key, number: int) -> Any:
        """What a group has in a column (in a grid, in its total), as it is shown."""
        if len(key) not in self.whole:
            return None
        found = self.whole[len(key)].get(key)
        return self.readers[number](found) if self.plain and found is not None else self.cells_of(key, ...)[number]

    def cells(self, key: Key) -> tuple[Any, ...]:
        """The figures of a group."""
        cells: list[Any] = []
        for label in self.across:
            found = self.whole[len(key)].get(key) if label is ... else self.spread[len(key)].get((*key, label))
            values = self.values(key, label, found)
            cells += [values[i] for i, column in enumerate(self.plan.columns) if not column.hidden]
        return tuple(cells)

    def values(self, key: Key, label: Any, found: Components | None) -> dict[int, Any]:
        """Every column's cell, hidden ones too; a formula is worked out from the cells before it, as they are shown."""
        cells: dict[int, Any] = {}
        for i, column in enumerate(self.plan.columns):
            if i in self.formulas:
                cells[i] = self.formulas[i](self.comparable(i, key, label, cells))
            elif column.measure.within:
                cells[i] = self.part_of(column, key, label, found)
            else:
                missing = self.missing(column, key, label, found)
                cells[i] = self.absent(column, key, label) if missing else self.readers[i](found or {})
        return cells

    def comparable(self, i: int, key: Key, label: Any, cells: dict[int, Any]) -> dict[int, Any]:
        """The operands of a formula in a row of several groups: of a ratio only what the groups have that have a ratio
        themselves, so that nothing is divided that belongs to no other side. The change of a total is its own.
        """
        column = self.plan.columns[i]
        rest = bool(key) and key[0] in (ELSE_TEXT, ELSE_LABEL) and self.plan.kept is not None
        if not column.formula.divides or (len(key) == len(self.plan.by) and not rest):
            return cells
        if set(column.operands) in self.pairs:
            return cells
        groups = [self.single.cells_of(k, label) for k in self.single.under(key, self.plan.kept if rest else None)]
        with_ratio = [c for c in groups if c[i] is not None]
        operands = {n for n in self.single.operands(i) if self.single.adds(n)}
        left = [c for c in groups if c[i] is None and any(c[n] for n in operands)]
        if not left or operands != self.single.operands(i):
            return cells
        self.partial[column.label] = None
        return {**cells, **{n: sum(c[n] or 0 for c in with_ratio) if with_ratio else None for n in operands}}

    def under(self, key: Key, kept: tuple[Any, ...] | None) -> Iterator[Key]:
        """The groups of the finest level within a row; of the rest of a top N, all it does not keep."""
        for one in self.whole[len(self.plan.by)]:
            if kept is None:
                if one[: len(key)] == key:
                    yield one
            elif one[0] not in kept and one[1 : len(key)] == key[1:]:
                yield one

    def cells_of(self, key: Key, label: Any) -> dict[int, Any]:
        """The cells of one group, worked out once."""
        if (key, label) not in self.known:
            found = self.whole[len(key)].get(key) if label is ... else self.spread[len(key)].get((*key, label))
            self.known[key, label] = self.values(key, label, found)
        return self.known[key, label]

    def operands(self, i: int) -> set[int]:
        """The columns a formula looks at."""
        return set(self.plan.columns[i].operands)

    def adds(self, i: int) -> bool:
        """Whether a column's cells add up to that of their total."""
        column = self.plan.columns[i]
        if column.formula:
            return column.formula.adds and all(self.adds(n) for n in column.operands)
        return column.measure.name in ADDS

    def part_of(self, column: ColumnPlan, key: Key, label: Any, found: Components | None) -> Any:
        """A figure as a part of another of the same table: the group above, the row's or column's total, all of one
        value of a dimension.
        """
        base = dataclasses.replace(column, measure=column.measure.base or column.measure)
        read = reader(self.plan, base, self.grand)
        whole = self.basis(base, column.measure.within, key, label, read)
        return None if not whole else (read(found) or 0) / whole if found is not None else 0.0

    def basis(self, base: ColumnPlan, within: str, key: Key, label: Any, read: Callable[[Components], Any]) -> Any:
        """What a part is of; None where the row has no such thing."""
        if within == "row":
            cell = self.whole[len(key)].get(key)
        elif within in ("parent", "column"):
            above = key[:-1] if within == "parent" else ()
            cell = self.whole[len(above)].get(above) if label is ... else self.spread[len(above)].get((*above, label))
        else:
            at = [d.name for d in self.plan.by].index(within)
            if len(key) <= at:
                return None
            if at:
                return self.sums(base, at, label, read).get(key[at])
            cell = self.whole[1].get(key[:1]) if label is ... else self.spread[1].get((*key[:1], label))
        return None if cell is None else read(cell)

    def sums(self, base: ColumnPlan, at: int, label: Any, read: Callable[[Components], Any]) -> dict[Any, Any]:
        """The figures of a column added up for each value of a dimension."""
        depth = len(self.plan.by)
        rows = self.whole[depth] if label is ... else self.spread[depth]
        found: dict[Any, Any] = {}
        for key, cell in rows.items():
            if label is ... or key[-1] == label:
                found[key[at]] = found.get(key[at], 0) + (read(cell) or 0)
        return found

    def missing(self, column: ColumnPlan, key: Key, label: Any, found: Components | None) -> bool:
        """Whether a group has nothing of the column's log and period; a sum of nothing over time the log does not cover
        is nothing too.
        """
        if found is None or not (self.apart or self.pairs):
            return found is None
        own = [v for (strand, _), v in found.items() if strand == column.strand]
        return not own or not (any(own) or self.covers(column, key, label))

    def covers(self, column: ColumnPlan, key: Key, label: Any) -> bool:
        """Whether the column's log covers any of the cell's unit in the column's period; where it has none, beside
        other logs or another period, any of the period. A unit that only the other period has is not covered.
        """
        own, other_period = self.own[column.strand], self.plan.strands[column.strand].stretch
        unit = _unit(own, key, label)
        if unit is not None:
            slots = own.slots(unit[0])
            return unit[1] < len(slots) and self.covered(column.strand, slots[unit[1]])
        whole = Slot(own.stretch.start, own.stretch.end, "", own.stretch.start)
        return not (self.apart or other_period) or self.covered(column.strand, whole)

    def absent(self, column: ColumnPlan, key: Key, label: Any) -> Any:
        """The figure of a group without events: zero where the log covers its unit and the measure has a zero."""
        if (column.measure.base or column.measure).name in ZERO and self.covers(column, key, label):
            return 0.0 if column.measure.name == "share" else 0
        return None

    def in_words(self, levels: Sequence[int], keys: Sequence[Key]) -> Iterator[tuple[str, ...]]:
        """The groups' values in words, each made once."""
        alike: dict[int, list[Key]] = {level: [] for level in set(levels)}
        for level, key in zip(levels, keys, strict=True):
            alike[level].append(key)
        told: dict[int, Iterator[tuple[str, ...]]] = {0: repeat(())}
        for level, own in alike.items():
            if level:
                told[level] = zip(*map(map, self.words, zip(*own, strict=True)), strict=True)
        return (next(told[level]) for level in levels)


class _Words(dict[Any, str]):
    """The values of a dimension in words, made when they are first needed."""

    def __init__(self, plan: Plan, dimension: Dimension) -> None:
        self.plan, self.dimension = plan, dimension

    def __missing__(self, key: Any) -> str:
        told = self[key] = shown(self.plan, self.dimension, key)
        return told


def _unit(plan: Plan, key: Key, label: Any) -> tuple[str, int] | None:
    """The calendar unit a cell is about and its number, where one of its dimensions is one."""
    pairs: list[tuple[Dimension, Any]] = list(zip(plan.by, key, strict=False))
    if plan.across and label is not ...:
        pairs.append((plan.across, label))
    for dimension, number in pairs:
        if dimension.kind == "unit" and number != ELSE_LABEL:
            return dimension.unit, number
    return None
