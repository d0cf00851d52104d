"""The jobs of docs/how-to, run as they are written there."""

from __future__ import annotations

import shlex
import shutil
from pathlib import Path

import pytest

from fermata.api.workspace import Workspace
from tests.conftest import ROOT, fermata

JOBS = sorted((ROOT / "docs" / "how-to").glob("[a-z]*.md"))
FEW = ("share-a-folder", "target")  # all of them when testing deeply
CODES = {"fermata evacuation show house-2": 1}  # people are missing


def commands(path: Path) -> list[str]:
    """The lines of the blocks of a page."""
    return [line for line in path.read_text().split("```")[1].splitlines() if line]


def test_each_job_takes_few_commands() -> None:
    """Each is done in at most four commands and stands in the list; no line of prose is over 120 characters."""
    assert len(JOBS) == 21
    listed = (ROOT / "docs" / "how-to" / "README.md").read_text()
    for path in JOBS:
        assert len(commands(path)) <= 4, path.name
        assert f"({path.name})" in listed
        assert all(len(line) <= 120 for line in path.read_text().split("```")[2].splitlines()), path.name


@pytest.mark.parametrize(
    "path", [p if p.stem in FEW else pytest.param(p, marks=pytest.mark.deep) for p in JOBS], ids=lambda p: p.stem
)
def test_a_job_runs_as_written(hall: Workspace, tmp_path: Path, path: Path) -> None:
    """Every command of it works, one after the other, without a file being opened."""
    here = tmp_path / "quillmere"
    shutil.copytree(hall.path, here)
    for line in commands(path):
        done = fermata(*shlex.split(line)[1:], cwd=here, code=CODES.get(line, 0))
        assert done.stdout or done.stderr, line
