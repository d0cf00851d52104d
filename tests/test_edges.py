"""What stands at the edge of a figure: absence, validity, formulas, hours beside money, one bad file among good ones,
names of commands.
"""

from __future__ import annotations

import gzip
import re
import shutil
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import fermata as package
from fermata.analysis.combine import WAYS
from fermata.api.workspace import Workspace, open_workspace
from fermata.engines.embedded import DuckEngine
from fermata.errors import (
    ConfigError,
    DataError,
    FermataError,
    FilesFailed,
    RequestError,
    SourceError,
    UnknownName,
    plural,
)
from fermata.intake.readers.recurring import MOST, bounded
from fermata.outputs import drawing
from fermata.outputs.sizes import expected
from fermata.reports.definition.display import Display
from fermata.reports.definition.report import Report
from fermata.timeline.hours import week
from tests.conftest import DEEP, NOW, Maker, fermata, plain, some

HEAD = '[workspace]\nzone = "Europe/Lisbon"\n'


def of(hall: Workspace, **asked: Any) -> Any:
    """The table of a report."""
    return hall.run(Report.of(**asked)).table


def test_a_name_that_was_somebodys_is_found_after_its_time(make: Maker) -> None:
    """Readings of a badge after its row's end are not that person's, and no answer about the person is silent about
    them.
    """
    config = plain().replace('user = "Who"', 'user = { column = "Who", names = "badge" }') + (
        '[registers.people]\nfiles = "people.txt"\nid = "Id"\nlabel = "Name"\nnames = { badge = "Badge" }\nfrom = '
        '"From"\nuntil = "Until"\n'
    )
    house = make(
        config, doors="When,Who,Door\n2026-01-10 09:00,B-1,a\n2026-03-15 09:00,B-1,a\n2026-03-16 09:00,B-1,a\n"
    )
    (house.path / "people.txt").write_text("Id,Name,Badge,From,Until\n1,Ann,B-1,2026-01-01,2026-01-31\n")
    house.archive.import_log("doors")
    said = "2 events of B-1 (badge) lie after its end on 2026-01-31"
    asked = Report.of(log="doors", period="2026-03", only={"user": "B-1"})
    found = house.run(asked)
    assert found.table.total.cells == (0,)
    for notes in (found.answer.notes, house.listing(asked).notes):
        assert any(said in note for note in notes), notes
        assert any("last such event before the period: 2026-01-10" in note for note in notes), notes
    whole = house.run(asked.changed(only=Report.of(log="any", only={"user": "B-1 (badge)"}).only))
    assert whole.table.total.cells == (2,)


def test_a_check_that_saw_nothing_is_no_success(hall: Workspace) -> None:
    """After a filter that removes all entries no part of the page is in order."""
    library = Report.of(log="any", only={"place": "Library"}).only
    page = hall.run(hall.reports.definition("payroll-check").changed(only=library)).answer
    verdicts = [p.verdict for p in page.parts if p.verdict is not None]
    assert verdicts
    assert all(verdicts), verdicts
    assert any("nothing" in v for v in verdicts), verdicts


@pytest.mark.parametrize("log", some(["timesheets", "doors", "helpdesk", "calls", "sessions", "meter"], 6))
def test_a_log_whose_events_all_expired_breaks_no_page(hall: Workspace, tmp_path: Path, log: str) -> None:
    """What looks at every log goes on without it; what asks for it alone is told where to look."""
    shutil.copytree(hall.path, tmp_path / "hall")
    house = package.open(tmp_path / "hall", now=datetime(2028, 1, 1, tzinfo=UTC))
    house.archive.expire(log, older_than="1 day")
    assert f"{log} holds no events" in f"{house.report('overview' if DEEP else 'needs-attention')}"
    assert house.report("edited-entries").context.title
    with pytest.raises(
        RequestError, match=f"the log {log} holds no events; bring events in with: fermata import {log};"
    ):
        house.listing(Report(log=log))


@pytest.mark.parametrize(
    ("formula", "kind"),
    [("mean mos", "decimal"), ("6 - peak", "number"), ("10 - count", "number"), ("count", "number")],
)
def test_a_formula_keeps_the_kind_of_what_it_is_made_of(hall: Workspace, formula: str, kind: str) -> None:
    """None of them is per cent; what ends in % is."""
    columns = [{"label": "X", "formula": formula}]
    assert of(hall, log="calls", period="2026-03", columns=columns).measures[0].type.removeprefix("mean ") in (
        kind,
        "mean",
    )
    share = [{"label": "X %", "formula": "count / count"}]
    assert of(hall, log="calls", period="2026-03", columns=share).measures[0].type == "share"


