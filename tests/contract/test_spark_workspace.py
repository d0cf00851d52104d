"""A workspace whose archive is worked out by Spark: the reports of the embedded engine, unchanged, to the last digit."""

from __future__ import annotations

import contextlib
import os
import re
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import fermata
from fermata.api.workspace import Workspace
from fermata.errors import ConfigError, DataError, RequestError
from fermata.reports.definition.report import Report
from tests.conftest import NOW
from tests.conftest import fermata as command
from tests.contract.conftest import need_spark
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
def connect_server(port: int) -> Iterator[None]:
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
        yield
    finally:
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
    planted: Path, client: None, tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, viewer: str
) -> None:
    """The access matrix over an archive that Spark works out: the same gate, the same findings."""
    there = tmp_path_factory.mktemp("planted")
    for path in planted.iterdir():
        if path.name != "fermata.toml":
            (there / path.name).symlink_to(path)
    changed = re.sub(r"(?m)^(zone = .*)$", rf"\1\n{LOCAL}", CONFIG, count=1)
    assert changed != CONFIG
    (there / "fermata.toml").write_text(changed, encoding="utf-8")
    assert leaks_nothing(there, tmp_path, viewer) > (8 if viewer == "groups" else 20)
