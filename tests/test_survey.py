"""Survey, gaps, guided mapping, kinds: what people look at before they trust a log."""

from __future__ import annotations

import json
import shutil
from datetime import datetime, timedelta
from pathlib import Path

import pytest

import fermata
from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import RequestError, SourceError, UnknownName
from fermata.reports.execute.survey import TITLES
from fermata.workspace.proposing import log_name, propose
from tests.conftest import NOW, Maker, some
from tests.conftest import fermata as command
from tests.test_cli import ask, table

LOG = """
[workspace]
zone = "Europe/Lisbon"
[logs.doors]
kind = "door access"
files = "d*.csv"
{more}
[logs.doors.fields]
start = "When"
user = "Who"
device = "Door"
action = "What"
"""


def regular(skip: tuple[datetime, datetime] | None = None, weeks: int = 6, doors: int = 1) -> str:
    """A record every ten minutes of working hours, as CSV, except for one stretch of time."""
    lines, at = ["When,Who,Door,What"], datetime(2026, 1, 5)
    while at < datetime(2026, 1, 5) + timedelta(weeks=weeks):
        silent = skip and skip[0] <= at < skip[1]
        if at.weekday() < 5 and 8 <= at.hour < 18 and not silent:
            lines.append(f"{at:%Y-%m-%d %H:%M},u{at.minute},d{at.minute // 10 % doors},in")
        at += timedelta(minutes=10)
    return "\n".join(lines) + "\n"


def gaps(w: Workspace) -> list[tuple[str, str, str]]:
    rows = w.archive.survey("doors").part("gaps").rows
    return [(r[0], f"{r[1]:%m-%d %H:%M}", f"{r[2]:%m-%d %H:%M}") for r in rows]


def test_a_silence_the_rhythm_does_not_explain_is_a_gap(make: Maker) -> None:
    """An outage in working hours is found, nights and weekends of the rhythm are none; a report over it says so."""
    outage = (datetime(2026, 1, 27, 10), datetime(2026, 1, 27, 13))
    w = make(LOG.format(more=""), d1=regular(outage))
    w.archive.import_log("doors")
    assert gaps(w) == [("(all)", "01-27 09:50", "01-27 13:00")]
    result = w.run(fermata.Report.of(log="doors", period="2026-01"))
    assert "no record of doors for 3:10:00 from 2026-01-27 09:50" in result.notes
    assert not any("no record" in c for c in w.run(fermata.Report.of(log="doors", period="2026-02-02")).notes)
    (w.path / "d2.csv").write_text("When,Who,Door,What\n2026-01-27 11:00,late,d0,in\n")
    w.archive.import_log("doors")
    assert gaps(w) == [("(all)", "01-27 11:00", "01-27 13:00"), ("(all)", "01-27 09:50", "01-27 11:00")]


def test_one_silent_device_among_others(make: Maker) -> None:
    """A reader that was down while the log went on is named."""
    lines = regular(doors=3).splitlines()
    down = [line for line in lines if not (",d1," in line and "2026-01-20" <= line[:10] <= "2026-01-23")]
    w = make(LOG.format(more=""), d1="\n".join(down) + "\n")
    w.archive.import_log("doors")
    assert gaps(w) == [("d1", "01-19 17:40", "01-26 08:10")]


def test_short_histories_claim_nothing_and_a_declared_gap_counts(make: Maker) -> None:
    """Less than four weeks is no rhythm; `gap` of the log overrides it."""
    outage = (datetime(2026, 1, 7, 10), datetime(2026, 1, 7, 13))
    w = make(LOG.format(more=""), d1=regular(outage, weeks=2))
    w.archive.import_log("doors")
    assert gaps(w) == []
    overview = dict(w.archive.survey("doors").part("overview").rows)
    assert overview["Gaps"] == "no claim: less than four weeks, or too few records"
    w = make(LOG.format(more='gap = "2 hours"'))
    assert ("(all)", "01-07 09:50", "01-07 13:00") in gaps(w)


def test_values_outside_the_vocabulary_are_listed_and_refused(make: Maker) -> None:
    """A report that depends on a word refuses while the log writes others in its place; a true zero is a note."""
    text = "When,Who,Door,What\n2026-01-05 10:00,a,d,in\n2026-01-05 10:01,a,d,NO ENTRY\n"
    w = make(LOG.format(more=""), d1=text)
    w.archive.import_log("doors")
    (row,) = w.archive.survey("doors").part("values").rows
    assert row[:3] == ("action", "NO ENTRY", 1)
    with pytest.raises(RequestError, match=r'values = \{ "NO ENTRY" = "refused" \}'):
        w.run(fermata.Report.of(log="doors", only={"action": "refused"}))
    w = make(LOG.format(more="").replace('"What"', '{ column = "What", values = { "NO ENTRY" = "refused" } }'))
    assert "repeats them" in dict(w.archive.survey("doors").part("overview").rows)["Older mapping"]
    w.archive.import_log("doors")
    assert w.archive.survey("doors").part("values").rows == ()
    result = w.run(fermata.Report.of(log="doors", only={"action": "forced"}))
    assert "no event of the whole log has action 'forced'" in result.notes
    with pytest.raises(UnknownName, match=r'once \[logs\.doors\.fields\] maps it: place = "COLUMN"'):
        w.run(fermata.Report.of(log="doors", only={"place": "x"}))


