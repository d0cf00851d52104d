"""How the parts of a page are set: points as a list, small tables beside each other, bars."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.outputs.formats import clean
from fermata.outputs.grid import Grid
from fermata.outputs.key_figures import number
from fermata.reports.result import Records, RunResult

__all__ = ["FIRST", "NARROW", "Point", "bars", "points", "widths"]

NARROW = 5  # columns of a table that has room beside another
BAR_ROWS = 60  # rows of a table that bars still help to read
FIRST = 10  # points that are shown at once
ACT = ("Limit", "Unusual", "Wrong file", "No data")  # what somebody should act on
POINTS = ["what", "log", "count", "words"]


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
            values = [0.0 if r else number(b.cells[measure]) for b, r in zip(body, rest, strict=True)]
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
