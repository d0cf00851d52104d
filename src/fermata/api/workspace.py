"""A workspace: a directory with `fermata.toml`, `reports/` and the archive."""

from __future__ import annotations

import dataclasses
import functools
import os
import tempfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from pathlib import Path
from typing import IO, Any

from fermata.analysis.derive import Collapse
from fermata.analysis.engine import DuckEngine
from fermata.api import importing, keeping, people
from fermata.api.computed import with_computed
from fermata.api.config import Config, load
from fermata.api.derived import derived_schemas
from fermata.api.evacuation import Clearing
from fermata.api.place import Place
from fermata.api.question import Question
from fermata.api.result import Result
from fermata.archive import Archive
from fermata.archive.retention import Removal
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.intake.importer import Outcome
from fermata.intake.mapping import LogMap
from fermata.intake.storing import Progress
from fermata.registers.directory import Directory
from fermata.registers.register import Register
from fermata.reports import answer as answers
from fermata.reports import catalogue, looking, noticing, pages, trails
from fermata.reports import files as report_files
from fermata.reports import listing as listings
from fermata.reports import run as runner
from fermata.reports import survey as surveys
from fermata.reports.binding import bound
from fermata.reports.catalogue import Entry
from fermata.reports.generated import Pattern
from fermata.reports.listing import AS_IT_IS, Layout
from fermata.reports.model import Report
from fermata.reports.registers import Found, register_table
from fermata.reports.result import Records
from fermata.reports.terms import Terms

__all__ = ["CONFIG", "Place", "Workspace", "open_workspace"]

CONFIG = "fermata.toml"
LAST = keeping.LAST
Clock = Callable[[], datetime]


def open_workspace(path: str | Path = ".", *, now: datetime | None = None) -> Workspace:
    """The workspace at `path` (the directory of `fermata.toml`, or one below it).

    `now`, an aware datetime, stands in for the clock, so that "last month" means what it meant then. Raises
    RequestError if there is no workspace, ConfigError if its file is wrong.
    """
    start = Path(path).resolve()
    for directory in (start, *start.parents):
        if (directory / CONFIG).is_file():
            return Workspace(directory, load(directory / CONFIG), _clock(now))
    raise RequestError(f"there is no workspace at {start} (no {CONFIG} there or above); make one with: fermata new DIR")


def _clock(now: datetime | None) -> Clock:
    if now is None:
        return functools.partial(datetime.now, UTC)
    if now.tzinfo is None:
        raise RequestError(f"now = {now} has no zone; give an aware datetime")
    return lambda: now


