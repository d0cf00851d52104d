"""Events put where an engine finds them, and a report run over them without a workspace or files."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa

from fermata.analysis import combine, drill
from fermata.analysis.finish import finish
from fermata.analysis.plan import Plan
from fermata.analysis.table import Table
from fermata.engines.embedded import TYPES, DuckEngine
from fermata.engines.remote import PostgresEngine, SparkEngine
from fermata.fields import Field, LogSchema
from fermata.registers.directory import Directory
from fermata.reports.compile.access import EVERYTHING
from fermata.reports.compile.calendars import Terms
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.timeline import Calendar
from tests.reference import Event

SCHEMA = LogSchema(
    "log",
    (
        Field("user"),
        Field("device"),
        Field("action"),
        Field("pages", "number", "pages"),
        Field("cost", "money", "EUR", 2),
        Field("tags", "tags"),
    ),
    spans=True,
)
ARROW = {
    "TIMESTAMP": pa.timestamp("us"),
    "VARCHAR": pa.string(),
    "BIGINT": pa.int64(),
    "INTEGER": pa.int32(),
    "SMALLINT": pa.int16(),
    "VARCHAR[]": pa.list_(pa.string()),
}
POSTGRES = {
    "TIMESTAMP": "timestamp",
    "VARCHAR": "text",
    "BIGINT": "bigint",
    "INTEGER": "integer",
    "SMALLINT": "smallint",
    "VARCHAR[]": "text[]",
}


class Logs:
    """One log called `log`, whose extent is what the events say, and what is derived from it."""

    def __init__(
        self, zone: str, events: list[Event], registers: Directory | None = None, **derived: LogSchema
    ) -> None:
        self.calendar = Calendar(zone)
        self.schemas = {"log": SCHEMA, **derived}
        self.events = events
        self.terms = Terms()
        self.view, self.barred = EVERYTHING, dict[str, str]()
        self.registers = registers or Directory({}, Path(), zone)

    def extent(self, log: str) -> tuple[datetime, datetime] | None:
        return min(e.start for e in self.events), max(e.start for e in self.events)

    def until(self, log: str) -> datetime:
        return max(
            *(e.start + timedelta(microseconds=1) for e in self.events), *(e.finish or e.start for e in self.events)
        )


def rows(events: Iterable[Event]) -> list[tuple[Any, ...]]:
    """The events as rows of the schema's columns."""
    return [
        (
            e.start.replace(tzinfo=None),
            e.finish.replace(tzinfo=None) if e.finish else None,
            e.user, e.device, e.action, e.pages, e.cost, list(e.tags) or None, 1, i, 0,
        )
        for i, e in enumerate(events, 1)
    ]  # fmt: skip


Placed = tuple[Any, Any]


class Duck:
    """The embedded engine over an Arrow table."""

    def __init__(self) -> None:
        self.engine = DuckEngine()

    def place(self, events: list[Event]) -> Placed:
        import ibis

        types = [ARROW[kind] for kind in SCHEMA.columns.values()]
        columns = list(zip(*rows(events), strict=True)) or [()] * len(types)
        arrow = pa.table([pa.array(c, type=t) for c, t in zip(columns, types, strict=True)], names=list(SCHEMA.columns))
        self.engine.con.con.register("placed", arrow)
        self.engine.con.con.execute("CREATE OR REPLACE TEMP TABLE events AS SELECT * FROM placed")
        return self.engine, ibis.table({c: TYPES[k] for c, k in SCHEMA.columns.items()}, name="events")


class Postgres:
    """A PostgreSQL server; tables are made by its owner and read by a role that may only read."""

    def __init__(self, dsn: dict[str, Any]) -> None:
        import ibis
        import psycopg

        self.owner = psycopg.connect(**dsn, autocommit=True)
        self.engine = PostgresEngine(ibis.postgres.connect(
            host=dsn["host"], port=dsn["port"], user="reader", database=dsn["dbname"]
        ))  # fmt: skip

    def close(self) -> None:
        self.owner.close()
        self.engine.con.con.close()

    def place(self, events: list[Event]) -> Placed:
        import ibis

        columns = ", ".join(f"{c} {POSTGRES[kind]}" for c, kind in SCHEMA.columns.items())
        with self.owner.cursor() as cursor:
            cursor.execute("DROP TABLE IF EXISTS events")
            cursor.execute(f"CREATE TABLE events ({columns})")
            marks = ", ".join(["%s"] * len(SCHEMA.columns))
            cursor.executemany(f"INSERT INTO events VALUES ({marks})", rows(events))
            cursor.execute("GRANT SELECT ON events TO reader")
        return self.engine, ibis.table({c: TYPES[k] for c, k in SCHEMA.columns.items()}, name="events")


# Queries are interpreted: to compile each, for some hundred events, takes a third of the time.
INTERPRETED = {
    "spark.sql.codegen.wholeStage": "false",
    "spark.sql.codegen.factoryMode": "NO_CODEGEN",
    "spark.sql.adaptive.enabled": "false",
}


@contextmanager
def interpreted() -> Iterator[None]:
    """The running session of a workspace interprets its queries; by itself it compiles them, as users' do."""
    from pyspark.sql import SparkSession

    conf = SparkSession.builder.getOrCreate().conf
    before = {name: conf.get(name) for name in INTERPRETED}
    try:
        for name, value in INTERPRETED.items():
            conf.set(name, value)
        yield
    finally:
        for name, value in before.items():
            conf.set(name, value)


