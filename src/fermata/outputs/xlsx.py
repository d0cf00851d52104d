"""A workbook: the report as it is read, its rows flat for pivoting, a chart, and what must be known about it."""

from __future__ import annotations

import re
import tempfile
import textwrap
from collections.abc import Callable, Iterable
from datetime import date, datetime
from decimal import Decimal
from typing import IO, Any

from fermata.outputs import drawing
from fermata.outputs.columns import local_times
from fermata.outputs.formats import Typed, clean, local, people, unit_of
from fermata.outputs.grid import Grid, Head, of
from fermata.outputs.heading import exactly, made_by, subtitle
from fermata.outputs.workbook import Book, charted
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.definition.parts import BYTES, SPENT
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["write"]

LONGEST = 32_767  # characters of a cell
EPOCH = datetime(1899, 12, 30)  # what spreadsheets count days from
DAY = 86_400_000_000
ISO_DAY = re.compile(r"\d{4}-\d\d-\d\d")
DATES = {"year first": "yyyy-mm-dd", "day first": "dd/mm/yyyy", "month first": "mm/dd/yyyy"}
SAMPLE = 200  # rows that widths are judged by
Cell = Callable[[int, int, Any, Any], int]


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """Real dates, durations (days, shown as [h]:mm:ss), numbers and money; texts are never formulas or links.

    Rows beyond what a sheet holds go on to further sheets under the same header. Memory is bounded; the same input
    gives the same bytes.
    """
    with tempfile.TemporaryDirectory(prefix="fermata-") as aside:
        book = Book(out, aside, item, how)
        notes: list[str] = []
        if isinstance(item, Page):
            for part in item.parts:
                if part.item is not None:
                    _item(book, part.item, how, progress, part.title)
                else:
                    notes.append(f"{part.title}: not possible here: {part.note}")
        else:
            _item(book, item, how, progress, "Report")
        _about(book, item, how, notes)
        book.close()


def _item(book: Book, item: RunResult | Records, how: Display, progress: Progress, name: str) -> None:
    grid = of(item, how)
    if isinstance(item, Records):
        _flat(book, grid, name if name != "Report" else "Records", progress)
        return
    _report(book, grid.compact(), name, progress)
    if any(level < grid.depth for level, _ in grid.rows):
        _flat(book, grid, "Data" if name == "Report" else f"{name} data", progress)
    if item.report.chart != "none" and (item.report.chart or name == "Report"):
        found, why = drawing.drawable(item, how)
        if found is None:
            book.told.append(f"{grid.title}: {why}")
        else:
            charted(book, found, "Chart" if name == "Report" else f"{name} chart")


def _report(book: Book, grid: Grid, name: str, progress: Progress) -> None:
    """The table as it is read: title, period, header, groups with their subtotals as outline."""
    top = 4 if any(h.above for h in grid.heads) else 3
    sheet = book.sheet(name)
    sheet.write_string(0, 0, clean(grid.title)[:LONGEST], book.style(bold=True, font_size=14))
    sheet.write_string(
        1,
        0,
        " · ".join([*([grid.each] if grid.each else []), *subtitle(grid.context)])[:LONGEST],
        book.style(font_color="#5b6470"),
    )
    _headed(book, sheet, grid, top)
    writers = [_cells(book, sheet, h, grid) for h in grid.heads]
    totals = [_cells(book, sheet, h, grid, bold=True) for h in grid.heads]
    at = top
    leveled = len({level for level, _ in grid.rows}) > 1
    for level, row in grid.rows:
        at += 1
        body = level >= grid.depth
        if leveled:
            sheet.set_row(at, None, None, {"level": min(level, 7)})
        for column, (value, (write_one, style)) in enumerate(zip(row, writers if body else totals, strict=True)):
            if value is not None and value != "":
                write_one(at, column, value, style)
    progress(len(grid))
    sheet.autofilter(top, 0, max(at, top), len(grid.heads) - 1)
    sheet.freeze_panes(top + 1, grid.depth)
    sheet.repeat_rows(top)
    _printed(sheet, grid)


