"""What every part of a workspace stands on: its files, its engine, its logs and registers as a viewer has them."""

from __future__ import annotations

import dataclasses
import functools
from dataclasses import dataclass
from datetime import datetime
from typing import Self

from fermata.config.viewers import Known, view_of
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.intake.mapping import LogMap
from fermata.registers.directory import Directory
from fermata.registers.scope import Scope
from fermata.reports.compile.access import View, names_unseen
from fermata.reports.compile.request import Asking
from fermata.reports.definition.report import Report
from fermata.reports.execute import answer as answers
from fermata.reports.result import Answer
from fermata.workspace import last_run
from fermata.workspace.place import Place
from fermata.workspace.whole import Clock, Whole

__all__ = ["Base"]

SHARED = ("say", "archive", "engine", "tables", "mappings", "stored_schemas", "whole_schemas", "whole_directory")


@dataclass
class Base(Whole):
    """A workspace as its parts see it. `viewer` names whose view of the data it gives; everything for "". With a
    `scope`, only what is within it.
    """

    viewer: str = ""
    scope: Scope | None = None

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
        for name in (
            "say",
            "archive",
            "engine",
            "tables",
            "mappings",
            "stored_schemas",
            "whole_schemas",
            "whole_directory",
        ):
            setattr(found, name, getattr(self, name))
        found.__dict__.update({n: v for n, v in self.__dict__.items() if n == "reader"})  # once it is started
        return found

    @functools.cached_property
    def mappings(self) -> dict[str, str]:
        """What decides how the records of each log become events, as a digest."""
        return {name: log.digest(self.config.workspace.zone) for name, log in self.config.logs.items()}

    def place(self) -> Place:
        """The workspace as it is at this moment."""
        return Place(
            self.config.workspace.calendar,
            self.schemas,
            self.mappings,
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
        try:
            found = self.as_written(name)
        except UnknownName:
            if allowed:  # no other is proposed
                raise UnknownName.of("report", name, allowed) from None
            raise
        if name in self.own_reports() and names_unseen(
            found, view, self.whole_schemas, self.whole_directory, self.directory
        ):
            raise RequestError(f"the report {name} is not for {view.words}: its filters name what they may not see")
        return found

    def answer(self, report: Report, asking: Asking | None = None, *, place: Place | None = None) -> Answer:
        """The answer to a report as its viewer may have it: compiled, then carried out. Raises UnknownName,
        RequestError, DataError.
        """
        return answers.answer(report, place or self.place(), self.now(), asking)

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
