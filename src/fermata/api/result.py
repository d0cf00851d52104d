"""A result as the library's users have it: a table to look at, take elsewhere, and follow down to its records."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, timedelta
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from fermata import outputs
from fermata.analysis.table import Table
from fermata.api.tabular import Listing, Tabular, whole
from fermata.api.values import Row, Value
from fermata.errors import RequestError
from fermata.notes import Note
from fermata.outputs.formats import ISO
from fermata.proof import fingerprint
from fermata.reports.compile.request import behind
from fermata.reports.definition.display import Display
from fermata.reports.execute.answer import execute
from fermata.reports.execute.figure_at import cell_of, figure_of
from fermata.reports.result import Answer, Context, Page, Records, RunResult, described
from fermata.workspace.place import Place

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["Result"]


@dataclass(frozen=True, eq=False, repr=False)
class Result(Tabular):
    """A finished run: a table of figures, a listing, or a page of several. Printing it shows what the command line
    shows.
    """

    answer: Answer
    place: Place | None
    display: Display = ISO

    @property
    def data(self) -> RunResult:
        """The table with its plan. Raises RequestError for a listing or a page.

        >>> hall.report("refused-entries").data.context.title
        'Refused entries by door'
        """
        if isinstance(self.answer, RunResult):
            return self.answer
        what = "a page; its tables are its parts" if isinstance(self.answer, Page) else "a listing of rows"
        raise RequestError(f"{self.context.title} is no table of figures but {what}")

    @property
    def table(self) -> Table:
        """Columns and rows, subtotals among them. Raises RequestError for a listing or a page.

        >>> hall.report("refused-entries").table.columns[0].label
        'Place'
        """
        return self.data.table

    @property
    def rows(self) -> Sequence[Row]:
        """The rows of a listing, or of a table's finest level: the shown groups, then the figures.

        >>> hall.log("doors").during("2026-03-02").by("action").measure("count").run().rows[0]
        ('in', 184)
        """
        if isinstance(self.answer, Records):
            return self.answer.rows
        return tuple((*r.shown, *r.cells) for r in self.table.body)

    @property
    def parts(self) -> tuple[Result, ...]:
        """The parts of a page that could be answered; a table or a listing is its own only part.

        >>> [p.context.title for p in hall.report("payroll-check").parts][:2]
        ['Entries without a finish', 'Entries that overlap']
        """
        if isinstance(self.answer, Page):
            return tuple(Result(p.item, self.place, self.display) for p in self.answer.parts if p.item is not None)
        return (self,)

    def part(self, text: str) -> Answer:
        """The part of a page by its number (from 1) or title. Raises UnknownName, RequestError.

        >>> hall.report("payroll-check").part("Entries without a finish").context.title
        'Entries without a finish'
        """
        if not isinstance(self.answer, Page):
            raise RequestError(f"{self.context.title} is no page; it has no parts")
        found = self.answer.part(text)
        if found.item is None:
            raise RequestError(f"{found.title} is not possible here: {found.note}")
        return found.item

    @property
    def verdict(self) -> str:
        """What a page's checks come to; "" where nothing is expected of it.

        >>> hall.report("payroll-check").verdict.partition(":")[0]
        'NOT IN ORDER'
        """
        return self.answer.verdict if isinstance(self.answer, Page) else ""

    @property
    def notes(self) -> tuple[Note, ...]:
        """What a reader must know to trust the figures.

        >>> [n.kind for n in hall.log("prints").during("2026-03").by("user").run().notes]
        ['rejected', 'names']
        """
        return self.answer.notes

    @property
    def context(self) -> Context:
        """Title, period, zone, filters, freshness.

        >>> hall.report("refused-entries").context.filters
        'only action is refused'
        """
        return self.answer.context

    def cell(self, *, of: str | None = None, at: dict[str, str] | None = None) -> Value:
        """One figure: a column by heading or measure (the first by default), a group by dimension and shown value.

        No `at` is the grand total. Durations are microseconds, times naive UTC. Raises UnknownName, RequestError for a
        total that the table does not show.

        >>> found = hall.log("doors").during("2026-03").by("place").measure("count").run()
        >>> found.cell(of="count", at={"place": "Library"})
        565
        """
        found: Value = figure_of(self.data, cell_of(self.data, at or {}, of))
        return found

    def events(self, *, of: str | None = None, at: dict[str, str] | None = None, limit: int | None = None) -> Listing:
        """The events behind a figure, oldest first, with file, record number and contribution.

        `of` and `at` name the figure as in `cell`. The contributions of a count, time or total add up to it.

        >>> found = hall.log("doors").during("2026-03").by("place").measure("count").run()
        >>> len(found.events(at={"place": "Library"}, limit=5))
        5
        """
        if self.place is None:
            raise RequestError("this result was kept apart from its workspace; run it again to see the events")
        cell = cell_of(self.data, at or {}, of)
        found = execute(behind(self.data, cell, self.place, limit), self.place)
        assert isinstance(found, Records)
        if (column := self.data.plan.columns[cell.column]).measure.base:
            return Listing.of(found)
        kind, _, scale = column.kind
        with contextlib.suppress(RequestError):  # of a total that the table does not show
            figure = figure_of(self.data, cell)
            found = dataclasses.replace(found, figure=figure, figure_type=(kind, scale))
        return Listing.of(found)

    def chart(self, kind: str = "", of: str = "") -> Figure:
        """A Matplotlib figure of the result. `kind` is bar, stacked, ranked, line, area, share, panels, heat map or
        timeline; without it, the form that suits the result is drawn. `of` is the heading of the column to draw;
        without it, the first column is drawn. Raises UnknownName, RequestError.

        >>> len(hall.report("refused-entries").chart().axes)
        1
        """
        from fermata.outputs import charts

        return charts.figure(self.answer, self.display, kind=kind, column=of)

    def save(self, path: str | Path, *, form: str | None = None, **display: object) -> Path:
        """Writes the result, whole or not at all, in the form of the file's ending by default.

        Further arguments are display choices: `orientation="landscape"`, `decimal="comma"`, `author="A. Name"`. Raises
        RequestError for one that the form does not go by.

        >>> hall.report("refused-entries").save("refused.html").name
        'refused.html'
        """
        how, form = self.display.merged(Display.of(**display)), form or outputs.form_of(Path(path))
        outputs.refuse_unused(display, [form], spreadsheet=how.spreadsheet)
        return outputs.save(self.answer, Path(path), form, how)

    def figure(self, of: str | None = None, **at: str) -> Value:
        """One figure as Python has it (a duration as timedelta, a time with the zone, money as Decimal): a column by
        heading or measure (the first by default), a group by dimension: `figure("Refused", place="Library")`. Raises
        UnknownName.

        >>> hall.report("refused-entries").figure()
        83
        """
        value: Any = self.cell(of=of, at={k.replace("__", "."): v for k, v in at.items()})
        column = self.data.plan.columns[cell_of(self.data, {}, of).column]
        kind, _, scale = column.kind
        if value is None:
            return None
        if kind in ("duration", "mean duration"):
            return timedelta(microseconds=value)
        if kind in ("money", "decimal"):
            return Decimal(value).scaleb(-scale)
        tz = ZoneInfo(self.context.zone)
        found: Value = value.replace(tzinfo=UTC).astimezone(tz) if kind == "time" else value
        return found

    def _shown(self) -> tuple[Answer, Display]:
        return self.answer, self.display

    def __repr__(self) -> str:
        return described(self.answer).replace(type(self.answer).__name__, "Result", 1)

    def __eq__(self, other: object) -> bool:
        """Whether the other has the same figures of the same request."""
        if not isinstance(other, Result):
            return NotImplemented
        same = self.context.plan == other.context.plan
        return same and fingerprint.figures(self.answer) == fingerprint.figures(other.answer)

    def __reduce__(self) -> tuple[Any, tuple[Answer, None, Display]]:
        answer: Answer = self.answer
        if isinstance(answer, RunResult):
            answer = dataclasses.replace(answer, place=None)
        elif isinstance(answer, Records):
            answer = whole(answer)
        return Result, (answer, None, self.display)  # what was read stays, where it was read from does not
