"""What is asked of a log's records where they are not imported: the same queries over a table of a database, and over
what was brought of it.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime

from fermata.archive.duck import ident
from fermata.fields import LogSchema
from fermata.intake.localtime import windows, within
from fermata.intake.mapping import LogMap
from fermata.intake.parts import Part
from fermata.intake.raw_times import DAY

__all__ = ["STORED", "Questions"]

STORED = {
    "VARCHAR": "text", "BIGINT": "bigint", "INTEGER": "integer", "SMALLINT": "smallint", "BOOLEAN": "boolean",
    "VARCHAR[]": "text[]", "TIMESTAMP": "timestamp",
}  # fmt: skip


@dataclass(frozen=True)
class Questions(ABC):
    """Queries over records whose mapping has been applied."""

    log: LogMap
    schema: LogSchema

    @property
    @abstractmethod
    def parts(self) -> list[Part]:
        """The events a record gives, as columns of `records`."""

    @property
    @abstractmethod
    def number(self) -> str:
        """The column of `records` with the record's number."""

    @abstractmethod
    def records(self, where: str, *, first: str = "") -> str:
        """A query of the records under a condition, `bad` saying why one is refused; of those chosen only the ones that
        `first` (an order with a limit) leaves.
        """

    @abstractmethod
    def within(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """A condition that holds for all records of naive UTC [start, end), and may for others; "" where there is
        none.
        """

    @abstractmethod
    def or_nothing(self, start: datetime, end: datetime) -> str:
        """The same, or that a record has no time."""

    def events(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """A query over the events that may matter for naive UTC [start, end), in the schema's columns: those that start
        in it, and with `spans` those that reach into it.
        """
        return self._events(self.within(start, end, spans=spans))

    def every(self) -> str:
        """A query over all events."""
        return self._events("")

    def _events(self, where: str) -> str:
        records = self.records(where)
        return " UNION ALL ".join(
            f"SELECT {self._listed(i)} FROM ({records}) AS r WHERE {self.stands(i)}" for i in range(len(self.parts))
        )

    def _listed(self, number: int) -> str:
        part = self.parts[number]
        given = {
            "start_utc": part.start, "finish_utc": part.finish, **{f.stored: part.fields.get(f.name,
            "") for f in self.schema.fields},
            "file_id": "0", "record_no": self.number, "event_no": str(number),
        }  # fmt: skip
        return ", ".join(
            f"CAST({given[c] or 'NULL'} AS {STORED[kind]}) AS {ident(c)}" for c, kind in self.schema.columns.items()
        )

    def stands(self, number: int) -> str:
        """The condition that a record gives the event of that number."""
        return f"bad IS NULL AND {self.parts[number].start} IS NOT NULL"

    def refusals(self, start: datetime, end: datetime) -> str:
        """A query of the reasons why records of naive UTC [start, end), or without a time, are refused: reason, n."""
        return (
            f"SELECT bad, count(*) AS n FROM ({self.records(self.or_nothing(start, end))}) AS r WHERE bad IS "
            "NOT NULL GROUP BY bad"
        )

    def refused(self, most: int) -> str:
        """A query of the refused records of the whole table: record, reason; at most so many, the first by number."""
        number = self.number
        return (
            f"SELECT {number} AS record_no, bad FROM ({self.records('')}) AS r WHERE bad IS NOT NULL ORDER BY "
            f"{number} LIMIT {most}"
        )

    def fates(self) -> str:
        """A query of how many rows of the table the mapping selects, and how many of these are refused."""
        return f"SELECT count(*) AS chosen, count(bad) AS rejected FROM ({self.records('')}) AS r"

    def unclear(self, start: datetime, end: datetime) -> str:
        """A query of how many local times of naive UTC [start, end) happened twice, and how many never; "" where none
        can have.
        """
        walls = [w for p in self.parts for w in p.walls.values()]
        told = []
        for back in (True, False):
            found = windows(self.schema.zone, start - DAY, end + DAY, sets_back=back)
            told.append(" OR ".join(within(w, found) for w in walls) if found and walls else "false")
        if told == ["false", "false"]:
            return ""
        counts = f"count(*) FILTER (WHERE {told[0]}) AS twice, count(*) FILTER (WHERE {told[1]}) AS never"
        records = self.records(self.within(start, end, spans=False))
        return f"SELECT {counts} FROM ({records}) AS r WHERE bad IS NULL"