@dataclass
class Workspace:
    """A workspace, opened by `fermata.open`.

    >>> fermata.open("quillmere").log("doors").during("2026-03").by("place").measure("count")  # doctest: +SKIP
    """

    path: Path
    config: Config
    clock: Clock
    views: dict[str, str] = field(default_factory=dict)

    @property
    def archive(self) -> Archive:
        """The events at rest."""
        return Archive(self.path / "archive")

    @property
    def reports_path(self) -> Path:
        """Where the workspace's own reports are kept."""
        return self.path / "reports"

    @functools.cached_property
    def engine(self) -> DuckEngine:
        """The embedded engine, started when first needed."""
        return DuckEngine(spill=str(Path(tempfile.gettempdir()) / f"fermata-{os.getpid()}-{id(self)}"))

    @functools.cached_property
    def stored_schemas(self) -> dict[str, LogSchema]:
        """What the events of each log of the archive hold."""
        zone = self.config.workspace.zone
        return {name: log.schema_of(name, zone) for name, log in self.config.logs.items()}

    @functools.cached_property
    def schemas(self) -> dict[str, LogSchema]:
        """What each log's events hold, derived ones and computed fields included. Raises ConfigError."""
        zone = self.config.workspace.zone
        stored = with_computed(self.stored_schemas, self.config.computed, self.directory, tuple(self.config.derived))
        derived = derived_schemas(self.config.derived, stored, zone, self.directory)
        return with_computed(derived, self.config.computed, self.directory, tuple(stored))

    @functools.cached_property
    def terms(self) -> Terms:
        """Hours and factors. Raises ConfigError."""
        return self.config.terms.terms(self.path, self.config.workspace.workdays)

    @functools.cached_property
    def patterns(self) -> dict[str, Pattern]:
        """Working patterns. Raises UnknownName."""
        return self.config.terms.working_patterns(self.path)

    @functools.cached_property
    def directory(self) -> Directory:
        """The registers of people and things."""
        return Directory(self.config.registers, self.path, self.config.workspace.zone)

    def now(self) -> datetime:
        """The moment relative periods count from."""
        return self.clock()

    def place(self) -> Place:
        """The workspace as it is at this moment."""
        zone = self.config.workspace.zone
        mappings = {name: log.digest(zone) for name, log in self.config.logs.items()}
        return Place(
            self.config.workspace.calendar,
            self.schemas,
            mappings,
            self.archive.snapshot(),
            self.engine,
            self.views,
            self.directory,
            self.config.logs,
            lambda: self.terms,
            lambda: self.patterns,
            self.definition,
            self.reports,
        )

    def mapping(self, log: str) -> LogMap:
        """How the log's records become events. Raises UnknownName."""
        if log in self.config.derived:
            raise RequestError(
                f"{log} has no records of its own; it is made from {', '.join(self.known(log).stored_logs)}"
            )
        if log not in self.config.logs:
            raise UnknownName.of("log", log, self.config.logs)
        return self.config.logs[log]

    def log(self, name: str) -> Question:
        """A question to one log, to be narrowed and grouped step by step. Raises UnknownName."""
        self.known(name)
        return Question(self, Report(log=name))

    def known(self, log: str) -> LogSchema:
        """What a log's events hold, derived logs included. Raises UnknownName."""
        if log not in self.schemas:
            raise UnknownName.of("log", log, self.schemas)
        return self.schemas[log]

    def with_steps(self, log: str) -> Workspace:
        """The same workspace, in which a log that puts records together holds them one by one, with `thing`, the file:record they
        count as. Raises RequestError for other logs.
        """
        schema = self.known(log)
        if not isinstance(schema.derivation, Collapse):
            raise RequestError(f"{log} does not put records together, so it has no steps")
        how = dataclasses.replace(schema.derivation, spread=True)
        other = Workspace(self.path, self.config, self.clock)
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
        """Keeps the report as the last run, to be changed and run again."""
        keeping.remember(self.path, report)

    def report(self, name: str, **changes: Any) -> Result:
        """Runs the report kept under `name` with some keys changed for this run: `period="last month"`."""
        return self.run(self.definition(name).changed(**changes))

    def run(self, report: Report, *, explain: bool = False, limit: int | None = None) -> Result:
        """Runs a report. With `explain`, the result says what each filter took away; `limit` is the most events of a listing."""
        place = self.place()
        answer = answers.answer(report, place, self.now(), explained=explain, limit=limit)
        return Result(answer, place, self.config.display.merged(report.display))

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
        return listings.listing(bound(report, place), place, self.now(), limit, layout)

    def trace(self, name: str, *, field: str = "", limit: int | None = None, **chosen: Any) -> Result:
        """All that a person, device, place or shared id did in every log: a summary, then the events in time order.

        `field` says which kind of name it is where it may mean several; `period`, `zone`, `log` narrow it. Raises RequestError with
        the candidates where the name is ambiguous or unknown.
        """
        place = self.place()
        report = Report.of(**{"ask": "trail", **chosen})
        found = trails.trace(place, self.now(), name, field=field, report=report, limit=limit)
        return Result(found, place, self.config.display)

    def inside(self, log: str, *, at: datetime | None = None, **asked: Any) -> Records:
        """Who is inside at an aware instant (now): whose last reading in `log` in the `back` ("24 hours") before it is an entry.

        `opening` and `closing` are the actions of entries and exits; `only`, `without`, `any_of` narrow the readings.
        """
        self.known(log)
        chosen = {k: asked.pop(k) for k in ("only", "without", "any_of") if k in asked}
        return looking.inside_now(Report.of(log=log, **chosen), self.place(), self.now(), at or self.now(), **asked)

    def evacuation(self, name: str) -> Clearing:
        """The evacuation of that name: to be prepared, begun, marked and ended."""
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
        return looking.contacts(report, self.place(), self.now(), person, within=within, at=at)

    def unusual(self, report: Report, *, unit: str = "day", history: int = 28, factor: float = 2.0) -> Records:
        """Units of the report's period with more of its first column than `factor` times what is usual for the same group."""
        place = self.place()
        return looking.unusual(bound(report, place), place, self.now(), unit=unit, history=history, factor=factor)

    def step(self, report: Report, n: int) -> Report:
        """The report for the period `n` steps later (earlier if negative): the month before, the fortnight after."""
        return keeping.stepped(report, self.place(), self.now(), n)

    def files(self, log: str) -> list[Path]:
        """The files the log's patterns match now, oldest records first; those of a zip archive one by one."""
        return importing.files(self, log)

    def import_log(
        self,
        log: str,
        sources: Iterable[str | Path | IO[bytes]] = (),
        *,
        complete_to: datetime | None = None,
        holds_all: str = "",
        mended: bool = False,
        wait: float = 60,
        progress: Progress = lambda _: None,
    ) -> list[Outcome]:
        """Imports files into a log (those its `files` match or what its query gives, unless `sources` are given).

        What is known changes nothing. An open binary stream is a source too; what comes through it, or from a query, is
        kept under `received/`. `complete_to` declares that the log holds everything up to then; `holds_all` names the
        period of which the sources hold every entry, so that a missing one was deleted (logs with a key); `mended`
        says that they put right the records rejected so far. Raises RequestError, SourceError.
        """
        told = {"complete_to": complete_to, "holds_all": holds_all, "mended": mended, "wait": wait, "progress": progress}  # fmt: skip
        return importing.import_log(self, log, list(sources), **told)  # type: ignore[arg-type]  # as declared above

    def take_back(self, number: int, *, dry: bool = False, wait: float = 60) -> Removal:
        """Takes import `number` out of the archive; with `dry`, only says what would go. Raises RequestError, DataError."""
        return importing.take_back(self, number, dry=dry, wait=wait)

    def expire(self, log: str, older_than: str = "", *, dry: bool = False, wait: float = 60) -> Removal:
        """Drops the log's events that ended longer ago than `older_than` ("13 months"; the log's `keep_for` by default).

        From days on, whole local days are counted back from today. Kept rejects and received copies of files wholly older
        go too; later imports skip records of that time. Raises RequestError.
        """
        return importing.expire(self, log, older_than, dry=dry, wait=wait)

    def register(self, name: str) -> Register:
        """The register called `name`. Raises UnknownName, SourceError, ConfigError with every contradiction in it."""
        return self.directory.register(name)

    def register_table(self, name: str, *, as_of: date | None = None, **chosen: Any) -> Records:
        """A register as of a local day (today): what was valid at its start, narrowed by `only`, `without`, `any_of`."""
        day = {"as_of": as_of.isoformat()} if as_of else {}
        return register_table(Report.of(register=name, **day, **chosen), self.place(), self.now())

    def find(self, text: str) -> list[Found]:
        """Candidates for a part of a name: people, devices, projects of the registers, and names as logs have them."""
        return people.find(self, text)

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records: file, record number, line in the file where known, reason, text."""
        self.mapping(log)
        return self.place().rejects(log)

    def survey(self, log: str, *, period: str = "all") -> surveys.Survey:
        """What the log covers and holds, its gaps and rejects, what became of its records. Raises UnknownName."""
        self.mapping(log)
        return surveys.survey(log, self.place(), self.now(), period)

    def survey_all(self) -> Records:
        """One line for each log: kind, events, time covered, gaps, rejects, files under an older mapping."""
        return noticing.covered(Report.of(ask="logs", title="Logs"), self.place(), self.now())

    def export_rejects(self, log: str, target: Path) -> list[tuple[Path, int]]:
        """Writes the rejects not yet mended as they stood in their files, under their header, to be mended and imported again.

        Returns the files with their numbers of records; one per header. Raises RequestError.
        """
        return importing.export_rejects(self, log, target)

    def found_table(self, text: str) -> Records:
        """What `find` gives, as a listing."""
        return people.found_table(self, text)

    def register_list(self) -> Records:
        """The registers there are, and what each knows."""
        return people.register_list(self)

    def source_record(self, log: str, record: str) -> dict[str, str]:
        """The whole record behind an event, unmapped columns too. `record` is `FILE:NUMBER` as listings show it.

        Raises RequestError for a record that does not exist, SourceError if the file is gone or has changed since.
        """
        from fermata.intake.source import whole_record

        mapping = self.mapping(log)
        return whole_record(mapping, self.archive.snapshot().manifest.log(log), self.path, record)