def test_what_fields_hold(hall: Workspace) -> None:
    """Filled, different, commonest, smallest and largest agree with the file."""
    survey = hall.archive.survey("prints")
    rows = {r[0]: r for r in survey.part("fields").rows}
    assert rows["colour"][2:5] == (1.0, 2, "no (16,856), yes (4,448)")
    assert rows["cost"][5] == "0.00"
    assert rows["tags"][3] > 3
    assert "QUILLMERE\\" in rows["user_written"][4]
    records = dict(survey.part("overview").rows)["Records"]
    assert records == "21,305 read = 21,304 stored + 1 rejected"
    (reject,) = survey.part("rejects").rows
    assert reject[4] == "pages: 'n/a' is not a number without decimals"
    with pytest.raises(UnknownName, match="there is no part 'field' of a survey; did you mean 'fields'"):
        survey.part("field")


def test_unresolved_names_carry_their_weight(hall: Workspace) -> None:
    """The badge of one who left, with its events; only of the period asked."""
    assert [r[:4] for r in hall.archive.survey("doors").part("unresolved").rows] == [("user", "badge", "B-1050", 305)]
    assert hall.archive.survey("doors", period="2026-01").part("unresolved").rows == ()


def test_rejects_are_exported_mended_and_imported(make: Maker) -> None:
    """With their header, in the file's own encoding; once corrected they trouble no report."""
    text = "Banner\nWhen;Who;Door;What\n2026-01-05 10:00;Žofie;d;in\n2026-01-05 1O:01;Réka;d;in\n"
    w = make(LOG.format(more='skip_lines = 1\ndelimiter = ";"\nencoding = "utf-16"'), d1=text.encode("utf-16"))
    w.archive.import_log("doors")
    ((path, count),) = w.archive.export_rejects("doors", w.path / "mend.csv")
    corrected = path.read_text(encoding="utf-16")
    assert (count, corrected) == (1, "Banner\nWhen;Who;Door;What\n2026-01-05 1O:01;Réka;d;in\n")
    path.write_text(corrected.replace("1O", "10"), encoding="utf-16")
    assert any("rejected" in c for c in w.run(fermata.Report(log="doors")).notes)
    w.archive.import_log("doors", [path], corrected=True)
    assert not any("rejected" in c for c in w.run(fermata.Report(log="doors")).notes)
    assert w.archive.survey("doors").part("rejects").rows == ()
    with pytest.raises(RequestError, match="doors has no rejects to mend"):
        w.archive.export_rejects("doors", path)


GUESSES = [
    ("doors-2026-03.csv", "doors", 'start = { column = "When", form = "%d/%m/%Y %H:%M:%S" }'),
    ("calls-2026-03.txt", "calls", "skip_lines = 2"),
    ("prints.csv", "prints", 'start = { column = "Finished", form = "%m/%d/%Y %I:%M:%S %p" }'),
    ("time-entries.csv", "time-entries", 'start = { columns = ["Date", "From"], form = "%Y-%m-%d %H:%M" }'),
    ("auth.log", "auth", 'format = "syslog"'),
    ("software-2026-03.jsonl.gz", "software", 'user = { column = "who.login", names = "login" }'),
    ("radius-detail", "radius-detail", 'finish = { column = "time", form = "%a %b %d %H:%M:%S %Y" }'),
    ("changes.txt", "changes", 'encoding = "utf-16"'),
    ("print-credit.xlsx", "print-credit", "skip_lines = 1"),
    ("device-states.db", "device-states", 'start = { column = "noted", form = "julian day" }'),
    ("bookings.ics", "bookings", 'format = "icalendar"'),
    ("access.log.1.gz", "access", 'format = "web access"'),
    ("page_log", "page_log", 'format = "page log"'),
]


@pytest.mark.parametrize(("name", "log", "line"), some(GUESSES, len(GUESSES)))
def test_a_proposal_imports_as_it_stands(hall: Workspace, tmp_path: Path, name: str, log: str, line: str) -> None:
    """For each file of the sample: the expected line, and with the proposal as it is every record becomes an event."""
    shutil.copy2(hall.path / "incoming" / name, tmp_path / name)
    (tmp_path / "fermata.toml").write_text('[workspace]\nzone = "Europe/Lisbon"\n')
    assert log_name(tmp_path / name) == log
    assert line in command("map", name, "--add", cwd=tmp_path).stdout + (tmp_path / "fermata.toml").read_text()
    w = open_workspace(tmp_path, now=NOW)
    outcomes = w.archive.import_log(log)
    assert all(o.file and o.file.stored and o.file.rejected <= 1 for o in outcomes)


