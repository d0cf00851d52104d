"""A workspace as whoever carries out a request needs it."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager
from datetime import datetime
from typing import Any, Protocol

from fermata.analysis.combine import Source
from fermata.analysis.plan import Plan
from fermata.archive import LogState, Snapshot
from fermata.engines.embedded import DuckEngine
from fermata.reports.compile.resolve import Logs
from fermata.reports.definition.report import Report

__all__ = ["Held", "Workplace"]


class Held(Protocol):
    """A log that is read where it is."""

    @property
    def told(self) -> str:
        """Where it is read, and what that means for a result."""

    def refusals(self, start: datetime, end: datetime) -> tuple[dict[str, int], int, int]:
        """Of naive UTC [start, end): refused records by reason, local times that happened twice, and those that never
        did.
        """


class Workplace(Logs, Protocol):
    """A workspace as the runner needs it: its logs, their state, and a way to open their events."""

    engine: DuckEngine
    snapshot: Snapshot
    mappings: Mapping[str, str]
    logs: Mapping[str, Any]
    now: datetime
    stands: str

    def definition(self, name: str) -> Report:
        """The report kept, or ready, under a name. Raises UnknownName, ConfigError."""

    def own_reports(self) -> list[str]:
        """The names of the workspace's own reports."""

    def state(self, log: str) -> LogState:
        """What the archive holds of a log; of one read where it is, its table as if it were a file."""

    def counted(self, log: str) -> LogState:
        """The same with the numbers of records, which of a table takes reading all of it."""

    def held(self, log: str) -> Held | None:
        """The table of a log that is read where it is; None for logs of the archive."""

    def keeping(self) -> AbstractContextManager[None]:
        """While it lasts, all events are those of one moment."""

    def versions(self, log: str) -> tuple[list[dict[str, Any]], dict[tuple[int, int], dict[str, Any]]]:
        """The versions of the log's entries that were replaced or deleted, and by (file, record) those in their
        place.
        """

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records."""

    def source(self, plan: Plan) -> Source:
        """Opens a strand's events for the plan's period: the only way to events there is."""