def test_hours_beside_money_are_whole(make: Maker) -> None:
    """An entry over the end of the month is whole in `total duration`, as its price is; `time` is cut, and a note says
    so.
    """
    config = HEAD + (
        '[logs.timesheets]\nfiles = "e.csv"\n[logs.timesheets.fields]\nstart = "Start"\nfinish = "End"\nuser = "Who"\n'
        'pay = { column = "Pay", type = "money", unit = "EUR" }\n'
    )
    house = make(
        config,
        e="Start,End,Who,Pay\n2026-03-31 22:00,2026-04-01 02:00,Ann,40.00\n2026-03-02 08:00,2026-03-02 "
        "10:00,Ann,20.00\n",
    )
    house.archive.import_log("timesheets")
    rate = {"label": "An hour", "formula": "total pay / total duration"}
    got = house.run(
        Report.of(log="timesheets", period="2026-03", columns=["time", "total duration", "total pay", rate])
    )
    hour = 3_600_000_000
    assert got.table.total.cells[:3] == (4 * hour, 6 * hour, 6000)
    assert f"{got.table.total.cells[3]}".startswith("10")
    assert any("whole" in note for note in got.answer.notes)


def test_spans_are_kept_when_another_date_counts(hall: Workspace) -> None:
    """`--date-field` gives times and mean durations, of the same spans."""
    whole = of(hall, log="timesheets", period="all", columns=["total duration"]).total.cells[0]
    dated = [f.name for f in hall.base.schemas["timesheets"].fields if f.type == "time"]
    if dated:
        table = of(
            hall,
            log="timesheets",
            period="all",
            date_field=dated[0],
            columns=["time", "mean duration", "total duration"],
        )
        assert 0 < table.total.cells[2] <= whole


def test_days_used_and_shares_of_a_group(hall: Workspace) -> None:
    """Days with an event are no more than days covered; shares of the parent come to one in each group."""
    table = of(
        hall,
        log="doors",
        period="2026-03",
        by=["place", "device"],
        columns=["distinct day", "days", "share count of parent"],
    )
    assert all(r.cells[0] <= r.cells[1] for r in table.body)
    for place in {r.keys[0] for r in table.body}:
        assert sum(r.cells[2] for r in table.body if r.keys[0] == place) == pytest.approx(1)


def test_spans_from_the_evening_before_are_counted_or_shown(hall: Workspace) -> None:
    """A day's listing says how many reach in, and has them on request."""
    asked = Report.of(log="sessions", period="2026-03-06")
    alone, more = hall.listing(asked), hall.run(asked.changed(listing={"overlapping": True})).answer
    reaching = more.total - alone.total
    assert reaching > 0
    assert any(f"{reaching} " in note for note in alone.notes), alone.notes


def test_time_stays_in_its_order_in_pictures(hall: Workspace) -> None:
    """Weekdays are Monday to Sunday, whatever is largest."""
    found = drawing.of(hall.run(Report.of(log="doors", period="2026-03", by=["weekday"], chart="ranked")).answer)
    assert [n[:3] for n in found.names] == ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]


def test_one_bad_file_stops_no_other(make: Maker) -> None:
    """The others are stored, the bad one is named, nothing is declared complete; the command ends with 1 and goes on
    with other logs.
    """
    good, bad = "When,Who,Door\n2026-03-01 09:00,A,a\n", "\x00\x00\x00"
    more = plain().partition("[logs.doors]")[2].replace("logs.doors", "logs.more").replace("*.csv", "c.csv")
    house = make(f"{plain()}[logs.more]{more}", a=good, b=bad, c=good.replace("09", "10"))
    with pytest.raises(FilesFailed, match=r"b\.csv") as failed:
        house.archive.import_log("doors", complete_to=NOW)
    assert [o.path for o in failed.value.done] == ["a.csv", "c.csv"]
    state = house.base.place().state("doors")
    assert (state.events, state.complete_to) == (2, None)
    said = fermata("-w", str(house.path), "import", code=1)
    assert "more" in [line.split()[0] for line in said.stdout.splitlines()]
    assert "not imported as a whole: doors; all other logs are" in said.stderr


