"""A drawing as plain data: what is drawn, from which figures, in which words."""

from __future__ import annotations

import textwrap
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.analysis.table import Column
from fermata.outputs.formats import Show, clean
from fermata.reports.definition.parts import SPENT
from fermata.reports.result import ALL, Context, RunResult

__all__ = ["Drawing", "Lane", "about", "in_unit", "unit_of_axis"]

LETTERS = 118  # of a line under the title


@dataclass(frozen=True, slots=True)
class Lane:
    """The spans of one name on a timeline: (start, finish) as local times without zone; no finish for what is open or a
    moment.
    """

    name: str
    spans: tuple[tuple[datetime, datetime | None], ...]


@dataclass(frozen=True)
class Drawing:
    """`names` along the axis, and for each series (by its name) a figure at each of them: None where nothing is known.

    `figures` are in the unit `measure` says (exact until the end), `texts` the same as the tables show them. `timed`
    says that the names are units of time in order, `calendar` that they are units or recurring parts of it, which keep
    their order. Those numbered in `unfinished` are not whole: cut by the period, or by what the log holds. A timeline
    has `lanes`; `about` stands under the title; `fixed_series` says that the series are times, too; `rest` is the name
    and figure of what is counted and not drawn; `comma` is the decimal mark of the scale instead of a point.
    """

    kind: str
    title: str
    measure: str
    names: tuple[str, ...] = ()
    series: tuple[str, ...] = ()
    figures: tuple[tuple[Any, ...], ...] = ()
    texts: tuple[tuple[str, ...], ...] = ()
    timed: bool = False
    lanes: tuple[Lane, ...] = ()
    moments: bool = False
    about: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    calendar: bool = False
    unfinished: frozenset[int] = frozenset()
    fixed_series: bool = False
    rest: tuple[str, Any] | None = None
    comma: bool = False

    @property
    def lines(self) -> tuple[str, ...]:
        """What stands under the title, on lines that fit: measure and period, filters, whose view it is."""
        first = f"{self.measure} · {self.about[0]}" if self.measure and self.about else self.measure
        whole = [first, *self.about[1:]] if self.measure else list(self.about)
        return tuple(part for line in whole for part in textwrap.wrap(line, LETTERS) or [""])


def about(context: Context, filters: str | None = None) -> tuple[str, ...]:
    """What stands under the title of every picture: the period with its zone, the filters, whose view it is."""
    told = context.filters if filters is None else filters
    filters = clean(told) if told not in ("", "all events") else ""
    view = clean(context.view) if context.view != ALL else ""
    return tuple(line for line in (f"{context.period}, {context.zone}", filters, view) if line)


def unit_of_axis(result: RunResult, column: Column) -> tuple[str, Show | None]:
    """The unit of the axis, and how its figures are written."""
    spec = next((c for c in result.report.columns if c.heading == column.label), None)
    asked = spec.unit if spec else ""
    if column.type in ("duration", "mean duration"):
        return (asked if asked in SPENT else "h"), Show(asked) if asked else None
    if column.type == "share":
        return "%", None
    return column.unit if column.type in ("money", "decimal") else "", None


def in_unit(value: Any, column: Column, unit: str) -> float | None:
    """A cell as a number of the axis; None where nothing is known."""
    if value is None:
        return None
    if column.type in ("duration", "mean duration"):
        return float(value / SPENT[unit][0])
    if column.type == "share":
        return float(100 * value)
    return float(value / 10**column.scale) if column.type in ("money", "decimal") else float(value)
