"""Pages: a library owns document, fonts and pages; their content is made of text operators written once for each
text.
"""

from __future__ import annotations

import functools
import re
import zlib
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import IO, Any

from fermata.outputs.formats import clean
from fermata.reports.definition.display import Display

__all__ = ["FOOT", "INK", "LINE", "MARGIN", "SOFT", "Paper", "rgb"]

MARGIN = 42.0  # points
FOOT = 30.0
INK, SOFT, LINE = (0.14, 0.16, 0.18), (0.36, 0.39, 0.44), (0.79, 0.81, 0.84)
SIZES = {
    "A3": (841.89, 1190.55),
    "A4": (595.28, 841.89),
    "A5": (419.53, 595.28),
    "Letter": (612, 792),
    "Legal": (612, 1008),
}
UNKNOWN = "\ufffd"
WORDS = re.compile(r"\S+\s*|\s+")
Colour = tuple[float, float, float]


@functools.cache
def _fonts() -> tuple[Any, Any]:
    """The regular and the bold font, which know Latin, Greek and Cyrillic; they come with Matplotlib."""
    import importlib.util

    from reportlab.pdfbase.pdfmetrics import registerFont
    from reportlab.pdfbase.ttfonts import TTFont

    found = importlib.util.find_spec("matplotlib")
    assert found
    assert found.submodule_search_locations
    folder = Path(found.submodule_search_locations[0]) / "mpl-data" / "fonts" / "ttf"
    fonts = [TTFont(f"Sans{n}", str(folder / f"DejaVuSans{n}.ttf")) for n in ("", "-Bold")]
    for font in fonts:
        registerFont(font)
    return fonts[0], fonts[1]