def test_day_or_month_first_is_told_by_evidence_or_marked(tmp_path: Path) -> None:
    """A day above 12, else the order of the file, else a choice that is marked with the other reading."""

    def start(*dates: str) -> str:
        (tmp_path / "log.csv").write_text("When,User\n" + "".join(f"{d} 10:00,a\n" for d in dates))
        return "\n".join(
            line for line in propose(tmp_path / "log.csv", "log")[0].splitlines() if "%" in line or "first?" in line
        )

    assert start("03/04/2026", "03/25/2026") == 'start = { column = "When", form = "%m/%d/%Y %H:%M" }'
    assert "only as %m/%d/%Y %H:%M does the file run forward" in start(
        "01/05/2026", "02/01/2026", "02/03/2026", "03/02/2026"
    )
    assert "reads both ways and nothing in the sample tells; the other is %m/%d/%Y %H:%M" in start(
        "03/04/2026", "03/04/2026"
    )


def test_kinds_are_published() -> None:
    """Every kind with its fields and words, as text and as JSON."""
    from fermata.kinds import KINDS

    assert "refused" in command("map", "--kinds", "door access").stdout
    listed = command("map", "--kinds").stdout
    assert all(f"{kind} " in listed for kind in KINDS)
    assert "did you mean 'calls'" in command("map", "--kinds", "cals", code=2).stderr


@pytest.mark.deep
def test_the_commands_of_trust(hall: Workspace, tmp_path: Path) -> None:
    """Survey, find and register as processes: figures, exit codes, and what a pipe gets."""
    every = table(ask(hall, "survey", "--output", "csv"))
    assert {r["Log"]: r["Events"] for r in every}["doors"] == "95219"
    parts = json.loads(ask(hall, "survey", "states", "--output", "json"))["parts"]
    assert [p["title"] for p in parts] == [f"states: {TITLES[n]}" for n in (
        "overview", "fields", "gaps", "imports", "values", "unresolved", "rejects",
    )]  # fmt: skip
    assert "choose one with --part" in ask(hall, "survey", "doors", "--output", "csv", code=2)
    found = table(ask(hall, "register", "find", "pellegrane", "--output", "csv"))
    assert len({r["Name"] for r in found}) == len(found) > 1
    assert all(r["Register"] == "people" for r in found if "Pellegrane" in r["Name"])
    assert "no person, device or place has" in ask(hall, "register", "find", "zzzz", code=1)
    before, after = (
        table(ask(hall, "register", "list", "people", "--as-of", d, "--only", "department=house", "--output", "csv"))
        for d in ("2026-01-11", "2026-01-12")
    )
    assert {r["Name"] for r in after} - {r["Name"] for r in before}
    held = ask(
        hall,
        "report",
        "software",
        "--by",
        "user,other",
        "--zero-rows",
        "licences",
        "--period",
        "2026-02",
        "--only",
        "action=used",
        "--output",
        "csv",
    )
    assert "0" in {r["Count"] for r in table(held)}


def test_taking_back_and_expiring_from_the_command_line(tmp_path: Path) -> None:
    """Dry runs change nothing; what is done is listed; a pipe is a source."""
    (tmp_path / "fermata.toml").write_text(LOG.format(more=""))
    (tmp_path / "d1.csv").write_text("When,Who,Door,What\n2025-01-05 10:00,a,d,in\n2026-01-05 10:00,a,d,in\n")
    command("import", cwd=tmp_path)
    assert (
        "2 events and 0 rejects would be taken out"
        in command("archive", "undo-import", "1", "--dry-run", cwd=tmp_path).stdout
    )
    said = command(
        "-w", ".", "--now", "2026-04-01T08:00", "archive", "expire", "doors", "--older-than", "13 months", cwd=tmp_path
    )
    assert "1 events and 0 rejects taken out" in said.stdout
    assert "taken out" in command("archive", "undo-import", "1", cwd=tmp_path).stdout
    listed = command("import", "--list", cwd=tmp_path).stdout
    assert "expired: 1 events" in listed
    assert "taken back: 2 events of import 1" in listed


def test_a_file_that_is_empty_or_nothing_known_is_said_so(tmp_path: Path) -> None:
    """An empty file is an error; lines of no known form get a pattern to fill in."""
    (tmp_path / "x.log").write_text("")
    with pytest.raises(SourceError, match="is empty"):
        propose(tmp_path / "x.log", "x")
    (tmp_path / "x.log").write_text("one two three\nfour five six\n")
    text, doubts = propose(tmp_path / "x.log", "x")
    assert 'format = "regex"' in text
    assert any("write the pattern" in d for d in doubts)
