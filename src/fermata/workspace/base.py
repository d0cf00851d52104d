"""What every part of a workspace stands on: its files, its engine, its logs and registers as a viewer has them."""

from __future__ import annotations

import dataclasses
import functools
import os
import tempfile
import threading
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Self, TypeVar

from fermata.archive import Archive
from fermata.archive.shelf import Shelf
from fermata.config.computed_fields import with_computed
from fermata.config.derived_logs import derived_schemas
from fermata.config.targets import with_targets
from fermata.config.viewers import Known, view_of
from fermata.config.workspace_file import Config
from fermata.engines.embedded import DuckEngine
from fermata.engines.postgresql import Tables
from fermata.engines.spark import Distributed, spark
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.intake.mapping import LogMap
from fermata.registers.directory import Directory
from fermata.registers.scope import Scope
from fermata.reports.compile.access import View, names_unseen
from fermata.reports.compile.calendars import Terms
from fermata.reports.compile.generated_logs import Pattern
from fermata.reports.compile.request import Asking
from fermata.reports.definition import files as report_files
from fermata.reports.definition.report import Report
from fermata.reports.execute import answer as answers
from fermata.reports.result import Answer
from fermata.workspace import last_run
from fermata.workspace.place import Place

__all__ = ["Base", "Clock"]

Clock = Callable[[], datetime]
T = TypeVar("T")
STARTING = threading.RLock()  # threads that share a workspace share one engine


