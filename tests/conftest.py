"""Shared by all tests: a fixed clock, small workspaces, and the sample workspace made once."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from fermata.api.workspace import Workspace, open_workspace

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
    """The sample workspace, imported once per worker; tests only read it."""
    from fermata import demo

    workspace = open_workspace(demo.make(tmp_path_factory.mktemp("hall") / "quillmere"), now=NOW)
    for log in workspace.config.logs:
        workspace.import_log(log)
    return workspace


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
