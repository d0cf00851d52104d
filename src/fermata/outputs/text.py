"""A table for a terminal or a text file: aligned columns, subtotals set off, notes below."""

from __future__ import annotations

import dataclasses
import textwrap
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import IO, Any, Literal, NamedTuple

from fermata.notes import Note, shortened
from fermata.outputs.formats import ISO, people
from fermata.outputs.grid import Grid
from fermata.outputs.heading import figured, made_by, subtitle
from fermata.outputs.key_figures import readable
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Page, Records

__all__ = ["Look", "render", "write"]

Rows = Sequence[tuple[int, tuple[Any, ...]]]
BAR = 24  # characters of the longest bar
WIDEST = 48  # a text column is cut to this in a terminal, with a mark
BOLD, DIM, PLAIN = "\x1b[1m", "\x1b[2m", "\x1b[0m"


def write(item: Answer, out: IO[bytes], how: Display, _: Progress) -> None:
    """The table as text, whole, with exact period and maker at the end."""
    out.write(render(item, how, made=True).encode())


class Look(NamedTuple):
    """How a table is shown: with `colour`; cut after `most_rows`, with its count; in a terminal of `width` columns, a
    wider table in blocks below each other, the first columns repeated; with `notes` all, few or none, each with the
    command that shows more, or None for all of them without commands.
    """

    colour: bool = False
    most_rows: int | None = None
    width: int | None = None
    notes: Literal["all", "few", "none"] | None = None


PLAINLY = Look()


def render(item: Answer, how: Display = ISO, look: Look = PLAINLY, *, under: str = "", made: bool = False) -> str:
    """The whole output as text.

    A page that has one part for each value has a form feed between them when it goes to a file. `under` is a period
    said above already. With `made`, exact period, who made it when with which version stand at the end.
    """
    if isinstance(item, Page):
        return _page(item, how, look, made)
    colour, width = look.colour, look.width
    grid = readable(item, how)
    title = f"{grid.title} ({', '.join(grid.said)})" if grid.said else grid.title
    lines = [_styled(title, BOLD, colour), *(_styled(s, DIM, colour) for s in _subtitle(grid, width, under)), ""]
    shown = grid if look.most_rows is None or len(grid) <= look.most_rows else grid.first(look.most_rows)
    lines += _table(shown, colour, width)
    missing = max(grid.total, len(grid)) - len(shown)
    if missing > 0:
        cut = f"... {missing:,} more rows; all of them: --output FILE, or a larger --limit"
        lines.append(_styled(cut, DIM, colour))
    if isinstance(item, Records) and (told := figured(item, how)):
        lines += ["", f"{_styled('Figure', BOLD, colour)}  {told}"]
    lines += _notes(grid.notes, look)
    lines += ["", *made_by(grid.context, how)] if made else []
    return "\n".join(line.rstrip() for line in lines) + "\n"


def _notes(notes: tuple[Note, ...], look: Look) -> list[str]:
    """The notes below an empty line, wrapped to a terminal's width."""
    shown = shortened(notes, look.notes) if look.notes else notes
    lines = [""] if shown else []
    for note in shown:
        first, *rest = _wrapped(note, look.width - 6 if look.width else None)
        lines += [f"{_styled('Note', DIM, look.colour)}  {first}", *(f"      {line}" for line in rest)]
    return lines


def _wrapped(text: str, width: int | None) -> list[str]:
    """The text on lines of at most `width`, broken at blanks; on one without a width."""
    return textwrap.wrap(text, max(width, 40), break_on_hyphens=False) or [""] if width else [text]


def _page(page: Page, how: Display, look: Look, made: bool) -> str:
    """The parts below each other, the verdict first; what few notes leave out is counted once at the end."""
    head = [_styled(page.title, BOLD, look.colour)]
    head.append(_styled(f"{page.context.period}, {page.context.zone}", DIM, look.colour))
    verdict = page.verdict[:1].upper() + page.verdict[1:]
    head += ["", *(_styled(line, BOLD, look.colour) for line in _wrapped(verdict, look.width))] if verdict else []
    blocks = ["\n".join(head) + "\n"]
    said: set[Note] = set()
    folded: list[Note] = []
    for part in page.parts:
        mark = _styled(part.mark, BOLD, look.colour)
        if part.item is None:
            blocks.append(f"{mark}{_styled(part.title, BOLD, look.colour)}\nnot possible here: {part.note}\n")
            continue
        item = part.item
        if not page.breaks:
            notes = tuple(n for n in item.notes if n not in said)
            said.update(notes)
            if look.notes == "few":
                folded += [n for n in notes if n.weight != "figures"]
                notes = tuple(n for n in notes if n.weight == "figures")
            item = dataclasses.replace(item, notes=notes)
        under = "" if page.breaks else page.context.period
        whole = made and page.breaks  # each goes to somebody else
        blocks.append(mark + render(item, how, look, under=under, made=whole))
    if told := _notes((*page.notes, *folded), look):
        blocks.append("\n".join(told[1:]) + "\n")
    if made and not page.breaks:
        blocks.append("\n".join(made_by(page.context, how)) + "\n")
    between = "\n\f" if page.breaks and look.width is None else "\n"
    return between.join(blocks)


def _subtitle(grid: Grid, width: int | None, under: str) -> list[str]:
    """Period, zone, filters and freshness, on as many lines as they need; the period not if it was said above."""
    parts = subtitle(grid.context, under)
    lines = parts[:1]
    for part in parts[1:]:
        joined = f"{lines[-1]} · {part}"
        lines[-1:] = [joined] if width is None or _width(joined) <= width else [lines[-1], part]
    return [line for long in lines for line in _wrapped(long, width)]