def test_a_log_of_which_nothing_could_be_used_says_why(make: Maker) -> None:
    """Spans, all rejected: the import goes through, and the survey lists the reasons."""
    house = make(
        plain(fields='duration = { column = "Long", form = "seconds" }'), doors="When,Who,Door,Long\nnever,A,a,1\n"
    )
    house.archive.import_log("doors")
    survey = house.archive.survey("doors")
    assert "'never' is not a time" in survey.part("rejects").rows[0][4]
    assert ("Time covered", "none: no record could be used") in survey.part("overview").rows


def test_a_log_is_added_beside_derived_ones(make: Maker) -> None:
    """`map --add` works where fermata.toml has logs made from others, and what is generated may stand beside one of
    them.
    """
    derived = (
        '[logs.visits]\nfrom = "doors"\npairing = { opening = "in", closing = "out", by = ["user"], reach = '
        '"30 hours" }\n'
    )
    generated = (
        '[patterns.full]\nhours = { monday = 8 }\n[registers.people]\nfiles = "people.txt"\nid = "Id"\nlabel = "Name"\n'
        'attributes = { pattern = "Pattern" }\n[logs.due]\ngenerate = "required time"\nregister = "people"\nup_to = '
        '"visits"\n'
    )
    config = plain(fields='action = "What"').replace('"*.csv"', '"doors.csv"') + derived + generated
    house = make(config, doors="When,Who,Door,What\n2026-03-02 09:00,A,a,in\n2026-03-03 09:00,A,a,out\n")
    (house.path / "people.txt").write_text("Id,Name,Pattern\n1,Ann,full\n")
    (house.path / "calls.csv").write_text("Started,Phone\n2026-03-01T09:00:00Z,231\n2026-03-02T09:00:00Z,232\n")
    fermata("-w", str(house.path), "map", str(house.path / "calls.csv"), "--add")
    again = open_workspace(house.path, now=NOW)
    again.archive.import_log("doors")
    assert (
        again.run(Report.of(log="due", period="2026-03-02", columns=["total required"])).table.total.cells[0]
        == 8 * 3_600_000_000
    )


def test_commands_answer_in_sentences(hall: Workspace, tmp_path: Path) -> None:
    """Derived and unknown logs, a closed output, a workspace that is none: no internal error."""
    at = ("-w", str(hall.path))
    for arguments, said in (
        (("archive", "expire", "visits", "--dry-run"), "visits has no records of its own"),
        (("archive", "expire", "%", "--dry-run"), "there is no log '%'"),
        (("trace", "X", "--log", "nope"), "there is no log 'nope'"),
        (("report", "doors", "--set", "zone=Nowhere/None"), "Nowhere"),
    ):
        assert said in fermata(*at, *arguments, code=2).stderr
    assert "there is no workspace" in fermata("-w", str(hall.path / "reports"), "archive", "verify", code=2).stderr
    with pytest.raises(RequestError, match="no workspace"):
        package.open(hall.path / "reports")


@pytest.mark.parametrize(
    ("added", "said"),
    [
        ("[workspace.cycles]\npay = { every = 999999999999, from = 2026-01-05 }\n", "cycles.pay.every"),
        ("x = " + "[" * 5000 + "]" * 5000 + "\n", "deep"),
    ],
)
def test_files_that_ask_too_much_are_refused(tmp_path: Path, added: str, said: str) -> None:
    """Before anything is worked out."""
    (tmp_path / "fermata.toml").write_text(HEAD + added)
    with pytest.raises(ConfigError, match=said):
        open_workspace(tmp_path)


def test_a_byte_order_mark_is_no_mistake(tmp_path: Path) -> None:
    """An editor put it there."""
    (tmp_path / "fermata.toml").write_text("\ufeff" + HEAD, encoding="utf-8")
    assert open_workspace(tmp_path).config.workspace.zone == "Europe/Lisbon"


@pytest.mark.parametrize(
    "rule", ["FREQ=SECONDLY", "FREQ=DAILY;BYSECOND=0,1,2", "FREQ=HOURLY;BYMONTH=2", "FREQ=DAILY;COUNT=99999999"]
)
def test_a_calendar_comes_to_an_end(rule: str) -> None:
    """What repeats within the hour is left out, what repeats very often is cut; both are named."""
    import icalendar

    text = f"BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:1\nSUMMARY:Bell\nDTSTART:20260105T100000\nRRULE:{rule}\nEND:VEVENT\nEND:VCALENDAR\n"
    calendar = icalendar.Calendar.from_ical(text)
    told = bounded(calendar)
    assert len(told) == 1
    assert "'Bell'" in told[0]
    left = calendar.walk("VEVENT")
    assert not left or left[0]["RRULE"]["COUNT"] == [MOST]


