"""Markdown: a heading, a table and the notes, for a ticket or a wiki."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import IO

from fermata.outputs.formats import clean, people
from fermata.outputs.grid import Grid
from fermata.outputs.heading import made_by, subtitle
from fermata.outputs.key_figures import readable
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Page, Records, RunResult

__all__ = ["write"]

SPECIAL = re.compile(r"[\\`*_\[\]#!~$^]|[<>&|@]|:(?=//)|(?<=www)\.")  # a mark, or what some dialects make a link of


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """The table as CommonMark with pipe tables; totals in bold. No text of a log is markup, a link or an address."""
    if isinstance(item, Page):
        _put(out, _page(item, how, progress))
        return
    _put(out, _item(item, how, progress, "#"))
    _put(out, ("", *(f"{escaped(line)}  " for line in made_by(item.context, how))))


def _page(page: Page, how: Display, progress: Progress) -> Iterator[str]:
    yield from (f"# {escaped(page.title)}", "", f"{escaped(page.context.period)}, {escaped(page.context.zone)}")
    if page.verdict:
        yield from ("", f"**{escaped(page.verdict[:1].upper() + page.verdict[1:])}**")
    for part in page.parts:
        yield ""
        if part.item is None:
            yield from (f"## {escaped(part.title)}", "", f"not possible here: {escaped(part.note)}")
        else:
            yield from _item(part.item, how, progress, f"## {escaped(part.mark)}".rstrip())
    yield from ("", *(f"- {escaped(n)}" for n in page.notes), "")
    yield from (f"{escaped(line)}  " for line in made_by(page.context, how))


def _item(item: RunResult | Records, how: Display, progress: Progress, mark: str) -> Iterator[str]:
    grid = readable(item, how)
    said = f" ({', '.join(grid.said)})" if grid.said else ""
    yield from (f"{mark} {escaped(clean(grid.title + said))}", "", escaped(" · ".join(subtitle(grid.context))), "")
    yield _row([escaped(h.above + " " + n if h.above else n) for h, n in zip(grid.heads, grid.headings, strict=True)])
    yield _row([":--" if h.left else "--:" for h in grid.heads])
    yield from _rows(grid, progress)
    if grid.notes:
        yield from ("", *(f"- {escaped(n)}" for n in grid.notes))


def _rows(grid: Grid, progress: Progress) -> Iterator[str]:
    for block in grid.blocks():
        columns = [[escaped(t or "") for t in c] for c in grid.texts(block, people)]
        for level, row in zip(block.levels, zip(*columns, strict=True), strict=True):
            yield _row(row if level >= grid.depth else [f"**{t}**" if t else "" for t in row])
        progress(len(block.levels))


def _row(cells: list[str] | tuple[str, ...]) -> str:
    return f"| {' | '.join(cells)} |"


def escaped(text: str) -> str:
    """A text in which no character marks anything."""
    return SPECIAL.sub(_mark, clean(text))


def _mark(found: re.Match[str]) -> str:
    return f"&#{ord(found[0])};" if found[0] in "<>&|@:." else "\\" + found[0]


def _put(out: IO[bytes], lines: Iterator[str] | tuple[str, ...]) -> None:
    for line in lines:
        out.write(f"{line}\n".encode())
