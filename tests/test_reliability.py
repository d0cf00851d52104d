"""Kills at any moment, imports at the same time, and reading while importing."""

from __future__ import annotations

import json
import threading
import time
from multiprocessing.connection import Connection
from pathlib import Path
from random import Random

import pyarrow.parquet as pq
import pytest

import fermata
from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import ArchiveBusy
from tests.conftest import NOW, SERVER, Maker, plain

KILLS = 24


def importing(path: Path, ready: Connection) -> None:
    """What the process that is killed does: it says when it is about to import."""
    workspace = open_workspace(path)
    ready.send("ready")
    workspace.archive.import_log("doors", wait=0)


def lines(day: int, n: int) -> str:
    body = "".join(
        f"2026-{1 + day % 3:02d}-{1 + day % 28:02d} {i // 60 % 24:02d}:{i % 60:02d}:{i % 7:02d},u{i % 40},d{i}\n"
        for i in range(n)
    )
    return "When,Who,Door\n" + body


def state(workspace: Workspace) -> tuple[int, int]:
    """(imports, events), after checking that everything the manifest names is there and holds what it says."""
    snapshot = workspace.base.archive.snapshot()
    log = snapshot.manifest.log("doors")
    for part in log.parts:
        assert pq.read_table(snapshot.root / part.path).num_rows == part.rows
        assert pq.read_metadata(snapshot.root / part.keys).num_rows == part.rows
    assert sum(f.events for f in log.files.values()) == log.events
    assert all(f.adds_up for f in log.files.values())
    entries = workspace.base.archive.ledger()
    return len(entries), log.events


@pytest.mark.deep
def test_a_kill_at_any_moment_leaves_the_old_state_or_the_new(make: Maker) -> None:
    """A real process is killed two dozen times while it imports; what counts is always whole, and ends up complete."""
    workspace = make(plain())
    random = Random(11)
    done, seen, longest = (0, 0), set(), 0.0
    for round_ in range(KILLS + 1):
        if done[0] == len(list(workspace.path.glob("*.csv"))):
            (workspace.path / f"f{round_:02d}.csv").write_text(lines(round_, 4000))
        here, there = SERVER.Pipe()
        child = SERVER.Process(target=importing, args=(workspace.path, there))
        child.start()
        assert here.recv() == "ready"
        began = time.monotonic()
        if round_:  # the first import is left to finish: it tells how long one takes here and now
            time.sleep(random.uniform(0, 1.3 * longest))
            child.kill()
        child.join()
        longest = longest or time.monotonic() - began
        now = state(workspace)
        assert now in (done, (done[0] + 1, done[1] + 4000))
        seen.add(now != done)
        done = now
    assert seen == {True, False}, "the kills should hit before and after the commit"
    workspace.archive.import_log("doors")
    files = len(list(workspace.path.glob("*.csv")))
    assert state(workspace)[1] == files * 4000
    assert not (workspace.base.archive.root / "staging").exists()
    named = workspace.base.archive.snapshot().manifest.paths()
    assert {
        p.relative_to(workspace.base.archive.root).as_posix() for p in workspace.base.archive.root.rglob("*.parquet")
    } == named


def test_of_two_imports_one_waits_or_says_so(make: Maker) -> None:
    """While one process holds the archive another waits, saying so, and gives up after the time it was given."""
    workspace = make(plain(), a=lines(1, 10))
    with workspace.base.archive.writing(NOW.replace(tzinfo=None)):
        said: list[str] = []
        with pytest.raises(ArchiveBusy, match=r"another import \(process \d+\) has held the archive for 0 s"):
            workspace.archive.import_log("doors", wait=0.2, progress=said.append)
        assert len(said) == 1
        assert "waiting" in said[0]
    assert workspace.archive.import_log("doors")[0].file


def test_reports_and_imports_do_not_disturb_each_other(make: Maker) -> None:
    """Reports running while files come in see whole imports only, and never fail."""
    workspace = make(plain(), f00=lines(0, 500))
    workspace.archive.import_log("doors")
    counts, stop = [], threading.Event()

    def read() -> None:
        reader = open_workspace(workspace.path, now=NOW)
        while not stop.is_set():
            counts.append(reader.log("doors").run().cell(of="count"))

    thread = threading.Thread(target=read)
    thread.start()
    for i in range(1, 6):
        (workspace.path / f"f{i:02d}.csv").write_text(lines(i, 500))
        workspace.archive.import_log("doors")
    stop.set()
    thread.join()
    assert set(counts) <= {500 * n for n in range(1, 7)}
    assert counts == sorted(counts)
    assert workspace.log("doors").run().cell(of="count") == 3000


def test_files_replaced_stay_readable_for_a_day(make: Maker) -> None:
    """A reader's snapshot outlives a replacement; the files go with the first import a day later."""
    import datetime

    workspace = make(plain(), a=lines(1, 50))
    workspace.archive.import_log("doors")
    before = workspace.base.place()
    old = [before.snapshot.root / p.path for p in before.snapshot.manifest.log("doors").parts]
    (workspace.path / "fermata.toml").write_text(plain('zone = "UTC"'))
    again = open_workspace(workspace.path, now=NOW)
    again.archive.import_log("doors")
    assert all(p.exists() for p in old)
    (workspace.path / "b.csv").write_text(lines(2, 5))
    open_workspace(workspace.path, now=NOW + datetime.timedelta(days=2)).archive.import_log("doors")
    assert not any(p.exists() for p in old)


def test_keys_are_made_anew_when_the_engine_hashes_differently(make: Maker) -> None:
    """A sidecar of another engine version is rewritten from the events, and duplicates are still found."""
    workspace = make(plain(), a=lines(1, 50))
    workspace.archive.import_log("doors")
    path = workspace.base.archive.manifest_path
    held = json.loads(path.read_text())
    del held["sum"]
    path.write_text(json.dumps({**held, "key_probe": "9"}))
    for part in workspace.base.archive.snapshot().manifest.log("doors").parts:
        pq.write_table(
            pq.read_table(workspace.base.archive.root / part.keys).slice(0, 0), workspace.base.archive.root / part.keys
        )
    (workspace.path / "b.csv").write_text(lines(1, 60))
    outcome = workspace.archive.import_log("doors")[-1]
    assert outcome.file
    assert (outcome.file.stored, outcome.file.duplicate) == (10, 50)
    assert fermata.open(workspace.path).base.archive.ledger()


def test_a_damaged_manifest_is_named(make: Maker, tmp_path: Path) -> None:
    """An unreadable manifest is an error that says what to do, not an empty archive."""
    workspace = make(plain(), a=lines(1, 5))
    workspace.archive.import_log("doors")
    workspace.base.archive.manifest_path.write_text("{")
    with pytest.raises(fermata.DataError, match="restore it from a backup"):
        workspace.log("doors").run()
