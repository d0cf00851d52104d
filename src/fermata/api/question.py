"""A question built step by step: immutable, each verb gives a new one, nothing runs until an answer is asked for."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from fermata.api.values import Value
from fermata.errors import RequestError
from fermata.reports.definition.report import Report

if TYPE_CHECKING:
    import pandas
    import polars
    import pyarrow
    from matplotlib.figure import Figure

    from fermata.api.result import Result
    from fermata.api.tabular import Listing
    from fermata.reports.result import Records

__all__ = ["Question"]


class Asked(Protocol):
    """A workspace, as questions need it."""

    def run(self, report: Report, *, explain: bool = False) -> Result:
        """The answer to a report."""

    def listing(self, report: Report, limit: int | None = None) -> Records:
        """The events that a report's filters keep."""


class Answering:
    """What a question gives once it is asked: its answer as a table, a figure, a chart or a file, and its events."""

    workspace: Asked
    report: Report

    @abstractmethod
    def run(self, *, explain: bool = False) -> Result:
        """The answer."""

    def listing(self, limit: int | None = None) -> Listing:
        """The events themselves, oldest first, with file and record number.

        >>> hall.log("doors").during("2026-03-02").only(action="refused").listing(2).names[:4]
        ('start', 'user', 'device', 'place')
        """
        from fermata.api.tabular import Listing

        return Listing.of(self.workspace.listing(self.report, limit))

    def events(self, limit: int | None = None) -> Iterator[pyarrow.RecordBatch]:
        """The same as Arrow record batches, one after the other: a long listing is never whole in memory.

        >>> sum(batch.num_rows for batch in hall.log("doors").during("2026-03-02").events())
        369
        """
        return self.listing(limit).batches()

    def to_pandas(self) -> pandas.DataFrame:
        """The answer's rows of the finest level as a pandas table.

        >>> hall.log("doors").during("2026-03-02").by("action").measure("count").to_pandas().shape
        (3, 2)
        """
        return self.run().to_pandas()

    def to_arrow(self) -> pyarrow.Table:
        """The answer's rows of the finest level as an Arrow table.

        >>> doors = hall.log("doors").during("2026-03-02")
        >>> doors.by("action").measure("count").to_arrow().column_names
        ['Action', 'Count']
        """
        return self.run().to_arrow()

    def to_polars(self) -> polars.DataFrame:
        """The answer's rows of the finest level as a polars table.

        >>> hall.log("doors").during("2026-03-02").by("action").measure("count").to_polars().shape
        (3, 2)
        """
        return self.run().to_polars()

    def to_dicts(self) -> list[dict[str, Value]]:
        """The answer's rows of the finest level as dictionaries.

        >>> hall.log("doors").during("2026-03-02").measure("count").to_dicts()
        [{'Count': 369}]
        """
        return self.run().to_dicts()

    def figure(self, of: str | None = None, **at: str) -> Value:
        """One figure of the answer, as in `Result.figure`.

        >>> doors = hall.log("doors").during("2026-03-02")
        >>> doors.by("action").measure("count").figure(action="refused")
        1
        """
        return self.run().figure(of, **at)

    def save(self, path: str | Path, *, form: str | None = None, **display: object) -> Path:
        """Writes the answer in the form of the file's ending; further arguments are display choices (`clock=12`).

        >>> doors = hall.log("doors").during("2026-03-02")
        >>> doors.by("action").measure("count").save("doors.csv").name
        'doors.csv'
        """
        return self.run().save(path, form=form, **display)

    def chart(self, kind: str = "", of: str = "") -> Figure:
        """The answer as a Matplotlib figure, of the kind that suits it by default.

        >>> len(hall.log("doors").during("2026-03").by("day").measure("count").chart("line").axes)
        1
        """
        return self.run().chart(kind, of)

    def _repr_html_(self) -> str:
        return self.run()._repr_html_()

    def __str__(self) -> str:
        return str(self.run())


