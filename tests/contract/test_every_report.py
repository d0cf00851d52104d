"""Every ready report of the sample is on another engine what it is on the embedded one, to the last digit, also for
viewers: `make test-engines-deep`. FERMATA_SPARK=connect asks a Connect server, FERMATA_TIMES=text a database whose
times are texts.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
import tomlkit

from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import FermataError
from fermata.fields import LogSchema
from fermata.reports.result import Answer, Page, RunResult
from tests import engines
from tests.conftest import NOW
from tests.contract.conftest import need_postgres
from tests.contract.test_spark_workspace import (
    LOCAL,
    client,  # noqa: F401  # the fixture
    connect_server,
    free_port,
    with_engine,
)
from tests.test_over_all import READY, asked

pytestmark = pytest.mark.deep
VIEWERS = ("zelda", "stage-lead", "front-desk", "study")
KEPT = ("kind", "gap", "closed")  # of a log, wherever its records are
OF_THE_FILE = ("file", "record", "line")
OF_IMPORTS = ("What needs attention", "What the logs cover")  # which a table has none of
NOT_IN_TABLES = {
    "needs-attention": "", "what-logs-cover": "",
    "edited-entries": "no log has a key", "payroll-check": "",  # one of its points is about versions
    "licence-uptake": "live on different engines",  # one of its logs is made from a register
}  # fmt: skip


@pytest.fixture(scope="module")
def spark(hall: Workspace, client: None, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The sample on a session of this machine; with FERMATA_SPARK=connect, on a Connect server (a process has one)."""
    path = tmp_path_factory.mktemp("every")
    if os.environ.get("FERMATA_SPARK") != "connect":
        yield with_engine(hall, path, LOCAL).path
        return
    port, copy = free_port(), path / "elsewhere"
    copy.symlink_to(hall.path / "archive")
    remote = f'engine = {{ name = "spark", remote = "sc://127.0.0.1:{port}", archive = "{copy}" }}'
    with connect_server(port):
        yield with_engine(hall, path, remote).path


