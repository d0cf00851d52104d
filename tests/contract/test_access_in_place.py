"""The access matrix over a log that stays in a PostgreSQL table: the same gate, the same findings."""

from __future__ import annotations

import csv
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import fermata
from tests.conftest import NOW
from tests.contract.test_in_place import server  # noqa: F401  # the fixture
from tests.test_access import CALLS, CONFIG, FORBIDDEN, _called, furnish, leaks_nothing, planted  # noqa: F401

pytestmark = pytest.mark.postgres
FILES = """files = "doors*.csv"
key = ["entry"]
kind = "door access"
"""
TABLE = """kind = "door access"
format = "sql"
[logs.doors.database]
address_env = "HOUSE_DB"
table = "planted"
record = "id"
"""


@pytest.fixture(scope="module")
def stays(tmp_path_factory: pytest.TempPathFactory, planted: Path, server: dict[str, Any]) -> Iterator[Path]:
    """The planted workspace with its doors in a table."""
    import psycopg

    path = tmp_path_factory.mktemp("stays")
    assert FILES in CONFIG
    (path / "fermata.toml").write_text(CONFIG.replace(FILES, TABLE), encoding="utf-8")
    for name in ("key.txt", "people.csv", "logins.csv"):
        (path / name).write_bytes((planted / name).read_bytes())
    (path / "key.txt").chmod(stat.S_IRUSR)
    rows = list(csv.DictReader((planted / "doors.csv").read_text().splitlines()))
    names = ", ".join(f'"{n}" text' for n in rows[0])
    with psycopg.connect(**server, autocommit=True) as con:
        con.execute(f"CREATE TABLE planted (id bigint PRIMARY KEY, {names})")
        held = [(n, *(v or None for v in row.values())) for n, row in enumerate(rows, 1)]
        with con.cursor() as cursor:
            cursor.executemany(f"INSERT INTO planted VALUES ({', '.join(['%s'] * len(held[0]))})", held)
        hall = fermata.open(path, now=NOW)
        hall.archive.import_log("logins")
        furnish(hall)
        yield path
        con.execute("DROP TABLE planted")


def test_the_search_finds_what_is_planted_in_a_table(stays: Path, tmp_path: Path) -> None:
    """Without a viewer the same calls hold everything that is planted."""
    hall = fermata.open(stays, now=NOW)
    text = "\n".join(
        _called(hall, call, tmp_path)[0] for name in ("run", "listing", "registers.table") for call in CALLS[name]
    )
    assert not [c for wanted in FORBIDDEN.values() for c in wanted if c not in text]


@pytest.mark.parametrize("viewer", ["own", "hiding", "study", "groups"])
def test_no_method_tells_a_viewer_more_of_a_table(stays: Path, tmp_path: Path, viewer: str) -> None:
    """What every method gives holds nothing that the viewer may not see."""
    assert leaks_nothing(stays, tmp_path, viewer) > (8 if viewer == "groups" else 20)
