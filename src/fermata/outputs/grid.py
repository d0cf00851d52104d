"""A result or a listing as a plain grid of texts: what the terminal, CSV and JSON outputs share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from fermata.reports.result import Context, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["Grid", "of"]

Format = Callable[[Any, str, int, ZoneInfo], str]


@dataclass(frozen=True)
class Grid:
    """Headings (with the group heading above, if any), rows of raw values with their level, and types per column."""

    context: Context
    above: tuple[str, ...]
    heads: tuple[str, ...]
    kinds: tuple[str, ...]
    scales: tuple[int, ...]
    names: tuple[str, ...]
    rows: tuple[tuple[int, tuple[Any, ...]], ...]
    depth: int
    notes: tuple[str, ...]
    total: int

    def texts(self, form: Format) -> list[list[str]]:
        """Every row as texts."""
        tz = zone(self.context.zone)
        pairs = list(zip(self.kinds, self.scales, strict=True))
        return [[form(v, k, s, tz) for v, (k, s) in zip(row, pairs, strict=True)] for _, row in self.rows]


def of(item: RunResult | Records) -> Grid:
    """The grid of a result (subtotals named in words) or of a listing."""
    return _of_records(item) if isinstance(item, Records) else _of_result(item)


def _of_result(result: RunResult) -> Grid:
    table = result.table
    dimensions, measures = table.dimensions, table.measures
    rows = []
    for row in table.rows:
        shown = list(row.shown) + [""] * (len(dimensions) - len(row.shown))
        if row.level < len(dimensions):
            shown[row.level] = "All" if row.level == 0 else f"All of {row.shown[-1]}"
        rows.append((row.level, (*shown, *row.cells)))
    return Grid(
        result.context,
        tuple([""] * len(dimensions) + [c.across_label for c in measures]),
        tuple(c.label for c in (*dimensions, *measures)),
        tuple(["text"] * len(dimensions) + [c.type for c in measures]),
        tuple([0] * len(dimensions) + [c.scale for c in measures]),
        tuple([c.name for c in dimensions] + [c.name for c in measures]),
        tuple(rows),
        len(dimensions),
        result.caveats,
        len(rows),
    )


def _of_records(records: Records) -> Grid:
    columns = records.columns
    return Grid(
        records.context,
        tuple("" for _ in columns),
        tuple(c[1] for c in columns),
        tuple(c[2] for c in columns),
        tuple(c[4] for c in columns),
        tuple(c[0] for c in columns),
        tuple((1, row) for row in records.rows),
        1,
        records.notes,
        records.total,
    )
