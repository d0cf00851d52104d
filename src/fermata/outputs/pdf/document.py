"""The document: title, what it says of itself, chart, table and notes, part by part."""

from __future__ import annotations

from typing import IO

from fermata.outputs import drawing
from fermata.outputs.formats import clean
from fermata.outputs.grid import Grid, of
from fermata.outputs.heading import exactly, figured, made_by, subtitle
from fermata.outputs.key_figures import TALL, WIDE, Tile, are_tiles, readable, tiles
from fermata.outputs.pdf.paper import LINE, MARGIN, SOFT, Paper, rgb
from fermata.outputs.pdf.table import draw, fitted
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Context, Page, Records, RunResult

__all__ = ["write"]

BOX = (128.0, 92.0)  # least width and height of a key figure, points
GAP, PAD = 8.0, 7.0
STRONG = (0.09, 0.38, 0.56)


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """The answer as PDF with an embedded font, headers on every page, page x of y and bookmarks.

    Only the pages that `how.pages` names are written; they keep their numbers. The same input gives the same bytes.
    """
    title = item.title if isinstance(item, Page | Records) else item.context.title
    paper = Paper(out, title, how, item.context.made_at, made_by(item.context, how)[-1])
    if isinstance(item, Page):
        _page(paper, item, progress)
    else:
        _item(paper, item, progress, item.context)
    if paper.lacking:
        listed = " ".join(f"U+{ord(c):04X}" for c in sorted(paper.lacking)[:20])
        _notes(paper, [f"characters the font does not have are shown as {chr(0xFFFD)}: {listed}"])
    if paper.cut:
        _notes(paper, [f"{paper.cut:,} different texts were too long for a row and were cut; they end in …"])
    paper.close()


def _page(paper: Paper, page: Page, progress: Progress) -> None:
    """The parts below each other, the verdict first; parts for different readers begin pages of their own."""
    if not page.breaks:
        grids = [readable(p.item, paper.how).compact() for p in page.parts if p.item is not None]
        turned = any(fitted(paper, g).landscape for g in grids)
        paper.how = paper.how.merged(Display(orientation="landscape" if turned else "portrait"))
        paper.turned(turned)
        paper.new_page()
        _title(paper, page.title, [f"{page.context.period}, {page.context.zone}"], 0)
        if page.verdict:
            paper.y -= 4
            paper.paragraph(clean(page.verdict[:1].upper() + page.verdict[1:]), bold=True, size=9.5)
    said: set[str] = set()
    for part in page.parts:
        if part.item is None:
            paper.y -= 14
            paper.paragraph(clean(part.title), bold=True, size=11)
            paper.paragraph(f"not possible here: {clean(part.note)}", colour=SOFT)
            continue
        told = said if not page.breaks else set()
        _item(paper, part.item, progress, page.context, within=not page.breaks, said=told, mark=part.mark)
    if page.notes:
        _notes(paper, list(page.notes))
    if not page.breaks:
        _made(paper, page.context)


def _item(
    paper: Paper,
    item: RunResult | Records,
    progress: Progress,
    context: Context,
    *,
    within: bool = False,
    said: set[str] | None = None,
    mark: str = "",
) -> None:
    """A table with its heading: on a page of its own, or `within` a page, where notes that were `said` above are not
    said again.
    """
    grid = readable(item, paper.how).compact()
    fit = fitted(paper, grid)
    paper.turned(fit.landscape)
    title = mark + (f"{grid.title} ({', '.join(grid.said)})" if grid.said else grid.title)
    if not within or not paper.begun or paper.room < 150:
        paper.on_page = lambda: None
        paper.new_page()
    else:
        paper.y -= 18
    under = context.period if within else ""
    _title(
        paper,
        title,
        [" · ".join([*([grid.each] if grid.each else []), *subtitle(grid.context, under)])],
        1 if within else 0,
    )
    undrawn = ""
    if isinstance(item, RunResult) and are_tiles(item):
        _tiles(paper, tiles(item, of(item, paper.how, titled=True)))
    else:
        undrawn = _chart(paper, item)
        paper.on_page = lambda: _running(paper, title, grid)
        draw(paper, grid, fit, progress)
        paper.on_page = lambda: None
    if isinstance(item, Records) and (told := figured(item, paper.how)):
        paper.y -= 6
        paper.paragraph(f"Figure {told}", bold=True)
    missing = grid.total - len(grid)
    more = [*([f"{missing:,} more rows are not shown"] if missing > 0 else []), *([undrawn] if undrawn else [])]
    notes = [n for n in (*more, *grid.notes) if said is None or n not in said]
    if said is not None:
        said.update(notes)
    _notes(paper, notes)
    if not within:
        _made(paper, grid.context)


