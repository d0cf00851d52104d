"""What every part of a workspace stands on: its files, its engine, its logs and registers as a viewer has them."""

from __future__ import annotations

import dataclasses
import functools
import os
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Self

from fermata.analysis.engine import DuckEngine
from fermata.api.computed import with_computed
from fermata.api.config import Config
from fermata.api.derived import derived_schemas
from fermata.api.distributed import Distributed, spark
from fermata.api.place import Place
from fermata.api.tables import Tables
from fermata.api.viewers import view_of
from fermata.archive import Archive
from fermata.delivery.shelf import Shelf
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.intake.mapping import LogMap
from fermata.registers.directory import Directory
from fermata.registers.scope import Scope
from fermata.reports.generated import Pattern
from fermata.reports.model import Report
from fermata.reports.terms import Terms
from fermata.reports.viewing import View

__all__ = ["Base", "Clock"]

Clock = Callable[[], datetime]


@dataclass
class Base(ABC):
    """A workspace without what people ask of it. `viewer` names whose view of the data it gives; everything for "". With a `scope`, only
    what is within it.
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
    def reports_path(self) -> Path:
        """Where the workspace's own reports are kept."""
        return self.path / "reports"

    @property
    def shelf(self) -> Shelf:
        """Finished outputs, kept; only for who sees everything. Raises RequestError."""
        self.view.refuse("the shelf")
        return Shelf(self.path / "shelf")

    @functools.cached_property
    def engine(self) -> DuckEngine:
        """The embedded engine, started when first needed."""
        return DuckEngine(spill=str(Path(tempfile.gettempdir()) / f"fermata-{os.getpid()}-{id(self)}"))

    @functools.cached_property
    def reader(self) -> Distributed | None:
        """Spark over the archive, where the workspace asks for it; started when first needed. None for the embedded engine."""
        asked = self.config.workspace.engine
        return spark(asked, self.archive.root) if asked.name == "spark" else None

    @functools.cached_property
    def tables(self) -> Tables:
        """The logs that are read where they are, connected to when first needed."""
        return Tables({n: log for n, log in self.config.logs.items() if log.in_place}, self.stored_schemas, self.path)

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
        derived = derived_schemas(self.config.derived, stored, zone, registers)
        return with_computed(derived, self.config.computed, registers, tuple(stored))

    @functools.cached_property
    def view(self) -> View:
        """Whose view of the data this is. Raises UnknownName, RequestError, ConfigError."""
        found = view_of(self, self.viewer)
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
        """The same workspace with nothing in it but what is within the scope, under the same viewer. Raises RequestError."""
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
            self.definition,
            self.reports,
            self.view,
            self.barred,
            self.whole_directory,
            self.stored_schemas,
            self.tables,
        )

    @abstractmethod
    def definition(self, name: str) -> Report:
        """The report kept, or ready, under a name."""

    @abstractmethod
    def reports(self) -> list[str]:
        """The names of the workspace's own reports."""

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
