"""A long random walk of imports, reports, undone imports, compactions, deliveries and kills: at its end every figure is
that of a recount.
"""

from __future__ import annotations

import collections
import random
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from fermata import Workspace
from fermata.api.workspace import open_workspace
from fermata.errors import FermataError
from tests import post
from tests.conftest import NOW, SERVER, Maker

STEPS = 70
Event = tuple[datetime, str, str, str]
DELIVERY = """
report = "doors"
period = "yesterday"
when = "daily at 07:00"
formats = "csv"
set = { by = ["device"] }
[[to]]
folder = "out"
"""


def act(path: Path, what: str, now: datetime) -> None:
    """One action, in a process of its own."""
    house = open_workspace(path, now=now)
    try:
        if what == "import":
            house.archive.import_log("doors")
        elif what == "compact":
            house.archive.compact("doors")
        elif what == "send":
            house.deliveries.send()
        elif what.startswith("take back"):
            house.archive.undo_import(int(what.split()[-1]))
    except FermataError:
        return  # said, and nothing half done: the checks tell


class Walk:
    """The workspace, and what it must hold: the events of every file there is, those of files taken back left out."""

    def __init__(self, house: Workspace, seed: int) -> None:
        self.house, self.random = house, random.Random(seed)
        self.files: dict[str, list[Event]] = {}
        self.now = NOW
        self.done: collections.Counter[str] = collections.Counter()
        self.usual: dict[str, float] = {}  # how long an action takes here and now

    def step(self) -> None:
        """One action; one in three is killed at a random moment."""
        self.now += timedelta(hours=self.random.randrange(1, 12))
        what = self.random.choices(["new", "grown", "again", "compact", "back", "send"], [6, 2, 1, 3, 2, 3])[0]
        if what == "new":
            self._write(f"doors-{len(self.files):03d}", self._events(self.random.randrange(50, 300)))
        elif what == "grown" and self.files:
            name = self.random.choice(sorted(self.files))
            self._write(name, [*self.files[name], *self._events(40)])
        action = {"new": "import", "grown": "import", "again": "import", "back": self._back()}.get(what, what)
        child = SERVER.Process(target=act, args=(self.house.path, action, self.now))
        began = time.monotonic()
        child.start()
        if self.random.random() < 1 / 3:
            time.sleep(self.random.uniform(0, self.usual.get(what, 0.3)))
            child.kill()
            child.join()
            self.done["kills"] += child.exitcode == -9
        else:
            child.join()
            self.usual[what] = time.monotonic() - began
        assert child.exitcode in (0, -9)
        self.done[what] += 1

    def _back(self) -> str:
        live = open_workspace(self.house.path, now=self.now).base.archive.snapshot().manifest.log("doors").files
        return f"take back {max(f.import_no for f in live.values())}" if live else "compact"

    def _events(self, count: int) -> list[Event]:
        day = datetime(2026, 2, 1, tzinfo=UTC) + timedelta(days=self.random.randrange(75))
        found = [
            (
                day + timedelta(seconds=self.random.randrange(86_400)),
                f"Q700{self.random.randrange(1, 5)}",
                self.random.choice("ABC"),
                "in",
            )
            for _ in range(count)
        ]
        return sorted(found)

    def _write(self, name: str, events: list[Event]) -> None:
        self.files[name] = events
        rows = [f"{at:%Y-%m-%dT%H:%M:%S},{who},{door},{action}" for at, who, door, action in events]
        (self.house.path / f"{name}.csv").write_text(
            "When,Badge,Door,Event\n" + "\n".join(rows) + "\n", encoding="utf-8"
        )

    def check(self) -> None:
        """Everything imported at last: ledger, sums, figures, files."""
        act(self.house.path, "import", self.now)
        house = open_workspace(self.house.path, now=self.now)
        state = house.base.archive.snapshot().manifest.log("doors")
        assert all(f.adds_up for f in state.files.values())
        assert state.events == sum(f.events for f in state.files.values())
        events = [e for held in self.files.values() for e in held]
        assert state.events == len(events)
        for by, key in ((("device",), lambda e: (e[2],)), (("month", "device"), lambda e: (f"{e[0]:%Y-%m}", e[2]))):
            counts = collections.Counter(map(key, events))
            rows = house.run(house.reports.definition("doors").changed(by=list(by), zone="UTC")).rows
            assert {tuple(r[:-1]): r[-1] for r in rows} == counts
        assert [v.state for v in house.shelf.verify()[:2]] == ["same", "same"]
        named = house.base.archive.snapshot().manifest.paths()
        there = {p.relative_to(house.base.archive.root).as_posix() for p in house.base.archive.root.rglob("*.parquet")}
        assert named <= there


@pytest.mark.deep
@pytest.mark.parametrize("seed", [1, 20260401])
def test_a_long_walk_ends_with_every_figure_a_recount(
    make: Maker, seed: int, record_property: Callable[[str, object], None]
) -> None:
    """Whatever was done and killed in between: once all files are in, counts, ledger and shelf are those of the
    files.
    """
    house = make(post.DOORS % 25, people=post.PEOPLE, teams=post.TEAMS)
    (house.path / "deliveries").mkdir()
    (house.path / "deliveries" / "daily.toml").write_text(DELIVERY, encoding="utf-8")
    walk = Walk(house, seed)
    for number in range(STEPS):
        walk.step()
        if number % 20 == 19:
            walk.check()
    walk.check()
    record_property("done", dict(walk.done))
    assert walk.done["kills"] >= 5
    assert min(walk.done[w] for w in ("new", "grown", "compact", "back", "send")) > 0
