"""The logs of a workspace that stay in a PostgreSQL table: connections that may only read, and what the tables hold."""

from __future__ import annotations

import dataclasses
import functools
import re
import threading
import weakref
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fermata.archive import LogState, SourceFile
from fermata.engines.embedded import TYPES, DuckEngine, Engine
from fermata.engines.remote import PostgresEngine
from fermata.errors import DataError, RequestError
from fermata.fields import LogSchema
from fermata.intake import database
from fermata.intake.brought import brought
from fermata.intake.inplace import InPlace, quoted
from fermata.intake.mapping import DatabaseMap, LogMap
from fermata.intake.native import FAMILIES
from fermata.intake.questions import Questions

__all__ = ["Held", "Tables"]

MOST_REJECTS = 10_000  # refused records of a table that are listed
LOOKED_BACK = timedelta(days=31)  # the latest finish is looked for among the starts of the last so many days
NEAR = timedelta(days=2)


@dataclass(frozen=True)
class Held:
    """A log in a table, and the engine that reads it; with `here`, the engine that its records are brought to, where
    its times cannot be compared.
    """

    at: InPlace
    engine: PostgresEngine
    here: DuckEngine | None = None

    def during_a_run(self, here: DuckEngine) -> Held:
        """The same while a run lasts, in which no table is read more than once to know its times."""
        return self if self.at.compared else dataclasses.replace(self, here=here)

    @property
    def told(self) -> str:
        """Where it is read, and what that means for a result."""
        version = self.engine.con.con.info.server_version
        return (
            f"{self.at.schema.name} is read where it is ({self.at.table}, PostgreSQL "
            f"{version // 10000}.{version % 10000}): there is no "
            "snapshot of it, and the same report may give other figures later"
        )

    @property
    def worker(self) -> Engine:
        """The engine that its events are worked out on."""
        return self.here or self.engine

    @functools.cached_property
    def asked(self) -> Questions:
        """The queries to `worker`; records are brought when they are first asked about."""
        if self.here is None:
            return self.at
        found = brought(self.at)
        source = self.engine.view(found.query, {c: TYPES[kind] for c, kind in found.columns.items()})
        self.here.bring(found.name, functools.partial(self.engine.stream, source))
        return found

    def _rows(self, query: str) -> list[tuple[Any, ...]]:
        """The rows of a query to `worker`."""
        if self.here is None:
            return self.engine.rows(query)
        return list(zip(*(c.to_pylist() for c in self.here.sql(query).columns), strict=True))

    def events(self, start: datetime, end: datetime, *, spans: bool) -> Any:
        """The events that may matter for naive UTC [start, end), as a table of the worker."""
        columns = {c: TYPES[kind] for c, kind in self.at.schema.columns.items()}
        return self.worker.view(self.asked.events(start, end, spans=spans), columns)

    def ends(self) -> tuple[datetime, datetime, datetime] | None:
        """First and last start, and the end of what the table holds, naive UTC; the end is the latest finish of the
        last month's events, or just past the last start.
        """
        first = self._one(self.at.outermost(last=False)) if self.at.compared else None
        last = self._one(self.at.outermost(last=True)) if first else None
        if first is None or last is None:  # every time has to be read
            first, last, latest = self._rows(
                f"SELECT min(start_utc), max(start_utc), max(finish_utc) FROM ({self.asked.every()}) AS e"
            )[0]
            return (first, last, max(last + timedelta(microseconds=1), latest or last)) if first else None
        around = [self.at.events(t - NEAR, t + NEAR, spans=False) for t in (first, last)]
        first = self._one(f"SELECT min(start_utc) FROM ({around[0]}) AS e")
        last = self._one(f"SELECT max(start_utc) FROM ({around[1]}) AS e")
        latest = None
        if self.at.schema.spans:
            month = self.at.events(last - LOOKED_BACK, last + NEAR, spans=False)
            latest = self._one(f"SELECT max(finish_utc) FROM ({month}) AS e")
        return first, last, max(last + timedelta(microseconds=1), latest or last)

    def _one(self, query: str) -> Any:
        return self._rows(query)[0][0]

    def refusals(self, start: datetime, end: datetime) -> tuple[dict[str, int], int, int]:
        """Of naive UTC [start, end): refused records by reason, local times that happened twice, and those that never
        did.
        """
        query = self.asked.unclear(start, end)
        twice, never = self._rows(query)[0] if query else (0, 0)
        return {str(why): int(n) for why, n in self._rows(self.asked.refusals(start, end))}, twice, never

    def rejects(self) -> list[dict[str, Any]]:
        """The refused records, the first by number: file (the table), record number and reason; the row itself is in
        the table.
        """
        alike = {"file": self.at.table, "file_id": 0, "line": None, "whole": None}
        found = self._rows(self.asked.refused(MOST_REJECTS))
        return [{**alike, "record_no": number, "reason": reason} for number, reason in found]

    def state(self, mapping: str) -> LogState:
        """The table as if it were a file of the archive, without the numbers of its records."""
        return LogState(files={0: _file(self.at.table, mapping)})

    def counted(self, mapping: str) -> LogState:
        """The same with the numbers of its records, and how often each action and outcome occurs."""
        read = self.engine.rows(self.at.size)[0][0]
        chosen, rejected = self._rows(self.asked.fates())[0]
        events = self._one(f"SELECT count(*) FROM ({self.asked.every()}) AS e")
        values = {
            name: {
                str(v): n
                for v, n in self._rows(
                    f"SELECT {name}, count(*) FROM ({self.asked.every()}) AS e WHERE {name} IS NOT NULL GROUP BY 1"
                )
            }
            for name in ("action", "outcome")
            if name in self.at.schema.by_name
        }
        skipped = {"outside the selection": read - chosen} if read > chosen else {}
        ends = self.ends()
        first, last = (t.isoformat() for t in ends[:2]) if ends else (None, None)
        more = {"read": read, "stored": chosen - rejected, "rejected": rejected, "skipped": skipped, "events": events}
        return LogState(files={0: _file(self.at.table, mapping, **more, values=values, first=first, last=last)})

    def whole(self, record: str) -> dict[str, str]:
        """The whole row behind an event, unmapped columns too; `record` is `0:NUMBER`, as listings show it. Raises
        RequestError.
        """
        file, _, number = record.partition(":")
        if file != "0" or not re.fullmatch(r"-?\d+", number):
            raise RequestError(f"{record!r} is no record of {self.at.table}; write 0:NUMBER, as listings show it")
        rows = self.engine.dicts(self.at.row(int(number)))
        if not rows:
            raise RequestError(f"{self.at.table} has no row whose {self.at.record} is {number}")
        return {name: "" if value is None else str(value) for name, value in rows[0].items()}