class Spark:
    """A local Spark session in UTC, events as a view."""

    def __init__(self) -> None:
        import ibis
        from pyspark.sql import SparkSession

        settings = {
            "spark.ui.enabled": "false", "spark.sql.session.timeZone": "UTC", "spark.sql.shuffle.partitions": "2",
            "spark.sql.timestampType": "TIMESTAMP_NTZ", "spark.ui.showConsoleProgress": "false",
            "spark.driver.memory": "2g", "spark.driver.host": "127.0.0.1", "spark.driver.bindAddress": "127.0.0.1",
            **INTERPRETED,
        }  # fmt: skip
        builder = SparkSession.builder.master("local[2]")
        for name, value in settings.items():
            builder = builder.config(name, value)
        self.session = builder.getOrCreate()
        self.session.sparkContext.setLogLevel("OFF")
        self.engine = SparkEngine(ibis.pyspark.connect(self.session))

    def close(self) -> None:
        self.session.stop()

    def place(self, events: list[Event]) -> Placed:
        import ibis

        types = {
            **{k: k.lower() for k in POSTGRES},
            "TIMESTAMP": "timestamp_ntz",
            "VARCHAR": "string",
            "VARCHAR[]": "array<string>",
            "INTEGER": "int",
        }
        columns = ", ".join(f"{c} {types[kind]}" for c, kind in SCHEMA.columns.items())
        self.session.createDataFrame(rows(events), columns).coalesce(2).cache().createOrReplaceTempView("events")
        return self.engine, ibis.table({c: TYPES[k] for c, k in SCHEMA.columns.items()}, name="events")


Place = Callable[[Any], Placed]


def run(placed: Placed, logs: Logs, **report: Any) -> tuple[Plan, Table]:
    """The finished table of a report over placed events; every absence counts as zero."""
    plan = resolve(Report.model_validate({"log": "log", **report}), logs, datetime(2030, 1, 1, tzinfo=UTC))
    keeping = getattr(placed[0], "keeping", contextlib.nullcontext)
    with keeping():
        figures = combine.gather(plan, lambda strand: placed)
    return plan, finish(plan, figures, lambda strand, slot: True)


def derived(how: Any, *, spans: bool = True, computed: tuple[Any, ...] = ()) -> LogSchema:
    """The schema of a log derived from `log`, or with computed fields."""
    fields = how.fields if how else SCHEMA.fields
    return LogSchema("made", fields, spans, zone="Europe/Lisbon", derivation=how, computed=computed)


def made(placed: Placed, logs: Logs, name: str = "made", **report: Any) -> list[dict[str, Any]]:
    """The events of a log as they stand after derivation and identification, filters of the report applied."""
    asked = Report.model_validate({"log": name, **report})
    plan = resolve(asked, logs, datetime(2030, 1, 1, tzinfo=UTC), listed=[*logs.schemas[name].by_name])
    return whole(drill.events(plan, lambda strand: placed)[0]).to_pylist()


def records(placed: Placed, plan: Plan, cell: Any) -> Any:
    """The events behind a cell."""
    return whole(drill.records(plan, cell, lambda strand: placed)[0])


def whole(read: Any) -> Any:
    """All tables of a stream as one."""
    import pyarrow as pa

    return pa.concat_tables(read())


@contextmanager
def postgres_server(directory: Any, settings: dict[str, str] | None = None) -> Iterator[dict[str, Any]]:
    """A throw-away server on a socket of its own, with a role `reader` that may only read. Stopped at the end."""
    import os
    import shutil
    import subprocess
    from pathlib import Path

    installed = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    programs = installed[-1] if installed else Path(shutil.which("initdb") or "initdb").parent
    run_as = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    data = directory / "data"
    directory.chmod(0o755)
    data.mkdir()
    if run_as:
        shutil.chown(data, "postgres")

    def call(*arguments: str) -> None:
        subprocess.run([*run_as, *arguments], check=True, capture_output=True, cwd="/")

    socket = str(data)
    call(f"{programs}/initdb", "-D", str(data), "-A", "trust", "-U", "owner", "--no-sync", "-E", "UTF8", "--locale=C")
    call(
        f"{programs}/pg_ctl",
        "-D",
        str(data),
        "-w",
        "-l",
        f"{data}/log",
        "-o",
        " ".join([f"-k {socket} -c listen_addresses= -F", *(f"-c {k}={v}" for k, v in (settings or {}).items())]),
        "start",
    )
    try:
        dsn = {"host": socket, "port": 5432, "user": "owner", "dbname": "postgres"}
        import psycopg

        with psycopg.connect(**dsn, autocommit=True) as con:
            con.execute("CREATE ROLE reader LOGIN")
            con.execute("ALTER ROLE reader SET default_transaction_read_only = on")
        yield dsn
    finally:
        call(f"{programs}/pg_ctl", "-D", str(data), "-m", "immediate", "stop")


def as_told(value: Any) -> Any:
    """A value of an event as the text of its mark has it."""
    if isinstance(value, datetime):
        return (value - datetime(1970, 1, 1)) // timedelta(microseconds=1)
    return "\x1e".join(value) if isinstance(value, list) else value


def slow_sum(events: list[dict[str, Any]]) -> str:
    """The mark of events as it is defined: the last eight bytes of the MD5 of each, the first of them the lowest, added
    up.
    """
    total = 0
    for event in events:
        text = "\x1f".join(f"{name}={event[name]}" for name in sorted(event) if event[name] is not None)
        total += int.from_bytes(hashlib.md5(text.encode()).digest()[8:], "little")
    return f"{total % 2**64:016x}"
