"""Whatever a log calls its fields: no name takes a column away that the measuring needs, nor the other way round."""

from __future__ import annotations

import ast
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from fermata import ConfigError, Workspace
from fermata.api.workspace import open_workspace
from fermata.fields import LISTED, NAME, PROVENANCE, STORED, TIMES, UNITS
from fermata.reports.definition.report import Report
from tests.conftest import DEEP, ROOT

pytestmark = [pytest.mark.deep] if DEEP else []  # some of the names each time, all when testing deeply
FEW = ("began", "first", "n", "near", "number", "s", "seen", "touched", "whole", "x", "e0", "nth")  # each time
WORDS = ("order", "group", "select", "limit", "case", "end", "table", "column", "all", "null", "index")  # of SQL
ADDED = ("steps", "thing", "pairing", "closing_record", "linked", "reading", "since")  # by derived logs
DERIVED = """
[logs.merged]
from = "base"
merge = { by = ["user"], within = "20 minutes", keep = "first" }
[logs.paired]
from = "base"
pairing = { opening = "in", closing = "out", by = "user", reach = "3 hours", unfinished = "until next" }
[logs.lasting]
from = "base"
states = { by = "device" }
[logs.used]
from = "base"
counter = { amounts = ["meter"], by = "device", put = "days" }
[logs.joined]
from = "base"
link = { to = "base", on = "user", take = { before = "place" }, only = { action = "in" }, which = "first" }
"""


def inner() -> list[str]:
    """Every name that a stage of the measuring adds to the columns of a log, without the underscore that sets it apart."""
    found = set()
    for path in (ROOT / "src" / "fermata" / "analysis").glob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and getattr(node.func, "attr", "") == "mutate":
                found |= {k.arg.strip("_") for k in node.keywords if k.arg}
    found = (found if DEEP else set(FEW)) | set(WORDS)
    taken = {
        *STORED,
        *STORED.values(),
        *PROVENANCE,
        *LISTED,
        *UNITS,
        *TIMES,
        *ADDED,
        "place",
        "device",
        "action",
        "meter",
    }
    return sorted(n for n in found - taken if NAME.fullmatch(n))


def house(path: Path, names: list[str]) -> Workspace:
    """A log with fields of these names, and others made from it."""
    chance = random.Random(7)
    start = datetime(2026, 3, 2, 6, tzinfo=UTC)
    lines = [",".join(["At", "To", "Who", "Door", "Room", "Did", "Meter", *(f"C{i}" for i in range(len(names)))])]
    for n in range(120):
        at = start + timedelta(minutes=13 * n)
        own = [f"{chance.randint(0, 1)}{chance.choice('ab')}" for _ in names]
        who, door, did = chance.choice("xyz"), chance.choice("gh"), chance.choice(("in", "out"))
        until = at + timedelta(minutes=chance.randint(0, 200))
        lines.append(
            ",".join([f"{at:%Y-%m-%dT%H:%M}", f"{until:%Y-%m-%dT%H:%M}", who, door, f"r{n % 3}", did, str(n * 5), *own])
        )
    fields = "".join(f'{name} = "C{i}"\n' for i, name in enumerate(names))
    common = 'start = "At"\nfinish = "To"\nuser = "Who"\ndevice = "Door"\nplace = "Room"\naction = "Did"\n'
    text = f'[workspace]\nzone = "Europe/London"\n[hours.day]\ndays = "monday to friday"\ntimes = "08:00-18:00"\n[logs.base]\nfiles = "base*.csv"\n[logs.base.fields]\n{common}meter = {{ column = "Meter", type = "number" }}\n{fields}{DERIVED}'
    path.mkdir(parents=True)
    (path / "fermata.toml").write_text(text)
    (path / "base.csv").write_text("\n".join(lines))
    made = open_workspace(path)
    made.archive.import_log("base")
    return made


def questions(names: list[str], log: str) -> Iterator[Report]:
    """Ways to look at a log by these six fields: grouped, counted, present, kept."""
    one, two, three, four, five, six = names
    kept = {"only": {six: ["0a", "1b"]}, "without": {five: "0b"}}
    every: list[dict[str, Any]] = [
        {"columns": ["count", "total meter", f"distinct {four}", "first", "p50 meter"], **kept},
        {"columns": ["running count", "share count", "all-time count"], "by": [one, two], "top": 2},
        {"columns": [{"label": n, "measure": "count", "only": {n: "0a"}} for n in (four, five)]},
    ]
    if log != "used":
        every += [
            {"columns": ["time", f"present {four}", "peak", "union", "median duration"], **kept},
            {"columns": ["time", "count"], "hours": "day", **kept},
            {"columns": ["distinct day", "mean duration"], "rounding": "up 15 minutes", "by": [one, "day"]},
        ]
    for chosen in every:
        yield Report.of(**{"log": log, "by": [one, two, three], **chosen})


def answers(house: Workspace, names: list[str], log: str) -> Iterator[Any]:
    """What each question gives: rows, and the events behind a figure."""
    for report in questions(names, log):
        found = house.run(report)
        yield [(r.keys, r.shown, r.cells) for r in found.table.rows]
        if report.top is None:
            yield [row[1:] for row in found.events(limit=9).rows]
    yield list(house.listing(Report(log=log), 9).rows)


@pytest.mark.parametrize("log", ["base", *(["merged", "paired", "lasting", "used", "joined"] if DEEP else [])])
def test_a_field_may_be_called_as_a_column_of_the_measuring(tmp_path: Path, log: str) -> None:
    """The same records under neutral names give the same rows, to the last figure."""
    names = inner()
    assert len(names) > (30 if DEEP else 10)
    odd, plain = house(tmp_path / "odd", names), house(tmp_path / "plain", [f"field_{i}" for i in range(len(names))])
    for at in (range(i, min(i + 6, len(names))) for i in range(0, len(names), 6 if DEEP else 24)):
        some = (*at, *range(6))[:6]
        pairs = zip(
            answers(odd, [names[i] for i in some], log), answers(plain, [f"field_{i}" for i in some], log), strict=True
        )
        for number, (one, other) in enumerate(pairs):
            assert one == other, ([names[i] for i in some], number)


def test_a_name_that_would_stand_twice_is_refused(tmp_path: Path) -> None:
    """What every listing has, and what a derived log adds."""
    with pytest.raises(ConfigError, match="a list of events has file, record"):
        house(tmp_path / "file", ["file", "a"])
    with pytest.raises(ConfigError, match="day is a unit of time"):
        house(tmp_path / "day", ["day", "a"])
    with pytest.raises(ConfigError, match="base has a field steps already, which merged would add"):
        house(tmp_path / "steps", ["steps", "a"]).log("merged")
