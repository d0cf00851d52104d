"""How the parts of a page are set: key figures as tiles, points as a list, small tables beside each other, bars."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.outputs.formats import clean, people
from fermata.outputs.grid import Grid, Head
from fermata.reports.result import Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["FIRST", "NARROW", "Point", "Tile", "bars", "points", "tiles", "widths"]

NARROW = 5  # columns of a table that has room beside another
WIDE, TALL = 150.0, 34.0  # of a series
UNUSUAL = 2.0  # times the highest usual day
BAR_ROWS = 60  # rows of a table that bars still help to read
FIRST = 10  # points that are shown at once
ACT = ("Limit", "Unusual", "Wrong file", "No data")  # what somebody should act on
POINTS = ["what", "log", "count", "words"]


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


@dataclass
class Point:
    """What needs attention: a sentence, what it rests on, what kind it is, whether somebody should act on it, the title
    of the report behind it, and the number of the part of the page that shows it (0: none does).
    """

    words: str
    evidence: str
    what: str
    act: bool
    report: str
    part: int = 0


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

    found = []
    for label, i in columns.items():
        if label.endswith((" before", " change", " change %")):
            continue
        made = Tile(clean(label), told(total.cells[i], heads[i]))
        days = [_number(r.cells[i]) for r in item.table.body]
        made.series = series(days)
        if (before := columns.get(f"{label} before")) is not None:
            made.before = told(total.cells[before], heads[i])
            made.change = _signed(_number(total.cells[i]), _number(total.cells[before]))
            usual = [_number(r.cells[before]) for r in item.table.body]
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
    made.usual = f"a day usually {told(low)}" + (f" to {told(high)}" if high != low else "")
    made.look = max(days, default=0) > UNUSUAL * max(known[-1], 1)


def _number(value: Any) -> float:
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


def points(item: RunResult | Records) -> list[Point] | None:
    """What needs attention, as a list of sentences; None for anything else."""
    if not isinstance(item, Records) or [c.name for c in item.columns[:4]] != POINTS:
        return None
    found = []
    for what, _, _, words, evidence, report, *_ in item.rows:
        found.append(Point(clean(words), clean(evidence or ""), clean(what), what in ACT, clean(report or "")))
    return found


def bars(item: RunResult, grid: Grid) -> tuple[int, list[float]] | None:
    """The column of a ranked table whose figures get bars, and the part each row has of the largest; None where bars
    tell nothing: calendar rows, one row, very many, what does not add up.
    """
    body = item.table.body
    if not item.plan.by or item.plan.by[-1].calendar or not 1 < len(body) <= BAR_ROWS or item.plan.across:
        return None
    asked = item.report.charted[1]
    first = [n for n, head in enumerate(grid.heads) if head.label == asked]
    for c, place in [(n, grid.places[n]) for n in dict.fromkeys([*first, *range(len(grid.places))])]:
        measure = place - grid.depth
        if c < grid.depth or not 0 <= measure < len(item.table.measures):
            continue
        column = item.table.measures[measure]
        if column.type in ("number", "duration", "money", "decimal"):
            rest = [len(r.keys) > 0 and r.keys[0] in (ELSE_TEXT, ELSE_LABEL) for r in body]
            values = [0.0 if r else _number(b.cells[measure]) for b, r in zip(body, rest, strict=True)]
            most = max(values, default=0)
            return (c, [max(v, 0) / most for v in values]) if most > 0 else None
    return None


def widths(given: Sequence[int], narrow: Sequence[bool]) -> list[int]:
    """For each part by how many its row is shared: as the page's layout says, else narrow ones that follow each other
    two by two.

    >>> widths([1, 2], [True, True, False]), widths([], [False, True, True, True])
    ([1, 2, 2], [1, 2, 2, 1])
    """
    if sum(given) == len(narrow):
        return [n for n in given for _ in range(n)]
    found: list[int] = []
    while len(found) < len(narrow):
        at = len(found)
        pair = at + 1 < len(narrow) and narrow[at] and narrow[at + 1]
        found += [2, 2] if pair else [1]
    return found
