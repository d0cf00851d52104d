"""A Matplotlib figure as vectors on a page: its paths and texts become operators of the page itself."""

from __future__ import annotations

import math
from typing import Any

from matplotlib.backend_bases import RendererBase
from matplotlib.path import Path as Curve

from fermata.outputs.pdf.paper import Paper, rgb

__all__ = ["drawn"]

HATCH = 5.0  # points between hatches


def drawn(paper: Paper, figure: Any, x: float, y: float, scale: float) -> None:
    """Draws a figure with its lower left corner at (x, y), in points."""
    figure.set_dpi(72)
    paper.raw(f"q {scale:.4f} 0 0 {scale:.4f} {x:.2f} {y:.2f} cm")
    figure.draw(_Vectors(paper, *(side * 72 for side in figure.get_size_inches())))
    paper.raw("Q")


class _Vectors(RendererBase):
    """What Matplotlib draws on: every shape becomes operators of the page."""

    def __init__(self, paper: Paper, width: float, height: float) -> None:
        super().__init__()
        self.paper, self.width, self.height = paper, width, height

    def flipy(self) -> bool:
        """Upwards, as on paper."""
        return False

    def get_canvas_width_height(self) -> tuple[float, float]:
        """In points."""
        return self.width, self.height

    def points_to_pixels(self, points: Any) -> Any:
        """A pixel is a point."""
        return points

    def draw_path(self, gc: Any, path: Any, transform: Any, rgbFace: Any = None) -> None:  # the base's name
        """A shape: filled, hatched, outlined."""
        outline = gc.get_linewidth() > 0 and gc.get_rgb()[3] > 0
        filled = rgbFace is not None and (len(rgbFace) < 4 or rgbFace[3] > 0)
        shape = _shape(path, transform)
        if not shape or not (outline or filled or gc.get_hatch()):
            return
        told = ["q", *_clip(gc)]
        if filled:
            told += [rgb(_solid(rgbFace, gc.get_alpha()), "rg"), shape, "f"]
        if gc.get_hatch():
            told += [
                "q",
                shape,
                "W n",
                rgb(_solid(gc.get_hatch_color(), None), "RG"),
                "0.5 w",
                self._hatches(path, transform),
                "S Q",
            ]
        if outline:
            told += [rgb(_solid(gc.get_rgb(), None), "RG"), f"{gc.get_linewidth():.2f} w", *_dashes(gc), shape, "S"]
        self.paper.raw(" ".join([*told, "Q"]))

    def _hatches(self, path: Any, transform: Any) -> str:
        box = path.transformed(transform).get_extents()
        high = box.y1 - box.y0
        count = math.ceil((box.x1 - box.x0 + high) / HATCH)
        starts = (box.x0 - high + n * HATCH for n in range(count + 1))
        return " ".join(f"{x:.2f} {box.y0:.2f} m {x + high:.2f} {box.y1:.2f} l" for x in starts)

    def draw_text(
        self, gc: Any, x: float, y: float, s: str, prop: Any, angle: float, ismath: Any = False, mtext: Any = None
    ) -> None:
        """A text, to be searched and copied like any other."""
        size = prop.get_size_in_points()
        bold = prop.get_weight() in ("bold", 700)
        turn = math.radians(angle)
        cos, sin = math.cos(turn), math.sin(turn)
        shown = self.paper.shows(s, size, bold)
        colour = rgb(_solid(gc.get_rgb(), None), "rg")
        place = f"{cos:.4f} {sin:.4f} {-sin:.4f} {cos:.4f} {x:.2f} {y:.2f} Tm"
        self.paper.raw(f"BT {colour} {self.paper.font(size, bold)} {place} {shown} ET")


def _shape(path: Any, transform: Any) -> str:
    """A path as operators."""
    told = []
    last = (0.0, 0.0)
    for points, code in path.iter_segments(transform, simplify=False):
        p = [float(v) for v in points]
        if not all(map(math.isfinite, p)):
            continue
        if code == Curve.MOVETO:
            told.append(f"{p[0]:.2f} {p[1]:.2f} m")
        elif code == Curve.LINETO:
            told.append(f"{p[0]:.2f} {p[1]:.2f} l" if told else f"{p[0]:.2f} {p[1]:.2f} m")
        elif code == Curve.CURVE3:
            (qx, qy, ex, ey), (sx, sy) = p, last
            first = (sx + 2 * (qx - sx) / 3, sy + 2 * (qy - sy) / 3)
            second = (ex + 2 * (qx - ex) / 3, ey + 2 * (qy - ey) / 3)
            told.append(" ".join(f"{v:.2f}" for v in (*first, *second, ex, ey)) + " c")
        elif code == Curve.CURVE4:
            told.append(" ".join(f"{v:.2f}" for v in p) + " c")
        elif code == Curve.CLOSEPOLY:
            told.append("h")
            continue
        last = (p[-2], p[-1])
    return " ".join(told)


def _clip(gc: Any) -> list[str]:
    box = gc.get_clip_rectangle()
    if box is None:
        return []
    return [f"{box.x0:.2f} {box.y0:.2f} {box.width:.2f} {box.height:.2f} re W n"]


def _dashes(gc: Any) -> list[str]:
    offset, marks = gc.get_dashes()
    return [f"[{' '.join(f'{m:.2f}' for m in marks)}] {offset or 0:.2f} d"] if marks is not None else []


def _solid(colour: Any, alpha: float | None) -> tuple[float, float, float]:
    """A colour on white, without transparency."""
    red, green, blue = (float(v) for v in colour[:3])
    part = float(colour[3]) if len(colour) > 3 else 1.0 if alpha is None else float(alpha)
    return (1 - part + part * red, 1 - part + part * green, 1 - part + part * blue)
