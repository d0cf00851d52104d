"""Trails, who is inside, clearing a house, pages with a verdict, and one thing changed and run again."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections import Counter
from datetime import UTC, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fermata import outputs
from fermata.api.workspace import Workspace
from fermata.errors import FermataError, RequestError
from fermata.reports.definition.report import Report
from fermata.reports.execute import filter_hints
from tests.conftest import NOW, Maker, examples, fermata, plain, raw

ZONE = ZoneInfo("Europe/Lisbon")
HOUSE = plain('kind = "door access"', 'place = "Place"\naction = "What"')
HEAD = "When,Who,Door,Place,What\n"


def at(hour: int, minute: int = 0, day: int = 5) -> datetime:
    return datetime(2026, 3, day, hour, minute, tzinfo=ZONE)


def readings(*rows: tuple[str, str, str, str]) -> str:
    """Lines of time, person, door and action; a door is in the place named by its first letter."""
    return HEAD + "".join(f"2026-03-{when},{who},{door},{door[:1]},{what}\n" for when, who, door, what in rows)


def test_a_trail_counts_what_the_files_hold(hall: Workspace) -> None:
    """One person over all logs: counts by log and action, then every event in time order with the time since the one
    before.
    """
    result = hall.trace("Ada Umberlin", period="2026-03-05/2026-03-07")
    summary, steps = result.parts
    counts = Counter()
    for r in raw(hall, "doors-2026-03.csv"):
        if r["Badge"] == "B-1330" and r["When"][:2] in ("05", "06", "07"):
            counts["doors", {"ENTRY OK": "in", "EXIT OK": "out", "NO ENTRY": "refused"}[r["Event"]]] += 1
    for r in raw(hall, "calls-2026-03.txt", encoding="cp1252", skip="2", delimiter=";"):
        if r["Extension"] == "247" and r["Started"][8:10] in ("05", "06", "07"):
            counts["calls", {"ANS": "answered", "NOANS": "missed", "BUSY": "busy", "FAIL": "failed"}[r["Result"]]] += 1
    got = {(row[0], row[2]): row[3] for row in summary.rows if row[0] in ("doors", "calls") and row[3]}
    assert got == counts
    assert len(steps.rows) == sum(row[3] for row in summary.rows)
    starts = [row[0] for row in steps.rows]
    assert starts == sorted(starts)
    assert steps.rows[0][2] is None
    assert all(row[2] >= 0 for row in steps.rows[1:])
    assert {row[0] for row in summary.rows} == {
        log for log in hall.config.logs if "user" in hall.base.schemas[log].by_name or log == "changes"
    }


@pytest.mark.deep
def test_a_badge_an_extension_and_a_name_lead_to_one_trail(hall: Workspace) -> None:
    """Whatever name is given, the person is followed by all of them; so is a device, a place, and an id no register
    knows.
    """
    rows = [hall.trace(name, period="2026-03-05").parts[0].rows for name in ("Ada Umberlin", "B-1330", "a.umberlin")]
    assert rows[0] == rows[1] == rows[2]
    device = hall.trace("Score vault", field="device", period="2026-03").parts[0]
    assert sum(row[3] for row in device.rows) == sum(
        r["Reader"] == "Score vault" for r in raw(hall, "doors-2026-03.csv")
    )
    case = hall.trace("C-306")
    assert {row[0] for row in case.parts[0].rows} == {"helpdesk"}
    assert any("is known to no register; looked for as written" in n for n in case.notes)


def test_who_was_not_seen_is_said_with_what_was_searched(hall: Workspace) -> None:
    """A log without the person has a row with 0, whether it covers the period, and the events around it."""
    result = hall.trace("Ada Umberlin", period="2026-03-05")
    row = next(r for r in result.parts[0].rows if r[0] == "doors")
    assert row[3] == 0
    assert row[7] == "yes"
    assert any(n.startswith("not in doors: last before 2026-03-03 11:44:13") for n in result.notes)
    assert any(n.startswith("looked for: Ada Umberlin (badge B-1330, extension 247") for n in result.notes)
    early = {r[0]: r[7] for r in hall.trace("Ada Umberlin", period="2025-10-05").parts[0].rows}
    assert early["logins"] == "no: it begins later"


def test_that_nothing_was_found_is_the_answer(hall: Workspace) -> None:
    """Where no log has anything in the period, that and the times around it are shown first; `--limit` cuts events."""
    told = fermata("-w", str(hall.path), "trace", "Score vault", "--period", "2026-03-30", "--limit", "2").stdout
    assert told.count("  device   ") == len(hall.trace("Score vault", period="2026-03-30").parts[0].rows) > 2
    notes = [line for line in told.splitlines() if line.startswith("Note")]
    assert notes[0].endswith("nothing found: no log has an event of Score vault in this period")
    assert "not in doors: last before 2026-03-29 16:16:45 +01:00, first after 2026-03-31 14:58:29" in notes[1]


def test_a_silent_device_is_named(make: Maker) -> None:
    """Where nobody was seen because a reader wrote nothing, the reader is named."""
    text = readings(
        ("02 08:00", "a", "x", "in"),
        ("02 09:00", "a", "y", "in"),
        ("03 08:00", "b", "x", "in"),
        ("04 08:00", "a", "y", "in"),
    )
    house = make(HOUSE, doors=text)
    house.archive.import_log("doors")
    assert any("devices without any record in the period: y" in n for n in house.trace("a", period="2026-03-03").notes)


def test_an_ambiguous_or_unknown_name_lists_candidates(hall: Workspace) -> None:
    """Part of a name follows nobody, and neither does a name of two things."""
    with pytest.raises(
        RequestError,
        match=r"no person, device or place is called 'Umberl'; names with this in them: .*Ada Umberlin \(people\), ",
    ):
        hall.trace("Umberl")
    with pytest.raises(RequestError, match="and no name has it as a part"):
        hall.trace("Zzz")
    with pytest.raises(RequestError, match="no log has a text field 'colour of shoes'"):
        hall.trace("red", field="colour of shoes")


@examples(12)  # each is an archive of its own
@given(
    st.lists(
        st.tuples(
            st.integers(0, 47),
            st.sampled_from("abcd"),
            st.sampled_from(["X", "Y", "Z"]),
            st.sampled_from(["in", "out", "refused"]),
        ),
        max_size=14,
    ),
    st.data(),
)
def test_a_muster_equals_a_walk_through_the_readings(
    tmp_path_factory: pytest.TempPathFactory, rows: list[tuple[int, str, str, str]], data: st.DataObject
) -> None:
    """Whoever was read since the time and is not clearly out is asked about; readings and marks account for them, later
    ways in undo that.
    """
    from fermata.api.workspace import open_workspace

    where = tmp_path_factory.mktemp("muster")
    (where / "fermata.toml").write_text(HOUSE)
    times = [
        (datetime(2026, 3, 4, tzinfo=ZONE) + timedelta(hours=h), who, door, what)
        for h, who, door, what in sorted(rows, key=lambda r: r[0])
    ]
    lines = [f"{t:%Y-%m-%d %H:%M},{who},{door},{door},{what}\n" for t, who, door, what in times]
    (where / "doors.csv").write_text(
        HEAD + "2026-03-03 00:00,nobody,X,X,out\n2026-03-03 00:00,nobody,Z,Z,in\n" + "".join(lines)
    )
    house = open_workspace(where, now=datetime(2026, 3, 6, tzinfo=UTC))
    house.archive.import_log("doors")
    since, began = at(data.draw(st.integers(0, 6))), at(12)
    now = at(data.draw(st.integers(12, 23)), 30)
    clearing = house.evacuation("all")
    clearing.prepare(log="doors", outer={"device": ["X"]}, assembly={"device": "Z"}, back="7 days")
    clearing.begin(since, began)
    got = {p.name: p.group for p in clearing.state(now)[0].people}
    expected: dict[str, str] = {}
    for person in "abcd":
        own = [(t, door, what) for t, who, door, what in times if who == person]
        ways = [(t, what) for t, door, what in own if door != "Z" and (what == "in" or (what == "out" and door == "X"))]
        early = [w for w in ways if w[0] <= began]
        asked = None
        if early and early[-1][1] == "in":
            asked = "missing" if early[-1][0] >= since else "doubtful"
        else:
            seen = [t for t, _, _ in own if t <= began]
            if (
                seen
                and seen[-1] >= since
                and (
                    not early
                    or seen[-1] > early[-1][0]
                    or own[len(seen) - 1][2] != "out"
                    or own[len(seen) - 1][1] != "X"
                )
            ):
                asked = "doubtful"
            if early and seen and seen[-1] == early[-1][0]:
                asked = None  # the way out is the last reading
        later = [(t, what) for t, what in ways if began < t < now]
        done = [t for t, what in later if what == "out"] + [t for t, door, _ in own if door == "Z" and began < t < now]
        came = [t for t, what in later if what == "in"]
        if came:
            asked = "missing"
        if asked is None:
            continue
        expected[person] = "accounted for" if done and (not came or max(done) >= max(came)) else asked
    assert got == expected


@pytest.mark.deep
def test_a_drill_from_beginning_to_end(make: Maker) -> None:
    """Readings at the assembly point in small imports, several helpers at once, a guest, a mark taken back, a restart
    in between.
    """
    text = readings(
        ("04 09:00", "old", "x", "in"),
        *[(f"05 08:0{i}", n, "x", "in") for i, n in enumerate("abcdef")],
        ("05 09:00", "f", "x", "out"),
        ("05 09:30", "g", "x", "refused"),
    )
    house = make(HOUSE, at(10), doors=text)
    house.archive.import_log("doors")
    drill = house.evacuation("drill")
    drill.prepare(log="doors", outer="every", assembly={"device": "x"}, back="3 days")
    drill.prepare(log="doors", outer="every", assembly={"device": "x"}, back="3 days", over=True)
    with pytest.raises(RequestError, match="is prepared already"):
        drill.prepare(log="doors")
    other = house.evacuation("other")
    with pytest.raises(RequestError, match="say which doors lead out"):
        other.prepare(log="doors")
    with pytest.raises(FermataError, match="there is no field 'door'"):
        other.prepare(log="doors", outer="every", assembly={"door": "x"})
    with pytest.raises(FermataError, match="there is no device 'nowhere' in the log doors"):
        other.prepare(log="doors", outer="every", assembly={"device": "nowhere"})
    path = drill.path
    path.write_text(path.read_text().replace('device = "x"', 'device = "assembly"'))
    (house.path / "late.csv").write_text(readings(("05 10:05", "a", "assembly", "in")))
    found = drill.begin(at(6))
    assert [(p.name, p.group) for p in found.people] == [
        *((n, "missing") for n in "abcde"),
        ("g", "doubtful"),
        ("old", "doubtful"),
    ]
    with pytest.raises(RequestError, match="under way already"):
        drill.begin(at(6))
    marks = [
        subprocess.Popen([sys.executable, "-c", "from fermata.cli.main import main; main()", "-w", str(house.path),
        "--now", "2026-03-05T10:02", "evacuation", "mark", "drill", who, "--by", f"helper {who}"],
        stdout=subprocess.DEVNULL)
        for who in ("b", "c", "d")
    ]  # fmt: skip
    assert [p.wait() for p in marks] == [0, 0, 0]
    drill.mark(["guest"], "helper b", add=True)
    drill.mark(["d"], "helper d", undo=True)
    with pytest.raises(RequestError, match="nobody on the list is called 'zzz'"):
        drill.mark(["zzz"], "helper b")
    house.archive.import_log("doors")
    groups = {p.name: (p.group, p.by) for p in drill.state(at(10, 10))[0].people}
    assert groups["a"] == ("accounted for", "reading at assembly")
    assert groups["b"] == ("accounted for", "helper b")
    assert groups["d"][0] == "missing"
    assert groups["guest"] == ("accounted for", "helper b")
    with drill.path.with_name("drill-20260305T100000.jsonl").open("a") as f:
        f.write('{"what": "marked", "na')  # a helper's machine stopped in the middle
    again = house.evacuation("drill")
    again.mark(["d", "e", "g", "old"], "helper e")
    assert again.state(at(10, 10))[0].missing == 0
    records = again.state(at(10, 10))[1]
    assert "nobody is missing" in records.title
    assert re.search(r"\[x\] +1 +accounted for +x +a ", outputs.render(records, "txt"))
    again.end("helper e")
    with pytest.raises(RequestError, match="not under way"):
        again.mark(["a"], "helper b")


def test_the_payroll_check_has_a_verdict(hall: Workspace, make: Maker) -> None:
    """The page says what is not in order; in order, it says so."""
    result = hall.report("payroll-check")
    assert result.verdict.startswith("NOT IN ORDER: 4 of 5 points: Entries without a finish (")
    assert [p.context.title for p in result.parts][:2] == ["Entries without a finish", "Entries that overlap"]
    fine = Report.of(
        title="Fine",
        log="timesheets",
        parts=[{"title": "Long", "rows": "Count > 99999", "by": "user", "totals": False, "expect": "no rows"}],
    )
    assert hall.run(fine).verdict == "in order: all 1 points are as they should be"
    with pytest.raises(RequestError, match="overview is a page itself"):
        hall.run(Report.of(parts=[{"report": "overview"}]))
    limits = Report.of(log="timesheets", parts=[{"report": "project-budgets", "expect": "within limits"}])
    assert (
        hall.run(limits).verdict
        == "NOT IN ORDER: 1 of 1 points: Budgets of productions (limit Spent > 90 % crossed in 1 of 6 rows)"
    )


@pytest.mark.deep
def test_a_page_goes_into_every_form(hall: Workspace, tmp_path: Path) -> None:
    """Text and JSON hold all parts; CSV stacks parts that are alike and asks for one where they differ."""
    statements = hall.report("client-statements")
    assert statements.parts[0].context.title == "Statements for clients: Farrowmere Ensemble"
    assert len({p.cell(of="Amount") for p in statements.parts}) == len(statements.parts)
    whole = hall.log("timesheets").during("last month").only(charged=True).measure("total billed").run().cell()
    assert sum(p.cell(of="Amount") for p in statements.parts) == whole
    assert str(statements).count("\f") == len(statements.parts)
    table = statements.save(tmp_path / "all.csv").read_text().splitlines()
    assert table[0] == "Part,Project,Activity,Entries,Hours (h),Amount"
    told = json.loads(hall.report("security-overview").save(tmp_path / "page.json").read_text())
    titles = [p["title"] for p in told["parts"]]
    assert titles[:3] == ["Key figures", "Refused entries by door", "Doors forced and held open"]
    with pytest.raises(
        RequestError, match=f"this page has {len(titles)} parts with different columns; choose one with --part: 1: Key"
    ):
        hall.report("security-overview").save(tmp_path / "page.csv")
    assert hall.report("security-overview").part("3").context.title == "Doors forced and held open"


def test_what_is_not_used_is_listed(make: Maker) -> None:
    """Readers used before but not in the period, names that are new, and somebody at two computers at once."""
    text = readings(("02 08:00", "a", "x", "in"), ("20 09:00", "a", "y", "in"), ("21 08:00", "b", "y", "in"))
    house = make(HOUSE, datetime(2026, 3, 25, tzinfo=UTC), doors=text)
    house.archive.import_log("doors")
    assert [r[0] for r in house.report("doors-not-used").rows] == ["x"]


def test_several_computers_and_new_names_are_listed(make: Maker) -> None:
    """Somebody logged in at two computers at once, and a name that was never seen before the period."""
    logins = (
        HOUSE.replace("door access", "logins")
        + '\n[logs.sessions]\nfrom = "doors"\npairing = { opening = "login", closing = "logout", by = ["user", '
        '"device"], reach = "24 hours" }\n'
    )
    desks = make(logins, NOW, doors=HEAD + "".join(f"2026-0{w},{who},{d},p,{a}\n" for w, who, d, a in (("2-10 08:00",
    "a", "x", "login"), ("3-02 08:00", "a", "x", "login"), ("3-02 09:00", "a", "y", "login"), ("3-02 10:00", "a", "x",
    "logout"), ("3-02 12:00", "a", "y", "logout"), ("3-03 08:00", "b", "x", "login"))))  # fmt: skip
    desks.archive.import_log("doors")
    assert [r[:2] for r in desks.report("several-computers-at-once").rows] == [("a", 2)]
    assert [r[0] for r in desks.report("new-names").rows] == ["b"]


def test_one_thing_changed_and_run_again(tmp_path: Path, make: Maker) -> None:
    """The last run is changed, its filters are taken over by another report, and it is saved with its period said."""
    house = make(
        HOUSE,
        at(10),
        doors=readings(("02 08:00", "a", "x", "in"), ("03 09:00", "a", "y", "refused"), ("04 08:00", "b", "y", "in")),
    )
    house.archive.import_log("doors")
    here = house.path

    def run(*arguments: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        return fermata("--now", "2026-03-05T10:00", *arguments, cwd=here, code=code)

    assert "no report was run here yet" in run("report", "last", code=2).stderr
    run("report", "doors", "--period", "this week", "--only", "device=y", "--by", "user")
    again = run("report", "last", "--by", "device", "--output", "csv").stdout
    assert again == "Door,Count\ny,2\n"
    taken = run("report", "refused-entries", "--same-as", "last", "--output", "csv").stdout
    assert taken.splitlines()[1].startswith("y,y,1,1,2026-03-03T09:00")
    said = run("save", "refused-here").stderr
    assert "period: relative, this week; today that is 2 March 2026 00:00 to 5 March 2026 10:00" in said
    saved = (here / "reports" / "refused-here.toml").read_text()
    assert 'period = "this week"' in saved
    assert 'only = {action = "refused", device = "y"}' in saved
    assert "fixed" in run("save", "fixed-one", "--from", "refused-here", "--fixed").stderr
    assert 'period = "2026-03-02' in (here / "reports" / "fixed-one.toml").read_text()
    assert "there is a report refused-here already" in run("save", "refused-here", code=2).stderr
    assert run("report", "refused-here", "--output", "csv").stdout == taken
    listed = run("reports").stdout
    assert listed.startswith("Reports of this workspace\n  fixed-one")
    assert "\ndoors: who came in, was refused, is inside\n" in listed
    found = run("reports", "--search", "payroll").stdout.splitlines()
    assert found[0].split() == ["payroll-check", "Check", "before", "payroll"]
    assert {line.split()[0] for line in found} >= {"pay"}
    assert json.loads(run("reports", "--schema").stdout)["properties"]["title"]


def test_bad_reports_are_refused_with_all_their_problems(hall: Workspace, make: Maker) -> None:
    """A file's problems are named with line, key and the mend, all at once; questions that make no sense say why."""
    house = make(HOUSE, doors=readings(("02 08:00", "a", "x", "in")))
    house.archive.import_log("doors")
    (house.path / "reports" / "bad.toml").write_text(
        'title = "Bad"\nkind = "doors"\nbye = "user"\ntop = 0\nchart = "pie"\n[[columns]]\nmeasure = "coun"\nunit = '
        '"furlongs"\n[[parts]]\nreport = "x"\nexpekt = "y"\n'
    )
    with pytest.raises(FermataError) as caught:
        house.report("bad")
    said = str(caught.value)
    for line in (
        "7 problems", "line 2, kind: there is no kind of log 'doors'",
        "line 3, bye: there is no such key; did you mean by?", "line 4, top: should be",
        "line 5, chart: 'pie': did you mean 'share'? There are bar, "
        "stacked,", "line 7, columns 1: there is no measure 'coun'; did you mean 'count'?",
        "line 8, columns 1.unit: 'furlongs' is no unit to show figures "
        "in", "line 11, parts 1.expekt: there is no such key; did you mean expect?",
    ):  # fmt: skip
        assert line in said
    cases = {
        "there is no field 'shoe' in the log doors": {"columns": ["total shoe"]},
        "total device means nothing: device is a text; count its events (count) or its values (distinct device)": {
            "columns": ["total device"]
        },
        "EUR cannot be added to pages": {"log": "prints", "columns": ["X = total pages + total cost"]},
        "listing and ask do not go together; put them into parts of one page": {"listing": {}, "ask": "inside"},
        "give either log (one by name) or kind (whichever the workspace has), not both": {"kind": "door access"},
        "as_of goes with register; a log has a period": {"as_of": "2026-03-01"},
        "a trail needs the one it is to follow": {"ask": "trail"},
    }
    for expected, changes in cases.items():
        with pytest.raises(FermataError) as wrong:
            hall.run(Report.of(**{"log": "doors", **changes}))
        assert expected in str(wrong.value)
    with pytest.raises(FermataError, match="is missing a log"):
        Report.of(title="x")
    early = hall.log("doors").during("2019").run()
    assert any("the period lies before the first record of doors, of 2025-10-01" in n for n in early.notes)
    (house.path / "people.txt").write_text("Id,Name\n")
    (house.path / "fermata.toml").write_text(
        HOUSE + '\n[registers.people]\nfiles = "people.txt"\nid = "Id"\nlabel = "Name"\n'
    )
    from fermata.api.workspace import open_workspace

    with pytest.raises(FermataError, match=r"the register people has no rows; its files are \('people.txt',\)"):
        open_workspace(house.path, now=NOW).run(Report.of(register="people"))


