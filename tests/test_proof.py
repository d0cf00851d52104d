"""Kept runs can be repeated and proved: same figures, or what changed; whatever is changed behind one's back is
found.
"""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from fermata import Workspace
from fermata.api.workspace import open_workspace
from fermata.chain import Chain
from fermata.errors import ArchiveDamaged, FermataError
from fermata.proof import fingerprint, snapshot
from fermata.reports.compile.request import compiled
from fermata.reports.definition.report import Report
from tests import post
from tests.conftest import NOW, Maker
from tests.conftest import fermata as command
from tests.engines import slow_sum

MARCH = Report.of(
    log="doors",
    period="2026-03",
    by=["user.team", "device"],
    columns=["count", "distinct user", "share"],
    title="March",
)


@pytest.fixture
def house(make: Maker) -> Workspace:
    """A workspace with a run of March on its shelf."""
    made = make(post.DOORS % 25, now=NOW, doors=post.doors(days=20), people=post.PEOPLE, teams=post.TEAMS)
    made.archive.import_log("doors")
    made.reports.save("march", MARCH)
    made.shelf.keep(made.reports.definition("march"), ["csv"], named="march", label="signed")
    return made


def later(house: Workspace) -> Workspace:
    """The workspace opened anew, some days later."""
    return open_workspace(house.path, now=datetime(2026, 4, 20, 9, tzinfo=UTC))


def verdict(house: Workspace) -> tuple[str, str, str]:
    found = later(house).shelf.verify(1)[-1]
    return found.state, "; ".join(found.why), "; ".join(found.also)


def test_nothing_changed_nothing_differs(house: Workspace) -> None:
    """A run repeated weeks later gives the same figures, whoever is looking, and so says the command."""
    assert verdict(house) == ("same", "", "")
    assert all(v.holds for v in later(house).shelf.verify())
    shown = command("-w", str(house.path), "archive", "verify").stdout
    assert "1: March" in shown
    assert "same" in shown


def test_late_records_are_told_from_everything_else(house: Workspace) -> None:
    """Records that came in later change the figures; as known then, they are the same."""
    (house.path / "doors-late.csv").write_text("When,Badge,Door,Event\n2026-03-05T10:00:00,Q7001,Gate,in\n")
    later(house).archive.import_log("doors")
    state, why, _ = verdict(house)
    assert state == "changed"
    assert "as known when it was made (2026-04-01 07:12 UTC) the figures are the same: only later records differ" in why
    assert "doors: +1 events in its time (import 2 2026-04-20 09:00: doors-late.csv)" in why
    told = command("-w", str(house.path), "archive", "verify", "1", code=1).stdout
    assert "only later records differ" in told
    later(house).archive.undo_import(2)
    assert verdict(house)[0] == "same"


def test_what_does_not_touch_the_period_changes_nothing(house: Workspace) -> None:
    """Records of another month, and events put into other files, leave the fingerprint as it is."""
    place, facts = house.base.place(), house.base.shelf.facts(house.base.shelf.item(1))
    (house.path / "doors-april.csv").write_text(post.doors(4, 3))
    later(house).archive.import_log("doors")
    assert verdict(house) == ("same", "", "")
    plans = fingerprint.plans_of(MARCH, later(house).base.place(), place.snapshot and NOW)
    seen = fingerprint.contents(plans, later(house).base.place())
    request = compiled(MARCH, later(house).base.place(), NOW)
    assert (seen, fingerprint.fingerprint(request, seen)) == (facts["seen"], facts["fingerprint"])