def _flat(book: Book, grid: Grid, name: str, progress: Progress) -> None:
    """The rows of the finest level alone, every group named in each, below one header; as many sheets as they need."""
    sheet, at, number = book.sheet(name), 0, 1
    writers: list[tuple[Cell, Any]] = []

    def begin() -> None:
        nonlocal writers
        _headed(book, sheet, grid, 0)
        writers = [_cells(book, sheet, h, grid) for h in grid.heads]
        sheet.freeze_panes(1, 0)
        sheet.repeat_rows(0)
        _printed(sheet, grid)

    begin()
    for block in grid.blocks():
        columns = [_values(c, h, grid) for c, h in zip(block.columns, grid.heads, strict=True)]
        for level, row in zip(block.levels, zip(*columns, strict=True), strict=True):
            if level < grid.depth:
                continue
            if at == book.last_row:
                sheet.autofilter(0, 0, at, len(grid.heads) - 1)
                number += 1
                sheet, at = book.sheet(f"{name} {number}"), 0
                begin()
            at += 1
            for column, (value, (write_one, style)) in enumerate(zip(row, writers, strict=True)):
                if value is not None and value != "":
                    write_one(at, column, value, style)
        progress(len(block.levels))
    sheet.autofilter(0, 0, at, len(grid.heads) - 1)
    if number > 1:
        book.told.append(f"{name}: {len(grid):,} rows on {number} sheets, as one holds {book.last_row:,}")


def _headed(book: Book, sheet: Any, grid: Grid, at: int) -> None:
    """The header at a row, what runs across above it; in the first row of a sheet both in one. Columns as wide as they
    need.
    """
    above = book.style(bold=True)
    left, right = (
        book.style(bold=True, bottom=1, text_wrap=True, valign="top", align=side) for side in ("left", "right")
    )
    before = ""
    heads = list(grid.with_units)
    if at:
        for i, h in enumerate(grid.heads):
            if h.above and h.above != before:
                sheet.write_string(at - 1, i, clean(h.above), above)
            before = h.above
    else:
        heads = [f"{h.above} {text}" if h.above else text for h, text in zip(grid.heads, heads, strict=True)]
    wides = _widths(sheet, grid, heads)
    sheet.set_row(at, 15 * max(len(textwrap.wrap(text, wide)) for text, wide in zip(heads, wides, strict=True)))
    for i, (h, text) in enumerate(zip(grid.heads, heads, strict=True)):
        sheet.write_string(at, i, clean(text), left if h.left else right)


def _values(column: Any, head: Head, grid: Grid) -> Iterable[Any]:
    """A block's column as the writers want it: times of an Arrow column at once as days since the epoch."""
    if isinstance(column, list) or head.kind != "time":
        return column if isinstance(column, list) else column.to_pylist()
    wall, _ = local_times(column, zone(grid.context.zone))
    days = wall / DAY + 25_569
    return [None if empty else at for at, empty in zip(days.tolist(), column.is_null().to_pylist(), strict=True)]


def _cells(book: Book, sheet: Any, head: Head, grid: Grid, *, bold: bool = False) -> tuple[Cell, Any]:
    """What writes a value of a column, and the style it is given."""
    if head.kind == "mixed":
        return _mixed(book, sheet, grid, bold), None
    form, number = _number(head, grid)
    if number is None:
        date_field = {"num_format": DATES[grid.how.dates], "align": "left"} if head.name == "day" else {}
        style = {**({"bold": True} if bold else {}), **date_field}
        return _text(book, sheet, head, grid), book.style(**style) if style else None

    def put(row: int, column: int, value: Any, style: Any) -> int:
        return int(sheet.write_number(row, column, number(value), style))

    side = {"align": "left"} if head.left else {}
    return put, book.style(num_format=form, **({"bold": True} if bold else {}), **side)


def _number(head: Head, grid: Grid) -> tuple[str, Callable[[Any], float] | None]:
    """The number format of a column, and how its values become the numbers of a spreadsheet; None for texts."""
    how, kind, show = grid.how, head.kind, head.show
    unit = (show.unit if show else "") or (unit_of(how, show) if kind in ("duration", "mean duration") else "")
    places = show.decimals if show and show.decimals is not None else None
    if kind == "time":
        tz = zone(grid.context.zone)
        clock = (
            ("h" if how.clock == 12 else "hh")
            + ":mm"
            + (":ss" if how.seconds else "")
            + (" AM/PM" if how.clock == 12 else "")
        )
        return (
            f"{DATES[how.dates]} {clock}",
            lambda v: v if isinstance(v, float) else (_naive(v, tz) - EPOCH).total_seconds() / 86400,
        )
    if kind in ("duration", "mean duration"):
        if unit in SPENT:
            per, usual = SPENT[unit]
            return _decimals(usual if places is None else places), lambda v: float(Decimal(v) / per)
        return "[h]:mm" if unit == "h:mm" else "[h]:mm:ss", lambda v: v / DAY
    if kind in ("money", "decimal"):
        return _decimals(head.scale if places is None else places), lambda v: float(Decimal(v).scaleb(-head.scale))
    if kind == "share":
        return _decimals(1 if places is None else places).removeprefix("#,##") + "%", float
    if kind in ("number", "mean"):
        if unit in BYTES:
            return _decimals(1 if places is None else places), lambda v: v / BYTES[unit]
        return _decimals(
            (2 if kind == "mean" else 0) if places is None else places
        ), float if kind == "mean" else lambda v: v
    return "", None


