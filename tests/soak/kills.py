"""A small house worked on by commands that are killed at any moment: afterwards every count is a recount of its files,
and archive, ledger, shelf and marks prove themselves.
"""

from __future__ import annotations

import collections
import random
import shutil
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

from fermata.api.workspace import open_workspace
from tests import post
from tests.soak.commands import said

__all__ = ["KILLS", "one"]

Event = tuple[datetime, str, str, str]
NOW = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)
STEPS, KILLS = 14, "killed"
DAY = timedelta(days=1)  # readers may be on files that were replaced for so long
DELIVERY = """
report = "doors"
period = "yesterday"
when = "daily at 07:00"
formats = ["csv", "html"]
keep = true
set = { by = ["device"] }
[[to]]
folder = "out"
index = true
"""
EVACUATION = 'log = "doors"\nouter = { device = "A" }\nback = "3 days"\n'


def act(path: Path, words: list[str], now: datetime, sure: bool) -> None:
    """One command, in a process of its own; one that is `sure` is no wrong request, others may be."""
    with tempfile.TemporaryDirectory() as made:
        code, error = said(["-w", str(path), "--now", now.isoformat(), *words], Path(made))
    if "internal error" in error or code not in ((0, 1) if sure else (0, 1, 2)):
        raise SystemExit(77)