def _title(paper: Paper, title: str, lines: list[str], level: int) -> None:
    paper.mark(title, level)
    paper.paragraph(clean(title), bold=True, size=11.5 if level else 14)
    paper.y -= 2
    for line in lines:
        if line:
            paper.paragraph(clean(line), colour=SOFT)
    paper.y -= 6


def _running(paper: Paper, title: str, grid: Grid) -> None:
    """The heading of further pages."""
    paper.y -= 8
    line = paper.wrapped(f"{clean(title)} · {grid.context.period}", paper.usable, 7.5)[0]
    paper.put(MARGIN, paper.y, line, size=7.5, colour=SOFT)
    paper.y -= 4


def _chart(paper: Paper, item: RunResult | Records) -> str:
    """The report's chart, if it has one, as wide as the page and no higher than half of it; why not, if it cannot be
    drawn.
    """
    if isinstance(item, Records) or item.report.chart in ("", "none"):
        return ""
    from fermata.outputs import charts
    from fermata.outputs.pdf.vector import drawn

    found, why = drawing.drawable(item, paper.how)
    if found is None:
        return why
    with charts.settings():
        figure = charts.draw(found, bare=True)
        wide, high = (side * 72 for side in figure.get_size_inches())
        scale = min(paper.usable / wide, 0.36 * paper.height / high, 1.0)
        if paper.room < high * scale + 80:
            paper.new_page()
        paper.y -= high * scale
        drawn(paper, figure, MARGIN, paper.y, scale)
    paper.y -= 8
    return ""


def _tiles(paper: Paper, found: list[Tile]) -> None:
    """Key figures in boxes, a few beside each other: label, figure, days, change and what is usual."""
    beside = min(len(found), max(int(paper.usable // BOX[0]), 1)) or 1
    wide, high = (paper.usable - GAP * (beside - 1)) / beside, BOX[1]
    for n, tile in enumerate(found):
        if n % beside == 0:
            if paper.room < high + GAP:
                paper.new_page()
            paper.y -= high + (GAP if n else 0)
        x, y = MARGIN + n % beside * (wide + GAP), paper.y
        paper.raw(f"{rgb(LINE, 'RG')} 0.6 w {x:.2f} {y:.2f} {wide:.2f} {high:.2f} re S")
        inner, size = wide - 2 * PAD, 13.0
        while size > 8 and paper.width_of(tile.figure, size, bold=True) > inner:
            size -= 1
        paper.put(x + PAD, y + high - 14, paper.wrapped(tile.label, inner, 7.5)[0], size=7.5, colour=SOFT)
        paper.put(x + PAD, y + high - 30, tile.figure, size=size, bold=True)
        scale = inner / WIDE
        for left, top, width, tall in tile.series:
            corner = f"{x + PAD + left * scale:.2f} {y + 32 + (TALL - top - tall) * 0.6:.2f}"
            paper.raw(f"{rgb(STRONG, 'rg')} {corner} {width * scale:.2f} {tall * 0.6:.2f} re f")
        before = f"before {tile.before}" if tile.before else ""
        usual = f"a day usually {tile.usual}" if tile.usual else ""
        for line, text in ((20, " · ".join(filter(None, (tile.change, before)))), (10, usual)):
            if text:
                paper.put(x + PAD, y + line, paper.wrapped(text, inner, 7)[0], size=7, colour=SOFT)
    paper.y -= 6


def _notes(paper: Paper, notes: list[str]) -> None:
    if not notes:
        return
    paper.y -= 10
    if paper.room < 40:
        paper.new_page()
    paper.paragraph("Notes", bold=True, size=8.5)
    for note in notes:
        paper.y -= 1.5
        top = paper.y
        paper.paragraph(clean(note), size=8, indent=9)
        if paper.y < top:
            paper.put(MARGIN, top - 8 * 1.35, "–", size=8, colour=SOFT)


def _made(paper: Paper, context: Context) -> None:
    if told := exactly(context):
        paper.y -= 8
        paper.paragraph(told[:1].upper() + told[1:], size=7.5, colour=SOFT)
