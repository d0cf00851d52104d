"""The reports of a workspace as people and viewers have them: found, read, copied, saved, remembered."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, NoReturn

from fermata.errors import NeedsMore, NotForViewers, RequestError, UnknownName
from fermata.notes import Note
from fermata.reports import requests
from fermata.reports.compile.binding import bound
from fermata.reports.compile.request import Asking, compiled
from fermata.reports.definition import catalogue
from fermata.reports.definition import files as report_files
from fermata.reports.definition.catalogue import Entry
from fermata.reports.definition.changes import paged, with_columns
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report
from fermata.reports.definition.search import ranked
from fermata.reports.execute.figures import describe
from fermata.workspace import last_run
from fermata.workspace.base import Base

__all__ = ["LAST", "Catalogue", "Need", "Reports"]

LAST = last_run.LAST


class Need(NamedTuple):
    """What some reports need and the workspace does not have (`a log of printing`, `fields of calls`), which parts of
    it, and the names of these reports.
    """

    what: str
    parts: tuple[str, ...] = ()
    reports: tuple[str, ...] = ()


@dataclass(frozen=True)
class Catalogue:
    """The reports there are, to be looked at and run. A viewer has no more than this."""

    base: Base

    def names(self) -> list[str]:
        """The names of the workspace's own reports.

        >>> hall.reports.names()
        ['balance-by-month', 'free-rooms', 'night-work', 'print-credit', 'project-budgets', 'where-s...
        """
        return self.base.own_reports()

    def catalogue(self, words: str = "") -> list[Entry]:
        """The workspace's own reports and the ready ones, category by category; with `words`, those found by them, the
        best first. Who may run certain reports alone has these.

        >>> [e.name for e in hall.reports.catalogue("who was refused")][:2]
        ['refused-outside-hours', 'doors-monthly']
        """
        own = [catalogue.read(self.base.reports_path / f"{name}.toml") for name in self.names()]
        if not self.base.view.everything:  # what a report of the house says may name others
            own = [dataclasses.replace(e, about="", data={}, path=Path()) for e in own]
        ready = [e for e in catalogue.entries().values() if e.name not in {o.name for o in own}]
        allowed = [name for name, _ in self.base.view.reports]
        return ranked([e for e in (*own, *ready) if e.name in allowed or not self.base.view.reports], words)

    def here(self) -> list[tuple[Entry, str]]:
        """Each ready report with why it has no answer on these logs, in a line; "" for those that run, also if they ask
        for a name first.

        >>> len(hall.reports.here()) > 50
        True
        """
        return [(entry, str(why or "").partition("\n")[0].rstrip(":")) for entry, why in _tried(self)]

    def needs(self) -> list[Need]:
        """What the ready reports that have no answer on these logs need, the need of most reports first.

        >>> [need.what for need in hall.reports.needs()]
        []
        """
        found: dict[str, Need] = {}
        for entry, why in _tried(self):
            if why:
                what, parts = (why.what, why.parts) if isinstance(why, NeedsMore) else (str(why).partition("\n")[0], ())
                before = found.get(what, Need(what))
                more = (*before.parts, *(p for p in parts if p not in before.parts))
                found[what] = Need(what, more, (*before.reports, entry.name))
        return sorted(found.values(), key=lambda need: -len(need.reports))

    def useful(self, log: str, most: int = 5) -> list[Entry]:
        """Tables and lists of the catalogue that a log, or what is made from it, can answer once it holds events, those
        that lack nothing first.

        >>> [e.name for e in hall.reports.useful("doors")]
        ['alarms-and-lockdowns', 'alarms-in-order', 'busiest-hours', 'door-use', 'doors-forced']
        """
        place = self.base.place()
        found: list[tuple[tuple[int, bool], Entry]] = []
        for entry in catalogue.entries().values():
            report = self.base.definition(entry.name)
            notes: list[Note] = []
            if report.ask or report.parts or report.each or report.must_name or not report.kind:
                continue
            try:
                report = bound(report, place, notes)
            except RequestError:
                continue
            if log in place.schemas[report.log].stored_logs:
                found.append(((len(notes), report.log != log), entry))
        return [entry for _, entry in sorted(found, key=lambda f: f[0])[:most]]

    def definition(self, name: str) -> Report:
        """The report kept under `name`, else the ready one, else a plain count of the log of that name; `last` is the
        last run.

        Raises UnknownName, ConfigError; RequestError for what is not for a viewer.

        >>> hall.reports.definition("refused-entries").by
        ('place', 'device')
        """
        return self.base.definition(name)

    def text(self, name: str) -> str:
        """The definition as its file has it, comments and all. Raises UnknownName; RequestError for a viewer who has no
        business with it.

        >>> hall.reports.text("refused-entries").splitlines()[0]
        'title = "Refused entries by door"'
        """
        view = self.base.view
        if not view.everything and name in self.names() and name not in dict(view.reports):
            raise RequestError(f"the definition of {name} is not for {view.words}; run it with: fermata report {name}")
        found = self.definition(name)
        entry = next((e for e in self.catalogue() if e.name == name), None)
        return entry.path.read_text(encoding="utf-8") if entry and view.everything else report_files.text_of(found)

    def about(self, name: str) -> list[tuple[str, str]]:
        """What a report tells, as (what, words): purpose, period, rows, columns, what it needs and how to narrow it.
        Raises UnknownName.

        >>> [name for name, _ in hall.reports.about("refused-entries")]
        ['Report', 'Tells', 'Needs', 'Period', 'Rows', 'Columns', 'Narrow by']
        """
        report = self.definition(name)
        entry = next((e for e in self.catalogue() if e.name == name), None)
        lines = [("Report", f"{name}: {report.title or name}")]
        lines += [("Tells", entry.about)] if entry and entry.about else []
        lines += [("Needs", f"a log of {', '.join(entry.needs)}")] if entry and entry.needs else []
        lines += [("Period", report.period)]
        if report.parts:
            return [*lines, ("Parts", "; ".join(p.title or p.report for p in report.parts))]
        lines += [("Rows", ", ".join((*report.by, *([report.each] if report.each else []))))] if report.by else []
        if not (report.listing or report.ask or report.register_name):
            lines += [("Across", report.across)] if report.across else []
            lines.append(("Columns", "; ".join(_column(c) for c in report.columns if c.show)))
        if report.must_name:
            lines.append(("Name one", " ".join(f"--only {f}=..." for f in report.must_name)))
        if schema := self.base.place().schemas.get(self.log_of(name)):
            fields = [f.name for f in schema.fields if f.type in ("text", "tags", "flag")]
            lines.append(("Narrow by", f"--only FIELD=VALUE with {', '.join(fields)}"))
        return lines

    def log_of(self, name: str) -> str:
        """The log that a report is about; "" where it is about several, or cannot be run here. Raises UnknownName.

        >>> hall.reports.log_of("refused-entries")
        'doors'
        """
        report = self.definition(name)
        with contextlib.suppress(RequestError):
            return bound(report, self.base.place()).log
        return ""

    def with_target(self, report: Report, name: str) -> Report:
        """The report with what was done towards a target of `fermata.toml`, what was wanted, and the part of it in per
        cent. Raises UnknownName.

        >>> hall.reports.with_target(fermata.Report.of(log="timesheets", by=["user"]), "rehearsal-hours").by
        ('user',)
        """
        targets = self.base.config.targets
        if name not in targets:
            raise UnknownName.of("target", name, targets, where="" if targets else "([targets.NAME] in fermata.toml)")
        words = [f"Done: {targets[name].of}", f"Target: total target of {name}", "Reached % = Done / Target"]
        if targets[name].by not in report.by and not report.by:
            report = report.changed(by=(targets[name].by,))
        return with_columns(report, words)

    def step(self, report: Report, n: int) -> Report:
        """The report for the period `n` steps later (earlier if negative): the month before, the fortnight after.

        >>> hall.reports.step(fermata.Report(log="doors", period="2026-03"), -1).period
        '2026-02'
        """
        return last_run.stepped(report, self.base.place(), self.base.now(), n)

    def period_words(self, report: Report) -> tuple[bool, str, str]:
        """Whether the report's period moves with the clock, its exact form, and what it is today, in words.

        >>> hall.reports.period_words(fermata.Report(log="doors", period="last month"))
        (True, '2026-03-01/2026-03-31', '1 to 31 March 2026')
        """
        return last_run.period_words(report, self.base.place(), self.base.now())

    def describe(self, report: Report) -> list[tuple[str, str]]:
        """What a run would do, as (what, words), without running it. Pages tell of each part. Raises what compiling
        raises.

        >>> hall.reports.describe(fermata.Report(log="doors", period="2026-03"))[0]
        ('Report', 'Doors: Count')
        """
        place = self.base.place()
        request = compiled(report, place, self.base.now())
        if not isinstance(request, requests.Page):
            return self._described(request)
        lines: list[tuple[str, str]] = []
        for part in request.parts:
            told = self._described(part.asked) if part.asked else [("Report", part.title), ("Not possible", part.why)]
            lines += [*told, ("", "")]
        return lines[:-1]

    if not TYPE_CHECKING:  # what is not there is found when types are checked, too

        def __getattr__(self, name: str) -> NoReturn:
            if name in ("copy", "page", "recent", "remember", "save"):
                raise NotForViewers(f"writing reports is not for {self.base.view.words}: a viewer reads")
            raise AttributeError(f"{type(self).__name__!r} object has no attribute {name!r}")

    def _described(self, request: requests.Request) -> list[tuple[str, str]]:
        if isinstance(request, requests.Figures | requests.Listing):
            return describe(request, self.base.place())
        return last_run.plain_words(request.report)


def _column(column: ColumnSpec) -> str:
    """A column's heading and what it is."""
    what = column.formula or column.measure
    return column.heading if column.heading.lower() == what else f"{column.heading} ({what})"


def _tried(there: Catalogue) -> Iterator[tuple[Entry, RequestError | None]]:
    """Each ready report with what keeps it from having an answer on the logs there are."""
    place, now = there.base.place(), there.base.now()
    for entry in there.catalogue():
        try:
            report = there.definition(entry.name)
            compiled(report.changed(must_name=()), place, now, Asking(name="anybody", field="user"))
            yield entry, None
        except RequestError as e:
            yield entry, e


@dataclass(frozen=True)
class Reports(Catalogue):
    """The reports of a workspace for who may write it."""

    def copy(self, name: str, new: str, *, over: bool = False) -> Path:
        """Copies a report, a ready one too, into the workspace under a new name; the original stays. Raises
        UnknownName, RequestError.

        >>> hall.reports.copy("refused-entries", "our-refusals", over=True).name
        'our-refusals.toml'
        """
        if name == LAST:
            return self.save(new, self.definition(LAST), over=over)
        return report_files.copied(self.base.reports_path, name, new, over=over)

    def save(self, name: str, report: Report, *, fixed: bool = False, over: bool = False) -> Path:
        """Keeps a report under a name; with `fixed`, for the very period it has today. Raises RequestError.

        >>> hall.reports.save("march", fermata.Report(log="doors", period="2026-03"), over=True).name
        'march.toml'
        """
        if fixed:
            report = report.changed(period=self.period_words(report)[1])
        return report_files.save(self.base.reports_path, name, report, over=over)

    def recent(self) -> list[tuple[str, Report]]:
        """The last runs, the newest first: the name each goes by (`last`, `last-2` ...) and its report.

        >>> hall.reports.remember(fermata.Report(log="doors"))
        >>> [(name, report.log) for name, report in hall.reports.recent()][0]
        ('last', 'doors')
        """
        return last_run.earlier(self.base.path)

    def page(
        self, name: str, *reports: str, drop: Sequence[str] = (), over: bool = False, **keys: object
    ) -> tuple[Path, Report]:
        """Makes a page of reports, or adds to the page there is: its parts in this order, `reports` behind those it
        has, `drop` taken away (by name, title or number). `keys` are those of a report file for the whole page: title,
        period, only, layout. Raises UnknownName, RequestError.

        >>> hall.reports.page("both", "refused-entries", "doors-forced", over=True)[0].name
        'both.toml'
        """
        for one in reports:
            self.definition(one)
        held = self.definition(name) if name in self.names() and not over else None
        page = paged(held, name, reports, drop, keys)
        return self.save(name, page, over=True), page

    def remember(self, report: Report) -> None:
        """Keeps the report as the last run, to be changed and run again.

        >>> hall.reports.remember(fermata.Report(log="calls"))
        >>> hall.reports.definition("last").log
        'calls'
        """
        last_run.remember(self.base.path, report)