def _table(grid: Grid, colour: bool, width: int | None) -> Iterator[str]:
    rows = grid.rows
    cells = grid.lines(people)
    for number, (level, _) in enumerate(rows):
        if level < grid.depth:
            cells[number][:level] = [""] * level  # the subtotal names its group itself
        elif number and rows[number - 1][0] >= grid.depth:
            _unrepeat(cells, grid.depth, rows, number)
    right = [not h.left for h in grid.heads]
    heads = _heads(grid)
    whole = cells
    cells = _fitted(heads, cells, width)
    most = [h.show.width if h.show else None for h in grid.heads]
    cells = [[_cut(c, w) if w else c for c, w in zip(row, most, strict=True)] for row in cells] if any(most) else cells
    below = [i for i, h in enumerate(grid.heads) if h.name in grid.second]
    cells = [
        [w if i in below else c for i, (c, w) in enumerate(zip(cut, row, strict=True))]
        for cut, row in zip(cells, whole, strict=True)
    ]
    widths = [max(_width(row[i]) for row in (*heads, *cells)) for i in range(len(right))]
    bars = _bars(grid, rows) if grid.chart else None
    blocks = _blocks(widths, grid.depth, width, below)
    for n, block in enumerate(blocks):
        if n:
            yield ""
        for at, head in enumerate(heads):
            line = _line(head, widths, right, block)
            if bars and not n and at == len(heads) - 1:  # which column they are of
                above = grid.heads[grid.chart].above
                line += " " * (sum(widths[i] + 2 for i in block) - _width(line))
                line += f"{above} {grid.heads[grid.chart].label}" if above else grid.heads[grid.chart].label
            yield _styled(line, BOLD, colour)
        for number, ((level, _), texts) in enumerate(zip(rows, cells, strict=True)):
            line = _line(texts, widths, right, block)
            bar = bars[number] if bars and not n else ""
            if bar:
                line += " " * (sum(widths[i] + 2 for i in block) - _width(line)) + bar
            yield _styled(line, BOLD, colour) if level < grid.depth else line
            if below and n == len(blocks) - 1 and any(texts[i] for i in below):
                said = " · ".join(f"{grid.headings[i]} {texts[i]}" for i in below if texts[i])
                yield from (f"    {part}" for part in _wrapped(said, width - 4 if width else None))


def _bars(grid: Grid, rows: Rows) -> list[str]:
    """A bar of block characters for each row of the body, in eighths of a character; none for totals and for less than
    nothing.
    """
    found = [Decimal(row[grid.chart] or 0) if level >= grid.depth else Decimal(0) for level, row in rows]
    most = Decimal(0)
    for v in found:
        most = max(most, v)
    if most <= 0:
        return [""] * len(found)
    eighths = [int(max(v, Decimal(0)) * BAR * 8 / most + Decimal("0.5")) for v in found]
    return ["█" * (n // 8) + ("", "▏", "▎", "▍", "▌", "▋", "▊", "▉")[n % 8] for n in eighths]


def _fitted(heads: list[list[str]], cells: list[list[str]], width: int | None) -> list[list[str]]:
    """Texts cut to what a terminal has room for, the last column to what is left of the line; none without a width."""
    if width is None or not cells:
        return cells
    cut = [[_cut(c, WIDEST) for c in row] for row in cells]
    before = sum(max(_width(row[i]) for row in (*heads, *cut)) + 2 for i in range(len(cells[0]) - 1))
    return [[*row[:-1], _cut(whole[-1], max(WIDEST, width - before))] for row, whole in zip(cut, cells, strict=True)]


def _blocks(widths: list[int], kept: int, width: int | None, below: list[int]) -> list[list[int]]:
    """The columns of each block: the first `kept` in all of them, then as many others as fit; those set `below` the
    rows are in none.
    """
    first = list(range(kept))
    blocks: list[list[int]] = [list(first)]
    for i in (i for i in range(kept, len(widths)) if i not in below):
        taken = sum(widths[c] + 2 for c in blocks[-1]) + widths[i]
        if width is not None and taken > width and len(blocks[-1]) > kept:
            blocks.append(list(first))
        blocks[-1].append(i)
    return blocks


def _heads(grid: Grid) -> list[list[str]]:
    """One line of headings, or two in a grid: what all columns share is said once, above."""
    if not any(h.above for h in grid.heads):
        return [list(grid.headings)]
    dimensions, measures = grid.headings[: grid.depth], grid.headings[grid.depth :]
    across = [h.above for h in grid.heads[grid.depth :]]
    if len(set(measures)) == 1:
        return [[*([""] * grid.depth), measures[0], *([""] * (len(measures) - 1))], [*dimensions, *across]]
    once = [a if i == 0 or a != across[i - 1] else "" for i, a in enumerate(across)]
    return [[*([""] * grid.depth), *once], list(grid.headings)]


def _unrepeat(cells: list[list[str]], depth: int, rows: Rows, row: int) -> None:
    """Leaves out group names that the row above already says."""
    for i in range(depth - 1):
        if rows[row][1][i] != rows[row - 1][1][i]:
            return
        cells[row][i] = ""


def _line(row: list[str], widths: list[int], right: list[bool], block: list[int]) -> str:
    parts = []
    for i in block:
        space = " " * (widths[i] - _width(row[i]))
        parts.append(space + row[i] if right[i] else row[i] + space)
    return "  ".join(parts).rstrip()


def _width(text: str) -> int:
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth

    return max(int(wcswidth(text)), 0)


def _cut(text: str, most: int) -> str:
    if _width(text) <= most:
        return text
    while _width(text) > most - 1:
        text = text[:-1]
    return text + "…"


def _styled(text: str, code: str, colour: bool) -> str:
    return f"{code}{text}{PLAIN}" if colour and text else text
