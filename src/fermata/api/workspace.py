"""A workspace: a directory with `fermata.toml`, `reports/` and the archive."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Sequence
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fermata.analysis.derive import Collapse
from fermata.api import keeping, people
from fermata.api.administering import Administered
from fermata.api.base import Clock
from fermata.api.config import load
from fermata.api.evacuation import Clearing
from fermata.api.place import Place
from fermata.api.question import Question
from fermata.api.result import Result
from fermata.delivery.progress import History
from fermata.delivery.shelf import Item
from fermata.errors import RequestError
from fermata.registers.register import Register
from fermata.reports import answer as answers
from fermata.reports import catalogue, looking, pages, trails
from fermata.reports import files as report_files
from fermata.reports import listing as listings
from fermata.reports import run as runner
from fermata.reports.binding import bound
from fermata.reports.catalogue import Entry
from fermata.reports.listing import AS_IT_IS, Layout
from fermata.reports.model import Report
from fermata.reports.registers import Found, register_table
from fermata.reports.result import Records
from fermata.reports.viewing import viewed
from fermata.telling import tell

if TYPE_CHECKING:
    from fermata.api.proving import Verdict
    from fermata.delivery.outcome import Sent

__all__ = ["CONFIG", "Place", "Workspace", "open_workspace"]

CONFIG = "fermata.toml"
LAST = keeping.LAST


def open_workspace(path: str | Path = ".", *, now: datetime | None = None, viewer: str = "") -> Workspace:
    """The workspace at `path` (the directory of `fermata.toml`, or one below it).

    `now`, an aware datetime, stands in for the clock, so that "last month" means what it meant then. With `viewer`, all that it
    gives is what that viewer of `fermata.toml` may see. Raises RequestError if there is no workspace or viewer, ConfigError if its
    file is wrong.
    """
    start = Path(path).resolve()
    for directory in (start, *start.parents):
        if (directory / CONFIG).is_file():
            found = Workspace(directory, load(directory / CONFIG), _clock(now), viewer)
            _ = found.view  # a viewer there is none of is an error here
            return found
    raise RequestError(f"there is no workspace at {start} (no {CONFIG} there or above); make one with: fermata new DIR")


def _clock(now: datetime | None) -> Clock:
    if now is None:
        return functools.partial(datetime.now, UTC)
    if now.tzinfo is None:
        raise RequestError(f"now = {now} has no zone; give an aware datetime")
    return lambda: now


class Workspace(Administered):
    """A workspace, opened by `fermata.open`.

    >>> fermata.open("quillmere").log("doors").during("2026-03").by("place").measure("count")  # doctest: +SKIP
    """

    def log(self, name: str) -> Question:
        """A question to one log, to be narrowed and grouped step by step. Raises UnknownName."""
        self.known(name)
        return Question(self, Report(log=name))

    def with_steps(self, log: str) -> Workspace:
        """The same workspace, in which a log that puts records together holds them one by one, with `thing`, the file:record they
        count as. Raises RequestError for other logs.
        """
        schema = self.known(log)
        if not isinstance(schema.derivation, Collapse):
            raise RequestError(f"{log} does not put records together, so it has no steps")
        how = dataclasses.replace(schema.derivation, spread=True)
        other = self._beside(self.clock, self.viewer)
        other.schemas = {**self.schemas, log: dataclasses.replace(schema, fields=how.fields, derivation=how)}
        return other

    def reports(self) -> list[str]:
        """The names of the workspace's own reports."""
        return report_files.names(self.reports_path)

    def catalogue(self, words: str = "") -> list[Entry]:
        """The workspace's own reports and the ready ones, category by category; with `words`, those that have each of them."""
        own = [catalogue.read(self.reports_path / f"{name}.toml") for name in self.reports()]
        ready = [e for e in catalogue.entries().values() if e.name not in {o.name for o in own}]
        return [e for e in (*own, *ready) if catalogue.search(e, words)]

    def definition(self, name: str) -> Report:
        """The report kept under `name`, else the ready one, else a plain count of the log of that name; `last` is the last run.

        Raises UnknownName, ConfigError.
        """
        logs = (*self.config.logs, *self.config.derived)
        if name == LAST:
            self.view.refuse("the last run, which may have been somebody else's,")
            return keeping.last(self.path)
        if name in logs and name not in self.reports():
            return Report(log=name)
        return report_files.load(self.reports_path, name, logs)

    def definition_text(self, name: str) -> str:
        """The definition as its file has it, comments and all. Raises UnknownName."""
        entry = next((e for e in self.catalogue() if e.name == name), None)
        return entry.path.read_text(encoding="utf-8") if entry else report_files.text_of(self.definition(name))

    def copy_report(self, name: str, new: str, *, over: bool = False) -> Path:
        """Copies a report, a ready one too, into the workspace under a new name; the original stays. Raises UnknownName, RequestError."""
        if name == LAST:
            return self.save_report(new, self.definition(LAST), over=over)
        return report_files.copied(self.reports_path, name, new, over=over)

    def save_report(self, name: str, report: Report, *, fixed: bool = False, over: bool = False) -> Path:
        """Keeps a report under a name; with `fixed`, for the very period it has today. Raises RequestError."""
        if fixed:
            report = report.changed(period=self.period_words(report)[1])
        return report_files.save(self.reports_path, name, report, over=over)

    def period_words(self, report: Report) -> tuple[bool, str, str]:
        """Whether the report's period moves with the clock, its exact form, and what it is today, in words."""
        return keeping.period_words(report, self.place(), self.now())

    def remember(self, report: Report) -> None:
        """Keeps the report as the last run, to be changed and run again; a viewer's runs are not kept."""
        if self.viewer:
            return
        keeping.remember(self.path, report)

    def report(self, name: str, **changes: Any) -> Result:
        """Runs the report kept under `name` with some keys changed for this run: `period="last month"`."""
        return self.run(self.definition(name).changed(**changes))

    def run(self, report: Report, *, explain: bool = False, limit: int | None = None) -> Result:
        """Runs a report. With `explain`, the result says what each filter took away; `limit` is the most events of a listing."""
        place = self.place()
        place.view.allows(report, self.definition)
        answer = answers.answer(report, place, self.now(), explained=explain, limit=limit)
        head = answer.context
        tell(
            "info",
            "report ran",
            logs=", ".join(n for n, _ in head.fresh),
            plan=head.plan,
            debug={"title": head.title, "filters": head.filters, "view": self.view.words},
        )
        return Result(viewed(answer, self.view.words), place, self.config.display.merged(report.display))

    def keep(
        self,
        report: Report,
        forms: Sequence[str],
        *,
        named: str = "",
        label: str = "",
        keep_for: str = "",
        author: str = "",
    ) -> Item:
        """Runs a report and puts it on the shelf in the forms given, with all that proves it; `named` is what it is kept under.

        It stays for ever unless `keep_for` says how long (90 days). Raises what a run raises.
        """
        from fermata.api import shelving

        return shelving.keep(self, report, forms, named=named, label=label, keep_for=keep_for, author=author)

    def shelf_table(self, *, gone: bool = False) -> Records:
        """What is on the shelf, the latest first; with `gone`, what was, too."""
        from fermata.api import shelving

        return shelving.table(self, gone=gone)

    def expire_shelf(self) -> list[Item]:
        """Drops what the shelf keeps no longer, but for what a delivery still has to hand over."""
        return self.shelf.expire(self.now(), besides=History.of(self.shelf.record.read()).needed)

    def shelf_facts(self, number: int) -> list[tuple[str, str]]:
        """What an item was made of and what was done with it, as (what, words). Raises RequestError."""
        from fermata.api import shelving

        return shelving.facts(self, number)

    def verdict_table(self, verdicts: Sequence[Verdict]) -> Records:
        """What `verify` found, as a listing."""
        from fermata.api import shelving

        return shelving.verdicts(self, verdicts)

    def send_again(self, number: int, **target: Any) -> list[Sent]:
        """Sends an item of the shelf once more: `mail=["name@house.example"]`, `folder="out"` or `webhook="https://..."`.

        Raises RequestError; what becomes of it is recorded.
        """
        from fermata.api import shelving

        return shelving.send_again(self, number, **target)

    def deliveries(self) -> list[str]:
        """The names of what is on the timetable."""
        from fermata.api import timetable

        return timetable.names(self)

    def timetable(self, name: str = "", *, count: int = 2) -> Records:
        """Every delivery with its next runs, how the last one ended, and what is wrong with it; with a name, its next `count` runs."""
        from fermata.api import timetable

        return timetable.table(self, History.of(self.shelf.record.read()), name, count=count)

    def schedule(self, name: str, *, over: bool = False, **data: Any) -> tuple[Path, list[str]]:
        """Puts a report on the timetable: `schedule("refused", report="refused-entries", when="monthly on the 1st at 07:00", to=[...])`.

        `data` are the keys of `deliveries/NAME.toml`; `report="last"` keeps the last run under that name. Returns the file, and what
        will work but may not be meant. Raises RequestError with every problem.
        """
        from fermata.api import timetable

        return timetable.add(self, name, over=over, **data)

    def send(self, name: str = "", *, at_once: bool = False, wait: float = 0) -> list[Sent]:
        """Runs and hands over what is due now, and what is to be tried again; with `at_once`, the delivery `name` whatever its timetable.

        A failure is one of what is returned and no exception, so that the others go out. Raises ArchiveBusy while another does it.
        """
        from fermata.api import sending

        return sending.send(self, name, at_once=at_once, wait=wait)

    def verify(self, number: int | None = None) -> list[Verdict]:
        """Whether the archive, the ledger and the shelf are as they were stored, and whether kept runs (or the one of that number) give
        the same figures again.
        """
        from fermata.api import proving

        whole = [proving.archive(self), proving.shelf(self)]
        if number is None and whole[1].state == "damaged":
            return whole  # what is kept of the runs cannot be trusted
        items = self.shelf.items() if number is None else [self.shelf.item(number)]
        return [*whole, *(proving.repeat(self, i) for i in items)]

    def describe(self, report: Report) -> list[tuple[str, str]]:
        """What a run would do, as (what, words), without running it. Pages tell of each part."""
        place = self.place()
        if report.parts:
            parts = [pages.resolved(report, part, place) for part in report.parts]
            return [line for part in parts for line in (*self.describe(part), ("", ""))][:-1]
        if report.register_name or (report.ask and not (report.log or report.kind)):
            return keeping.plain_words(report)
        return runner.describe(bound(report, place), place, self.now())

    def listing(self, report: Report, limit: int | None = None, layout: Layout = AS_IT_IS) -> Records:
        """The events a report's filters keep in its period, oldest first unless the layout says otherwise."""
        place = self.place()
        place.view.openly("a listing of events")
        found = listings.listing(bound(report, place), place, self.now(), limit, layout)
        return viewed(found, self.view.words)

    def trace(self, name: str, *, field: str = "", limit: int | None = None, **chosen: Any) -> Result:
        """All that a person, device, place or shared id did in every log: a summary, then the events in time order.

        `field` says which kind of name it is where it may mean several; `period`, `zone`, `log` narrow it. Raises RequestError with
        the candidates where the name is ambiguous or unknown.
        """
        place = self.place()
        place.view.openly("a trail")
        report = Report.of(**{"ask": "trail", **chosen})
        found = trails.trace(place, self.now(), name, field=field, report=report, limit=limit)
        return Result(viewed(found, self.view.words), place, self.config.display)

    def inside(self, log: str, *, at: datetime | None = None, **asked: Any) -> Records:
        """Who is inside at an aware instant (now): whose last reading in `log` in the `back` ("24 hours") before it is an entry.

        `opening` and `closing` are the actions of entries and exits; `only`, `without`, `any_of` narrow the readings.
        """
        self.known(log)
        self.view.openly("who is inside")
        chosen = {k: asked.pop(k) for k in ("only", "without", "any_of") if k in asked}
        found = looking.inside_now(Report.of(log=log, **chosen), self.place(), self.now(), at or self.now(), **asked)
        return viewed(found, self.view.words)

    def evacuation(self, name: str) -> Clearing:
        """The evacuation of that name: to be prepared, begun, marked and ended."""
        self.view.refuse("an evacuation")
        return Clearing(self, name)

    def contacts(
        self, log: str, person: str, *, within: str = "15 minutes", at: str = "place", **chosen: Any
    ) -> Records:
        """Who was at the same place (the field `at`) as `person`, no more than `within` apart ("0" for at once).

        `period`, `only`, `without`, `any_of` narrow the events as in a report.
        """
        self.known(log)
        return self.contacts_of(Report.of(log=log, **chosen), person, within=within, at=at)

    def contacts_of(self, report: Report, person: str, *, within: str = "15 minutes", at: str = "place") -> Records:
        """The same for the log, period and filters of a report."""
        self.view.openly("who met whom")
        found = looking.contacts(report, self.place(), self.now(), person, within=within, at=at)
        return viewed(found, self.view.words)

    def unusual(self, report: Report, *, unit: str = "day", history: int = 28, factor: float = 2.0) -> Records:
        """Units of the report's period with more of its first column than `factor` times what is usual for the same group."""
        place = self.place()
        place.view.openly("what is unusual")
        found = looking.unusual(bound(report, place), place, self.now(), unit=unit, history=history, factor=factor)
        return viewed(found, self.view.words)

    def step(self, report: Report, n: int) -> Report:
        """The report for the period `n` steps later (earlier if negative): the month before, the fortnight after."""
        return keeping.stepped(report, self.place(), self.now(), n)

    def register(self, name: str) -> Register:
        """The register called `name`. Raises UnknownName, SourceError, ConfigError with every contradiction in it."""
        self.view.openly("a register")
        return self.directory.register(name)

    def register_table(self, name: str, *, as_of: date | None = None, **chosen: Any) -> Records:
        """A register as of a local day (today): what was valid at its start, narrowed by `only`, `without`, `any_of`."""
        self.view.openly("a register")
        day = {"as_of": as_of.isoformat()} if as_of else {}
        found = register_table(Report.of(register=name, **day, **chosen), self.place(), self.now())
        return viewed(found, self.view.words)

    def find(self, text: str) -> list[Found]:
        """Candidates for a part of a name: people, devices, projects of the registers, and names as logs have them."""
        self.view.openly("looking for names")
        return people.find(self, text)

    def found_table(self, text: str) -> Records:
        """What `find` gives, as a listing."""
        self.view.openly("looking for names")
        return people.found_table(self, text)

    def register_list(self) -> Records:
        """The registers there are, and what each knows."""
        self.view.openly("the registers")
        return people.register_list(self)
