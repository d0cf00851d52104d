"""How large an output will be, told from its first rows."""

from __future__ import annotations

import dataclasses
import io

from fermata.outputs import write
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Page, Records, RunResult

__all__ = ["expected", "rows_of"]

SAMPLE = 2000  # rows


def rows_of(item: Answer) -> int:
    """How many rows there are."""
    if isinstance(item, Page):
        return sum(rows_of(p.item) for p in item.parts if p.item is not None)
    return len(item.table.rows) if isinstance(item, RunResult) else len(item.rows)


def expected(item: Answer, form: str, how: Display) -> str:
    """The size in words, and the pages of a PDF: what the first rows of a listing take, for all of them."""
    if not isinstance(item, Records):
        return "size not known before"
    few, many = _size(item, 10, form, how), _size(item, SAMPLE, form, how)
    count = min(SAMPLE, len(item.rows))
    each = (many[0] - few[0]) / max(count - 10, 1)
    size = few[0] + each * (len(item.rows) - 10)
    if not many[1]:
        return f"about {size / 1e6:,.1f} MB"
    whole = max(round(many[1] * len(item.rows) / count), 1)
    asked = sum(map(how.page_chosen, range(1, whole + 1)))
    pages = f"about {whole:,} pages, " if asked == whole else f"{asked:,} of about {whole:,} pages, "
    size *= asked / whole
    return f"{pages}about {size / 1e6:,.1f} MB"


def _size(item: Records, count: int, form: str, how: Display) -> tuple[int, int]:
    """Bytes and pages of the first rows alone."""
    out = io.BytesIO()
    some = tuple(item.rows[:count])
    write(dataclasses.replace(item, rows=some, total=len(some)), out, form, how.model_copy(update={"pages": ""}))
    return out.tell(), out.getvalue().count(b"/Type /Page\n")
