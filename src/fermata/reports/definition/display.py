"""How figures, times and pages are shown. It never changes a figure; data forms (JSON, XML, Parquet ...) stay exact."""

from __future__ import annotations

import re
from typing import Any, Literal, Self

from pydantic import Field, ValidationError, field_validator

from fermata.errors import RequestError
from fermata.strict import Strict, listed, split
from fermata.tomlfile import problems

__all__ = ["Display"]

PAGES = re.compile(r"(\d+(-\d*)?)(\s*,\s*\d+(-\d*)?)*")


class Display(Strict):
    """Display choices, of a workspace, a report, or one output; the nearer one wins.

    `clock` 24 or 12 hours; `seconds` of times and lengths shown or not; `times` of a listing: both, start, finish or
    none; `durations` as h:mm:ss, h:mm or decimal hours, or as needed (h:mm where a column is of full minutes only);
    `decimal` point or comma; `dates` year, day or month first (ISO 8601 is year first); `columns` only these, by name
    or heading; `pages` of a document ("1-3, 7"); its `orientation` and `paper`; `author` who made it; `spreadsheet`
    makes CSV and TSV fit for being opened by a double click: a byte order mark, semicolons with a decimal comma, and an
    apostrophe before text that a spreadsheet would take for a formula.
    """

    clock: Literal[24, 12] = 24
    seconds: bool = True
    times: Literal["both", "start", "finish", "none"] = "both"
    durations: Literal["as needed", "h:mm:ss", "h:mm", "hours"] = "as needed"
    decimal: Literal["point", "comma"] = "point"
    dates: Literal["year first", "day first", "month first"] = "year first"
    columns: tuple[str, ...] = ()
    pages: str = ""
    orientation: Literal["", "portrait", "landscape"] = ""
    paper: Literal["A3", "A4", "A5", "Letter", "Legal"] = "A4"
    author: str = Field(default="", max_length=200)
    spreadsheet: bool = False

    _lists = listed("columns", read=split)

    @field_validator("pages", mode="before")
    @classmethod
    def _one(cls, given: Any) -> Any:
        return str(given) if isinstance(given, int) and not isinstance(given, bool) else given

    @field_validator("pages")
    @classmethod
    def _ranges(cls, text: str) -> str:
        if text and not PAGES.fullmatch(text.strip()):
            raise ValueError(f"{text!r} names no pages; write 1-3, 7 or 5-")
        return text.strip()

    @classmethod
    def of(cls, **data: Any) -> Self:
        """The display choices that `data` gives. Raises RequestError with every problem."""
        try:
            return cls.model_validate(data)
        except ValidationError as e:
            raise RequestError("; ".join(problems(e, cls, "", ("display",)))) from None

    def merged(self, nearer: Display | None) -> Self:
        """These choices with those a nearer place makes itself."""
        own = {n: getattr(nearer, n) for n in nearer.model_fields_set} if nearer else {}
        held = {n: getattr(self, n) for n in self.model_fields_set}
        return type(self)(**{**held, **own})

    def page_chosen(self, number: int) -> bool:
        """Whether the page of that number (from 1) is wanted."""
        for part in self.pages.split(",") if self.pages else ["1-"]:
            low, dash, high = part.strip().partition("-")
            if int(low) <= number and (number <= int(high) if high else bool(dash) or number == int(low)):
                return True
        return False