def test_broad_results_name_what_would_narrow_them(make: Maker, monkeypatch: pytest.MonkeyPatch) -> None:
    """The field that leaves least of the events is named with its values, of very many events as they are in the last
    week; a result people can read says nothing."""
    rows = [
        (f"{1 + i // 24:02d} {i % 24:02d}:00", f"p{i}", "xy"[i % 2], ("in", "out", "refused")[i % 3 if i % 10 else 0])
        for i in range(600)
    ]
    house = make(HOUSE, doors=readings(*rows))
    house.archive.import_log("doors")
    notes = house.log("doors").by("user").measure("count").run().notes
    assert any(
        n.startswith("600 rows are many; action would narrow them most: in (40 %), out (30 %)")
        and n.more == "--only action=VALUE"
        for n in notes
    )
    assert not [n for n in house.log("doors").by("device").measure("count").run().notes if "are many" in n]
    monkeypatch.setattr(filter_hints, "MANY", 599)
    last = [r[3] for r in rows[-169:]]  # of a week to the last one, one an hour
    share = round(100 * last.count("in") / len(last))
    notes = house.log("doors").by("user").measure("count").run().notes
    assert any(f"most: in ({share} %)" in n and n.endswith(" of the events since 2026-03-18") for n in notes), notes


def test_shown_units_and_measures_down_the_rows(hall: Workspace) -> None:
    """A column's unit and decimals change how it is shown and not what it is; a dimension of one value goes into the
    title.
    """
    report = Report.of(log="timesheets", period="2026-03", by=("place", "user"), only={"place": "Workshop"}, top=None,
                       columns=[{"measure": "time", "unit": "h", "format": "0.0"}, {"measure": "count"}])  # fmt: skip
    result = hall.run(report)
    text = str(result).splitlines()
    assert text[0].endswith("by place and user (Place: Workshop)")
    assert text[3].split() == ["User", "Time", "(h)", "Count"]
    exact = result.cell(of="Time")
    total = next(line for line in text if line.startswith("All"))
    half_up = (Decimal(exact) / 3_600_000_000).quantize(Decimal("0.1"), ROUND_HALF_UP)
    assert total.split()[1] == f"{half_up:,}"
    down = str(hall.run(report.changed(measures="down", by=("activity",), across="charged"))).splitlines()
    assert down[3].split() == ["Activity", "Measure", "no", "yes", "Total"]
    assert [line.split()[-4] for line in down[4:6]] == ["Time", "Count"]