class Paper:
    """A document being written. `y` is where the next thing goes, in points from the bottom; `lacking` are characters
    the font has not, `cut` counts texts that were too long."""

    def __init__(self, out: IO[bytes], title: str, how: Display, made_at: datetime, foot: str) -> None:
        from reportlab.pdfgen.canvas import Canvas

        portrait = SIZES[how.paper]
        self.portrait = (float(portrait[0]), float(portrait[1]))
        self.how, self.foot = how, foot
        self.width, self.height = self.portrait
        self.canvas = Canvas(out, pagesize=self.portrait, pageCompression=1, invariant=1)
        self.canvas.setTitle(clean(title))
        self.canvas.setAuthor(clean(how.author))
        self.canvas.setSubject("")
        self.canvas.setCreator("fermata")
        self._dated(made_at)
        self.number, self.shown, self.marks = 0, 0, 0
        self.lacking: set[str] = set()
        self.cut = 0
        self.texts: dict[tuple[bool, str], tuple[list[tuple[str, str]], float]] = {}
        self.on_page: Callable[[], None] = lambda: None
        self.begun = False
        self.y = 0.0

    def _dated(self, at: datetime) -> None:
        """The document's own date is when the result was made."""
        stamp = self.canvas._doc._timeStamp
        stamp.YMDhms = (at.year, at.month, at.day, at.hour, at.minute, at.second)
        east = at.utcoffset()
        minutes = int(east.total_seconds() // 60) if east else 0
        stamp.dhh, stamp.dmm = minutes // 60, minutes % 60

    @property
    def usable(self) -> float:
        """The width between the margins."""
        return self.width - 2 * MARGIN

    @property
    def room(self) -> float:
        """The height left on the page."""
        return self.y - MARGIN - FOOT

    def turned(self, landscape: bool) -> None:
        """The orientation of the pages to come; a page that is begun ends."""
        wanted = self.portrait[::-1] if landscape else self.portrait
        if wanted != (self.width, self.height):
            self.end_page()
            self.width, self.height = wanted

    def new_page(self) -> None:
        """Begins a page, ending the one before."""
        self.end_page()
        self.number += 1
        self.begun = True
        self.canvas.setPageSize((self.width, self.height))
        self.y = self.height - MARGIN
        self.on_page()

    def end_page(self) -> None:
        """Ends the page, if one is begun; one that was not asked for is dropped."""
        if not self.begun:
            return
        self.begun = False
        if not self.how.page_chosen(self.number):
            self.canvas._code.clear()
            return
        at = MARGIN - 8
        self.put(MARGIN, at, self.foot, size=6.5, colour=SOFT)
        before = f"page {self.number} of "
        right = self.width - MARGIN - self.width_of("00000", 6.5)
        self.put(right - self.width_of(before, 6.5), at, before, size=6.5, colour=SOFT)
        self.canvas.saveState()
        self.canvas.translate(right, at)
        self.canvas.doForm("pages")
        self.canvas.restoreState()
        self.canvas.showPage()
        self._pack()
        self.shown += 1

    def _pack(self) -> None:
        """Compresses the page just ended at once: thousands of pages wait for the end of the document."""
        from reportlab.pdfbase.pdfdoc import PDFDictionary, PDFName, PDFStream

        page = self.canvas._doc.Pages.pages[-1]
        content = zlib.compress(page.stream.encode("ascii"))
        page.Contents = PDFStream(PDFDictionary({"Filter": PDFName("FlateDecode")}), content, [])
        page.stream = ""

    def close(self) -> None:
        """Writes the document. The number of pages is known only now and stands in a form that every page shows."""
        self.end_page()
        if not self.shown:  # a document has a page
            self.canvas.showPage()
        self.canvas.beginForm("pages", 0, -2, 60, 10)
        self.put(0, 0, f"{self.number:,}", size=6.5, colour=SOFT)
        self.canvas.endForm()
        with _binary_streams():
            self.canvas.save()

    def mark(self, title: str, level: int = 0) -> None:
        """A bookmark to this place."""
        if not self.how.page_chosen(self.number):
            return
        self.marks += 1
        key = f"at{self.marks}"
        self.canvas.bookmarkHorizontal(key, 0, self.y + 12)
        self.canvas.addOutlineEntry(clean(title), key, level)

    def rule(self, x: float, y: float, width: float, *, colour: Colour = LINE, thick: float = 0.5) -> None:
        """A horizontal line."""
        self.raw(f"{rgb(colour, 'RG')} {thick} w {x:.2f} {y:.2f} m {x + width:.2f} {y:.2f} l S")

    def raw(self, operators: str) -> None:
        """Operators straight into the page."""
        self.canvas._code.append(operators)

    def put(
        self,
        x: float,
        y: float,
        text: str,
        *,
        size: float = 8.5,
        bold: bool = False,
        colour: Colour = INK,
        right: bool = False,
    ) -> None:
        """A line of text with its baseline at `y`."""
        at = x - self.width_of(text, size, bold=bold) if right else x
        self.raw(
            f"BT {rgb(colour, 'rg')} {self.font(size, bold)} 1 0 0 1 {at:.2f} {y:.2f} Tm "
            f"{self.shows(text, size, bold)} ET"
        )

    def font(self, size: float, bold: bool = False) -> str:
        """The operator that chooses a font."""
        return f"{self._split(' ', bold)[0][0][0]} {size:g} Tf"

    def shows(self, text: str, size: float, bold: bool = False) -> str:
        """The operators that show a text in the font chosen, whichever of its parts the characters are in."""
        runs = self._split(text, bold)[0]
        first = self._split(" ", bold)[0][0][0]
        told = [
            f"<{codes}> Tj" if name == first else f"{name} {size:g} Tf <{codes}> Tj {first} {size:g} Tf"
            for name, codes in runs
        ]
        return " ".join(told)

    def width_of(self, text: str, size: float, *, bold: bool = False) -> float:
        """The width of a text in points."""
        return self._split(text, bold)[1] * size

    def _split(self, text: str, bold: bool) -> tuple[list[tuple[str, str]], float]:
        """The text in the parts of the font that hold its characters, and its width at one point."""
        key = (bold, text)
        found = self.texts.get(key)
        if found is None:
            font = _fonts()[bold]
            known = font.face.charToGlyph
            if not text.isascii():
                lacking = {c for c in text if ord(c) not in known and c != "\xa0"}
                self.lacking |= lacking
                for c in lacking:
                    text = text.replace(c, UNKNOWN)
            doc = self.canvas._doc
            runs = [(font.getSubsetInternalName(n, doc), codes.hex()) for n, codes in font.splitString(text, doc)]
            if len(self.texts) > 200_000:
                self.texts.clear()
            found = self.texts[key] = (runs, font.stringWidth(text, 1))
        return found

    def wrapped(self, text: str, width: float, size: float, *, bold: bool = False) -> list[str]:
        """The text on lines no wider than `width`; a word that is wider is broken."""
        if self.width_of(text, size, bold=bold) <= width:
            return [text]
        lines, line = [], ""
        for word in WORDS.findall(text):
            if self.width_of((line + word).rstrip(), size, bold=bold) <= width:
                line += word
                continue
            if line.strip():
                lines.append(line.rstrip())
            *whole, line = _broken(word, width / size, bold)
            lines += whole
        return [*lines, line.rstrip()] if line.strip() else lines or [""]

    def paragraph(
        self, text: str, *, size: float = 8.5, bold: bool = False, colour: Colour = INK, indent: float = 0
    ) -> None:
        """A text over the width of the page, on as many pages as it needs."""
        for line in self.wrapped(text, self.usable - indent, size, bold=bold):
            if self.room < size * 1.35:
                self.new_page()
            self.y -= size * 1.35
            self.put(MARGIN + indent, self.y, line, size=size, bold=bold, colour=colour)


def rgb(colour: Colour, operator: str) -> str:
    """The operator that sets a colour: rg to fill, RG to draw."""
    return f"{colour[0]:.3f} {colour[1]:.3f} {colour[2]:.3f} {operator}"


def _broken(word: str, width: float, bold: bool) -> list[str]:
    """A word in pieces no wider than a width at letters of one point."""
    face = _fonts()[bold].face
    pieces, begun, at = [], 0, 0.0
    for n, c in enumerate(word):
        wide = face.charWidths.get(ord(c), face.defaultWidth) / 1000
        if at + wide > width and n > begun and not c.isspace():
            pieces.append(word[begun:n])
            begun, at = n, 0.0
        at += wide
    return [*pieces, word[begun:]]


class _binary_streams:
    """While it lasts, streams are compressed only, not turned into letters as well."""

    def __enter__(self) -> None:
        from reportlab import rl_config

        self.before, rl_config.useA85 = rl_config.useA85, 0

    def __exit__(self, *_: object) -> None:
        from reportlab import rl_config

        rl_config.useA85 = self.before
