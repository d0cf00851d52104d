"""Workbooks of the old form (XLS): their sheets as rows of values, those with an error as its text."""

from __future__ import annotations

import functools
import io
import re
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

__all__ = ["OldBook"]

DURATION = re.compile(r"\[(h+|m+|s+)\]", re.IGNORECASE)  # a format that goes on counting
DAY = 86_400_000  # milliseconds


class OldBook:
    """A workbook. Whatever is wrong with it is raised by the library as it is."""

    def __init__(self, path: Path) -> None:
        import xlrd

        self.book = xlrd.open_workbook(
            file_contents=path.read_bytes(), formatting_info=True, ragged_rows=True, logfile=io.StringIO()
        )
        self.names: list[str] = self.book.sheet_names()
        self.lasts = functools.cache(self._lasts)

    def cells(self, name: str) -> int:
        """How many cells a sheet spans."""
        sheet = self.book.sheet_by_name(name)
        return int(sheet.nrows * sheet.ncols)

    def rows(self, name: str) -> Iterator[list[Any]]:
        """The rows of a sheet: texts, numbers, datetimes, clock times, lengths of time, True and False, or None."""
        sheet = self.book.sheet_by_name(name)
        return ([self._value(cell) for cell in sheet.row(i)] for i in range(sheet.nrows))

    def _value(self, cell: Any) -> Any:
        import xlrd

        match cell.ctype:
            case xlrd.XL_CELL_DATE if self.lasts(cell.xf_index):
                return timedelta(milliseconds=round(cell.value * DAY))
            case xlrd.XL_CELL_DATE if cell.value < 1:
                return xlrd.xldate.xldate_as_datetime(cell.value, self.book.datemode).time()
            case xlrd.XL_CELL_DATE:
                return xlrd.xldate.xldate_as_datetime(cell.value, self.book.datemode)
            case xlrd.XL_CELL_ERROR:
                return xlrd.error_text_from_code.get(cell.value, "#ERROR")
            case xlrd.XL_CELL_BOOLEAN:
                return bool(cell.value)
            case xlrd.XL_CELL_EMPTY | xlrd.XL_CELL_BLANK:
                return None
        return cell.value

    def _lasts(self, look: int) -> bool:
        """Whether cells of a look are lengths of time."""
        return bool(DURATION.search(self.book.format_map[self.book.xf_list[look].format_key].format_str))
