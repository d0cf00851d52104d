"""The names along the bottom of a chart: days and months as a calendar has them, others where they fit."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from datetime import date
from typing import Any

__all__ = ["dated", "named", "short"]

ROOM, LETTERS = 16, 110  # names of times that fit side by side when turned, letters of names that do unturned
FEW_DAYS = 14  # that have a name each
DAY, MONTH = re.compile(r"\d{4}-\d\d-\d\d"), re.compile(r"\d{4}-\d\d")


def dated(names: Sequence[str]) -> list[tuple[int, str]] | None:
    """Days and months as an axis names them: Mondays of many days, the year where it begins; None for other names.

    >>> dated(["2026-03-01", "2026-03-02"]), dated(["2025-12", "2026-01"])
    ([(0, '1 Mar'), (1, '2 Mar')], [(0, 'Dec\\n2025'), (1, 'Jan\\n2026')])
    """
    if all(DAY.fullmatch(n) for n in names):
        days = [date.fromisoformat(n) for n in names]
        shown = [(i, d) for i, d in enumerate(days) if len(days) <= FEW_DAYS or d.weekday() == 0]
        every = math.ceil(len(shown) / FEW_DAYS)
        return [(i, f"{d.day} {d:%b}") for i, d in shown[::every]]
    if all(MONTH.fullmatch(n) for n in names):
        months = [date.fromisoformat(f"{n}-01") for n in names]
        every = math.ceil(len(months) / 18)
        return [
            (i, f"{d:%b}" + (f"\n{d.year}" if i == 0 or d.month == 1 else ""))
            for i, d in enumerate(months)
            if i % every == 0
        ]
    return None


def named(axes: Any, names: tuple[str, ...]) -> None:
    """Names along the bottom: days and months as a calendar has them; else all where they fit, or every so many, long
    ones turned.
    """
    if names and (found := dated(names)):
        axes.set_xticks([i for i, _ in found], [text for _, text in found])
        axes.set_xlim(-0.6, len(names) - 0.4)
        return
    fitting = max(ROOM, LETTERS // max(map(len, names), default=1))
    step = math.ceil(len(names) / fitting) if len(names) > fitting and _alike(names) else 1
    places = range(0, len(names), step)
    longest = max((len(names[i]) for i in places), default=0)
    turned = longest * len(places) > LETTERS
    axes.set_xticks(list(places), [short(names[i]) for i in places])
    if turned:
        axes.tick_params(axis="x", labelrotation=45)
        for text in axes.get_xticklabels():
            text.set_horizontalalignment("right")
            text.set_rotation_mode("anchor")
    axes.set_xlim(-0.6, len(names) - 0.4)


def _alike(names: tuple[str, ...]) -> bool:
    """Whether the names are times, of which some may be left out without loss."""
    return all(n[:1].isdigit() for n in names)


def short(name: str, most: int = 28) -> str:
    """The name, cut with a mark where it is longer."""
    return name if len(name) <= most else name[: most - 1] + "…"
