"""A result as the library's users have it: a table to look at, take elsewhere, and follow down to its records."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fermata import outputs
from fermata.analysis.table import Column, Table
from fermata.errors import RequestError
from fermata.outputs.formats import local
from fermata.reports import listing as listings
from fermata.reports.result import Answer, Context, Page, Records, RunResult
from fermata.timeline.zones import zone

if TYPE_CHECKING:
    from fermata.api.workspace import Place

__all__ = ["Result", "records_frame"]


@dataclass(frozen=True)
class Result:
    """A finished run: a table of figures, a listing, or a page of several. Printing it shows what the command line shows."""

    answer: Answer
    place: Place

    @property
    def data(self) -> RunResult:
        """The table with its plan. Raises RequestError for a listing or a page."""
        if isinstance(self.answer, RunResult):
            return self.answer
        what = "a page; its tables are its parts" if isinstance(self.answer, Page) else "a listing of rows"
        raise RequestError(f"{self.context.title} is no table of figures but {what}")

    @property
    def table(self) -> Table:
        """Columns and rows, subtotals among them. Raises RequestError for a listing or a page."""
        return self.data.table

    @property
    def rows(self) -> Sequence[tuple[Any, ...]]:
        """The rows of a listing, or of a table's finest level: the shown groups, then the figures."""
        if isinstance(self.answer, Records):
            return self.answer.rows
        return tuple((*r.shown, *r.cells) for r in self.table.body)

    @property
    def parts(self) -> tuple[Result, ...]:
        """The parts of a page that could be answered; a table or a listing is its own only part."""
        if isinstance(self.answer, Page):
            return tuple(Result(p.item, self.place) for p in self.answer.parts if p.item is not None)
        return (self,)

    def part(self, text: str) -> Answer:
        """The part of a page by its number (from 1) or title. Raises UnknownName, RequestError."""
        if not isinstance(self.answer, Page):
            raise RequestError(f"{self.context.title} is no page; it has no parts")
        found = self.answer.part(text)
        if found.item is None:
            raise RequestError(f"{found.title} is not possible here: {found.note}")
        return found.item

    @property
    def verdict(self) -> str:
        """What a page's checks come to; "" where nothing is expected of it."""
        return self.answer.verdict if isinstance(self.answer, Page) else ""

    @property
    def caveats(self) -> tuple[str, ...]:
        """What a reader must know to trust the figures."""
        return self.answer.caveats if isinstance(self.answer, RunResult) else self.answer.notes

    @property
    def context(self) -> Context:
        """Title, period, zone, filters, freshness."""
        return self.answer.context

    def cell(self, *, of: str | None = None, at: dict[str, str] | None = None) -> Any:
        """One figure: a column by heading or measure (the first unless told), a group by dimension and shown value.

        No `at` is the grand total. Durations are microseconds, times naive UTC. Raises UnknownName.
        """
        found = listings.cell_of(self.data, at or {}, of)
        keys = dict(found.keys)
        plan, table = self.data.plan, self.table
        across = keys.get(plan.across) if plan.across else None
        total = plan.across is None or plan.across not in keys
        row_keys = tuple(k for d, k in found.keys if d is not plan.across)
        row = next((r for r in table.rows if r.level == len(row_keys) and r.keys == row_keys), None)
        if row is None:  # a group of one row has no subtotal: that row is it
            row = next((r for r in table.body if r.keys[: len(row_keys)] == row_keys), None)
        for i, column in enumerate(table.measures):
            if column.measure == found.column and (column.across_total if total else column.across == across):
                return row.cells[i] if row else None
        return None

    def records(self, *, of: str | None = None, at: dict[str, str] | None = None, limit: int | None = None) -> Records:
        """The events behind a figure, oldest first, with file, record number and contribution.

        `of` and `at` name the figure as in `cell`. The contributions of a count, time or total add up to it.
        """
        found = listings.records_of(self.data, self.place, listings.cell_of(self.data, at or {}, of), limit)
        base = self.data.plan.columns[listings.cell_of(self.data, at or {}, of).column].measure.base
        return found if base else dataclasses.replace(found, figure=self.cell(of=of, at=at))

    def to_arrow(self) -> Any:
        """The rows of the finest level: durations in microseconds, times in the report's zone, subtotals left out. Tables only."""
        import pyarrow as pa

        table = self.table
        named: dict[str, Any] = {}
        for i, column in enumerate(table.columns):
            values = [self._value(row, i) for row in table.body]
            named[_unique(_heading(column), named)] = pa.array(values, type=self._arrow_type(column))
        return pa.table(named)

    def to_pandas(self) -> Any:
        """The rows of the finest level as a pandas table; durations are timedeltas, times are in the report's zone."""
        if isinstance(self.answer, Records):
            return records_frame(self.answer)
        return self.to_arrow().to_pandas()

    def save(self, path: str | Path, *, form: str | None = None) -> Path:
        """Writes the result, whole or not at all, in the form of the file's ending unless told."""
        return outputs.save(self.answer, Path(path), form)

    def __str__(self) -> str:
        return outputs.render(self.answer, "txt")

    def _value(self, row: Any, i: int) -> Any:
        column, width = self.table.columns[i], len(self.table.dimensions)
        if i < width:
            return row.shown[i] if self.data.plan.by[i].calendar or row.keys[i] is not None else None
        value = row.cells[i - width]
        if column.type == "time" and value is not None:
            return local(value, zone(self.context.zone))
        if column.type in ("decimal", "money") and value is not None:
            from decimal import Decimal

            return Decimal(value).scaleb(-column.scale)
        return value

    def _arrow_type(self, column: Column) -> Any:
        import pyarrow as pa

        if column.role == "dimension":
            return pa.string()
        return {
            "duration": pa.duration("us"),
            "mean duration": pa.duration("us"),
            "time": pa.timestamp("us", tz=self.context.zone),
            "text": pa.string(),
            "share": pa.float64(),
            "mean": pa.float64(),
            "decimal": pa.decimal128(38, column.scale),
            "money": pa.decimal128(38, column.scale),
        }.get(column.type, pa.int64())


def _heading(column: Column) -> str:
    return f"{column.across_label} {column.label}" if column.across_label else column.label


def _unique(name: str, taken: dict[str, Any]) -> str:
    n = 2
    unique = name
    while unique in taken:
        unique, n = f"{name} {n}", n + 1
    return unique


def records_frame(records: Records) -> Any:
    """A listing as a pandas table, times in the report's zone."""
    import pandas as pd

    frame = pd.DataFrame(list(records.rows), columns=[c[0] for c in records.columns])
    for name, _, kind, _, _ in records.columns:
        if kind == "time":
            frame[name] = pd.to_datetime(frame[name], utc=True).dt.tz_convert(records.context.zone)
        elif kind == "duration":
            frame[name] = pd.to_timedelta(frame[name], unit="us")
    return frame
