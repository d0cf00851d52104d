"""Key figures: what a table by day comes to, how that stands to the period before, and what a day usually has."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from fermata.notes import Note
from fermata.outputs.formats import ISO, Typed, clean, people
from fermata.outputs.grid import Grid, Head, of
from fermata.reports.definition.display import Display
from fermata.reports.result import Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["TALL", "WIDE", "Tile", "are_tiles", "number", "readable", "tiles"]

WIDE, TALL = 150.0, 34.0  # of a series
UNUSUAL = 2.0  # times the highest usual day
HEADS = (
    Head("label", "Key figure", "text"), Head("figure", "Figure", "mixed"), Head("before", "Before", "mixed"),
    Head("change", "Change", "mixed"), Head("usual", "A day usually", "mixed"),
)  # fmt: skip


@dataclass
class Tile:
    """A key figure: its label, the figure, a line below it, the series by day as bars (x, y, width, height), what is
    usual; `look` where a day is far above that.
    """

    label: str
    figure: str
    change: str = ""
    before: str = ""
    usual: str = ""
    series: list[tuple[float, float, float, float]] = field(default_factory=list)
    look: bool = False


def are_tiles(item: RunResult | Records) -> bool:
    """Whether an answer is shown as key figures."""
    return isinstance(item, RunResult) and item.report.charted[0] == "tiles"


def readable(item: RunResult | Records, how: Display = ISO) -> Grid:
    """The grid of an answer for people on paper and in a terminal: of key figures a row each, without their days."""
    grid = of(item, how, titled=True)
    if not are_tiles(item):
        return grid
    assert isinstance(item, RunResult)
    texts = [(t.label, t.figure, t.before, t.change, t.usual) for t in tiles(item, grid)]
    rows = [(1, (label, *(Typed(t, "text", 0) for t in rest))) for label, *rest in texts]
    kept = (Note(grid.context.filters, "scope"),) if grid.context.filters else ()
    context = dataclasses.replace(grid.context, filters="")
    return dataclasses.replace(
        grid, context=context, heads=HEADS, places=tuple(range(len(HEADS))), source=rows, depth=1, total=len(rows),
        notes=(*grid.notes, *kept), said=(), chart=0, each="",
    )  # fmt: skip


def tiles(item: RunResult, grid: Grid) -> list[Tile]:
    """The columns of a table by day as key figures: the total, how it stands to the period compared with, the days."""
    total = next((r for r in item.table.rows if not r.level), None)
    if total is None or not item.plan.by:
        return []
    heads = {place - grid.depth: head for place, head in zip(grid.places, grid.heads, strict=True)}
    columns = {c.label: i for i, c in enumerate(item.table.measures) if c.across_total and i in heads}
    tz = zone(item.context.zone)

    def told(value: Any, head: Head) -> str:
        text = people(value, head.kind, head.scale, tz, head.show, grid.how) or "none"
        unit = head.show.unit if head.show and ":" not in head.show.unit else head.unit if head.unit.isupper() else ""
        return f"{text} {unit}" if unit and value is not None else text

    alone = {s.label for s in item.plan.beyond(item.plan.by[0].unit)}  # of the period compared with
    found = []
    for label, i in columns.items():
        if label.endswith((" before", " change", " change %")):
            continue
        made = Tile(clean(label), told(total.cells[i], heads[i]))
        days = [number(r.cells[i]) for r in item.table.body if r.shown[0] not in alone]
        made.series = series(days)
        if (before := columns.get(f"{label} before")) is not None:
            made.before = told(total.cells[before], heads[i])
            made.change = _signed(number(total.cells[i]), number(total.cells[before]))
            usual = [number(v) for r in item.table.body if (v := r.cells[before]) is not None]
            _usual(made, usual, days, functools.partial(told, head=heads[i]))
        found.append(made)
    return found


def _signed(now: float, before: float) -> str:
    """A change in per cent with its sign; "" where there was nothing before."""
    if not before:
        return ""
    return f"{100 * (now / before - 1):+.0f} %".replace("-", "\N{MINUS SIGN}").replace("+0 %", "±0 %")


def _usual(made: Tile, before: list[float], days: list[float], told: Callable[[Any], str]) -> None:
    """Adds what a day usually has: four days in five of the period compared with."""
    known = sorted(before)
    if len(known) < 10 or not any(known):
        return
    low, high = round(known[len(known) // 10]), round(known[-1 - len(known) // 10])
    made.usual = told(low) + (f" to {told(high)}" if high != low else "")
    made.look = max(days, default=0) > UNUSUAL * max(known[-1], 1)


def number(value: Any) -> float:
    """A figure to draw; 0 where nothing is known."""
    return float(value) if isinstance(value, int | float) else 0.0


def series(values: Sequence[float]) -> list[tuple[float, float, float, float]]:
    """Bars of a series in a box of 150 by 34: x, y, width, height; the zero line is the bottom.

    >>> series([1, 2])
    [(0.0, 17.0, 71.0, 17.0), (75.0, 0.0, 71.0, 34.0)]
    """
    most = max(values, default=0)
    if most <= 0:
        return []
    step = WIDE / len(values)
    width = max(step - max(step * 0.2, 0.0) if len(values) > 4 else step - 4, 0.5)
    return [
        (round(n * step, 2), round(TALL - TALL * v / most, 2), round(width, 2), round(TALL * v / most, 2))
        for n, v in enumerate(values)
        if v > 0
    ]
