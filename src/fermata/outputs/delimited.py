"""CSV and TSV: the body of a table for another program, nothing cut and nothing added."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator, Sequence
from typing import IO, Any

from fermata.errors import RequestError
from fermata.outputs.formats import UNCLEAN, data, guarded, sheet
from fermata.outputs.grid import Block, Grid, of
from fermata.outputs.writing import Progress, ahead, bare
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Records, RunResult

__all__ = ["grids", "headings", "write"]

QUOTE = '"'


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress, *, delimiter: str = ",") -> None:
    """One header line, then the rows of the finest level (RFC 4180, UTF-8, line ends LF); subtotals are left out.

    Durations are h:mm:ss, times ISO 8601 with their offset, shares fractions of one. Texts stand as they were logged;
    what is not known is empty, an empty text is "". With `how.spreadsheet` everything is as `how` says, texts that look
    like formulas have an apostrophe in front, and a byte order mark comes first.
    """
    import pyarrow as pa

    how = how if how.spreadsheet else bare(how)
    form = sheet if how.spreadsheet else data
    if how.spreadsheet:
        out.write("\ufeff".encode())
        delimiter = ";" if delimiter == "," and how.decimal == "comma" else delimiter
    special = re.compile(f'[{delimiter}"\r\n]')

    def quoted(text: str) -> str:
        return f'"{text.replace(QUOTE, QUOTE * 2)}"' if not text or special.search(text) else text

    odd = f'[{delimiter}"\r\n]|^$' + (f"|{UNCLEAN}|^[-=+@]" if how.spreadsheet else "")

    def cell(*told: Any) -> str:
        return quoted(form(*told))

    def lines(grid: Grid, title: str | None, block: Block) -> tuple[int, Any]:
        cells = grid.strings(block, form, cell, odd)
        if min(block.levels, default=grid.depth) < grid.depth:
            keep = pa.array([n for n, level in enumerate(block.levels) if level >= grid.depth], pa.int64())
            cells = [c.take(keep) for c in cells]
        lead = [] if title is None else [_same(quoted(title), len(cells[0]))]
        return len(cells[0]), _joined([*lead, *cells], delimiter)

    first = True
    for title, grid in grids(item, how):
        heads = [*(["Part"] if title is not None else []), *headings(grid)]
        if first:
            heads = [guarded(h) for h in heads] if how.spreadsheet else heads
            out.write((delimiter.join(map(quoted, heads)) + "\n").encode())
        first = False
        for count, told in ahead(grid.blocks(), functools.partial(lines, grid, title)):
            out.write(told)
            progress(count)


def _joined(cells: Sequence[Any], delimiter: str) -> Any:
    """Lines of columns of texts, as they stand in memory; what is not known is empty."""
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute as pc

    joined = pc.binary_join_element_wise(*(c.fill_null("") for c in cells), delimiter)
    lines = pc.binary_join_element_wise(joined, "\n", "").cast(pa.large_string())
    if not len(lines):
        return b""
    _, ends, letters = lines.buffers()
    return memoryview(letters)[: np.frombuffer(ends, np.int64)[lines.offset + len(lines)]]


def _same(text: str, count: int) -> Any:
    import pyarrow as pa

    return pa.array([text] * count, pa.string())


def grids(item: Answer, how: Display) -> Iterator[tuple[str | None, Grid]]:
    """The grids with the titles of their parts, None where there are no parts. Raises RequestError if their columns
    differ.
    """
    if isinstance(item, RunResult | Records):
        yield None, of(item, how)
        return
    found = [(p.title, of(p.item, how)) for p in item.parts if p.item is not None]
    if len({tuple(headings(g)) for _, g in found}) != 1:
        raise RequestError(
            f"this page has {len(item.parts)} parts with different columns; choose one with --part: {item.listed_parts}"
        )
    yield from found


def headings(grid: Grid) -> list[str]:
    """The headings, with what runs across in front, each told apart from the others."""
    found: list[str] = []
    for head, heading in zip(grid.heads, grid.headings, strict=True):
        whole = f"{head.above} {heading}" if head.above else heading
        n = 2
        name = whole
        while name in found:
            name, n = f"{whole} {n}", n + 1
        found.append(name)
    return found