@dataclass(frozen=True, repr=False)
class Question(Answering):
    """Which events of a log, during which period, grouped how, measured how.

    >>> refused = hall.log("doors").during("2026-03").only(action="refused")
    >>> refused.by("place").measure("count").to_dicts()[0]
    {'Place': 'Front of house', 'Count': 15}
    >>> refused
    <Question doors; 2026-03; only action is refused>
    """

    workspace: Asked
    report: Report

    def during(self, period: str | date, until: str | date | None = None) -> Question:
        """Only this period, in any form periods are written in; relative ones stay relative. Or a date, or an instant;
        with `until`, from the one to the other: a date is included, an instant is not. Each may be written out, too.

        >>> hall.log("doors").during("2026-03-02").measure("count").figure()
        369
        >>> hall.log("doors").during(date(2026, 3, 2), date(2026, 3, 3)).measure("count").figure()
        904
        """
        if isinstance(period, str) and until is None:
            return self._with(period=period)
        if isinstance(period, datetime) and until is None:
            raise RequestError(f"during({period}): an instant needs until, where the period ends")
        ends = (period, period if until is None else until)
        return self._with(period="/".join(t if isinstance(t, str) else _written(t) for t in ends))

    def only(self, **values: object) -> Question:
        """Keeps events whose fields have one of the values (`user__department` is `user.department`); several fields
        must all hold. `""` or None is empty. An empty list is refused: nothing would be kept.

        >>> doors = hall.log("doors").during("2026-03")
        >>> doors.only(action="refused", place=["Library", "Stage side"]).measure("count").figure()
        47
        """
        return self._with(only=self.report.only + Report.of(log="any", only=_fields(values)).only)

    def without(self, **values: object) -> Question:
        """Drops events for which any of the fields has one of the values; events where it is empty stay.

        >>> hall.log("doors").during("2026-03").without(action="refused").measure("count").figure()
        16190
        """
        return self._with(without=self.report.without + Report.of(log="any", without=_fields(values)).without)

    def any_of(self, *alternatives: Mapping[str, object]) -> Question:
        """Keeps events for which at least one alternative holds: one number as caller or called.

        >>> doors = hall.log("doors").during("2026-03")
        >>> doors.any_of({"action": "refused"}, {"action": "forced"}).measure("count").figure()
        85
        """
        found = Report.of(log="any", any_of=[[_fields(one) for one in alternatives]]).any_of
        return self._with(any_of=self.report.any_of + found)

    def by(self, *dimensions: str) -> Question:
        """Groups by fields and calendar units, outermost first.

        >>> hall.log("doors").during("2026-03-02").by("action").measure("count").to_dicts()
        [{'Action': 'in', 'Count': 184}, {'Action': 'out', 'Count': 184}, {'Action': 'refused', 'Count': 1}]
        """
        return self._with(by=(*self.report.by, *dimensions))

    def across(self, dimension: str) -> Question:
        """Lays one dimension out over the columns.

        >>> doors = hall.log("doors").during("2026-03-02")
        >>> doors.by("place").across("action").measure("count").run().names[:3]
        ('Place', 'in Count', 'out Count')
        """
        return self._with(across=dimension)

    def measure(self, *measures: str, **labelled: str) -> Question:
        """The columns: measures by name, formulas (`"A day = time / days"`), or measures under a heading:
        `measure(Refused="count")`.

        >>> hall.log("calls").during("2026-03").measure("count", Mean="mean duration").to_dicts()
        [{'Count': 7712, 'Mean': datetime.timedelta(seconds=117, microseconds=253112)}]
        """
        specs: list[Any] = list(measures)
        specs += [{"measure": m, "label": label.replace("_", " ")} for label, m in labelled.items()]
        return self._with(columns=specs)

    def hours(self, name: str) -> Question:
        """Counts only what lies in these hours: those of a name, all others (`outside NAME`), or written out (`sunday`,
        `22:00-06:00`).

        >>> hall.log("doors").during("2026-03").hours("outside office").measure("count").figure()
        8527
        """
        return self._with(hours=name)

    def rounding(self, how: str) -> Question:
        """Rounds each span's length before it is split: `up 15 minutes`.

        >>> hall.log("calls").during("2026-03-02").measure("time").rounding("up 1 minute").figure()
        datetime.timedelta(seconds=18300)
        """
        return self._with(rounding=how)

    def compare(self, other: str = "before", *, full_period: bool = False) -> Question:
        """Sets another period beside: `before`, `year ago`, `52 weeks ago`, `weekdays before`, or any period.

        >>> hall.log("doors").during("2026-03").measure("count").compare("before").to_dicts()
        [{'Count': 16273, 'Count before': 15395, 'Count change': 878, 'Count change %': 0.0570315037...
        """
        return self._with(compare=other, full_period=full_period)

    def rows(self, *conditions: str) -> Question:
        """Shows only rows whose columns meet the conditions (`Count = 0`); totals stay those of all.

        >>> doors = hall.log("doors").during("2026-03")
        >>> doors.by("place").measure("count").rows("Count > 1000").to_dicts()
        [{'Place': 'Front of house', 'Count': 3846}, {'Place': 'Rehearsal wing', 'Count': 3355}, {'P...
        """
        return self._with(rows=conditions)

    def zone(self, name: str) -> Question:
        """Days and months of another zone than the workspace's.

        >>> doors = hall.log("doors").during("2026-03-02")
        >>> doors.zone("America/New_York").measure("count").figure()
        363
        """
        return self._with(zone=name)

    def sort(self, *columns: str) -> Question:
        """Orders rows by columns or dimensions; `-` in front for downwards.

        >>> doors = hall.log("doors").during("2026-03")
        >>> doors.by("place").measure("count").sort("-Count").to_dicts()[0]
        {'Place': 'Stage side', 'Count': 8018}
        """
        return self._with(sort=columns)

    def top(self, n: int) -> Question:
        """Only the `n` highest of the first dimension, ties included, the others in one row.

        >>> [r["Place"] for r in hall.log("doors").during("2026-03").by("place").measure("count").top(2).to_dicts()]
        ['Stage side', 'Front of house', '(all others)']
        """
        return self._with(top=n)

    def titled(self, title: str) -> Question:
        """A title of its own.

        >>> hall.log("doors").titled("Who came in").run().context.title
        'Who came in'
        """
        return self._with(title=title)

    def run(self, *, explain: bool = False) -> Result:
        """The answer.

        >>> hall.log("doors").during("2026-03-02").measure("count").run()
        <Result 'Doors: Count': 1 rows, 1 columns, 2 March 2026>
        """
        return self.workspace.run(self.report, explain=explain)

    def __repr__(self) -> str:
        asked = self.report
        words = [asked.log, *([asked.period] if asked.period != "all" else [])]
        words += [f"by {', '.join(asked.by)}"] if asked.by else []
        words += [str(asked.selection)] if asked.selection.conditions else []
        return f"<Question {'; '.join(words)}>"

    def _with(self, **changes: Any) -> Question:
        return Question(self.workspace, self.report.changed(**changes))


def _fields(values: Mapping[str, object]) -> dict[str, object]:
    """Values by field; `user__department` is the attribute `user.department`."""
    return {name.replace("__", "."): value for name, value in values.items()}


def _written(at: date) -> str:
    """A date or instant as periods are written; a naive one is on the clock of the question's zone."""
    own: object = at.tolist() if hasattr(at, "tolist") else at  # NumPy's
    if not isinstance(own, date):
        raise RequestError(f"a period is a text, a date or an instant, not {own!r}")
    return own.isoformat()