def _file(table: str, mapping: str, **more: Any) -> SourceFile:
    numbers = {"read": 0, "stored": 0, "duplicate": 0, "rejected": 0, "skipped": {}, "events": 0, **more}
    return SourceFile(0, table, "", 0, 0, mapping, **numbers)


CONNECTING = 10  # seconds that connecting may take
LOCKED = 10  # seconds that a table may be locked by others


class Tables(threading.local):
    """The tables of the logs read where they are, by the log's name; each thread makes a connection when it first asks
    for one.
    """

    def __init__(self, logs: Mapping[str, LogMap], schemas: Mapping[str, LogSchema], base: Path) -> None:
        self.logs, self.schemas, self.base = logs, schemas, base
        self.engines: dict[tuple[Any, ...], PostgresEngine] = {}
        self.found: dict[str, Held] = {}

    def get(self, name: str) -> Held | None:
        """The table of that log, None for other logs. Raises RequestError, UnknownName, DataError."""
        if name not in self.logs:
            return None
        if name not in self.found or self.found[name].engine.con.con.closed:
            self.found[name] = self._open(name)
        return self.found[name]

    def _open(self, name: str) -> Held:
        log = self.logs[name]
        assert log.database
        asked = log.database
        key = (asked.address_env, asked.address_file, asked.address, asked.timeout)
        engine = self.engines.get(key)
        if engine is None or engine.con.con.closed:
            engine = self.engines[key] = connect(asked, self.base)
        at = InPlace(log, self.schemas[name], families(engine, asked.table))
        _ = at.every()  # what the mapping asks for and cannot have is told before anything is read
        return Held(at, engine)


def connect(asked: DatabaseMap, base: Path) -> PostgresEngine:
    """A connection that may only read, and whose questions end after the time allowed. Raises RequestError,
    DataError.
    """
    url = database.address(asked, base)
    if not url.drivername.startswith("postgresql"):
        raise RequestError("a log is read where it is in PostgreSQL only; give a query, and its rows are imported")
    try:
        import psycopg
        from ibis.backends.postgres import Backend
    except ImportError:
        raise RequestError("reading in PostgreSQL needs its driver: pip install 'fermata[postgres]'") from None
    try:
        parts = {
            "host": url.host,
            "port": url.port,
            "user": url.username,
            "password": url.password,
            "dbname": url.database,
        }
        usual = {"application_name": "fermata", "connect_timeout": CONNECTING}
        info = psycopg.conninfo.make_conninfo("", **{**usual, **parts, **url.query})
        con = psycopg.connect(info, autocommit=True)
        con.execute("SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY")
        con.execute(f"SET statement_timeout = '{asked.timeout}s'; SET lock_timeout = '{LOCKED}s'")
        con.execute("SET enable_nestloop = off")  # a register is a list of values, of whose length a plan knows nothing
        con.execute("SET TimeZone = 'UTC'")
        con.execute("SET DateStyle = 'ISO'")
    except psycopg.Error as e:
        told = re.sub(r"://[^@\s]*@", "://...@", str(e).strip().splitlines()[0] if str(e).strip() else type(e).__name__)
        raise DataError(f"the database cannot be reached: {told}") from None
    backend = Backend()
    backend.con = con  # without what Ibis sets up for pandas
    engine = PostgresEngine(backend)
    weakref.finalize(engine, con.close)
    return engine


def families(engine: PostgresEngine, table: str) -> dict[str, str]:
    """What each column of a table or view holds. Raises DataError."""
    import psycopg

    try:
        cursor = engine.con.con.execute(f"SELECT * FROM {quoted(table)} LIMIT 0")
    except psycopg.Error as e:
        raise DataError(f"the table {table} cannot be read: {str(e).splitlines()[0]}") from None
    found = {}
    for column in cursor.description or ():
        info = engine.con.con.adapters.types.get(column.type_code)
        kind = "" if info is None else f"_{info.name}" if info.array_oid == column.type_code else info.name
        found[column.name] = FAMILIES.get(kind, "text")
    return found