def test_hours_of_no_length_are_refused() -> None:
    """They were taken for the whole day."""
    with pytest.raises(RequestError, match="lasts no time"):
        week("monday", ("10:00-10:00",))


def test_what_a_file_hides_is_said(make: Maker) -> None:
    """Two columns of one name, and NUL bytes."""
    house = make(plain(), doors="When,Who,Who,Door\n2026-03-01 09:00,A\x00b,x,a\n")
    (done,) = house.archive.import_log("doors")
    assert done.file
    assert "'Who' more than once" in done.file.inferred
    assert "1 NUL bytes" in done.file.inferred


def test_a_packed_file_of_nothing_is_refused_by_name(make: Maker) -> None:
    """Zeros, packed or not."""
    house = make(plain())
    for name, content in (
        ("z.csv.gz", gzip.compress(bytes(5000))),
        ("y.csv.gz", bytes(5000)),
        ("x.csv.gz", b"\x1f\x8b" + bytes(50)),
    ):
        (house.path / name).write_bytes(content)
        with pytest.raises((SourceError, UnknownName), match=re.escape(name)):
            house.archive.import_log("doors", [house.path / name])


def test_first_and_last_are_folded_as_they_are() -> None:
    """Two datetimes are compared, never added: the rest of a top N by day."""
    early, late = datetime(2026, 3, 1, tzinfo=UTC), datetime(2026, 3, 2, tzinfo=UTC)
    assert (WAYS["min"](late, early), WAYS["max"](early, late), WAYS["sum"](1, 2)) == (early, late, 3)


def test_the_rest_of_the_top_days_has_a_first_start(hall: Workspace) -> None:
    """It is the earliest of those left out."""
    top = of(hall, log="doors", period="2026-03", by=["day"], top=3, columns=["count", "first", "last"])
    rest = next(r for r in top.body if "other" in r.shown[0])
    whole = of(hall, log="doors", period="2026-03", by=["day"], columns=["count", "first", "last"])
    kept = {r.keys for r in top.body}
    others = [r.cells for r in whole.body if r.keys not in kept]
    assert rest.cells == (sum(c[0] for c in others), min(c[1] for c in others), max(c[2] for c in others))


def test_an_evacuation_asks_for_its_outer_doors(hall: Workspace, make: Maker) -> None:
    """Who leaves an inner room is not outside; the preparation says which readers count and which others record ways
    out.
    """
    house = make(
        plain(fields='action = "What"'),
        doors="When,Who,Door,What\n2026-03-05 09:00,A,gate,in\n2026-03-05 09:30,A,vault,in\n2026-03-05 "
        "09:40,A,vault,out\n"
        "2026-03-04 09:00,B,gate,in\n2026-03-04 10:00,B,gate,out\n",
        now=datetime(2026, 3, 5, 10, tzinfo=UTC),
    )
    house.archive.import_log("doors")
    _, told = house.evacuation("fire").prepare(log="doors", outer={"device": "gate"})
    assert told[0] == "count as leaving the house: gate"
    assert "vault" in told[1]
    found = house.evacuation("fire").begin(datetime(2026, 3, 5, 6, tzinfo=UTC))
    assert [p.name for p in found.people] == ["A"]
    sheet = house.evacuation("fire").state()[1]
    assert {"by", "at", "place"}.isdisjoint(c[0] for c in sheet.columns)


def test_small_words() -> None:
    """Plurals, and pages of a document that was asked for in part."""
    assert [plural(w) for w in ("delivery", "category", "kind of log", "day", "report")] == [
        "deliveries", "categories", "kinds of log", "days", "reports",
    ]  # fmt: skip


def test_what_is_saved_is_said(hall: Workspace, tmp_path: Path) -> None:
    """`save` says which run it saves; a report by others keeps its title; hyphens find."""
    assert "calls-by-person" in [e.name for e in hall.reports.catalogue("by-person")]
    said = fermata(
        "-w", str(hall.path), "--now", NOW.isoformat(), "report", "calls-by-line", "--by", "user", "--output", "csv"
    )
    assert said.returncode == 0
    printed = fermata("-w", str(hall.path), "--now", NOW.isoformat(), "report", "calls-by-line", "--by", "user").stdout
    assert printed.splitlines()[0].startswith("Calls by line · by user")


