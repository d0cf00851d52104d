"""A workspace: a directory with `fermata.toml`, `reports/` and the archive."""

from __future__ import annotations

import dataclasses
import functools
import glob
import itertools
import shutil
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

from fermata.analysis.combine import Source
from fermata.analysis.engine import DuckEngine
from fermata.analysis.plan import Plan, Strand
from fermata.api.config import Config, load
from fermata.api.question import Question
from fermata.api.result import Result
from fermata.archive import Archive, Snapshot, retention
from fermata.archive.duck import scan
from fermata.archive.retention import Removal
from fermata.errors import FermataError, RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.intake import opening
from fermata.intake.importer import Declared, Outcome, import_files
from fermata.intake.mapping import LogMap
from fermata.intake.storing import Progress
from fermata.reports import files as report_files
from fermata.reports import run as runner
from fermata.reports.model import Report
from fermata.timeline import Calendar
from fermata.timeline.lengths import ago
from fermata.timeline.periods import Period
from fermata.timeline.zones import zone

__all__ = ["CONFIG", "Place", "Workspace", "open_workspace"]

CONFIG = "fermata.toml"
Clock = Callable[[], datetime]
TYPES = {
    "INTEGER": "int32",
    "BIGINT": "int64",
    "SMALLINT": "int16",
    "BOOLEAN": "boolean",
    "VARCHAR": "string",
    "VARCHAR[]": "array<string>",
    "TIMESTAMP": "timestamp(6)",
}


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


def _naive(at: datetime) -> datetime:
    return at.astimezone(UTC).replace(tzinfo=None)


def _discard(paths: Iterable[Path]) -> None:
    for path in paths:
        path.unlink(missing_ok=True)


def _clock(now: datetime | None) -> Clock:
    if now is None:
        return functools.partial(datetime.now, UTC)
    if now.tzinfo is None:
        raise RequestError(f"now = {now} has no zone; give an aware datetime")
    return lambda: now


@dataclass
class Place:
    """A workspace at one moment: what a run sees of it. A result keeps it, so its records come from the same state."""

    calendar: Calendar
    schemas: Mapping[str, LogSchema]
    mappings: Mapping[str, str]
    snapshot: Snapshot
    engine: DuckEngine
    views: dict[str, str]

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, aware UTC."""
        found = self.snapshot.manifest.log(log).extent
        return (found[0].replace(tzinfo=UTC), found[1].replace(tzinfo=UTC)) if found else None

    def until(self, log: str) -> datetime:
        """The end of what the log holds, aware UTC, excluded."""
        found = self.snapshot.manifest.log(log).until
        assert found  # asked for logs with events only
        return found.replace(tzinfo=UTC)

    def source(self, plan: Plan) -> Source:
        """Opens the events of the plan's period, strand by strand."""

        def open_strand(strand: Strand) -> tuple[DuckEngine, Any]:
            import ibis

            start, end = (t.replace(tzinfo=None) for t in (plan.stretch.start, plan.stretch.end))
            spans = strand.needs_spans or strand.schema.spans
            known = plan.known.astimezone(UTC).replace(tzinfo=None) if plan.known else None
            query = self.snapshot.events_sql(strand.schema, start, end, spans=spans, known=known)
            if query not in self.views:
                name = f"events_{len(self.views)}"
                self.engine.do(f"CREATE TEMP VIEW {name} AS {query}")
                self.views[query] = name
            columns = {c: TYPES[kind] for c, kind in strand.schema.columns.items()}
            return self.engine, ibis.table(columns, name=self.views[query])

        return open_strand


