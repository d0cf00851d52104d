"""The docs hold what they say: blocks of the first hour run, every link leads somewhere, every page is found."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

from fermata.api.workspace import Workspace
from tests.conftest import ROOT, fermata

PAGES = sorted((ROOT / "docs").rglob("*.md"))


def test_the_first_hour_runs_as_written(hall: Workspace, tmp_path: Path) -> None:
    """From the sample's files to a report that goes out by itself, without a text editor."""
    (tmp_path / "quillmere").symlink_to(hall.path)
    here = tmp_path
    for block in (ROOT / "docs" / "first-hour.md").read_text().split("```")[1::2]:
        for line in block.strip().splitlines():
            if line.startswith("cd "):
                here = here / line.removeprefix("cd ")
                continue
            fermata("--now", "2026-04-01T08:12", *shlex.split(line)[1:], cwd=here)
    assert {p.suffix for p in here.glob("refused.*")} == {".html", ".pdf", ".xlsx"}


def test_every_link_leads_somewhere_and_every_page_is_found() -> None:
    """No page of the docs is an orphan, and no link is dead."""
    found = set()
    for page in (ROOT / "README.md", ROOT / "CHANGELOG.md", *PAGES):
        for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text()):
            if not target.startswith("http"):
                assert (page.parent / target).exists(), (page, target)
                found.add((page.parent / target).resolve())
    assert {p.resolve() for p in PAGES} <= found


MADE = {"reports.md", "commands.md", "notes.md", "measures.md", "benchmarks.md", "needs.md", "scaling.md"}


def prose(path: Path) -> list[list[str]]:
    """The paragraphs of a page: neither code, tables, lists nor headings."""
    outside = "\n".join(path.read_text().split("```")[::2])
    blocks = [re.split(r"(?m)^\s*[*-] ", block)[0].splitlines() for block in outside.split("\n\n")]
    blocks = [[x for x in block if x] for block in blocks]
    return [
        b for b in blocks if b and not b[0].lstrip().startswith(("|", "*", "-", "#", "!", "1.")) and b[0][:4] != "    "
    ]


def test_nothing_is_denser_than_one_can_read_at_once() -> None:
    """No line of prose over 100 characters, no paragraph over five lines."""
    for path in (ROOT / "README.md", *(p for p in PAGES if p.name not in MADE)):
        for block in prose(path):
            assert all(len(line) <= 100 for line in block), (path.name, block)
            assert len(block) <= 5, (path.name, block[0])
    assert len((ROOT / "README.md").read_text().splitlines()) < 150