def test_the_size_told_is_that_of_the_pages_asked_for(hall: Workspace) -> None:
    """Three of many."""
    found = hall.listing(Report.of(log="doors", period="2026-03"))
    assert re.match(r"3 of about \d+ pages", expected(found, "pdf", Display(pages="1-3")))


def test_other_peoples_names_are_hidden_in_a_part(hall: Workspace) -> None:
    """Who corrected an entry is not shown where they are not in the part."""
    seen = hall.seen_by("stage-lead")
    whole = of(hall, log="timesheets", period="all", by=["editor"])
    part = of(seen, log="timesheets", period="all", by=["editor"])
    names = {r.shown[0] for r in part.body} - {"(none)"}
    team = {r.shown[0] for r in of(seen, log="timesheets", period="all", by=["user"]).body}
    assert names <= team
    assert len(part.body) <= len(whole.body)


def test_a_filter_of_two_fields_is_answered_with_how_to_write_it(hall: Workspace) -> None:
    """A comma slip names the second `--only`."""
    with pytest.raises(FermataError, match="write two filters: 'action=printed' and 'colour=yes'"):
        hall.run(Report.of(log="prints", only={"action": ["printed", "colour=yes"]}))


def test_a_second_pass_is_settled_by_order_for_spans(make: Maker) -> None:
    """`ambiguous = "order"` looks at the starts of the file, also where a record has a finish and a length."""
    fields = 'finish = "End"\nduration = { column = "Long", form = "minutes" }\nuser = "Who"\n'
    config = HEAD + f'[logs.doors]\nfiles = "*.csv"\nambiguous = "order"\n[logs.doors.fields]\n{fields}'
    rows = [("2025-10-26 01:50", 5), ("2025-10-26 01:10", 5), ("2025-10-26 01:40", 5)]
    house = make(config, doors="End,Long,Who\n" + "".join(f"{at},{long},A\n" for at, long in rows))
    house.archive.import_log("doors")
    ends = house.listing(Report.of(log="doors", listing={"fields": ["finish"]})).rows
    found = sorted(v for row in ends for v in row if isinstance(v, datetime))
    assert max(found) - min(found) >= timedelta(minutes=49)


def test_a_part_of_what_is_brought_is_never_taken_for_the_whole() -> None:
    """Where reading breaks off, nothing stands; the next try begins anew, and nothing stays after the run."""
    import pyarrow as pa

    engine, pieces = DuckEngine(), [pa.table({"n": pa.array(n, pa.int64())}) for n in ([], [1, 2], [3])]

    def broken() -> Iterator[Any]:
        yield from pieces[:2]
        raise DataError("the database has ended the connection")

    with engine.keeping(), engine.keeping():
        with pytest.raises(DataError, match="ended"):
            engine.bring("brought", broken)
        engine.bring("brought", lambda: iter(pieces))
        engine.bring("brought", broken)  # known by now
        assert engine.sql("SELECT count(*) AS n FROM brought").to_pylist() == [{"n": 3}]
    with pytest.raises(DataError, match="does not exist"):
        engine.sql("FROM brought")


def test_a_clock_time_is_held_against_the_time_of_day(make: Maker) -> None:
    """In rows and limits, on the zone's clock, also in summer; what crosses a limit is told on that clock."""
    days = [("2026-03-28", "08:59"), ("2026-03-29", "09:00"), ("2026-03-30", "09:01"), ("2026-06-01", "19:30")]
    house = make(plain(), doors="When,Who,Door\n" + "".join(f"{d} {c},A,X\n" for d, c in days))
    house.archive.import_log("doors")
    asked = Report.of(log="doors", period="2026", by=["day"], columns=["first"], warn=["First > 9:00"])
    for rows, wanted in (("First > 9:00", days[2:]), ("First <= 9:00:00", days[:2]), ("First > 2026-03-29", days[1:])):
        assert [r.shown[0] for r in house.run(asked.changed(rows=[rows])).table.body] == [d for d, _ in wanted]
    few = house.run(asked.changed(top=2, rows=["First > 9:00"])).notes
    assert any("after the top 2 were taken; totals are of all rows" in n for n in few)
    told = next(n for n in house.run(asked).notes if n.startswith("limit"))
    assert told.endswith("2026-03-30 (2026-03-30 09:01:00); 2026-06-01 (2026-06-01 19:30:00)")
    with pytest.raises(RequestError, match="'25:00' is not a time; write 2026-04-01T09:00, or 09:00 for a time of any"):
        house.run(asked.changed(rows=["First > 25:00"]))
