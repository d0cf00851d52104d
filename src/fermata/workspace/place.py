"""A workspace at one moment, as runs see it: the logs, their state, and the one way to their events."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any

from fermata.analysis.combine import Source
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Rounding, Strand
from fermata.archive import LogState, Snapshot
from fermata.archive.duck import scan
from fermata.engines.embedded import TYPES, DuckEngine, Engine
from fermata.errors import RequestError
from fermata.fields import LogSchema
from fermata.intake.mapping import LogMap
from fermata.registers.directory import Directory
from fermata.reports.compile.access import View
from fermata.reports.compile.calendars import Terms
from fermata.reports.compile.generated_logs import Given, Pattern
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.timeline import Calendar, Stretch
from fermata.timeline.lengths import exact

if TYPE_CHECKING:
    from fermata.engines.postgresql import Held, Tables
    from fermata.engines.spark import Distributed

__all__ = ["Place", "widened"]


@dataclass
class Place:
    """A workspace at one moment: what a run sees of it. A result keeps it, so its records come from the same state."""

    calendar: Calendar
    schemas: Mapping[str, LogSchema]
    mappings: Mapping[str, str]
    snapshot: Snapshot
    engine: DuckEngine
    distributed: Callable[[], Distributed | None]
    registers: Directory
    logs: Mapping[str, LogMap]
    declared: Callable[[], Terms]
    working: Callable[[], Mapping[str, Pattern]]
    closed: Callable[[str], tuple[date, ...]]
    closed_told: Callable[[str], list[str]]
    definition: Callable[[str], Report]
    own_reports: Callable[[], list[str]]
    view: View
    barred: Mapping[str, str]
    whole_registers: Directory
    stored: Mapping[str, LogSchema]
    tables: Tables | dict[str, Held]
    now: datetime
    stands: str = ""
    absences: dict[str, tuple[tuple[str, datetime, datetime], ...]] = field(default_factory=dict)
    ends: dict[str, tuple[datetime, datetime, datetime] | None] = field(default_factory=dict)
    stack: ExitStack | None = None  # of a run
    running: dict[str, Held] = field(default_factory=dict)  # tables as a run reads them

    @property
    def reader(self) -> Distributed | None:
        """Spark over the archive, if the workspace asks for it; started when first needed."""
        return self.distributed()

    @property
    def worker(self) -> Engine:
        """The engine that the archive's events are worked out on."""
        return self.reader.engine if self.reader else self.engine

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """While it lasts, all events are those of one moment, also where they are read in a database."""
        with self.engine.keeping():
            if self.stack:  # a part of a run, which sees what the run does
                yield
                return
            with ExitStack() as self.stack:
                try:
                    yield
                finally:
                    self.stack = None
                    self.running.clear()

    def held(self, log: str) -> Held | None:
        """The table of a log that is read where it is; None for logs of the archive and derived ones."""
        found = self.tables.get(log)
        if not found or not self.stack:
            return found
        if log not in self.running:
            self.stack.enter_context(found.engine.keeping())
            self.running[log] = found.during_a_run(self.engine)
        return self.running[log]

    def state(self, log: str) -> LogState:
        """What the archive holds of a log; of one read where it is, its table as if it were a file."""
        held = self.held(log)
        return held.state(self.mappings[log]) if held else self.snapshot.manifest.log(log)

    def counted(self, log: str) -> LogState:
        """The same with the numbers of records, which of a table takes reading all of it."""
        held = self.held(log)
        return held.counted(self.mappings[log]) if held else self.snapshot.manifest.log(log)

    def _ends(self, log: str) -> tuple[datetime, datetime, datetime] | None:
        """First and last start and the end of a stored log, naive UTC; asked of a table once."""
        held = self.held(log)
        if held is None:
            state = self.snapshot.manifest.log(log)
            return (*state.extent, state.until) if state.extent and state.until else None
        if log not in self.ends:
            self.ends[log] = held.ends()
        return self.ends[log]

    @property
    def terms(self) -> Terms:
        """Hours and factors, read when first asked for."""
        return self.declared()

    def gap(self, log: str) -> timedelta | None:
        """The longest silence the log's mapping declares to be usual, if it does."""
        text = self.logs[log].gap
        return exact(text) if text else None

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records: file, record number, line in the file where known, reason, text."""
        if held := self.held(log):
            return held.rejects()
        live, paths = self.snapshot.manifest.log(log).files, self.snapshot.rejects(log)
        if not paths:
            return []
        rows = self.engine.sql(
            f"SELECT file_id, record_no, line, reason, whole FROM {scan(paths)} ORDER BY ALL"
        ).to_pylist()
        return [{"file": live[r["file_id"]].path, **r} for r in rows if r["file_id"] in live]

    def versions(self, log: str) -> tuple[list[dict[str, Any]], dict[tuple[int, int], dict[str, Any]]]:
        """The versions of the log's entries that were replaced or deleted, and by (file, record) those in their
        place.
        """
        old, new = self.snapshot.versions_sql(self.schemas[log])
        if not old:
            return [], {}
        later = self.engine.sql(new).to_pylist()
        return self.engine.sql(old).to_pylist(), {(r["file_id"], r["record_no"]): r for r in later}

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, aware UTC; of a derived log, of those it is made from."""
        found = [e for n in self.schemas[log].stored_logs if (e := self._ends(n))]
        if not found:
            return None
        first, last = min(e[0] for e in found).replace(tzinfo=UTC), max(e[1] for e in found).replace(tzinfo=UTC)
        return (
            (_hour(first), _hour(last)) if self.view.scope or self.view.smallest else (first, last)
        )  # whose the outermost record is, is kept back

    def until(self, log: str) -> datetime:
        """The end of what the log holds, aware UTC, excluded."""
        found = [e for n in self.schemas[log].stored_logs if (e := self._ends(n))]
        until = max(e[2] for e in found).replace(tzinfo=UTC)  # asked for logs with events only
        return _hour(until) + timedelta(hours=1) if self.view.scope or self.view.smallest else until

    def source(self, plan: Plan) -> Source:
        """Opens the events of the plan's period, strand by strand."""

        def open_strand(strand: Strand) -> tuple[Engine, Any]:
            stretch = strand.stretch or plan.stretch
            schema = strand.schema
            if schema.derivation is not None:
                return self.worker, self._generated(schema, plan, stretch)
            held = self.stored.get(schema.name, schema)
            start, end = widened(stretch, strand.reach, strand.rounding)
            engine, seen = self.events(held, start, end, spans=strand.needs_spans or held.spans, known=plan.known)
            return engine, seen if self.view.everything else seen.select(*schema.columns)

        return open_strand

    def events(
        self, held: LogSchema, start: datetime, end: datetime, *, spans: bool, known: datetime | None
    ) -> tuple[Engine, Any]:
        """What the viewer has of a stored log's events that may matter for naive UTC [start, end), and the engine whose
        table it is.
        """
        engine, table = self._events(held, start, end, spans, known)
        if self.view.everything:
            return engine, table
        return engine, self.view.events(engine, table, held, self.whole_registers, start, end)

    def _events(
        self, held: LogSchema, start: datetime, end: datetime, spans: bool, known: datetime | None
    ) -> tuple[Engine, Any]:
        if apart := self.held(held.name):
            if known:
                raise RequestError(f"{held.name} is read where it is; what was known of it at another time is not kept")
            return apart.worker, apart.events(start, end, spans=spans)
        at = known.astimezone(UTC).replace(tzinfo=None) if known else None
        query = self.snapshot.events_sql(held, start, end, spans=spans, known=at, reader=self.reader)
        if self.stack and self.reader:
            self.stack.enter_context(self.worker.keeping())
        return self.worker, self.worker.view(query, {c: TYPES[kind] for c, kind in held.columns.items()})

    def _generated(self, schema: LogSchema, plan: Plan, stretch: Stretch) -> Any:
        """The events of a generated log, as a small table on the engine."""
        made = schema.derivation
        absences = getattr(made, "absences", "")
        until = self.until(schema.name) if self.extent(schema.name) else None
        away = self.away(absences, plan) if absences else ()
        given = Given(self.registers, self.working(), self.now, until, schema.zone, self.terms.workdays, away)
        rows = [(*row, 0, n, 0) for n, row in enumerate(made.rows(given, stretch), 1)]
        kinds = {"VARCHAR": "text", "BIGINT": "number", "INTEGER": "number", "SMALLINT": "number", "TIMESTAMP": "time"}
        columns = {c: kinds[kind] for c, kind in schema.columns.items()}
        name = "made_" + hashlib.sha256(repr((columns, rows)).encode()).hexdigest()[:16]
        empty = [(datetime(1900, 1, 1), *(None for _ in list(columns)[1:]))]  # no row: one that no period holds
        return self.worker.lookup(name, columns, rows or empty)

    def away(self, log: str, plan: Plan) -> tuple[tuple[str, datetime, datetime], ...]:
        """The spans of a log of absences, by who was away."""
        if log not in self.absences:
            if not self.schemas[log].spans:
                raise RequestError(f"absences: the log {log} has no finish and no duration")
            if self.extent(log) is None:
                return ()
            found = resolve(Report.of(log=log, columns=["distinct user"]), self, plan.stretch.end)
            engine, table = opened(found.strands[0], self.source(found))
            rows = engine.run(
                table.filter(table.finish_utc.notnull()).select("person", "start_utc", "finish_utc")
            ).to_pylist()
            self.absences[log] = tuple(
                (r["person"], r["start_utc"].replace(tzinfo=UTC), r["finish_utc"].replace(tzinfo=UTC)) for r in rows
            )
        return self.absences[log]


def _hour(at: datetime) -> datetime:
    return at.replace(minute=0, second=0, microsecond=0)


def widened(stretch: Stretch, reach: timedelta, rounding: Rounding | None = None) -> tuple[datetime, datetime]:
    """What must be read, naive UTC: the period, as far as derived logs reach, and a rounded span's step."""
    start, end = (t.replace(tzinfo=None) for t in (stretch.start, stretch.end))
    more = reach + (timedelta(microseconds=rounding.step) if rounding else timedelta(0))
    first, last = datetime(1900, 1, 1), datetime(9000, 1, 1)
    return (start - more if start - first > more else first), (end + reach if last - end > reach else last)
