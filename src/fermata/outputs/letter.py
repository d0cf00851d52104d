"""A mail as a picture, drawn from the HTML it is sent with: what a reader of it will see, without a mail program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from html.parser import HTMLParser
from typing import IO, Any

from fermata.outputs.charts import printable, settings
from fermata.outputs.looks import LIGHT

__all__ = ["picture"]

DPI = 100
WIDE, SIDE, GAP = 576, 14, 18  # points: the least width, the margin, between two columns of a table
SIZES = {"h1": 14.5, "small": 9, "li": 9.5}  # points; everything else has TEXT
TEXT = 10.5
SKIPPED = ("style", "title")


@dataclass
class _Block:
    """A paragraph of lines, or the rows of a table: each cell a text, whether it stands at the right, and is heavy."""

    size: float = TEXT
    heavy: bool = False
    soft: bool = False
    text: str = ""
    rows: list[list[tuple[str, bool, bool]]] = field(default_factory=list)


class _Blocks(HTMLParser):
    """The paragraphs and tables of a mail, in their order."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[_Block] = []
        self.open: list[str] = []
        self.cell: tuple[bool, bool] | None = None

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Begins a paragraph, a table, a row or a cell."""
        style = dict(attrs).get("style") or ""
        if tag in ("h1", "p", "li", "summary"):
            size, soft = SIZES.get(tag, TEXT), "#565e69" in style or tag in ("li", "summary")
            self.found.append(_Block(size, tag == "h1", soft, "• " if tag == "li" else ""))
        elif tag == "table":
            self.found.append(_Block())
        elif tag == "tr":
            self.found[-1].rows.append([])
        elif tag in ("td", "th"):
            self.found[-1].rows[-1].append(("", "right" in style.partition(";")[0], tag == "th" or "600" in style))
        elif tag == "br" and self.found:
            self.found[-1].text += "\n"
        elif tag == "small" and self.found:
            self.found[-1].size = SIZES[tag]
        elif tag == "strong" and self.found:
            self.found[-1].heavy = True
        if tag not in ("br", "meta"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        """Ends what is open."""
        if tag in self.open:
            while self.open.pop() != tag:
                pass

    def handle_data(self, data: str) -> None:
        """Text goes where it stands."""
        text = " ".join(data.split())
        if not text or any(tag in self.open for tag in SKIPPED):
            return
        if "td" in self.open or "th" in self.open:
            row = self.found[-1].rows[-1]
            before, right, heavy = row[-1]
            row[-1] = (f"{before} {text}".strip(), right, heavy)
        else:
            if not self.found or self.found[-1].rows or self.open[-1] == "body":
                self.found.append(_Block())
            self.found[-1].text += text


class _Sheet:
    """A page that grows downwards: what stands on it, in points from the top left."""

    def __init__(self) -> None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        self.renderer = FigureCanvasAgg(Figure(dpi=72)).get_renderer()
        self.texts: list[tuple[float, float, str, float, bool, str, str]] = []
        self.rules: list[tuple[float, float, float]] = []
        self.y = float(SIDE)
        self.wide = float(WIDE)

    def width(self, text: str, size: float, heavy: bool) -> float:
        """Of a text in points."""
        from matplotlib.font_manager import FontProperties

        font = FontProperties(size=size, weight="bold" if heavy else "normal")
        return float(self.renderer.get_text_width_height_descent(text, font, False)[0])

    def wrapped(self, text: str, size: float, heavy: bool) -> list[str]:
        """The lines of a paragraph."""
        lines = []
        for whole in text.split("\n"):
            line = ""
            for word in whole.split(" "):
                longer = f"{line} {word}".strip()
                if line and self.width(longer, size, heavy) > WIDE - 2 * SIDE:
                    lines.append(line)
                    longer = word
                line = longer
            lines.append(line)
        return lines

    def paragraph(self, block: _Block) -> None:
        """Lines of one size."""
        for line in self.wrapped(block.text, block.size, block.heavy):
            self.y += block.size * 1.4
            self.texts.append((SIDE, self.y, line, block.size, block.heavy, LIGHT.soft if block.soft else "", "left"))
        self.y += block.size * 0.6

    def table(self, rows: Sequence[Sequence[tuple[str, bool, bool]]], size: float = TEXT - 1) -> None:
        """Columns as wide as their widest cell; the picture becomes wider where they need it."""
        count = max(map(len, rows), default=0)
        widths = [max(self.width(r[i][0], size, r[i][2]) for r in rows if i < len(r)) for i in range(count)]
        for row in rows:
            x = float(SIDE)
            self.y += size * 1.75
            for (text, right, heavy), room in zip(row, widths, strict=False):
                self.texts.append((x + room * right, self.y, text, size, heavy, "", "right" if right else "left"))
                x += room + GAP
            self.rules.append((SIDE, x - GAP, self.y + size * 0.5))
            self.wide = max(self.wide, x - GAP + SIDE)
        self.y += size * 2

    def figure(self) -> Any:
        """All of it as a Matplotlib figure."""
        from matplotlib.figure import Figure
        from matplotlib.lines import Line2D

        high = self.y + SIDE
        made = Figure(figsize=(self.wide / 72, high / 72), facecolor=LIGHT.ground)
        for x, y, text, size, heavy, colour, side in self.texts:
            made.text(
                x / self.wide, 1 - y / high, text, fontsize=size, color=colour or LIGHT.ink, ha=side, va="baseline",
                fontweight="bold" if heavy else "normal",
            )  # fmt: skip
        for left, right, y in self.rules:
            ends = (left / self.wide, right / self.wide), (1 - y / high, 1 - y / high)
            made.add_artist(Line2D(*ends, color=LIGHT.line, linewidth=0.7))
        return made


def picture(html: str, heads: Sequence[tuple[str, str]], out: IO[bytes]) -> None:
    """Writes a mail as PNG (100 dots per inch) to `out`: its headers, (name, text) each, above its HTML part."""
    parsed = _Blocks()
    parsed.feed(printable(html)[0])
    with settings():
        sheet = _Sheet()
        sheet.table([[(name, False, False), (printable(text)[0], False, True)] for name, text in heads if text])
        for block in parsed.found:
            if block.rows:
                sheet.table(block.rows)
            elif block.text.strip():
                sheet.paragraph(block)
        sheet.figure().savefig(out, format="png", dpi=DPI, metadata={"Software": None})