def test_registers_as_reports(hall: Workspace) -> None:
    """A register is listed or counted as of a day, narrowed by the same filters; a day before it names the first."""
    counted = hall.report("people-by-department", as_of="2026-01-01")
    assert {row[0] for row in counted.rows} >= {"stage", "house"}
    assert sum(r[1] for r in hall.run(Report.of(register="people", by="groups")).rows) >= len(
        hall.run(Report.of(register="people")).rows
    )
    some = hall.run(
        Report.of(register="people", only={"department": "stage"}, listing={"fields": "label, title", "sort": "-label"})
    )
    names = [r[0] for r in some.rows]
    assert names == sorted(names, reverse=True)
    with pytest.raises(FermataError, match="there is no column 'shoe' of the register"):
        hall.run(Report.of(register="people", by="shoe"))
    asked = ("report", "people-by-department", "--set", "as_of=2026-01-01", "--output", "csv")
    assert (
        len(fermata("-w", str(hall.path), "--now", "2026-04-01T08:12", *asked).stdout.splitlines())
        == len(counted.rows) + 1
    )
    inner = Report.of(log="doors", ask={"what": "inside", "back": "16 hours"}).with_keys(
        {"ask.back": "8 hours", "ask.opening": "in"}
    )
    assert inner.ask.back == "8 hours"
    with pytest.raises(FermataError, match=r"ask\.bakc: there is no such key"):
        inner.with_keys({"ask.bakc": "x"})
    with pytest.raises(FermataError, match=r"listing\.most: this report has no listing"):
        inner.with_keys({"listing.most": 5})
    with pytest.raises(FermataError, match="as of 'yesterday' is not a date"):
        hall.run(Report.of(register="people", as_of="yesterday"))
