"""What a run of a report gives: a table, and all that is needed to trust it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple

from fermata.analysis.explain import Step
from fermata.analysis.plan import Plan
from fermata.analysis.table import Table
from fermata.errors import UnknownName
from fermata.notes import Note
from fermata.reports.definition.report import Report

ALL = "all data"  # whose view: nobody's in particular
UNEXAMINED = "nothing examined"  # the verdict of a check that had nothing to look at

__all__ = [
    "ALL",
    "UNEXAMINED",
    "Answer",
    "ColumnDef",
    "Context",
    "Page",
    "PagePart",
    "Records",
    "RunResult",
    "described",
]


class ColumnDef(NamedTuple):
    """A column of a listing: its name, its heading, the type of its values, and of amounts the unit and the decimals
    kept in them.
    """

    name: str
    label: str
    type: str = "text"
    unit: str = ""
    scale: int = 0


@dataclass(frozen=True, slots=True)
class Context:
    """What stands above and below every output. Times are aware UTC. `view` says whose view of the data it is, `clock`
    that the workspace's own clock stands still.
    """

    title: str
    period: str
    period_exact: str
    period_text: str
    zone: str
    filters: str
    fresh: tuple[tuple[str, datetime], ...]
    made_at: datetime
    version: str
    plan: str
    view: str = ALL
    clock: str = ""


@dataclass(frozen=True, slots=True, repr=False)
class RunResult:
    """A finished run. `notes` are what a reader must know; `steps` what each filter took away, if asked for; `place` is
    where its events are, as they were then.
    """

    report: Report
    plan: Plan
    table: Table
    context: Context
    notes: tuple[Note, ...]
    steps: tuple[tuple[str, tuple[Step, ...]], ...] = ()
    place: Any = field(default=None, compare=False)

    def __repr__(self) -> str:
        return described(self)


@dataclass(frozen=True, slots=True, repr=False)
class Records:
    """The events behind a figure. `total` counts all there are.

    Each row ends with file, record number and, behind a figure, the contribution; `figure` is the cell they explain
    (None for a share, whose records are those of its measure). The columns named by `second` are set on a line below
    each record where the output is for people. `earlier` are events that began before the period and last into it,
    where these are not among the rows.
    """

    title: str
    context: Context
    columns: tuple[ColumnDef, ...]
    rows: Sequence[tuple[Any, ...]]
    total: int
    figure: Any = None
    figure_type: tuple[str, int] = ("number", 0)  # and its scale
    notes: tuple[Note, ...] = field(default=())
    second: tuple[str, ...] = ()
    earlier: Sequence[tuple[Any, ...]] = field(default=(), compare=False)
    large: bool = False  # a list to work with on paper

    def __repr__(self) -> str:
        return described(self)


@dataclass(frozen=True, slots=True)
class PagePart:
    """One part of a page: its answer, or why there is none; `verdict` is what is wrong with it ("" for nothing, None
    where nothing is expected of it).
    """

    title: str
    item: RunResult | Records | None
    note: str = ""
    verdict: str | None = None

    @property
    def mark(self) -> str:
        """What stands before its title: whether it is in order, or what is wrong; "" where
        nothing is expected of it.
        """
        return "" if self.verdict is None else f"[{self.verdict or 'in order'}] "


@dataclass(frozen=True, slots=True, repr=False)
class Page:
    """Several answers under one title. `verdict` sums up what is expected of the parts; "" where nothing is. With
    `breaks` each part begins a page of its own; `layout` says how many parts stand beside each other in each row.
    """

    title: str
    context: Context
    parts: tuple[PagePart, ...]
    verdict: str = ""
    notes: tuple[Note, ...] = ()
    breaks: bool = False
    layout: tuple[int, ...] = ()

    def __repr__(self) -> str:
        return described(self)

    @property
    def in_order(self) -> bool:
        """Whether every point is as expected of it; one that examined nothing is not."""
        return not any(p.verdict for p in self.parts)

    def part(self, text: str) -> PagePart:
        """The part of that number (from 1) or title. Raises UnknownName."""
        for number, part in enumerate(self.parts, 1):
            if text in (str(number), part.title):
                return part
        raise UnknownName.of("part", text, self.listed_parts.split("; "), where="on this page")

    @property
    def listed_parts(self) -> str:
        """Number and title of each part."""
        return "; ".join(f"{n}: {p.title}" for n, p in enumerate(self.parts, 1))


Answer = RunResult | Records | Page


def described(answer: Answer) -> str:
    """An answer in a line: what it is, how large, for when."""
    if isinstance(answer, Page):
        size = f"{len(answer.parts)} parts"
    elif isinstance(answer, RunResult):
        size = f"{answer.table.size:,} rows, {len(answer.table.measures)} columns"
    else:
        size = f"{answer.total:,} rows"
    title = answer.title if isinstance(answer, Page | Records) else answer.context.title
    return f"<{type(answer).__name__} {title!r}: {size}, {answer.context.period}>"
