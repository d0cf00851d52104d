"""Charts as Matplotlib figures, PNG and SVG: what `drawing` says, in the look of the house."""

from __future__ import annotations

import contextlib
import dataclasses
import io
from collections.abc import Iterator
from typing import IO, TYPE_CHECKING, Any

from fermata.outputs import drawing
from fermata.outputs.canvas import Drawing
from fermata.outputs.formats import ISO
from fermata.outputs.looks import LIGHT, Look, darkened
from fermata.outputs.plots import PLOTS
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["draw", "figure", "on_both_grounds", "printable", "settings", "write"]

WIDTH = 8.4  # inches
DPI = 150
LINE = 13  # points of a line under the title
HEAD, FOOT, SIDE = 46, 12, 12  # points above the plot, below it, beside it


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress, *, form: str) -> None:
    """The chart as PNG (150 dots per inch) or SVG; the same input gives the same bytes. Raises RequestError."""
    found = drawing.of(item, how)
    with settings():
        made = draw(found)
        about: dict[str, Any] = {
            "Title": found.title,
            **({"Creator" if form == "svg" else "Author": how.author} if how.author else {}),
        }
        about |= {"Date": None} if form == "svg" else {"Software": None}
        made.savefig(out, format=form, dpi=DPI, metadata=about)
    progress(1)


def figure(item: Answer, how: Display = ISO, *, kind: str = "", column: str = "") -> Figure:
    """The chart as a Matplotlib figure, to be changed further. Raises UnknownName, RequestError."""
    with settings():
        return draw(drawing.of(item, how, kind, column))


@contextlib.contextmanager
def settings() -> Iterator[None]:
    """Matplotlib as it comes, without a user's settings; no text is mathematics, no id is random."""
    import matplotlib as mpl

    with mpl.rc_context():
        mpl.rcdefaults()
        mpl.rcParams.update({
            "svg.hashsalt": "fermata", "svg.fonttype": "path", "font.family": "DejaVu Sans", "font.size": 9,
            "text.parse_math": False,
            "hatch.linewidth": 0.6,
        })  # fmt: skip
        yield


def draw(found: Drawing, look: Look = LIGHT, *, bare: bool = False) -> Figure:
    """The figure of a drawing; `bare` leaves out title and period where the page around says them."""
    from matplotlib.figure import Figure

    found = _printable(found)
    height = _height(found)
    head = 24 if bare else HEAD + LINE * (len(found.lines) - 1)
    made = Figure(figsize=(WIDTH, height + (head + FOOT) / 72), facecolor=look.ground)
    axes = made.add_axes((0.1, 0.1, 0.8, 0.8), facecolor="none")
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(side == "bottom")
        axes.spines[side].set_color(look.line)
    axes.tick_params(colors=look.ink, length=0, labelsize=8)
    PLOTS[found.kind](axes, found, look)
    _placed(made, axes, head, FOOT + 14 * len(found.notes))
    _titled(made, found, look, bare)
    return made


def on_both_grounds(found: Drawing) -> tuple[str, str]:
    """The drawing for a page, light and dark, as SVG without title and period."""
    out = io.StringIO()
    with settings():
        draw(found, bare=True).savefig(out, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    return out.getvalue(), darkened(out.getvalue())


def printable(text: str) -> tuple[str, bool]:
    """The text with only such characters as the font has, and whether some were replaced."""
    from matplotlib.font_manager import findfont, get_font

    known = get_font(findfont("DejaVu Sans")).get_charmap()
    shown = "".join(c if c.isascii() or ord(c) in known else "\ufffd" for c in text)
    return shown, shown != text


def _printable(found: Drawing) -> Drawing:
    """The drawing with only such characters as the font has; a note says that some were replaced."""
    lacking = False

    def shown(text: str) -> str:
        nonlocal lacking
        told, replaced = printable(text)
        lacking |= replaced
        return told

    made = dataclasses.replace(
        found,
        title=shown(found.title),
        about=tuple(map(shown, found.about)),
        names=tuple(map(shown, found.names)),
        series=tuple(map(shown, found.series)),
        lanes=tuple(dataclasses.replace(lane, name=shown(lane.name)) for lane in found.lanes),
    )
    note = ("characters the font does not have are shown as \ufffd",) if lacking else ()
    return dataclasses.replace(made, notes=(*found.notes, *note))


def _height(found: Drawing) -> float:
    """The height of the plot itself, in inches."""
    if found.kind == "ranked":
        return max(0.24 * len(found.names), 0.8)
    if found.kind == "timeline":
        return max(0.24 * len(found.lanes) + 0.4, 1.0)
    if found.kind == "panels":
        return 0.85 * -(-len(found.series) // 4) + 0.2
    if found.kind == "heat map":
        return max(0.28 * len(found.series) + 0.5, 1.6)
    return 3.4


def _placed(made: Figure, axes: Any, head: float, foot: float) -> None:
    """The axes as large as their labels leave room for."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    canvas = FigureCanvasAgg(made)
    wide, high = made.get_size_inches() * 72
    axes.set_position((SIDE / wide, foot / high, 1 - 2 * SIDE / wide, 1 - (head + foot) / high))
    for _ in range(2):  # labels may change once the room does
        scale = 72 / made.dpi
        box = axes.get_tightbbox(canvas.get_renderer())
        now = axes.get_position()
        left, right = now.x0 + (SIDE - box.x0 * scale) / wide, now.x1 - (box.x1 * scale - wide + SIDE) / wide
        low, top = now.y0 + (foot - box.y0 * scale) / high, now.y1 - (box.y1 * scale - high + head) / high
        axes.set_position((left, low, max(right - left, 0.2), max(top - low, 0.2)))


def _titled(made: Figure, found: Drawing, look: Look, bare: bool) -> None:
    """Title, period and measure from the top left, notes at the bottom, all placed in points."""
    wide, high = made.get_size_inches() * 72
    x = SIDE / wide
    if not bare:
        made.text(x, 1 - 17 / high, found.title, fontsize=12, fontweight="bold", color=look.ink)
        for number, line in enumerate(found.lines):
            made.text(x, 1 - (31 + LINE * number) / high, line, fontsize=8.5, color=look.soft)
    elif found.measure:
        made.text(x, 1 - 12 / high, found.measure, fontsize=8.5, color=look.soft)
    for number, note in enumerate(found.notes):
        made.text(x, (6 + 12 * number) / high, note, fontsize=7.5, color=look.soft)
