"""What is more than somebody's own usual: a unit's figure against the same person's history, evidence beside it.

A unit (a day, a week) stands out when its figure is above `factor` times the highest of the usual ones: the 95th
percentile (nearest rank) of the units of the history, those without any event counted as 0; where that is 0 itself, the
smallest figure of the history stands for it. With too short a history nothing is claimed.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

__all__ = ["Finding", "find"]

SHARE = 95


@dataclass(frozen=True, slots=True)
class Finding:
    """One unit of one group: the figure, what is usual (95th percentile), the median, the highest before, units of
    history.
    """

    group: Any
    unit: int
    figure: int
    usual: int
    median: int
    highest: int
    history: int


def rank(values: Sequence[int], percent: int) -> int:
    """The smallest of the ordered values with at least `percent` of them at or below it."""
    return values[max(-(-percent * len(values) // 100), 1) - 1]


def find(
    figures: Mapping[Any, Mapping[int, int]], history: Mapping[Any, range], wanted: range, *, least: int, factor: float
) -> tuple[list[Finding], list[Any]]:
    """The findings among the `wanted` units, and the groups whose history is too short for a claim.

    `figures` are group -> unit -> figure; `history` the units before `wanted` since each group's first event; `least`
    is how many of them there must be.

    >>> find({"Ann": {0: 1, 1: 2, 2: 9}}, {"Ann": range(0, 2)}, range(2, 3), least=2, factor=2)[0][0].usual
    2
    """
    found, short = [], []
    for group, by_unit in figures.items():
        before = history.get(group, range(0))
        if len(before) < least:
            if any(by_unit.get(u) for u in wanted):
                short.append(group)
            continue
        values = sorted(by_unit.get(u, 0) for u in before)
        usual = rank(values, SHARE)
        smallest = next((v for v in values if v > 0), 0)
        for unit in wanted:
            figure = by_unit.get(unit, 0)
            if figure > factor * max(usual, smallest):
                found.append(Finding(group, unit, figure, usual, rank(values, 50), values[-1], len(values)))
    return sorted(found, key=lambda f: (-f.figure / max(f.usual, 1), str(f.group), f.unit)), short
