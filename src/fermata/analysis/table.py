"""A finished table: typed columns and rows in display order, subtotals among them. What every output renders."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

__all__ = ["Column", "Row", "Table"]


@dataclass(frozen=True, slots=True)
class Column:
    """One column. `type` decides the format: text, number, decimal, money, duration (microseconds), time (UTC),
    share (a fraction of one), mean (a float in `unit`), mean duration (whole microseconds), flag.

    In a grid `across` is the value of the dimension across that the column belongs to (None with `across_total` for its
    total) and `measure` the number of the measure column.
    """

    name: str
    label: str
    role: Literal["dimension", "measure"]
    type: str
    unit: str = ""
    scale: int = 0
    measure: int = -1
    across: Any = None
    across_label: str = ""
    across_total: bool = False


class Row(NamedTuple):
    """One line. `level` is how many dimensions it tells apart: all of them for the body, 0 for the grand total.

    `keys` are the raw values of the dimensions, `shown` their words, `cells` the figures (None: not known).
    """

    level: int
    keys: tuple[Any, ...]
    shown: tuple[str, ...]
    cells: tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Table:
    """Columns (dimensions first) and rows; the depth of the body is the number of dimension columns. `partial` are the
    headings of ratios whose totals leave out rows that have no ratio.
    """

    columns: tuple[Column, ...]
    rows: tuple[Row, ...]
    partial: tuple[str, ...] = ()

    @property
    def dimensions(self) -> tuple[Column, ...]:
        """The columns that name the groups."""
        return tuple(c for c in self.columns if c.role == "dimension")

    @property
    def measures(self) -> tuple[Column, ...]:
        """The columns that hold figures."""
        return tuple(c for c in self.columns if c.role == "measure")

    @property
    def body(self) -> tuple[Row, ...]:
        """The rows of the finest level."""
        depth = len(self.dimensions)
        return tuple(r for r in self.rows if r.level == depth)

    @property
    def total(self) -> Row | None:
        """The grand total, if the table has one."""
        return next((r for r in reversed(self.rows) if r.level == 0), None)

    @property
    def size(self) -> int:
        """How many rows the finest level has."""
        return [r.level for r in self.rows].count(len(self.dimensions))
