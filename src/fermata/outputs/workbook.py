"""The workbook behind `xlsx`: sheets with names that every program takes, styles made once, native charts."""

from __future__ import annotations

import re
from datetime import UTC
from typing import IO, Any

from fermata.errors import DataError
from fermata.outputs.canvas import Drawing
from fermata.outputs.formats import clean
from fermata.outputs.legible import OTHER
from fermata.outputs.looks import LIGHT
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer

__all__ = ["Book", "charted"]

NAME = 31  # characters of a sheet's name
KINDS = {
    "bar": {"type": "column"},
    "stacked": {"type": "column", "subtype": "stacked"},
    "ranked": {"type": "bar"},
    "line": {"type": "line"},
    "panels": {"type": "line"},
    "area": {"type": "area", "subtype": "stacked"},
    "share": {"type": "doughnut"},
}


class Book:
    """An open workbook. `told` are further notes for its last sheet, `cut` counts texts that were too long for a
    cell.
    """

    last_row = 1_048_575  # rows of a sheet below its header

    def __init__(self, out: IO[bytes], aside: str, item: Answer, how: Display) -> None:
        """Written to `out`; what is not finished stands in the directory `aside`."""
        import xlsxwriter

        safe = {"constant_memory": True, "tmpdir": aside, "strings_to_formulas": False, "strings_to_urls": False}
        self.book = xlsxwriter.Workbook(out, safe)
        made = item.context.made_at.astimezone(UTC).replace(tzinfo=None)
        self.book.set_properties({"title": clean(item.context.title), "author": how.author, "created": made})
        self.styles: dict[tuple[Any, ...], Any] = {}
        self.names: set[str] = set()
        self.told: list[str] = []
        self.cut = 0

    def style(self, **what: Any) -> Any:
        """The style of these properties."""
        key = tuple(sorted(what.items()))
        if key not in self.styles:
            self.styles[key] = self.book.add_format(what)
        return self.styles[key]

    def sheet(self, name: str) -> Any:
        """A new sheet; its name is made one that a workbook may have."""
        return self.book.add_worksheet(self.named(name))

    def named(self, name: str) -> str:
        """A name of at most 31 characters, none of them forbidden, not given before."""
        base = re.sub(r"[\[\]:*?/\\]", " ", clean(name)).strip(" '") or "Sheet"
        base = f"{base} sheet" if base.lower() == "history" else base
        found, n = base[:NAME].strip(), 2
        while found.lower() in self.names:
            end = f" {n}"
            found, n = base[: NAME - len(end)].strip() + end, n + 1
        self.names.add(found.lower())
        return found

    def close(self) -> None:
        """Writes the workbook out. Raises DataError."""
        from xlsxwriter.exceptions import XlsxWriterException

        try:
            self.book.close()
        except XlsxWriterException as e:
            raise DataError(f"the workbook cannot be written: {e}") from None


def charted(book: Book, found: Drawing, name: str) -> None:
    """A chart of the workbook's own on a sheet of its own, and a sheet with the figures it draws."""
    name = book.named(name)
    heat = found.kind == "heat map"
    where = name if heat else book.named(f"{name} data")
    sheets = [] if heat else [book.book.add_chartsheet(name)]
    sheet = book.book.add_worksheet(where)
    rows = len(found.names)
    sheet.set_column(0, 0, min(max(map(len, (*found.names, *found.series)), default=8) + 2, 50))
    table = _turned(found) if heat else found
    for i, text in enumerate(("", *(s or found.measure for s in table.series))):
        sheet.write_string(0, i, text, book.style(bold=True, text_wrap=True))
    for r, label in enumerate(table.names, 1):
        sheet.write_string(r, 0, label)
        for c, line in enumerate(table.figures, 1):
            if line[r - 1] is not None:
                sheet.write_number(r, c, line[r - 1])
    if heat:
        sheet.set_column(1, len(table.series), 7)
        low_to_high = {"type": "2_color_scale", "min_color": "#ffffff", "max_color": LIGHT.series[0]}
        sheet.conditional_format(1, 1, len(table.names), len(table.series), low_to_high)
        return
    sheets[0].set_chart(_chart(book, found, where, rows))


def _turned(found: Drawing) -> Drawing:
    """Series down, names across, as a heat map is read."""
    import dataclasses

    columns = tuple(tuple(row[i] for row in found.figures) for i in range(len(found.names)))
    return dataclasses.replace(found, names=found.series, series=found.names, figures=columns)


def _chart(book: Book, found: Drawing, where: str, rows: int) -> Any:
    """The native chart of figures that stand on the sheet `where`."""
    chart = book.book.add_chart(KINDS[found.kind])
    colours = iter(LIGHT.series * (len(found.series) // len(LIGHT.series) + 1))
    for c, series in enumerate(found.series, 1):
        colour = LIGHT.other if series.startswith(OTHER) else next(colours)
        shown: dict[str, Any] = {
            "name": [where, 0, c],
            "categories": [where, 1, 0, rows, 0],
            "values": [where, 1, c, rows, c],
        }
        if found.kind in ("line", "panels"):
            shown["line"] = {"color": colour, "width": 2}
        elif found.kind != "share":
            shown["fill"] = {"color": colour}
        chart.add_series(shown)
    chart.set_title({"name": found.title, "name_font": {"size": 14}, "overlay": False})
    if len(found.series) == 1 and found.kind != "share":
        chart.set_legend({"none": True})
    if found.kind == "ranked":
        chart.set_y_axis({"reverse": True, "major_gridlines": {"visible": False}})
        chart.set_x_axis(
            {
                "name": found.measure,
                "crossing": "min",
                "major_gridlines": {"visible": True, "line": {"color": LIGHT.line}},
            }
        )
    elif found.kind != "share":
        chart.set_y_axis({"name": found.measure, "major_gridlines": {"visible": True, "line": {"color": LIGHT.line}}})
    chart.show_blanks_as("gap")
    return chart
