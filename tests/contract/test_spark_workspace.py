"""A workspace whose archive is worked out by Spark: the reports of the embedded engine, unchanged, to the last digit."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import re
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import fermata
from fermata.api.workspace import Workspace
from fermata.engines.remote import SparkEngine
from fermata.errors import ConfigError, DataError, FermataError, RequestError
from fermata.reports.definition.report import Report
from tests import engines
from tests.conftest import NOW
from tests.conftest import fermata as command
from tests.contract.conftest import need_postgres, need_spark
from tests.test_access import CONFIG, leaks_nothing, planted  # noqa: F401  # the fixture

pytestmark = pytest.mark.spark
LOCAL = 'engine = { name = "spark", workers = 2 }'
ASKED = {
    "counts of people": {"log": "doors", "by": ("place", "device"), "columns": ("count", "distinct user", "last"),
    "period": "2026-03"},
    "an hour that happens twice": {"log": "doors", "by": ("hour",), "period": "2025-10-26"},
    "time by days": {"log": "calls", "by": ("user", "day"), "columns": ("count", "time", "peak",
    "percentile 90 duration"), "period": "2026-W10"},
    "money and labels": {"log": "prints", "by": ("tags",), "across": "month", "columns": ("count", "total cost"),
    "period": "2026-Q1"},
    "a log made of pairs": {"log": "visits", "by": ("user",), "columns": ("count", "time"), "period": "2026-02",
    "top": 5},
    "versions that were replaced": {"log": "timesheets", "by": ("user",), "columns": ("count", "time"),
    "period": "2026-01"},
    "as it was known": {"log": "timesheets", "by": ("user",), "columns": ("count",), "period": "2026-01",
    "as_known": "2026-04-01"},
    "nothing": {"log": "doors", "period": "2031"},
}  # fmt: skip


@pytest.fixture(scope="module")
def client() -> None:
    need_spark()


def with_engine(hall: Workspace, target: Path, engine: str) -> Workspace:
    """The sample with its archive elsewhere and another engine."""
    for name in ("archive", "registers", "reports", "incoming", "secrets"):
        (target / name).symlink_to(hall.path / name)
    text = (hall.path / "fermata.toml").read_text()
    (target / "fermata.toml").write_text(re.sub(r"(?m)^(zone = .*)$", rf"\1\n{engine}", text, count=1))
    return fermata.open(target, now=NOW)


@pytest.fixture(scope="module")
def spark(hall: Workspace, client: None, tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    return with_engine(hall, tmp_path_factory.mktemp("spark"), LOCAL)


@pytest.mark.parametrize("name", ASKED)
def test_a_report_is_what_it_is_on_the_embedded_engine(hall: Workspace, spark: Workspace, name: str) -> None:
    report = Report.of(**ASKED[name])
    here, there = hall.run(report), spark.run(report)
    assert [(r.shown, r.cells) for r in there.table.rows] == [(r.shown, r.cells) for r in here.table.rows]
    assert there.answer.notes == here.answer.notes
    assert name == "nothing" or len(here.table.rows) > 1


def test_a_view_and_the_events_themselves_are_the_same(hall: Workspace, spark: Workspace) -> None:
    """Rows come partition by partition; their mark is that of the embedded engine too."""
    from fermata.proof import fingerprint

    report = Report.of(log="prints", period="2026-03-02/2026-03-08")
    one, two = hall.listing(report), spark.listing(report)
    assert list(two.rows) == list(one.rows)
    plans = [fingerprint.plans_of(report, w.base.place(), NOW) for w in (hall, spark)]
    assert fingerprint.contents(plans[0], hall.base.place()) == fingerprint.contents(plans[1], spark.base.place())


def test_what_goes_out_and_is_kept_is_the_same(hall: Workspace, client: None, tmp_path: Path) -> None:
    """A delivery in parts to a folder, and a kept run: the same files, and what is kept proves itself."""
    houses, files, sent = [], [], []
    for name, engine in (("embedded", 'engine = "embedded"'), ("spark", LOCAL)):
        (tmp_path / name).mkdir()
        house = with_engine(hall, tmp_path / name, engine)
        house.deliveries.schedule(
            "hours", report="hours-by-person", period="last week", when="weekly on Monday at 06:30", formats=["csv"],
            split={"by": "user.department"}, folder="out",
        )  # fmt: skip
        sent.append([(one.what, one.part, one.why) for one in house.deliveries.send("hours", at_once=True)])
        files.append({p.name: p.read_bytes() for p in sorted((tmp_path / name / "out").rglob("*.csv"))})
        house.shelf.keep(Report.of(**ASKED["counts of people"]), ["csv"])
        houses.append(house)
    assert files[0] == files[1]
    assert sent[0] == sent[1]
    assert len(files[0]) > 2
    kept = [next(iter(h.path.glob("shelf/**/*.csv"))).read_bytes() for h in houses]
    assert kept[0] == kept[1]
    for house in houses:
        assert {v.state for v in house.shelf.verify()} == {"same"}


def test_logs_on_three_engines_meet_in_one_report(
    hall: Workspace, client: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The archive on Spark, a table of a database whose times can be compared, one whose times are texts."""
    import psycopg

    need_postgres()
    with tempfile.TemporaryDirectory() as place, engines.postgres_server(Path(place)) as dsn:
        monkeypatch.setenv("HOUSE_DB", f"postgresql://owner@/postgres?host={dsn['host']}")
        with psycopg.connect(**dsn, autocommit=True) as con:
            for name, kind in (("moments", "timestamptz"), ("texts", "text")):
                con.execute(f"CREATE TABLE {name} (id integer, at {kind}, badge text)")
                for n in range(40):
                    at = f"2026-03-{n % 28 + 1:02}T{n % 24:02}:00:00Z"
                    con.execute(f"INSERT INTO {name} VALUES (%s, %s, %s)", (n, at, f"B-{1050 + n % 3}"))
        with_engine(hall, tmp_path, LOCAL)
        more = "".join(
            f'\n[logs.{name}]\nformat = "sql"\nzone = "UTC"\n[logs.{name}.database]\ntable = "{name}"\nrecord = "id"\n'
            f'address_env = "HOUSE_DB"\n[logs.{name}.fields]\nstart = "at"\nuser = "badge"\n'
            for name in ("moments", "texts")
        )
        (tmp_path / "fermata.toml").write_text((tmp_path / "fermata.toml").read_text() + more)
        columns = [{"measure": "count", "log": log, "label": log} for log in ("doors", "moments", "texts")]
        asked = Report.of(log="doors", by=["user"], columns=columns, period="2026-03")
        rows = {r.shown: r.cells for r in fermata.open(tmp_path, now=NOW).run(asked).table.rows}
    doors = hall.run(Report.of(log="doors", by=["user"], period="2026-03"))
    alone = {r.shown: r.cells[0] for r in doors.table.rows}
    assert {shown: cells[0] for shown, cells in rows.items()}.items() >= alone.items()
    assert rows[()][1:] == (40, 40)
    assert all(cells[1] == cells[2] for cells in rows.values())
    assert sum(bool(cells[1]) for shown, cells in rows.items() if shown) == 3


