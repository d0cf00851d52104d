"""A workspace as it is, whoever asks: its files, its engines, its logs and registers."""

from __future__ import annotations

import functools
import os
import tempfile
import threading
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from fermata.archive import Archive
from fermata.config.computed_fields import with_computed
from fermata.config.derived_logs import derived_schemas
from fermata.config.targets import with_targets
from fermata.config.workspace_file import Config
from fermata.engines.embedded import DuckEngine
from fermata.fields import LogSchema
from fermata.registers.directory import Directory
from fermata.reports.compile.calendars import Terms
from fermata.reports.compile.generated_logs import Pattern
from fermata.reports.definition import files as report_files
from fermata.reports.definition.report import Report
from fermata.workspace import last_run

if TYPE_CHECKING:
    from fermata.archive.shelf import Shelf
    from fermata.engines.postgresql import Held, Tables
    from fermata.engines.spark import Distributed

__all__ = ["Clock", "Whole"]

Clock = Callable[[], datetime]
T = TypeVar("T")
STARTING = threading.RLock()  # threads that share a workspace share one engine


@dataclass
class Whole:
    """A workspace with everything in it, at the moments of a `clock`."""

    path: Path
    config: Config
    clock: Clock

    @functools.cached_property
    def say(self) -> Callable[[str], None]:
        """Told what has to be waited for; it says nothing unless another is put in its place."""
        return lambda _: None

    @functools.cached_property
    def archive(self) -> Archive:
        """The events at rest."""
        return Archive(self.path / "archive")

    @property
    def shelf(self) -> Shelf:
        """Finished outputs, kept."""
        from fermata.archive.shelf import Shelf

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

    @property
    def reader(self) -> Distributed | None:
        """Spark over the archive, where the workspace asks for it; started when first needed, and connected to again
        where its server went away. None for the embedded engine.
        """
        asked = self.config.workspace.engine
        if asked.name != "spark":
            return None
        from fermata.engines.spark import spark

        with STARTING:
            if (known := self.__dict__.get("reader")) and known.engine.gone:
                known.engine.leave()
                del self.__dict__["reader"]
            return self._once("reader", lambda: spark(asked, self.archive.root, self.say))

    @functools.cached_property
    def tables(self) -> Tables | dict[str, Held]:
        """The logs that are read where they are, connected to when first needed."""
        logs = {n: log for n, log in self.config.logs.items() if log.in_place}
        if not logs:
            return {}
        from fermata.engines.postgresql import Tables

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

    def now(self) -> datetime:
        """The moment relative periods count from."""
        return self.clock()

    def as_written(self, name: str) -> Report:
        """The report kept under `name`, else the ready one, else a plain count of the log of that name; `last` is the
        last run. Raises UnknownName, ConfigError.
        """
        logs = (*self.config.logs, *self.config.derived, *self.config.targets)
        if last_run.EARLIER.fullmatch(name) and name not in self.own_reports():
            return last_run.last(self.path, name)
        if name in logs and name not in self.own_reports():
            return Report(log=name)
        return report_files.load(self.reports_path, name, logs)

    def own_reports(self) -> list[str]:
        """The names of the workspace's own reports."""
        return report_files.names(self.reports_path)

    @property
    def imported(self) -> list[str]:
        """The logs whose records are imported: all but derived ones and those read where they are."""
        return [name for name, log in self.config.logs.items() if not log.in_place]