def test_the_sum_of_events_is_what_its_definition_says(house: Workspace) -> None:
    """The mark of a log's events equals the one worked out by hand from MD5, and tells one changed letter."""
    seen = house.base.shelf.facts(house.base.shelf.item(1))["seen"]
    rows = house.log("doors").during("2026-03").listing().to_pandas()
    events = [
        {
            "start_utc": int(r.start.tz_convert("UTC").value // 1000), "person": r["user"].removeprefix("badge "),
            "device": r.device,
            "action": r.action,
        }
        for _, r in rows.iterrows()
    ]  # fmt: skip
    names = {"Ada Umberlin": "Q7001", "Bea Norfield": "Q7002", "Cy Oakes": "Q7003", "Di Perrin": "Q7004"}
    for event in events:
        event["person"] = names[event["person"]]
    assert [(s["events"], s["sum"]) for s in seen] == [(len(events), slow_sum(events))]
    events[3]["device"] += "x"
    assert slow_sum(events) != seen[0]["sum"]


@pytest.mark.parametrize(
    ("change", "state", "why"),
    [
        (lambda p: _sub(p / "people.csv", "Q7002,bea@house.example,red", "Q7002,bea@house.example,blue"), "changed",
         "the register people changed"),
        (lambda p: _sub(p / "people.csv", "Bea Norfield", "Bea Northfield"), "same", "the register people changed"),
        (lambda p: _sub(p / "reports/march.toml", "2026-03", "2026-02"), "same",
         "the report march says something else today"),
        (lambda p: (p / "reports/march.toml").unlink(), "same",
         "the report march of today: there is no report 'march'"),
        (lambda p: _sub(p / "fermata.toml", '"no" = "refused"', '"no" = "turned away"'), "same",
         "the mapping of doors changed"),
        (lambda p: _sub(p / "fermata.toml", '"Europe/Lisbon"', '"Europe/Lisbon"\nweek_start = "sunday"'), "same",
         "the settings workspace changed"),
        (lambda p: _sub(p / "fermata.toml", 'attributes = { team = "Team" }', ""), "not repeated",
         "it can no longer be run: there is no dimension 'user.team'"),
    ],
)  # fmt: skip
def test_what_changed_is_named(house: Workspace, change: Callable[[Path], Any], state: str, why: str) -> None:
    """A register, a mapping, a setting, the definition: named, whether it changed the figures or not."""
    change(house.path)
    found = verdict(house)
    assert found[0] == state
    assert why in found[1] + found[2]


def _sub(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def test_a_mapping_that_reads_the_events_anew_is_named(house: Workspace) -> None:
    """Imported again under another mapping the events are others: changed, by the import and the mapping."""
    _sub(house.path / "fermata.toml", 'device = "Door"', 'device = { column = "Door", spelling = "lower" }')
    later(house).archive.import_log("doors")
    state, why, _ = verdict(house)
    assert state == "changed"
    assert "as many events, but not the same" in why
    assert "replacing an earlier import" in why
    assert "the mapping of doors changed" in why


def test_zone_data_and_versions_are_inputs(house: Workspace) -> None:
    """Other zone data or engines than then are said."""
    facts = house.base.shelf.facts(house.base.shelf.item(1))
    held = facts | {"zones": {"Europe/Lisbon": "0"}, "versions": {**facts["versions"], "duckdb": "0.1"}}
    from fermata.proof import verify

    plans = fingerprint.plans_of(MARCH, house.base.place(), NOW)
    assert verify._differing(held, fingerprint.inputs(house, house.base.place(), plans)) == [
        "the zone data of Europe/Lisbon changed",
        f"the version of duckdb changed (0.1, now {facts['versions']['duckdb']})",
    ]


READY = ["person-by-person", "overview", "refused-entries", "person-statements", "payroll-check", "own-days"]


@pytest.mark.parametrize("report", ["device-list", *(pytest.param(r, marks=pytest.mark.deep) for r in READY)])
def test_ready_reports_can_be_proved(hall: Workspace, report: str) -> None:
    """Pages, statements, registers and tables over many logs: repeated from what is kept of them, the figures are the
    same.
    """
    asked = hall.reports.definition(report)
    if asked.must_name:
        asked = asked.changed(only={"user": "Ada Umberlin"})
    run = snapshot.made(hall.base, asked, report, NOW, NOW)
    again = snapshot.read_definition(snapshot.files.text_of(run.report), "again")
    repeated = snapshot.made(hall.base, again, "", NOW, NOW)
    assert fingerprint.figures(repeated.answer) == fingerprint.figures(run.answer)
    assert run.said()["title"]


def test_changed_files_are_found(house: Workspace) -> None:
    """A byte of the archive, a line of the ledger, a kept output, the record of the shelf: each is found and named."""
    root = house.path
    part = next((root / "archive").rglob("2026-03/*.parquet"))
    whole = part.read_bytes()
    part.write_bytes(whole[:100] + bytes([whole[100] ^ 1]) + whole[101:])
    wrong = [(v.subject, v.state) for v in house.shelf.verify() if not v.holds]
    assert wrong == [("archive", "damaged"), ("1: March", "not repeated")]
    assert part.relative_to(root / "archive").as_posix() + " is not as it was stored" in house.shelf.verify()[0].why
    part.write_bytes(whole)
    ledger = root / "archive" / "ledger.jsonl"
    text = ledger.read_text()
    ledger.write_text(text.replace('"stored": 80', '"stored": 81'))
    assert text != ledger.read_text()
    assert house.shelf.verify()[0].state == "damaged"
    ledger.write_text(text)
    kept = root / "shelf" / "000001" / "march-2026-03.csv"
    kept.write_text(kept.read_text().replace("red", "rad"))
    told = command("-w", str(root), "archive", "verify", code=1).stdout
    assert "march-2026-03.csv is not as it was kept" in told
    kept.write_text(kept.read_text().replace("rad", "red"))
    record = root / "shelf" / "record.jsonl"
    record.write_text(record.read_text().replace('"signed"', '"sogned"'))
    assert house.shelf.verify()[1].state == "damaged"


def _kept(root: Path) -> list[Path]:
    """Every file that proves something: the archive with its ledger and manifest, the shelf with what it was made of."""
    found = [p for d in ("archive", "shelf") for p in (root / d).rglob("*") if p.is_file() and p.stat().st_size]
    return sorted(p for p in found if p.name != "lock.pid" and p.suffix != ".lock" and p.parent.name != "cache")


@pytest.mark.parametrize("flips", [1, pytest.param(8, marks=pytest.mark.deep)])
def test_any_byte_of_what_is_kept_is_found(house: Workspace, flips: int) -> None:
    """A byte changed anywhere in any file of the archive and the shelf, or the file gone: `verify` says so, and says it
    of nothing else.
    """
    chance, tried = random.Random(20261129), 0
    assert all(v.holds for v in house.shelf.verify())
    for path in _kept(house.path):
        whole = path.read_bytes()
        for spoiled in [*(_flipped(whole, chance) for _ in range(flips)), None]:
            if spoiled is None:
                path.unlink()
            else:
                path.write_bytes(spoiled)
            try:
                wrong = [v for v in open_workspace(house.path, now=NOW).shelf.verify() if not v.holds]
            except FermataError as e:
                wrong = [str(e)]
            assert wrong, f"{path.relative_to(house.path)}: {'gone' if spoiled is None else 'changed'}, and not found"
            path.write_bytes(whole)
            tried += 1
    assert tried >= 8 * (flips + 1)
    assert all(v.holds for v in open_workspace(house.path, now=NOW).shelf.verify())


def test_a_changed_cache_changes_no_answer(house: Workspace) -> None:
    """What is only remembered is found anew where a byte of it changed."""
    (remembered,) = (house.path / "archive" / "cache").iterdir()
    whole, chance = remembered.read_bytes(), random.Random(1)
    asked = house.reports.definition("march")
    truth = [str(n) for n in house.run(asked).notes]
    for _ in range(12):
        remembered.write_bytes(_flipped(whole, chance))
        assert [str(n) for n in open_workspace(house.path, now=NOW).run(asked).notes] == truth


def _flipped(whole: bytes, chance: random.Random) -> bytes:
    """One bit of one byte changed."""
    at = chance.randrange(len(whole))
    return whole[:at] + bytes([whole[at] ^ (1 << chance.randrange(8))]) + whole[at + 1 :]


def test_a_chain_finds_what_was_changed_or_cut(tmp_path: Path) -> None:
    """Lines changed, cut off or torn: the first two are errors, the last is dropped; a line without its head counts."""
    chain = Chain(tmp_path / "r.jsonl")
    for n in range(4):
        chain.add({"n": n})
    assert [e["n"] for e in chain.read()] == [0, 1, 2, 3]
    assert (chain.path.stat().st_mode & 0o777) == 0o600
    whole = chain.path.read_bytes()
    last = whole.splitlines()[-1]
    assert chain.head == hashlib.sha256(last).hexdigest()
    for wrong in (whole.replace(b'"n": 1', b'"n": 7'), whole[: -len(last) - 1], b""):
        chain.path.write_bytes(wrong)
        with pytest.raises(ArchiveDamaged):
            chain.read()
    chain.path.write_bytes(whole + b'{"previous": "x", "n":')  # torn by a kill
    assert len(chain.read()) == 4
    chain.add({"n": 4})
    assert [e["n"] for e in chain.read()] == [0, 1, 2, 3, 4]
    more = json.dumps({"n": 5, "previous": chain.head}).encode() + b"\n"  # killed between the line and its head
    chain.path.write_bytes(chain.path.read_bytes() + more)
    chain.add({"n": 6})
    assert [e["n"] for e in chain.read()] == [0, 1, 2, 3, 4, 5, 6]


def test_putting_files_together_changes_nothing_else(make: Maker) -> None:
    """After daily imports and compaction: fewer files, the same fingerprint, figures and provenance; duplicates are
    still found, an import can still be taken back, and a dry run changes nothing.
    """
    house = make(post.DOORS % 25, now=NOW, people=post.PEOPLE, teams=post.TEAMS)
    for day in range(1, 9):
        lines = post.doors(days=day).splitlines()
        (house.path / f"doors-{day}.csv").write_text("\n".join([lines[0], *lines[-4:]]) + "\n")
        house.archive.import_log("doors")
    house.shelf.keep(MARCH, ["csv"])
    where = house.log("doors").during("2026-03").listing().to_pandas()[["start", "file", "record"]].to_dict()
    assert (
        house.archive.compact("doors", dry=True).before,
        len(house.base.archive.snapshot().manifest.log("doors").parts),
    ) == (
        8,
        8,
    )
    told = command("-w", str(house.path), "archive", "compact").stdout
    assert told == "doors: 8 files became 1, 32 events\n"
    house = later(house)
    assert len(house.base.archive.snapshot().manifest.log("doors").parts) == 1
    assert [v.state for v in house.shelf.verify()] == ["same"] * 3
    assert house.log("doors").during("2026-03").listing().to_pandas()[["start", "file", "record"]].to_dict() == where
    lines = post.doors(days=9).splitlines()
    (house.path / "doors-again.csv").write_text("\n".join([lines[0], *lines[-12:]]) + "\n")
    assert house.archive.import_log("doors")[-1].file.duplicate == 8  # type: ignore[union-attr]
    house.archive.undo_import(10)
    house.archive.undo_import(8)
    house = later(house)
    assert house.log("doors").run().cell() == 28
    assert house.archive.compact("doors").before == 0
    assert house.shelf.verify()[0].state == "same"