def lost(hall: Path, target: Path, steps: tuple[int, ...], said: Any) -> None:
    """In a process of its own: puts what became of each step, and of the question asked again, into `said`."""
    port, house = free_port(), None
    for step in steps:
        seen, begun = 0, 0.0
        with connect_server(port) as server:
            where = f'engine = {{ name = "spark", remote = "sc://127.0.0.1:{port}", archive = "{hall}/archive" }}'
            house = house or with_engine(fermata.open(hall, now=NOW), target, where)
            frame = SparkEngine.frame

            def counted(
                engine: SparkEngine, text: str, frame: Any = frame, step: int = step, server: Any = server
            ) -> Any:
                nonlocal begun, seen
                seen += 1
                if seen == step:
                    os.killpg(server.pid, 9)
                    server.wait(60)
                    begun = time.monotonic()
                return frame(engine, text)

            SparkEngine.frame = counted  # type: ignore[method-assign]
            try:
                house.run(Report.of(**ASKED["counts of people"]))
                list(house.listing(Report.of(log="doors", period="2026-03-02")).rows)
                said.put((step, "no failure", 0.0))
            except FermataError as e:
                said.put((step, f"{type(e).__name__}: {e}", time.monotonic() - begun))
            SparkEngine.frame = frame  # type: ignore[method-assign]
    with connect_server(port):
        assert house
        said.put((0, str(house.run(Report.of(**ASKED["counts of people"])).table.total), 0.0))


@pytest.mark.parametrize("steps", [(9,), pytest.param((2, 4, 7, 11), marks=pytest.mark.deep)])
def test_a_server_that_goes_away_is_said_and_connected_to_again(
    hall: Workspace, client: None, tmp_path: Path, steps: tuple[int, ...]
) -> None:
    """Whatever it was asked last; the same workspace goes on when there is a server again."""
    spawn = multiprocessing.get_context("spawn")
    said = spawn.Queue()
    process = spawn.Process(target=lost, args=(hall.path, tmp_path, steps, said))
    process.start()
    for step in steps:
        at, told, took = said.get(timeout=200)
        assert at == step
        assert told.startswith("DataError: Spark does not answer any more; ask again"), told
        assert took < 60
    again = said.get(timeout=200)
    process.join(60)
    assert again[1] == str(hall.run(Report.of(**ASKED["counts of people"])).table.total)


def test_who_waits_for_a_session_is_told(hall: Workspace, client: None, tmp_path: Path) -> None:
    """On standard error, so that what is piped stays what it is."""
    house = with_engine(hall, tmp_path, LOCAL)
    asked = ("--now", NOW.isoformat(), "report", "doors", "--period", "2026-03", "--by", "place", "--output", "csv")
    there, here = (command("-w", str(h.path), *asked) for h in (house, hall))
    assert there.stdout == here.stdout
    assert "starting Spark on this machine, which takes a quarter of a minute" in there.stderr
    assert "Spark" not in here.stderr


