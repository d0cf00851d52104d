"""Shared by all tests: a fixed clock, small workspaces, and the sample workspace made once."""

from __future__ import annotations

import csv
import fcntl
import hashlib
import multiprocessing
import os
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from fermata import demo
from fermata.api.workspace import Workspace, open_workspace

ROOT = Path(__file__).parent.parent
NOW = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)
DEEP = "FERMATA_DEEP" in os.environ  # `make test-deep`: property tests with all their examples, and what takes long
PART = float(os.environ.get("FERMATA_DEEP_PART", "1"))  # of the deep tests; which of them changes from day to day
settings.register_profile(
    "fermata",
    deadline=None,
    suppress_health_check=list(HealthCheck),
    max_examples=60 if DEEP else 14,
    derandomize=not DEEP,
    print_blob=DEEP,
    database=None,
)
settings.load_profile("fermata")


def examples(count: int) -> settings:
    """So many random examples when testing deeply, a fifth of them otherwise."""
    return settings(max_examples=count if DEEP else max(count // 5, 4))


def some(cases: Iterable[Any], every: int = 3) -> list[Any]:
    """Cases of which one in `every` is tried each time, and the others when testing deeply."""
    return [
        case
        if n % every == 0
        else pytest.param(*(case if isinstance(case, tuple) else (case,)), marks=pytest.mark.deep)
        for n, case in enumerate(cases)
    ]


SERVER = multiprocessing.get_context("forkserver")  # a process of its own for every command, without importing all anew
SERVER.set_forkserver_preload(
    [
        "tests.conftest",
        *(
            f"fermata.{m}"
            for m in ("cli.main", "cli.report_cmd", "api.deliveries", "workspace.upkeep", "people.trails")
        ),
        *(f"fermata.outputs.{m}" for m in ("text", "html", "pdf")),
        *("ibis.backends.duckdb", "python_calamine", "pandas", "jinja2", "holidays", "recurring_ical_events"),
        *("tomlkit", "wcwidth", "pyarrow.compute", "sqlalchemy", "reportlab.pdfgen.canvas"),
    ]
)


def fermata(*arguments: str, cwd: Path | None = None, code: int = 0, **env: str) -> subprocess.CompletedProcess[str]:
    """Runs the command line as a process of its own and checks its exit code."""
    with tempfile.TemporaryDirectory() as made:
        out, err = Path(made) / "out", Path(made) / "err"
        process = SERVER.Process(target=_command, args=(arguments, cwd or Path.cwd(), env, out, err))
        process.start()
        process.join()
        done = subprocess.CompletedProcess(
            arguments, process.exitcode or 0, out.read_text("utf-8"), err.read_text("utf-8")
        )
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


def _command(arguments: tuple[str, ...], cwd: Path, env: dict[str, str], out: Path, err: Path) -> None:
    """What the process does: its streams are files, then it is `fermata ARGUMENTS`."""
    for path, stream in ((out, 1), (err, 2)):
        os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), stream)
    sys.stdout, sys.stderr = (open(n, "w", encoding="utf-8", closefd=False) for n in (1, 2))  # noqa: SIM115
    os.environ |= {"NO_COLOR": "1", **env}
    os.chdir(cwd)
    sys.argv = ["fermata", *arguments]
    from fermata.cli.main import main

    try:
        main()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()


def _lot(name: str) -> float:
    """A number from 0 to 1 drawn for a test today."""
    return int(hashlib.sha256(f"{date.today()} {name}".encode()).hexdigest()[:8], 16) / 2**32


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Deep tests and shallow ones apart. Every worker begins with tests that do not need the sample, which is being
    made meanwhile.
    """
    deep = [i for i in items if i.get_closest_marker("deep")]
    random = [i for i in items if getattr(getattr(i, "obj", None), "is_hypothesis_test", False)]
    chosen = {i.nodeid for i in ([*deep, *random] if DEEP else items)} - (set() if DEEP else {i.nodeid for i in deep})
    chosen = {n for n in chosen if not DEEP or _lot(n) < PART}
    config.hook.pytest_deselected(items=[i for i in items if i.nodeid not in chosen])
    items[:] = [i for i in items if i.nodeid in chosen]
    count = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    with_hall = [i for i in items if "hall" in getattr(i, "fixturenames", ())]
    without = [i for i in items if "hall" not in getattr(i, "fixturenames", ())]
    turns = reversed(range(count))  # the smaller parts first: a worker is given no more than the half, rounded down
    items[:] = [i for n in turns for i in (*without[n::count], *with_hall[n::count])]


def _made(base: Path) -> None:
    """Makes the sample workspace below `base` unless it is there; whoever comes meanwhile waits."""
    with (base / "hall.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (base / "made").exists():
            demo.make(base / "hall")
            fermata("-w", str(base / "hall"), "--now", NOW.isoformat(), "import", cwd=base)
            (base / "made").touch()


@pytest.fixture(scope="session", autouse=True)
def _early(tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest) -> Iterator[None]:
    """The first of several workers makes the sample in the background from the start."""
    making = None
    if os.environ.get("PYTEST_XDIST_WORKER") == "gw0" and any(
        "hall" in getattr(i, "fixturenames", ()) for i in request.session.items
    ):
        making = threading.Thread(target=_made, args=(tmp_path_factory.getbasetemp().parent,))
        making.start()
    yield
    if making:
        making.join()


@pytest.fixture(scope="session")
def hall(tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    """The sample workspace, imported once per run; tests only read it."""
    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    _made(base)
    return open_workspace(base / "hall", now=NOW)


def raw(hall: Workspace, name: str, **options: str) -> list[dict[str, str]]:
    """The records of a delimited file of the sample, as it stands."""
    encoding = options.get("encoding", "utf-8-sig")
    with (hall.path / "incoming" / name).open(encoding=encoding, newline="") as f:
        for _ in range(int(options.get("skip", "0"))):
            f.readline()
        return list(csv.DictReader(f, delimiter=options.get("delimiter", ",")))


def raw_entries(hall: Workspace) -> list[dict[str, str]]:
    """The time entries of the sample as they stand after the corrections."""
    first, corrected = raw(hall, "time-entries.csv"), raw(hall, "time-entries-corrected.csv")
    return list({r["No"]: r for r in (*first, *corrected)}.values())


def sample(name: str) -> str:
    """An invented file as a program writes it, of those in `samples`."""
    with (ROOT / "tests" / "samples" / name).open(encoding="utf-8", newline="") as f:
        return f.read()


Maker = Callable[..., Workspace]


@pytest.fixture
def make(tmp_path: Path) -> Maker:
    """Makes a workspace from the text of its configuration and the contents of its files."""

    tmp_path /= "wild [1]* '"  # a path that patterns and SQL must not take for more than text
    tmp_path.mkdir()

    def build(config: str, now: datetime = NOW, **files: str | bytes) -> Workspace:
        (tmp_path / "fermata.toml").write_text(config, encoding="utf-8")
        (tmp_path / "reports").mkdir(exist_ok=True)
        for name, content in files.items():
            data = content.encode() if isinstance(content, str) else content
            (tmp_path / f"{name}.csv").write_bytes(data)
        return open_workspace(tmp_path, now=now)

    return build


PLAIN = """
[workspace]
zone = "Europe/Lisbon"
[logs.doors]
files = "*.csv"
{settings}
[logs.doors.fields]
start = "When"
user = "Who"
device = "Door"
{fields}
"""


def plain(settings: str = "", fields: str = "") -> str:
    """The configuration of a small workspace with one log of instants."""
    return PLAIN.format(settings=settings, fields=fields)
