"""CSV and TSV: the body of a table for another program, nothing cut and nothing added."""

from __future__ import annotations

import csv
import io
from typing import Any

from fermata.errors import RequestError
from fermata.outputs.formats import data
from fermata.outputs.grid import Grid, of
from fermata.reports.result import Answer, Page

__all__ = ["render"]


def render(item: Answer, *, delimiter: str = ",") -> str:
    """One header line, then the rows of the finest level (RFC 4180, UTF-8, line ends LF); subtotals are left out.

    Durations are h:mm:ss, times ISO 8601 with their offset, shares fractions of one. Texts stand as they were logged.
    """
    target = io.StringIO()
    writer = csv.writer(target, delimiter=delimiter, lineterminator="\n")
    if isinstance(item, Page):
        _stacked(item, writer)
        return target.getvalue()
    grid = of(item)
    writer.writerow(_headings(grid))
    for (level, _), row in zip(grid.rows, grid.texts(data), strict=True):
        if level >= grid.depth:
            writer.writerow(row)
    return target.getvalue()


def _headings(grid: Grid) -> list[str]:
    return [f"{a} {h}" if a else h for a, h in zip(grid.above, grid.headings, strict=True)]


def _stacked(page: Page, writer: Any) -> None:
    """The parts of a page below each other, with the part's title in front of each row. Raises RequestError if they differ."""
    grids = [(p.title, of(p.item)) for p in page.parts if p.item is not None]
    heads = {tuple(_headings(g)) for _, g in grids}
    if len(heads) != 1:
        listed = "; ".join(f"{n}: {p.title}" for n, p in enumerate(page.parts, 1))
        raise RequestError(
            f"this page has {len(page.parts)} parts with different columns; choose one with --part: {listed}"
        )
    writer.writerow(["Part", *heads.pop()])
    for title, grid in grids:
        for (level, _), row in zip(grid.rows, grid.texts(data), strict=True):
            if level >= grid.depth:
                writer.writerow([title, *row])