class Walk:
    """The house, and what it must hold: the events of all files there are."""

    def __init__(self, path: Path, seed: int) -> None:
        from tests.conftest import SERVER

        self.path, self.random, self.server = path, random.Random(seed), SERVER
        self.files: dict[str, list[Event]] = {}
        self.now, self.killed, self.usual = NOW, 0, dict[str, float]()
        (path / "fermata.toml").write_text(post.DOORS % 25)
        (path / "people.csv").write_text(post.PEOPLE)
        (path / "teams.csv").write_text(post.TEAMS)
        for folder, name, text in (("deliveries", "daily", DELIVERY), ("evacuations", "house", EVACUATION)):
            (path / folder).mkdir()
            (path / folder / f"{name}.toml").write_text(text)
        today = [(NOW - timedelta(minutes=9 * n), f"Q700{n % 4 + 1}", "B", "in") for n in range(20, 0, -1)]
        self.write("doors-000", today)
        self.run(["import"], sure=True)
        self.run(["evacuation", "begin", "house", "--since", "2026-04-01T00:00"], sure=True)

    def run(self, words: list[str], *, sure: bool = False) -> None:
        """One command, mostly killed at a random moment of the time it usually takes."""
        child = self.server.Process(target=act, args=(self.path, words, self.now, sure))
        began = time.monotonic()
        child.start()
        if not sure and self.random.random() < 0.85:
            time.sleep(self.random.uniform(0, self.usual.get(words[0], 0.4)))
            child.kill()
            child.join()
            self.killed += child.exitcode == -9
        else:
            child.join(60)
            self.usual[words[0]] = time.monotonic() - began
        assert child.exitcode in (0, -9), f"{' '.join(words)}: exit code {child.exitcode}"

    def step(self) -> None:
        """One thing that is done every day."""
        self.now += timedelta(hours=self.random.randrange(1, 9))
        what = self.random.choice(["new", "grown", "back", "compact", "send", "keep", "publish", "mark"])
        if what == "new":
            self.write(f"doors-{len(self.files):03d}", self.events(self.random.randrange(20, 200)))
        elif what == "grown":
            name = self.random.choice(sorted(self.files))
            self.write(name, [*self.files[name], *self.events(30)])
        self.run({
            "new": ["import"], "grown": ["import"], "compact": ["archive", "compact", "doors"], "send": ["send"],
            "back": ["archive", "undo-import", str(self.random.randrange(1, len(self.files) + 2))],
            "keep": ["report", "doors", "--by", "user", "--period", "all", "--keep", "csv"],
            "publish": ["shelf", "publish", "site"],
            "mark": ["evacuation", "mark", "house", f"Q700{self.random.randrange(1, 5)}", "--by", "Warden"],
        }[what])  # fmt: skip

    def events(self, count: int) -> list[Event]:
        """Readings of one day, the last hours before now among them."""
        day = datetime(2026, 2, 1, tzinfo=UTC) + timedelta(days=self.random.randrange(59))
        return sorted(
            (day + timedelta(seconds=self.random.randrange(86_400)), f"Q700{self.random.randrange(1, 5)}",
             self.random.choice("ABC"), "in")
            for _ in range(count)
        )  # fmt: skip

    def write(self, name: str, events: list[Event]) -> None:
        """A file as its source writes it."""
        self.files[name] = events
        rows = [f"{at:%Y-%m-%dT%H:%M:%S},{who},{door},{action}" for at, who, door, action in events]
        (self.path / f"{name}.csv").write_text("When,Badge,Door,Event\n" + "\n".join(rows) + "\n", encoding="utf-8")

    def check(self) -> None:
        """Everything imported and sent at last: ledger, sums, figures, shelf, marks."""
        self.run(["import"], sure=True)
        self.run(["send"], sure=True)
        house = open_workspace(self.path, now=self.now)
        state = house.base.archive.snapshot().manifest.log("doors")
        assert all(f.adds_up for f in state.files.values()), "a file's records do not add up"
        assert state.events == sum(f.events for f in state.files.values()), "the log holds other events than its files"
        root, manifest = house.base.archive.root, house.base.archive.snapshot().manifest
        there = {p.relative_to(root).as_posix() for p in root.rglob("*.parquet")}
        yesterday = (self.now - DAY).replace(tzinfo=None)
        let_go = {p for p, at in manifest.retired.items() if datetime.fromisoformat(at) < yesterday}
        assert manifest.paths() - let_go <= there, "a file of the archive is gone"
        events = [e for held in self.files.values() for e in held]
        assert state.events == len(events), "events were lost or doubled"
        self.counted(events)
        said_so = [v for v in house.shelf.verify() if v.state not in ("same", "changed", "nothing kept")]
        assert not said_so, f"verify: {said_so[0]}"
        assert house.evacuation("house").state(self.now)[0].people, "the list of the evacuation is empty"
        self.expired(datetime(2026, 3, 1, tzinfo=UTC))

    def counted(self, events: list[Event]) -> None:
        """Every figure is a recount."""
        house = open_workspace(self.path, now=self.now)
        for by, count in (
            (["device"], collections.Counter((e[2],) for e in events)),
            (["month", "device"], collections.Counter((f"{e[0]:%Y-%m}", e[2]) for e in events)),
        ):
            rows = house.run(house.reports.definition("doors").changed(by=by, zone="UTC")).rows
            assert {tuple(r[:-1]): r[-1] for r in rows} == count, "figures differ from a recount"

    def expired(self, before: datetime) -> None:
        """What is older than a moment goes, though it takes several goes."""
        months = (self.now.year - before.year) * 12 + self.now.month - before.month
        today = self.now.astimezone(ZoneInfo("Europe/Lisbon")).replace(hour=0, minute=0)  # whole days of the house go
        edge = today.replace(month=today.month - months)
        for n in range(4):
            self.run(["archive", "expire", "doors", "--older-than", f"{months} months"], sure=n == 3)
        house = open_workspace(self.path, now=self.now)
        left = house.base.archive.snapshot().manifest.log("doors").events
        expected = sum(e[0] >= edge for held in self.files.values() for e in held)
        assert left == expected, f"expiry left {left} events, not {expected}"


def one(seed: int) -> str:
    """What became of one house: how often its commands were killed, or what is wrong."""
    path = Path(tempfile.mkdtemp(prefix="fermata-kills-"))
    try:
        walk = Walk(path, seed)
        for _ in range(STEPS):
            walk.step()
        walk.check()
    except AssertionError as e:
        return f"wrong: {e}"
    except Exception as e:
        return f"wrong: {type(e).__name__}: {e}"
    finally:
        shutil.rmtree(path, ignore_errors=True)
    return f"{KILLS} {walk.killed} times"