@dataclass
class Workspace:
    """A workspace, opened by `fermata.open`.

    >>> hall = fermata.open("quillmere")                                    # doctest: +SKIP
    >>> hall.log("doors").during("2026-03").by("place", "device").measure("count", "distinct user")  # doctest: +SKIP
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
        return DuckEngine()

    @functools.cached_property
    def schemas(self) -> dict[str, LogSchema]:
        """What each log's events hold."""
        zone = self.config.workspace.zone
        return {name: log.schema_of(name, zone) for name, log in self.config.logs.items()}

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
        )

    def mapping(self, log: str) -> LogMap:
        """How the log's records become events. Raises UnknownName."""
        if log not in self.config.logs:
            raise UnknownName.of("log", log, self.config.logs)
        return self.config.logs[log]

    def log(self, name: str) -> Question:
        """A question to one log, to be narrowed and grouped step by step. Raises UnknownName."""
        self.mapping(name)
        return Question(self, Report(log=name))

    def reports(self) -> list[str]:
        """The names of the workspace's own reports."""
        return report_files.names(self.reports_path)

    def definition(self, name: str) -> Report:
        """The report kept under `name`, or a plain count of the log of that name. Raises UnknownName, ConfigError."""
        if name in self.config.logs and name not in self.reports():
            return Report(log=name)
        return report_files.load(self.reports_path, name, tuple(self.config.logs))

    def report(self, name: str, **changes: Any) -> Result:
        """Runs the report kept under `name` with some keys changed for this run: `period="last month"`."""
        return self.run(self.definition(name).changed(**changes))

    def run(self, report: Report, *, explain: bool = False) -> Result:
        """Runs a report. With `explain`, the result says what each filter took away."""
        place = self.place()
        return Result(runner.run(report, place, self.now(), explained=explain), place)

    def describe(self, report: Report) -> list[tuple[str, str]]:
        """What a run would do, as (what, words), without running it."""
        return runner.describe(report, self.place(), self.now())

    def listing(self, report: Report, limit: int | None = None) -> Any:
        """The events a report's filters keep in its period, oldest first."""
        return runner.listing(report, self.place(), self.now(), limit)

    def step(self, report: Report, n: int) -> Report:
        """The report for the period `n` steps later (earlier if negative): the month before, the fortnight after."""
        calendar, place = self.config.workspace.calendar, self.place()
        extent = place.extent(report.log)
        whole = (extent[0], place.until(report.log)) if extent else None
        return report.changed(period=Period.parse(report.period, calendar).step(n, self.now(), whole).text)

    def files(self, log: str) -> list[Path]:
        """The files the log's `files` patterns match now, oldest records first; those of a zip archive one by one."""
        found: dict[Path, None] = {}
        for pattern in self.mapping(log).files:
            whole = pattern if Path(pattern).is_absolute() else f"{glob.escape(str(self.path))}/{pattern}"
            for path in opening.in_order(Path(n) for n in glob.glob(whole, recursive=True)):
                found.update(dict.fromkeys(opening.members(path, self.mapping(log).format)))
        return list(found)

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
        mapping = self.mapping(log)
        if holds_all and not mapping.key:
            raise RequestError(f"the log {log} has no key, so a missing entry cannot be told from one that never was")
        files, received, upto = self._sources(log, mapping, list(sources), progress)
        stretch = Period.parse(holds_all, self._calendar_of(log)).resolve(self.now()) if holds_all else None
        declared = Declared(
            complete_to=_naive(complete_to) if complete_to else None,
            holds_all=(_naive(stretch.start), _naive(stretch.end)) if stretch else None,
            mended=mended,
            upto=upto,
        )
        try:
            done = import_files(
                self.archive,
                mapping,
                self.schemas[log],
                files,
                base=self.path,
                now=_naive(self.now()),
                declared=declared,
                wait=wait,
                progress=progress,
            )
        except FermataError:
            _discard(received)
            raise
        _discard([p for p in received if any(o.unchanged and self.path / o.path == p for o in done)])
        return done

    def _calendar_of(self, log: str) -> Calendar:
        return dataclasses.replace(self.config.workspace.calendar, zone_name=self.schemas[log].zone)

    def _sources(
        self, log: str, mapping: LogMap, given: list[str | Path | IO[bytes]], progress: Progress
    ) -> tuple[list[Path], list[Path], str]:
        """The files to import, those of them kept for having no other place, and how far a query came."""
        from fermata.intake import database

        if mapping.database and not given:
            target = self._place_for(log, "parquet")
            held = self.archive.snapshot().manifest.log(log).files
            since = held[max(held)].upto if held and mapping.database.growing else ""
            progress(f"{log}: asking the database")
            rows, upto = database.fetch(mapping.database, target, self.path, since)
            return ([target], [target], upto) if rows else ([], [], upto)
        files, received = [], []
        for source in given:
            if isinstance(source, str | Path):
                files += opening.members(Path(source), mapping.format)
                continue
            target = self._place_for(log, "data")
            with target.open("wb") as out:
                shutil.copyfileobj(source, out)
            files.append(target)
            received.append(target)
        files = files or self.files(log)
        for path in files:
            if not opening.on_disk(path).is_file():
                raise RequestError(f"{path}: there is no such file")
        if not files:
            raise RequestError(
                f"the log {log} matches no file; its patterns: {', '.join(mapping.files) or 'none given'}"
            )
        return files, received, ""

    def _place_for(self, log: str, ending: str) -> Path:
        """A new name under `received/` for what comes without a file of its own."""
        folder = self.path / "received" / log
        folder.mkdir(parents=True, exist_ok=True)
        stamp = f"{self.now().astimezone(UTC):%Y%m%dT%H%M%SZ}"
        names = (folder / f"{stamp}{f'-{n}' if n else ''}.{ending}" for n in itertools.count())
        return next(p for p in names if not p.exists())

    def take_back(self, number: int, *, dry: bool = False, wait: float = 60) -> Removal:
        """Takes import `number` out of the archive; with `dry`, only says what would go. Raises RequestError, DataError."""
        return retention.take_back(self.archive, number, _naive(self.now()), dry=dry, wait=wait)

    def expire(self, log: str, older_than: str = "", *, dry: bool = False, wait: float = 60) -> Removal:
        """Drops the log's events that ended longer ago than `older_than` ("13 months"; the log's `keep_for` by default).

        Whole local days or months are counted back from today. Kept rejects and received copies of files wholly older
        go too. Raises RequestError.
        """
        text = older_than or self.mapping(log).keep_for
        if not text:
            raise RequestError(f'say how long {log} is kept: --older-than "13 months", or keep_for in [logs.{log}]')
        before = ago(text, self.now(), zone(self.schemas[log].zone))
        removal = retention.expire(self.archive, log, _naive(before), _naive(self.now()), dry=dry, wait=wait)
        if removal.done:
            files = self.archive.snapshot().manifest.log(log).files.values()
            past = [f for f in files if f.expired == f.events and f.path.startswith(f"received/{log}/")]
            _discard([self.path / f.path for f in past])
        return removal

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records: file, record number, line in the file where known, reason, text."""
        self.mapping(log)
        snapshot = self.archive.snapshot()
        live = snapshot.manifest.log(log).files
        paths = snapshot.rejects(log)
        if not paths:
            return []
        rows = self.engine.sql(
            f"SELECT file_id, record_no, line, reason, whole FROM {scan(paths)} ORDER BY ALL"
        ).to_pylist()
        return [{"file": live[r["file_id"]].path, **r} for r in rows if r["file_id"] in live]

    def source_record(self, log: str, record: str) -> dict[str, str]:
        """The whole record behind an event, unmapped columns too. `record` is `FILE:NUMBER` as listings show it.

        Raises RequestError for a record that does not exist, SourceError if the file is gone or has changed since.
        """
        from fermata.intake.source import whole_record

        mapping = self.mapping(log)
        return whole_record(mapping, self.archive.snapshot().manifest.log(log), self.path, record)
