"""Workbooks (XLSX; XLS and ODS, too): one sheet, a header row, a record per row. Dates and times become ISO 8601 text.

A cell's stored value is read, not its look; of a formula, the value that was last computed. `skip_lines` rows stand
above the header.
"""

from __future__ import annotations

import io
import itertools
import re
import zipfile
from collections.abc import Iterator, Sequence
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from fermata.errors import SourceError, UnknownName
from fermata.garbage import uncollected
from fermata.intake.field_map import named_once
from fermata.intake.readers import Job, Records
from fermata.intake.readers.rows import BATCH, from_batches
from fermata.intake.readers.xls import OldBook

__all__ = ["cell_text", "holds_errors", "open", "sheets", "table"]

SMALL = 2000  # cells of a column for which it does not pay to load Arrow's own conversions

ERROR = re.compile(rb"""<(?:\w+:)?c\s[^<>]*\bt=["']e["']""")
ERROR_OF_ODS = re.compile(rb"""calcext:value-type=["']error["']""")
LONGEST_TAG = 1000  # bytes of a cell's tag, which may lie on the edge of two pieces
MOST = 4_000_000_000  # bytes of unpacked sheets


def open(job: Job) -> Records:
    """Opens a workbook; `sheet` is the name or, from 1, the number of its sheet (the first by default otherwise)."""
    import pyarrow as pa

    log = job.log
    names, values = _opened(job.path, str(job.shown), log.sheet, log.skip_lines, log.header)
    batches = (
        pa.table((columns + [pa.nulls(n, pa.string())] * len(names))[: len(names)], names=names)
        for n, columns in _columns(values, str(job.shown))
    )
    with uncollected():
        return from_batches(job, names, batches)


def table(path: Any, shown: str, sheet: str | int | None, above: int, header: bool) -> tuple[list[str], Iterator[Any]]:
    """The names of a sheet's columns, and its rows as lists of text or None. Raises SourceError, UnknownName."""
    names, values = _opened(path, shown, sheet, above, header)
    return names, _rows(values, shown)


def sheets(path: Path, shown: str) -> dict[str, int]:
    """The sheets of a workbook, and how many cells each spans. Raises SourceError."""
    book = _book(path, shown)
    return {n: book.cells(n) for n in book.names}


def _rows(values: Iterator[Any], shown: str) -> Iterator[list[str | None]]:
    for n, columns in _columns(values, shown):
        yield from map(list, zip(*(c.to_pylist() for c in columns), strict=True)) if columns else [[] for _ in range(n)]


def _opened(
    path: Any, shown: str, sheet: str | int | None, above: int, header: bool
) -> tuple[list[str], Iterator[Any]]:
    """The names of a sheet's columns, and its rows of values. Raises SourceError, UnknownName."""
    name, values = _sheet(Path(path), sheet, shown)
    try:
        top = list(itertools.islice(values, above + 1))
    except Exception as e:
        raise _unread(e, shown) from None
    if len(top) <= above:
        raise SourceError(f"{shown}: sheet {name!r} is empty")
    if not header:
        return [str(i) for i in range(1, len(top[-1]) + 1)], itertools.chain([top[-1]], values)
    first = [cell_text(c) for c in top[-1]]
    while first and first[-1] is None:
        first.pop()
    if None in first:
        place = first.index(None) + 1
        raise SourceError(
            f"{shown}: row {above + 1} of sheet {name!r} is no header: column {place} has no name (merged "
            "cells?); skip_lines says how many rows stand above the header"
        )
    return named_once([str(n) for n in first]), values


def _sheet(path: Path, sheet: str | int | None, shown: str) -> tuple[str, Iterator[Any]]:
    """The name of the sheet called so, or by its number from 1, and its rows. Raises SourceError, UnknownName."""
    book = _book(path, shown)
    names = book.names
    if isinstance(sheet, str) and sheet not in names:
        raise UnknownName.of("sheet", sheet, names, where=f"in {shown}")
    number = sheet if isinstance(sheet, int) else 1
    if not 1 <= number <= len(names):
        raise SourceError(f"{shown}: has sheets 1 to {len(names)}, no sheet {number}")
    name = sheet if isinstance(sheet, str) else names[number - 1]
    try:
        return name, iter(book.rows(name))
    except Exception as e:  # named by the workbook, and not in it
        raise _unread(e, shown) from None


def _book(path: Path, shown: str) -> NewBook | OldBook:
    """A workbook, by its content: what its name ends in does not matter. Raises SourceError."""
    try:
        return NewBook(path) if zipfile.is_zipfile(path) else OldBook(path)
    except Exception as e:  # a spoiled workbook raises whatever its parts meet first
        raise SourceError(
            f"{shown}: cannot be read as a workbook (XLSX, XLS, ODS): {str(e) or type(e).__name__}"
        ) from None


