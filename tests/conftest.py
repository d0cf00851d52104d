"""Shared by all tests: a fixed clock, small workspaces, and the sample workspace made once."""

from __future__ import annotations

import csv
import fcntl
import os
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from fermata.api.workspace import Workspace, open_workspace

ROOT = Path(__file__).parent.parent
NOW = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)
settings.register_profile("fermata", deadline=None, suppress_health_check=list(HealthCheck), max_examples=60)
settings.load_profile("fermata")


def fermata(*arguments: str, cwd: Path | None = None, code: int = 0, **env: str) -> subprocess.CompletedProcess[str]:
    """Runs the command line as a process of its own and checks its exit code."""
    done = subprocess.run(
        [sys.executable, "-c", "from fermata.cli.main import main; main()", *arguments],
        cwd=cwd,
        capture_output=True,
        text=True,
        env={**os.environ, "NO_COLOR": "1", **env},
        check=False,
    )
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


@pytest.fixture(scope="session")
def hall(tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    """The sample workspace, imported once per run; tests only read it."""
    from fermata import demo

    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    with (base / "hall.lock").open("w") as lock:  # the first worker makes it, the others wait
        fcntl.flock(lock, fcntl.LOCK_EX)
        made = base / "hall" / "quillmere"
        workspace = open_workspace(made if made.exists() else demo.make(made), now=NOW)
        for log in workspace.config.logs if not (made / "imported").exists() else ():
            workspace.import_log(log)
        (made / "imported").touch()
    return workspace


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