@dataclass
class Base:
    """A workspace as its parts see it. `viewer` names whose view of the data it gives; everything for "". With a
    `scope`, only what is within it.
    """

    path: Path
    config: Config
    clock: Clock
    viewer: str = ""
    scope: Scope | None = None

    @property
    def archive(self) -> Archive:
        """The events at rest."""
        return Archive(self.path / "archive")

    @property
    def shelf(self) -> Shelf:
        """Finished outputs, kept."""
        return Shelf(self.path / "shelf")

    @property
    def reports_path(self) -> Path:
        """Where the workspace's own reports are kept."""
        return self.path / "reports"

    @functools.cached_property
    def engine(self) -> DuckEngine:
        """The embedded engine, started when first needed."""
        spill = str(Path(tempfile.gettempdir()) / f"fermata-{os.getpid()}-{id(self)}")
        return self._once("engine", lambda: DuckEngine(spill=spill))

    @functools.cached_property
    def reader(self) -> Distributed | None:
        """Spark over the archive, where the workspace asks for it; started when first needed. None for the embedded
        engine.
        """
        asked = self.config.workspace.engine
        return self._once("reader", lambda: spark(asked, self.archive.root) if asked.name == "spark" else None)

    @functools.cached_property
    def tables(self) -> Tables:
        """The logs that are read where they are, connected to when first needed."""
        logs = {n: log for n, log in self.config.logs.items() if log.in_place}
        return self._once("tables", lambda: Tables(logs, self.stored_schemas, self.path))

    def _once(self, name: str, make: Callable[[], T]) -> T:
        """What is made once, and shared by all threads that ask the workspace."""
        with STARTING:
            if name not in self.__dict__:
                self.__dict__[name] = make()
            made: T = self.__dict__[name]
            return made

    @functools.cached_property
    def stored_schemas(self) -> dict[str, LogSchema]:
        """What the events of each log of the archive hold."""
        zone = self.config.workspace.zone
        return {name: log.schema_of(name, zone) for name, log in self.config.logs.items()}

    @functools.cached_property
    def whole_schemas(self) -> dict[str, LogSchema]:
        """What each log's events hold, derived ones and computed fields included. Raises ConfigError."""
        zone, registers = self.config.workspace.zone, self.whole_directory
        stored = with_computed(self.stored_schemas, self.config.computed, registers, tuple(self.config.derived))
        derived = with_targets(derived_schemas(self.config.derived, stored, zone, registers), self.config, registers)
        return with_computed(derived, self.config.computed, registers, tuple(stored))

    @functools.cached_property
    def view(self) -> View:
        """Whose view of the data this is. Raises UnknownName, RequestError, ConfigError."""
        known = Known(
            self.stored_schemas, self.whole_schemas, self.whole_directory, self.now(), self.as_written
        )  # fmt: skip
        found = view_of(self.viewer, self.config.viewers, self.config.privacy, self.path, known)
        if self.scope is None:
            return found
        if found.scope:
            raise RequestError(f"{found.words} sees a part already, which is not taken apart further")
        return dataclasses.replace(found, scope=self.scope, words=self.scope.words)

    @functools.cached_property
    def barred(self) -> dict[str, str]:
        """The logs that cannot be narrowed to what the viewer may see, and why."""
        found = {n: self.view.barred(s, self.whole_directory) for n, s in self.whole_schemas.items()}
        return {n: why for n, why in found.items() if why}

    @functools.cached_property
    def schemas(self) -> dict[str, LogSchema]:
        """The same as the viewer has it: without the logs that cannot be narrowed and the fields that are hidden."""
        whole = self.whole_schemas
        return {n: self.view.schema(s, self.whole_directory) for n, s in whole.items() if n not in self.barred}

    @functools.cached_property
    def terms(self) -> Terms:
        """Hours and factors. Raises ConfigError."""
        return self.config.terms.terms(self.path, self.config.workspace.workdays)

    @functools.cached_property
    def patterns(self) -> dict[str, Pattern]:
        """Working patterns. Raises UnknownName."""
        return self.config.terms.working_patterns(self.path)

    @functools.cached_property
    def whole_directory(self) -> Directory:
        """The registers of people and things."""
        return Directory(self.config.registers, self.path, self.config.workspace.zone)

    @functools.cached_property
    def directory(self) -> Directory:
        """The registers as the viewer has them."""
        return self.view.directory(self.whole_directory, self.stored_schemas.values())

    def at(self, moment: datetime) -> Self:
        """The same workspace as it would be asked at another moment (aware), on the same engine."""
        return self._beside(lambda: moment, self.viewer)

    def seen_by(self, viewer: str) -> Self:
        """The same workspace as the viewer of that name has it. Raises UnknownName."""
        found = self._beside(self.clock, viewer)
        _ = found.view
        return found

    def narrowed_to(self, scope: Scope) -> Self:
        """The same workspace with nothing in it but what is within the scope, under the same viewer. Raises
        RequestError.
        """
        found = self._beside(self.clock, self.viewer)
        found.scope = scope
        _ = found.view
        return found

    def _beside(self, clock: Clock, viewer: str) -> Self:
        """A workspace of the same files and scope that shares what does not depend on clock and viewer."""
        found = type(self)(self.path, self.config, clock, viewer, self.scope)
        for name in ("engine", "tables", "stored_schemas", "whole_schemas", "whole_directory"):
            setattr(found, name, getattr(self, name))
        found.__dict__.update({n: v for n, v in self.__dict__.items() if n == "reader"})  # once it is started
        return found

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
            lambda: self.reader,
            self.directory,
            {n: log for n, log in self.config.logs.items() if n not in self.barred},
            lambda: self.terms,
            lambda: self.patterns,
            lambda log: self.config.terms.days(self.config.logs[log].closed, f"logs.{log}.closed", self.path),
            lambda log: self.config.terms.told(self.config.logs[log].closed, self.path),
            self.definition,
            self.own_reports,
            self.view,
            self.barred,
            self.whole_directory,
            self.stored_schemas,
            self.tables,
            self.now(),
            self.config.workspace.standing(self.now()),
        )

    def definition(self, name: str) -> Report:
        """The report kept under `name`, else the ready one, else a plain count of the log of that name; `last` is the
        last run.

        For a viewer, an allowed report is what it was when the workspace was opened, and one whose filters name what
        they may not see is refused. Raises UnknownName, ConfigError, RequestError.
        """
        view = self.view
        if view.everything:
            return self.as_written(name)
        if last_run.EARLIER.fullmatch(name):
            raise RequestError(f"the last run is not for {view.words}: it may have been somebody else's")
        allowed = dict(view.reports)
        if name in allowed:
            return allowed[name]
        if allowed and name in self.own_reports():
            raise RequestError(f"{name} is not for {view.words}, who may run only {', '.join(allowed)}")
        found = self.as_written(name)
        if name in self.own_reports() and names_unseen(
            found, view, self.whole_schemas, self.whole_directory, self.directory
        ):
            raise RequestError(f"the report {name} is not for {view.words}: its filters name what they may not see")
        return found

    def as_written(self, name: str) -> Report:
        """The same, whoever asks. Raises UnknownName, ConfigError."""
        logs = (*self.config.logs, *self.config.derived, *self.config.targets)
        if last_run.EARLIER.fullmatch(name) and name not in self.own_reports():
            return last_run.last(self.path, name)
        if name in logs and name not in self.own_reports():
            return Report(log=name)
        return report_files.load(self.reports_path, name, logs)

    def own_reports(self) -> list[str]:
        """The names of the workspace's own reports."""
        return report_files.names(self.reports_path)

    def answer(self, report: Report, asking: Asking | None = None, *, place: Place | None = None) -> Answer:
        """The answer to a report as its viewer may have it: compiled, then carried out. Raises UnknownName,
        RequestError, DataError.
        """
        return answers.answer(report, place or self.place(), self.now(), asking)

    @property
    def imported(self) -> list[str]:
        """The logs whose records are imported: all but derived ones and those read where they are."""
        return [name for name, log in self.config.logs.items() if not log.in_place]

    def mapping(self, log: str) -> LogMap:
        """How the log's records become events. Raises UnknownName."""
        if log in self.config.derived:
            raise RequestError(
                f"{log} has no records of its own; it is made from {', '.join(self.known(log).stored_logs)}"
            )
        if log not in self.config.logs:
            raise UnknownName.of("log", log, self.config.logs)
        return self.config.logs[log]

    def known(self, log: str) -> LogSchema:
        """What a log's events hold, derived logs included. Raises UnknownName."""
        if log in self.barred:
            raise RequestError(self.barred[log])
        if log not in self.schemas:
            raise UnknownName.of("log", log, self.schemas)
        return self.schemas[log]
