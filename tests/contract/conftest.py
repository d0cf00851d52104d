"""The engines of the contract, and the events every operation is held to."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import pytest

from tests import engines
from tests.reference import Event

# A session of a test ends before Java's second compiler has been worth its while.
os.environ.setdefault("SPARK_SUBMIT_OPTS", "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC")
ZONE = "Europe/Lisbon"


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def cases() -> list[Event]:
    """Hand-made edges, then random events around both clock changes and a year's end."""
    made = [
        Event(at("2025-10-25T22:30"), at("2025-10-26T03:30"), "Ann", "A", "in", 3, 125, ("x", "y")),
        Event(at("2026-03-29T00:30"), at("2026-03-29T01:30"), "Ann", "A", "in", 3, 125),
        Event(at("2025-12-31T22:00"), at("2026-01-01T02:00"), "Bob", "B", "in", 7, 50, ("y",)),
        Event(at("2025-09-30T20:00"), at("2025-10-02T04:00"), "Bob", None, "out", None, None),
        Event(at("2025-11-30T23:00"), at("2025-12-01T00:00"), "Žofie", "B", "in", 1, 1),
        Event(at("2025-12-01T00:00"), at("2025-12-01T00:00"), "ann", "A", "in", 0, 0),
        Event(at("2025-12-01T00:00"), None, "Ann", "A", "in", 4, 99),
        Event(at("2025-12-01T00:00"), None, None, "A_1", "in", 4, 99, ("x",)),
        Event(at("2026-03-30T10:00"), at("2026-04-02T10:00"), "zoe", "A%1", None, 12, 999_999),
        Event(at("2026-05-01T10:00"), at("2026-05-01T11:00"), "late", "A", "in", 1, 1),
    ]
    random = Random(7)
    for base in ("2025-10-24T12:00", "2025-12-30T12:00", "2026-03-27T12:00"):
        for _ in range(40):
            start = at(base) + timedelta(minutes=random.randrange(4 * 1440))
            length = random.choice((0, 1, 30, 90, 600, 1440, 3000, None))
            made.append(
                Event(
                    start,
                    None if length is None else start + timedelta(minutes=length),
                    random.choice(("Ann", "Bob", "Cy", None)),
                    random.choice(("A", "B", "A_1")),
                    random.choice(("in", "out", "refused")),
                    random.choice((None, 1, 2, 3, 50)),
                    random.choice((None, 5, 125, 1999)),
                    random.choice(((), ("x",), ("x", "y"))),
                )
            )
    return made


EVENTS = cases()
PERIOD = (at("2025-09-30T23:00"), at("2026-03-31T23:00"))  # 1 October 2025 to 31 March 2026 in Lisbon


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What the Spark client itself leaves open or warns of is not ours."""
    for item in items:
        if item.get_closest_marker("spark"):
            item.add_marker(pytest.mark.filterwarnings("ignore:unclosed <socket:ResourceWarning"))
            item.add_marker(pytest.mark.filterwarnings("ignore:PySpark does not yet:FutureWarning"))


def need_spark() -> None:
    """Skips without a Spark to start; in the full run that is a failure."""
    wanting = None if shutil.which("java") else "java"
    try:
        import pyspark  # noqa: F401
    except ImportError:
        wanting = "pyspark"
    if wanting:
        _wanting(wanting)


def need_postgres() -> None:
    """The same for a PostgreSQL server."""
    if not (shutil.which("initdb") or Path("/usr/lib/postgresql").exists()):
        _wanting("postgresql")


def _wanting(what: str) -> None:
    assert not os.environ.get("FERMATA_NO_SKIPS"), f"the engine contract may not skip here: install {what}"
    pytest.skip(f"{what} is not installed")


@pytest.fixture(
    scope="session",
    params=[
        "duckdb",
        pytest.param("postgres", marks=pytest.mark.postgres),
        pytest.param("spark", marks=pytest.mark.spark),
    ],
)
def placed(request: pytest.FixtureRequest) -> Iterator[engines.Placed]:
    if request.param == "duckdb":
        yield engines.Duck().place(EVENTS)
        return
    if request.param == "spark":
        need_spark()
        session = engines.Spark()
        yield session.place(EVENTS)
        session.close()
        return
    need_postgres()
    with tempfile.TemporaryDirectory() as place, engines.postgres_server(Path(place)) as dsn:
        server = engines.Postgres(dsn)
        yield server.place(EVENTS)
        server.close()


@pytest.fixture
def logs() -> engines.Logs:
    return engines.Logs(ZONE, EVENTS)