def _decimals(count: int) -> str:
    return "#,##0" + (f".{'0' * count}" if count else "")


def _naive(at: datetime, tz: Any) -> datetime:
    return local(at, tz).replace(tzinfo=None)


def _text(book: Book, sheet: Any, head: Head, grid: Grid) -> Cell:
    tz = zone(grid.context.zone)

    def put(row: int, column: int, value: Any, style: Any) -> int:
        if head.name == "day" and isinstance(value, str) and ISO_DAY.fullmatch(value):
            return int(sheet.write_number(row, column, (date.fromisoformat(value) - EPOCH.date()).days, style))
        text = clean(value) if isinstance(value, str) else people(value, head.kind, head.scale, tz)
        if len(text) > LONGEST:
            book.cut += 1
            text = text[: LONGEST - 1] + "…"
        return int(sheet.write_string(row, column, text, style))

    return put


def _mixed(book: Book, sheet: Any, grid: Grid, bold: bool) -> Cell:
    """Of a column that holds several kinds of figures: each in its own format."""

    def put(row: int, column: int, value: Typed, _: Any) -> int:
        write_one, style = _cells(book, sheet, Head("", "", value.kind, value.scale, show=value.show), grid, bold=bold)
        return write_one(row, column, value.value, style)

    return put


def _widths(sheet: Any, grid: Grid, heads: list[str]) -> list[int]:
    """Makes columns as wide as their first rows and the words of their headings need; returns the letters that headings
    have room for.
    """
    lines = grid.first(SAMPLE).lines()
    wides = []
    for i, heading in enumerate(heads):
        cells = [len(line[i]) for line in lines]
        words = max(map(len, heading.split()), default=0)
        wides.append(min(max([*cells, words, min(len(heading), 14), 5], default=8), 58))
        sheet.set_column(i, i, wides[-1] + 2)
    return wides


def _printed(sheet: Any, grid: Grid) -> None:
    """Pages as the display says, fitted to their width, numbered."""
    papers = {"A3": 8, "A4": 9, "A5": 11, "Letter": 1, "Legal": 5}
    sheet.set_paper(papers[grid.how.paper])
    if grid.how.orientation == "landscape" or (not grid.how.orientation and len(grid.heads) > 8):
        sheet.set_landscape()
    sheet.fit_to_pages(1, 0)
    sheet.set_footer("&C&P / &N")


def _about(book: Book, item: Answer, how: Display, notes: list[str]) -> None:
    """A sheet of what must be known: where the figures come from, what was left out, who made them."""
    context = item.context
    items = [p.item for p in item.parts if p.item is not None] if isinstance(item, Page) else [item]
    lines = [
        ("Title", item.title if isinstance(item, Page | Records) else context.title),
        ("Period", context.period),
        ("Zone", context.zone),
    ]
    lines += [("Exactly", exactly(context).removeprefix("exactly "))] if exactly(context) else []
    lines += [("Filters", context.filters), ("View", context.view)]
    lines += [("Records", line) for line in subtitle(context) if "records to" in line]
    if isinstance(item, Page) and item.verdict:
        lines.append(("Verdict", item.verdict))
        lines += [("Part", f"{p.mark}{p.title}") for p in item.parts if p.mark]
    said = [n for one in items for n in one.notes]
    own = list(item.notes) if isinstance(item, Page) else []
    cut = [f"{book.cut:,} texts longer than {LONGEST:,} characters were cut; they end in …"] if book.cut else []
    lines += [("Note", n) for n in dict.fromkeys([*own, *said, *notes, *book.told, *cut])]
    lines += [("Times", f"are those of {context.zone}; a spreadsheet keeps no zone with them")]
    lines += [("Durations", "are days, as spreadsheets count them, shown as hours, minutes and seconds")]
    lines += [("Made", made_by(context, how)[-1].removeprefix("made "))]
    sheet = book.sheet("About")
    sheet.fit_to_pages(1, 0)
    sheet.set_column(0, 0, 12)
    sheet.set_column(1, 1, 110)
    for row, (what, text) in enumerate(lines):
        sheet.write_string(row, 0, what, book.style(bold=True, valign="top"))
        sheet.write_string(row, 1, clean(text)[:LONGEST], book.style(text_wrap=True, valign="top"))