@pytest.fixture(scope="module")
def postgres(hall: Workspace, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The sample with every log in a table of a server, its values as the archive has them."""
    import psycopg

    need_postgres()
    path = tmp_path_factory.mktemp("tables")
    for name in ("registers", "reports", "incoming", "secrets"):
        (path / name).symlink_to(hall.path / name)
    config = tomlkit.parse((hall.path / "fermata.toml").read_text()).unwrap()
    with tempfile.TemporaryDirectory() as place, engines.postgres_server(Path(place)) as dsn:
        os.environ["HALL_DB"] = f"postgresql://owner@/postgres?host={dsn['host']}"
        with psycopg.connect(**dsn, autocommit=True) as con:
            for name, schema in hall.base.place().stored.items():
                fill(con, hall, schema)
                config["logs"][name] = mapped(schema, config["logs"][name])
        (path / "fermata.toml").write_text(tomlkit.dumps(config))
        yield path
        del os.environ["HALL_DB"]


def mapped(schema: LogSchema, before: dict[str, Any]) -> dict[str, Any]:
    """A log in a table of its own, with the columns of the archive."""
    fields: dict[str, Any] = {"start": "start_utc"} | ({"finish": "finish_utc"} if schema.spans else {})
    for one in schema.fields:
        fields[one.name] = {"column": one.stored, "type": one.type} | {
            key: value for key in ("unit", "scale", "names") if (value := getattr(one, key))
        }
    database = {"table": schema.name, "record": "number", "address_env": "HALL_DB"}
    return {k: before[k] for k in KEPT if k in before} | {"format": "sql", "database": database, "fields": fields}


def fill(con: Any, hall: Workspace, schema: LogSchema) -> None:
    """A table with the events of a log that stand."""
    kinds = {f.stored: f for f in schema.fields}
    columns = [c for c in schema.columns if c not in ("file_id", "record_no", "event_no")]
    types, shown = ["number bigint PRIMARY KEY"], []
    for column in columns:
        kind = kinds[column].type if column in kinds else "time"
        scale = kinds[column].scale if column in kinds else 0
        types.append(f'"{column}" {TYPES.get(kind, "text")}')
        shown.append(f"{column}::DECIMAL(38, {scale}) / {10**scale}" if scale else f'"{column}"')
    snapshot = hall.base.archive.snapshot()
    sql = snapshot.standing_sql(schema, snapshot.manifest.log(schema.name).parts)
    rows = hall.base.place().engine.sql(f"SELECT {', '.join(shown)} FROM ({sql}) ORDER BY file_id, record_no, event_no")
    con.execute(f'CREATE TABLE "{schema.name}" ({", ".join(types)})')
    with con.cursor().copy(f'COPY "{schema.name}" FROM STDIN') as out:
        for number, row in enumerate(zip(*(c.to_pylist() for c in rows.columns), strict=True), 1):
            out.write_row((number, *(f"{v.isoformat()}Z" if TEXTS and isinstance(v, datetime) else v for v in row)))


TEXTS = os.environ.get("FERMATA_TIMES") == "text"
TYPES = {"time": "text" if TEXTS else "timestamptz", "number": "bigint", "flag": "boolean", "tags": "text[]", "duration": "interval",
         "decimal": "numeric", "money": "numeric"}  # fmt: skip


def told(answer: Answer | None, *, figures: bool) -> Iterator[Any]:
    """All that an answer says: rows, verdicts and notes; with `figures`, no notes, nor where a record stands."""
    if isinstance(answer, Page):
        yield answer.verdict
        for part in answer.parts:
            if not (figures and part.title in OF_IMPORTS):
                yield part.title, part.verdict
                yield from told(part.item, figures=figures)
    elif isinstance(answer, RunResult):
        yield from ((r.shown, r.cells) for r in answer.table.rows)
        yield None if figures else answer.notes
    elif answer is not None:
        kept = [i for i, c in enumerate(answer.columns) if not (figures and c.name in OF_THE_FILE)]
        yield from (tuple(row[i] for i in kept) for row in answer.rows)
        yield answer.total, None if figures else answer.notes


def outcome(house: Any, name: str, *, figures: bool) -> list[Any]:
    """What a report comes to, an error among it."""
    try:
        return list(told(house.run(asked(name)).answer, figures=figures))
    except FermataError as e:
        return [type(e).__name__, str(e)]


def the_same(hall: Workspace, path: Path, name: str, *, figures: bool) -> None:
    """Without a viewer, and for one of the viewers in turn."""
    for viewer in ("", VIEWERS[list(READY).index(name) % len(VIEWERS)]):
        here, there = (open_workspace(p, now=NOW, viewer=viewer) for p in (hall.path, path))
        assert outcome(there, name, figures=figures) == outcome(here, name, figures=figures), viewer or "everything"


@pytest.mark.spark
@pytest.mark.parametrize("name", READY)
def test_a_ready_report_is_the_same_on_spark(hall: Workspace, spark: Path, name: str) -> None:
    """Figures, rows, verdicts, notes and refusals."""
    the_same(hall, spark, name, figures=False)


@pytest.mark.postgres
@pytest.mark.parametrize("name", [n for n in READY if n not in NOT_IN_TABLES])
def test_a_ready_report_is_the_same_in_a_database(hall: Workspace, postgres: Path, name: str) -> None:
    """Figures, rows, verdicts and refusals; notes are of the archive's own records."""
    the_same(hall, postgres, name, figures=True)


@pytest.mark.postgres
@pytest.mark.parametrize("name", [n for n, said in NOT_IN_TABLES.items() if said])
def test_what_a_table_cannot_give_is_said(hall: Workspace, postgres: Path, name: str) -> None:
    """Never less than all of it."""
    kind, why = outcome(open_workspace(postgres, now=NOW), name, figures=True)
    assert (kind.endswith("Error"), NOT_IN_TABLES[name] in why) == (True, True), why
