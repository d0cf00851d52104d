"""A database asked where it is: what it holds is what is counted, and a connection that ends loses nothing."""

from __future__ import annotations

import gc
import os
import tempfile
import threading
import time
import warnings
from pathlib import Path
from typing import Any

import pytest

import fermata
from fermata.api.workspace import Workspace
from fermata.errors import SourceError
from tests.engines import postgres_server
from tests.producers.daemons import needs

pytestmark = pytest.mark.producers


def workspace(path: Path, text: str) -> Workspace:
    path.mkdir()
    (path / "fermata.toml").write_text('[workspace]\nzone = "UTC"\n' + text)
    return fermata.open(path)


QUERY = """
[logs.log]
format = "sql"
[logs.log.database]
address_env = "MOVES"
query = "{query}"
growing = "id"
[logs.log.fields]
start = "at"
user = "who"
amount = {{ column = "amount", type = "money", unit = "EUR" }}
"""


def test_a_query_equals_its_table(tmp_path: Path) -> None:
    """The sums of a query are those of the database; a connection that ends in the middle stores nothing."""
    needs("postgresql/*/bin/postgres")
    import psycopg

    with tempfile.TemporaryDirectory() as made, postgres_server(Path(made), {}) as dsn:
        with psycopg.connect(**dsn, autocommit=True) as con:
            con.execute("CREATE TABLE moves AS SELECT g AS id, timestamptz '2026-03-01 00:00Z' + g * interval '1 "
                        "minute' AS at, "
                        "'u' || g % 7 AS who, (g % 50) / 100.0::numeric AS amount FROM generate_series(1, 30000) "
                        "g")  # fmt: skip
            con.execute("GRANT SELECT ON moves TO reader")
            truth = dict(con.execute("SELECT who, sum(amount * 100)::int FROM moves GROUP BY 1").fetchall())
        _query(tmp_path, dsn, truth)


def _query(path: Path, dsn: dict[str, Any], truth: dict[str, int]) -> None:
    import psycopg

    os.environ["MOVES"] = f"postgresql://reader@/postgres?host={dsn['host']}"
    made = workspace(path / "asked", QUERY.format(query="SELECT id, at, who, amount FROM moves"))
    made.archive.import_log("log")
    result = made.run(fermata.Report.of(log="log", by=("user",), columns=("total amount",)))
    assert {r.shown[0]: r.cells[0] for r in result.table.body} == truth
    assert made.archive.import_log("log") == []
    dying = path / "dying"
    slow = workspace(
        dying,
        QUERY.format(query="SELECT id, at, who, amount + 0 * length(pg_sleep(0.0005)::text) AS amount FROM moves"),
    )

    def end() -> None:
        time.sleep(1.5)
        with psycopg.connect(**dsn, autocommit=True) as con:
            con.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'reader'")

    killer = threading.Thread(target=end)
    killer.start()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # the driver complains of the cursor it lost with its connection
        with pytest.raises(SourceError, match=r"the query failed: .*; nothing was imported"):
            slow.archive.import_log("log")
        gc.collect()
    killer.join()
    assert slow.base.archive.snapshot().manifest.log("log").files == {}
    assert list((dying / "received").rglob("*.p*")) == []
