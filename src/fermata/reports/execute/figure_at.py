"""Which cell of a result is meant, and the figure there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fermata.analysis.plan import Cell, Plan
from fermata.errors import RequestError, UnknownName
from fermata.reports.result import RunResult

__all__ = ["cell_of", "figure_of"]


def cell_of(result: RunResult, at: Mapping[str, str], column: str | None) -> Cell:
    """The cell that `at` (dimension name -> shown value) and a column heading or measure name. Raises UnknownName."""
    plan = result.plan
    number = _column_number(plan, column)
    keys = []
    for name, text in at.items():
        words = name.lower().replace("-", " ")
        dimension = next((d for d in plan.dimensions if words == d.name.replace("_", " ") or name == d.name), None)
        if dimension is None:
            raise UnknownName.of("dimension", name, [d.name for d in plan.dimensions], where="in this report")
        keys.append((dimension, _key(result, dimension, text)))
    given = [d for d, _ in keys]
    depth = len([d for d in given if d in plan.by])
    if set(given) - {plan.across} != set(plan.by[:depth]):
        missing = next(d for d in plan.by if d not in given)
        raise RequestError(f"which figure is meant? Give {missing.name} too: the report is grouped by it")
    ordered = sorted(keys, key=lambda k: plan.dimensions.index(k[0]))
    return Cell(tuple(ordered), number)


def figure_of(result: RunResult, cell: Cell) -> Any:
    """The figure of a cell, as the table has it. Raises RequestError for a total that it does not show."""
    plan, table, given = result.plan, result.table, dict(cell.keys)
    keys = tuple(k for d, k in cell.keys if d != plan.across)
    alike = [r for r in table.body if r.keys[: len(keys)] == keys]
    rows = [r for r in table.rows if r.level == len(keys) and r.keys == keys]
    if not rows and len(alike) < 2:  # a group of one row has no subtotal: that row is it
        rows = alike
    apart = plan.across is not None and plan.across in given
    columns = [
        i
        for i, c in enumerate(table.measures)
        if c.measure == cell.column and (c.across == given[plan.across] if apart and plan.across else c.across_total)
    ]
    if (alike and not rows) or not columns:
        raise RequestError("this table does not show that total; name one of its rows, or ask for totals")
    return rows[0].cells[columns[0]] if rows else None


def _column_number(plan: Plan, column: str | None) -> int:
    if column is None:
        return 0
    for i, c in enumerate(plan.columns):
        if column.lower() in (c.label.lower(), str(c.measure)):
            return i
    raise UnknownName.of("column", column, [c.label for c in plan.columns], where="in this report")


def _key(result: RunResult, dimension: Any, text: str) -> Any:
    """The raw value of a dimension from its shown text."""
    table, plan = result.table, result.plan
    if dimension in plan.by:
        i = plan.by.index(dimension)
        pairs = {r.shown[i]: r.keys[i] for r in table.rows if len(r.keys) > i}
    else:
        pairs = {c.across_label: c.across for c in table.measures if not c.across_total}
    if text in pairs:
        return pairs[text]
    raise UnknownName.of(dimension.name, text, pairs, where="in this result")