def test_only_files_of_the_period_and_columns_of_the_question_are_read(spark: Workspace) -> None:
    place = spark.base.place()
    assert place.reader
    held = place.stored["doors"]
    from datetime import datetime

    engine, table = place.events(held, datetime(2026, 3, 1), datetime(2026, 4, 1), spans=False, known=None)
    asked = table.group_by("place").aggregate(n=table.count())
    frame = place.reader.engine.frame(engine.con.compile(asked))  # type: ignore[attr-defined]
    assert frame.inputFiles()
    assert {Path(f).parent.name for f in frame.inputFiles()} == {"2026-03"}
    plan = frame._sc._jvm.PythonSQLUtils.explainString(frame._jdf.queryExecution(), "simple")
    assert "ReadSchema: struct<place:string>" in plan


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


@contextlib.contextmanager
def connect_server(port: int) -> Iterator[subprocess.Popen[bytes]]:
    """A Spark Connect server of its own on loopback."""
    import pyspark

    home = Path(pyspark.__file__).parent
    settings = {
        "spark.connect.grpc.binding.port": str(port), "spark.driver.host": "127.0.0.1",
        "spark.driver.bindAddress": "127.0.0.1",
        "spark.ui.enabled": "false", "spark.driver.memory": "1g", "spark.sql.shuffle.partitions": "2",
    }  # fmt: skip
    given = [x for k, v in settings.items() for x in ("--conf", f"{k}={v}")]
    service = "org.apache.spark.sql.connect.service.SparkConnectServer"
    process = subprocess.Popen(
        [str(home / "bin" / "spark-submit"), "--master", "local[2]", *given, "--class", service, "spark-internal"],
        env={**os.environ, "SPARK_HOME": str(home)}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    try:
        until = time.monotonic() + 120
        while True:
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            assert time.monotonic() < until
            assert process.poll() is None
            time.sleep(0.5)
        yield process
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, 15)
        process.wait(60)


def test_a_remote_session_gives_the_same(hall: Workspace, client: None, tmp_path: Path) -> None:
    """Through Spark Connect, from the command line, the archive at a path of the server's own."""
    port = free_port()
    copy = tmp_path / "elsewhere"
    copy.symlink_to(hall.path / "archive")
    house = with_engine(
        hall, tmp_path, f'engine = {{ name = "spark", remote_env = "HOUSE_SPARK", archive = "{copy}" }}'
    )
    asked = (
        "--now",
        NOW.isoformat(),
        "report",
        "doors",
        "--period",
        "2026-03",
        "--by",
        "place",
        "--columns",
        "count,distinct user",
    )
    with connect_server(port):
        there = command("-w", str(house.path), *asked, HOUSE_SPARK=f"sc://127.0.0.1:{port}")
    here = command("-w", str(hall.path), *asked)
    assert there.stdout == here.stdout
    gone = command("-w", str(house.path), *asked, code=1, HOUSE_SPARK=f"sc://127.0.0.1:{port}")
    assert f"127.0.0.1:{port} does not answer" in gone.stderr


@pytest.mark.parametrize(
    ("engine", "says"),
    [
        ('engine = "sparkle"', "engine"),
        ('engine = { name = "embedded", workers = 2 }', "no settings"),
        ('engine = { name = "spark", remote = "sc://x", workers = 2 }', "a session of this machine"),
        ('engine = { name = "spark", remote = "sc://x/;token=abc" }', "a token does not belong here"),
    ],
)
def test_settings_that_cannot_be_meant_are_refused(hall: Workspace, tmp_path: Path, engine: str, says: str) -> None:
    with pytest.raises(ConfigError, match=says):
        with_engine(hall, tmp_path, engine)


def test_an_address_that_is_none_is_told(hall: Workspace, client: None, tmp_path: Path) -> None:
    house = with_engine(hall, tmp_path, 'engine = { name = "spark", remote = "http://x" }')
    with pytest.raises(RequestError, match="sc://host:15002"):
        house.run(Report.of(log="doors", period="2026-03"))
    (tmp_path / "other").mkdir()
    other = with_engine(hall, tmp_path / "other", 'engine = { name = "spark", remote = "sc://127.0.0.1:1" }')
    with pytest.raises(DataError, match="does not answer"):
        other.run(Report.of(log="doors", period="2026-03"))


@pytest.mark.parametrize("viewer", ["own", "hiding", "groups"])
def test_no_method_tells_a_viewer_more_on_spark(
    planted: Path, spark: Workspace, tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, viewer: str
) -> None:
    """The access matrix over an archive that Spark works out: the same gate, the same findings."""
    there = tmp_path_factory.mktemp("planted")
    for path in planted.iterdir():
        if path.name != "fermata.toml":
            (there / path.name).symlink_to(path)
    changed = re.sub(r"(?m)^(zone = .*)$", rf"\1\n{LOCAL}", CONFIG, count=1)
    assert changed != CONFIG
    (there / "fermata.toml").write_text(changed, encoding="utf-8")
    spark.base.place()
    with engines.interpreted():
        assert leaks_nothing(there, tmp_path, viewer) > (8 if viewer == "groups" else 20)
