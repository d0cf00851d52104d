"""Division, shares, ordering and layout: done once, on small tables, from exact figures."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from itertools import zip_longest
from typing import Any

from fermata.analysis.combine import Figures, Key
from fermata.analysis.measures import Measure
from fermata.analysis.plan import MOST_ACROSS, ColumnPlan, Dimension, Plan
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.table import Column, Row, Table
from fermata.errors import RequestError
from fermata.timeline import Slot

__all__ = ["finish", "measure_of", "outermost", "value"]

NONE_SHOWN = "(none)"
Components = dict[tuple[int, str], Any]
Covered = Callable[[int, Slot], bool]
ZERO = ("count", "time", "total", "distinct", "present")


def value(plan: Plan, column: ColumnPlan, found: Components | None, grand: Components | None) -> Any:
    """A cell: exact integers and times as they are, means and shares divided once. None where nothing is known."""
    measure, place = column.measure, column.strand
    if found is None:
        return None
    if measure.base:
        base = ColumnPlan("", measure.base, place)
        part, whole = value(plan, base, found, grand), value(plan, base, grand, grand)
        return part / whole if whole else None
    if measure.name == "mean":
        total, n = found.get((place, f"total {measure.of}")), found.get((place, f"filled {measure.of}"))
        return _mean(plan, column, total, n) if n else None
    got = found.get((place, measure.name if measure.name in ("count", "time", "first", "last") else str(measure)))
    return got or 0 if measure.name in ZERO else got


def _mean(plan: Plan, column: ColumnPlan, total: Any, n: Any) -> Any:
    field = plan.strands[column.strand].schema.field(column.measure.of)
    if field.type == "duration":
        return (2 * total + n) // (2 * n)  # whole microseconds, half up
    return total / (n * 10**field.scale)


def finish(plan: Plan, figures: Figures, covered: Covered) -> Table:
    """The finished table. `covered` tells whether a strand's log covers a unit, which makes an absence a zero."""
    across = _across(plan, figures)
    grand = figures.get((), {}).get(())
    keys = _ordered(plan, figures, grand)
    columns = [_dimension(plan, d) for d in plan.by] + _measures(plan, across)
    rows = [_row(plan, figures, grand, key, across, covered) for key in _with_totals(plan, keys)]
    return Table(tuple(columns), tuple(rows))


def _with_totals(plan: Plan, keys: list[Key]) -> list[Key]:
    """The keys with their subtotals' after each group of more than one row, and the grand total's last."""
    depth = len(plan.by)
    if not plan.totals or not depth:
        return keys or [()]
    sizes = Counter(key[:d] for key in keys for d in range(1, depth))
    found: list[Key] = []
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
            schema = plan.strands[column.strand].schema
            kind, unit, scale = column.measure.type_in(schema)
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


def _row(plan: Plan, figures: Figures, grand: Components | None, key: Key, across: list[Any], covered: Covered) -> Row:
    level = plan.by[: len(key)]
    cells: list[Any] = []
    for label in across:
        if label is ...:
            found = figures[level].get(key)
        else:
            assert plan.across
            found = figures[(*level, plan.across)].get((*key, label))
        for column in plan.columns:
            cell = value(plan, column, found, grand)
            if cell is None and (column.measure.base or column.measure).name in ZERO:
                slot = _slot(plan, key, label)
                covers = slot is None or covered(column.strand, slot)
                cell = (0.0 if column.measure.base else 0) if covers else None
            cells.append(cell)
    words = tuple(shown(plan, d, k) for d, k in zip(level, key, strict=True))
    return Row(len(key), key, words, tuple(cells))


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

    def rank(key: Key, depth: int) -> list[Any]:
        found = figures.get(plan.by[:depth], {}).get(key[:depth])
        parts: list[Any] = [key[depth - 1] in (ELSE_TEXT, ELSE_LABEL) and plan.top is not None]
        for number, descending in plan.sort:
            if number >= 0:
                parts.append(_Sorted(value(plan, plan.columns[number], found, grand), descending))
            elif -1 - number == depth - 1:
                parts.append(_Sorted(_natural(key[depth - 1]), descending))
        return [*parts, _natural(key[depth - 1])]

    return sorted(body, key=lambda k: [rank(k, d) for d in range(1, len(plan.by) + 1)])


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
