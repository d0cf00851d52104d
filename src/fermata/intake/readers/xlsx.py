"""Spreadsheets (XLSX): one sheet, a header row, a record per row. Dates and times become ISO 8601 text.

A cell's stored value is read, not its look; of a formula, the value that was last computed. `skip_lines` rows stand
above the header.
"""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Generator, Iterator
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from fermata.errors import FermataError, SourceError, UnknownName
from fermata.intake.readers import Job, Records
from fermata.intake.readers.delimited import named_once
from fermata.intake.readers.rows import BATCH, from_batches

__all__ = ["cell_text", "open", "table"]


def open(job: Job) -> Records:
    """Opens a workbook; `sheet` is the name or, from 1, the number of its sheet (the first unless told otherwise)."""
    log = job.log
    names, rows = table(job.path, str(job.shown), log.sheet, log.skip_lines, log.header)
    return from_batches(job, names, _batches(names, rows))


def table(path: Any, shown: str, sheet: str | int | None, above: int, header: bool) -> tuple[list[str], Iterator[Any]]:
    """The names of a sheet's columns, and its rows as lists of text or None. Raises SourceError, UnknownName."""
    import openpyxl

    held = contextlib.ExitStack()
    try:  # as an open file: what its name ends in does not matter
        book = openpyxl.load_workbook(held.enter_context(Path(path).open("rb")), read_only=True, data_only=True)  # noqa: SIM115 - the stack closes it
        held.callback(book.close)
    except Exception as e:  # a spoiled workbook raises whatever its parts meet first
        held.close()
        raise SourceError(f"{shown}: cannot be read as a workbook (XLSX): {str(e) or type(e).__name__}") from None
    try:
        page = _page(book, sheet, shown)
    except FermataError:
        held.close()
        raise
    rows = _rows(held, page, shown)
    top = list(itertools.islice(rows, above + 1))
    if len(top) <= above:
        rows.close()
        raise SourceError(f"{shown}: sheet {page.title!r} is empty")
    first = top[-1]
    if not header:
        return [str(i) for i in range(1, len(first) + 1)], itertools.chain([first], rows)
    while first and first[-1] is None:
        first.pop()
    if None in first:
        rows.close()
        place = first.index(None) + 1
        raise SourceError(
            f"{shown}: row {above + 1} of sheet {page.title!r} is no header: column {place} has no name (merged cells?); "
            "skip_lines says how many rows stand above the header"
        )
    return named_once([str(n) for n in first]), rows


def _page(book: Any, sheet: str | int | None, shown: str) -> Any:
    """The sheet called so, or by its number from 1."""
    if isinstance(sheet, str) and sheet not in book.sheetnames:
        raise UnknownName.of("sheet", sheet, book.sheetnames, where=f"in {shown}")
    number = sheet if isinstance(sheet, int) else 1
    if not 1 <= number <= len(book.sheetnames):
        raise SourceError(f"{shown}: has sheets 1 to {len(book.sheetnames)}, no sheet {number}")
    page = book[sheet] if isinstance(sheet, str) else book.worksheets[number - 1]
    page.reset_dimensions()  # what the file claims of its size is often wrong
    return page


def _rows(held: contextlib.ExitStack, page: Any, shown: str) -> Generator[list[str | None]]:
    try:
        with held:
            for row in page.iter_rows(values_only=True):
                yield [cell_text(v) for v in row]
    except Exception as e:
        raise SourceError(f"{shown}: the sheet cannot be read to its end: {str(e) or type(e).__name__}") from None


def cell_text(value: Any) -> str | None:
    """A cell as text: ISO 8601 for times, h:mm:ss for durations, whole numbers without a point."""
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, timedelta):
        seconds = round(value.total_seconds())
        return f"{seconds // 3600}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    return str(value)


def _batches(names: list[str], rows: Iterator[list[str | None]]) -> Iterator[Any]:
    import pyarrow as pa

    while held := list(itertools.islice(rows, BATCH)):
        columns = [[row[i] if i < len(row) else None for row in held] for i in range(len(names))]
        yield pa.table([pa.array(c, type=pa.string()) for c in columns], names=names)
