"""The order of a table's rows, and which groups are the highest."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from typing import Any

from fermata.analysis.cells import value
from fermata.analysis.combine import Figures, Key
from fermata.analysis.plan import Plan
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT

__all__ = ["natural", "ordered", "outermost"]


def natural(key: Any) -> tuple[bool, Any]:
    """Texts by code point, numbers and units by size, the empty last."""
    return (key is None, 0 if key is None else key)


def ordered(plan: Plan, figures: Figures, cell: Callable[[Key, int], Any]) -> list[Key]:
    """The body's keys in display order: groups by their own subtotal, rows within by theirs. `cell` is what stands in a
    row in the column of a number.
    """
    body = list(figures[plan.by])
    if not plan.by:
        return []
    if len(plan.by) == 1 and plan.by[0].calendar:
        labels, _ = plan.by[0].labels((*plan.slots(plan.by[0].unit), *plan.beyond(plan.by[0].unit)))
        body = list(dict.fromkeys([*body, *((n,) for n in sorted(set(labels)))])) if plan.top is None else body

    if not plan.sort and plan.kept is None:
        if any(None in key for key in body):
            return sorted(body, key=lambda key: [natural(k) for k in key])
        return sorted(body)
    ranks: dict[Key, list[Any]] = {}

    def rank(group: Key) -> list[Any]:
        if group not in ranks:
            ranks[group] = _rank(plan, group, cell)
        return ranks[group]

    return sorted(body, key=lambda key: [rank(key[:d]) for d in range(1, len(key) + 1)])


def _rank(plan: Plan, group: Key, cell: Callable[[Key, int], Any]) -> list[Any]:
    """What a group sorts by among its siblings: the rest of a top N last, then the sort, then its own name."""
    depth, name = len(group), group[-1]
    parts: list[Any] = [plan.kept is not None and name in (ELSE_TEXT, ELSE_LABEL)]
    for number, descending in plan.sort:
        if number >= 0:
            parts.append(_Sorted(cell(group, number), descending))
        elif -1 - number == depth - 1:
            parts.append(_Sorted(natural(name), descending))
    return [*parts, natural(name)]


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
    if column.measure.name == "rank" and column.measure.base:  # the first places are the highest figures
        column = dataclasses.replace(column, measure=column.measure.base)
    grand = figures.get((), {}).get(())
    first = figures[plan.by[:1]]
    ranked = sorted(
        ((value(plan, column, found, grand), key[0]) for key, found in first.items()),
        key=lambda p: (_Sorted(p[0], True), natural(p[1])),
    )
    if len(ranked) <= n:
        return [k for _, k in ranked]
    least = ranked[n - 1][0]
    return [k for v, k in ranked if v is not None and (least is None or v >= least)]