class NewBook:
    """A workbook that is a zip archive (XLSX, ODS)."""

    def __init__(self, path: Path) -> None:
        from python_calamine import CalamineWorkbook, SheetTypeEnum

        self.path = path
        self.book = CalamineWorkbook.from_filelike(io.BytesIO(path.read_bytes()))
        self.names = [m.name for m in self.book.sheets_metadata if m.typ == SheetTypeEnum.WorkSheet]
        self.errors = holds_errors(path)

    def cells(self, name: str) -> int:
        """How many cells a sheet spans."""
        sheet = self.book.get_sheet_by_name(name)
        return sheet.height * sheet.width

    def rows(self, name: str) -> Iterator[Any]:
        """The rows of a sheet."""
        return _with_errors(self.path, name) if self.errors else _values(self.book, name)


def holds_errors(path: Path) -> bool:
    """Whether some cell holds an error such as #N/A. Raises ValueError for what unpacks without end, and for errors in
    a workbook of a form (ODS) whose reader takes them for empty cells.
    """
    size, held = 0, b""
    with zipfile.ZipFile(path) as packed:
        for part in packed.namelist():
            ods = part == "content.xml"
            if ods or (part.startswith("xl/worksheets/") and part.endswith(".xml")):
                with packed.open(part) as unpacked:
                    while chunk := unpacked.read(1 << 20):
                        piece = held + chunk
                        if ods and ERROR_OF_ODS.search(piece):
                            raise ValueError("it has cells with an error, such as #N/A; mend them, or save it as XLSX")
                        if (b'"e"' in piece or b"'e'" in piece) and ERROR.search(piece):
                            return True
                        held, size = piece[-LONGEST_TAG:], size + len(chunk)
                        if size > MOST:
                            raise ValueError(f"its sheets unpack to more than {MOST:,} bytes; export it as CSV")
    return False


def _values(book: Any, name: str) -> Iterator[Any]:
    page = book.get_sheet_by_name(name)
    left = [None] * (page.start[1] if page.start else 0)
    return ([*left, *row] for row in page.iter_rows())


def _with_errors(path: Path, name: str) -> Iterator[Any]:
    """The same by way of a library that is slower and gives cells with errors as their texts."""
    import openpyxl

    with path.open("rb") as stream:
        page = openpyxl.load_workbook(stream, read_only=True, data_only=True)[name]
        page.reset_dimensions()  # what the file claims of its size is often wrong
        yield from page.iter_rows(values_only=True)


def _columns(values: Iterator[Any], shown: str) -> Iterator[tuple[int, list[Any]]]:
    """The rows in batches: how many, and their columns as Arrow arrays of text. Raises SourceError."""
    try:
        while rows := list(itertools.islice(values, BATCH)):
            yield len(rows), [_texts(c) for c in itertools.zip_longest(*rows)]
    except Exception as e:
        raise _unread(e, shown) from None


def _unread(error: Exception, shown: str) -> SourceError:
    return SourceError(f"{shown}: the sheet cannot be read to its end: {str(error) or type(error).__name__}")


def _texts(cells: Sequence[Any]) -> Any:
    """A column's cells as texts; those of one kind all at once."""
    import pyarrow as pa

    kinds = set(map(type, cells))
    if str in kinds:
        cells = [None if c == "" else c for c in cells]
        kinds = set(map(type, cells))
    kinds -= {type(None)}
    if kinds == {str}:
        return pa.array(cells, pa.string())
    if len(cells) <= SMALL:
        return pa.array([cell_text(c) for c in cells], pa.string())
    if kinds == {date, datetime}:  # a date is a moment that happens to be midnight
        cells = [datetime(c.year, c.month, c.day) if type(c) is date else c for c in cells]
        kinds = {datetime}
    try:
        if kinds == {datetime}:
            return pa.array(cells, pa.timestamp("us")).cast(pa.timestamp("s")).cast(pa.string())
        if kinds == {float}:
            return pa.array(cells, pa.float64()).cast(pa.int64()).cast(pa.string())
    except pa.ArrowInvalid:  # fractions, of a second or of a number
        pass
    return pa.array([cell_text(c) for c in cells], pa.string())


def cell_text(value: Any) -> str | None:
    """A cell as text: ISO 8601 for times, h:mm:ss for durations, whole numbers without a point."""
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, date):  # a moment that happens to be midnight
        return f"{value.isoformat()} 00:00:00"
    if isinstance(value, time):
        return value.isoformat()
    if isinstance(value, timedelta):
        seconds = round(value.total_seconds())
        return f"{seconds // 3600}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    return str(value)
