"""Registers: who a name means when, attributes of their time, trees, contradictions named, what stays unresolved."""

from __future__ import annotations

import itertools
import sqlite3
from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import fermata
from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import ConfigError, RequestError, SourceError, UnknownName
from tests.conftest import Maker, examples, sample
from tests.test_readers import xlsx

CONFIG = sample("houses/registers.toml")
PEOPLE = """No,Name,Badge,Ext,Dept,Groups,From,Until,Left
1,Mira Vale,1234;77,201,Stage,choir|keys,,2026-03-10,
1,Mira Vale,1234,201,Box office,choir,2026-03-11,,
2,Jon Ash,1300,1234,Stage,,1900-01-01,9999-12-31,
3,Jon Ash,1400,,Press,keys,0001-01-01,2026-03-15,
4,Gone Girl,1500,,Press,,,,yes
"""
PLACES = "Id,Name,In\nh,House,\ns,Stage side,h\nd,Dock,s\nl,Library,h\n"
UNITS = "Unit,In\nAll,\nFront,All\nBox office,Front\nStage,All\nPress,Front\n"
DOORS = """When,Who,Area,What
2026-03-10 23:59,1234,Dock,in
2026-03-11 00:00,1234,Library,in
2026-03-11 01:00,77,Library,in
2026-03-12 10:00,1300,Stage side,refused
2026-03-15 10:00,1400,Dock,in
2026-03-16 10:00,1400,Dock,in
2026-03-16 11:00,9999,Library,in
2026-03-16 12:00,,House,in
"""
CALLS = "When,Ext,Secs\n2026-03-12 10:00,1234,60\n2026-03-12 11:00,201,30\n"


@pytest.fixture
def house(make: Maker) -> Workspace:
    w = make(CONFIG, people=PEOPLE, places=PLACES, units=UNITS, doors=DOORS, calls=CALLS)
    for log in ("doors", "calls"):
        w.archive.import_log(log)
    return w


def counted(w: Workspace, log: str = "doors", *by: str, measure: str = "count", **keys: Any) -> dict[Any, Any]:
    result = w.run(fermata.Report.of(log=log, by=by, columns=(measure,), **keys))
    return {r.shown if len(r.shown) > 1 else r.shown[0]: r.cells[0] for r in result.table.body}


def test_a_name_means_who_held_it_then(house: Workspace) -> None:
    """Validity ends with its day; two of one label are told apart; the unresolved stay as kind and text."""
    assert counted(house, "doors", "user") == {
        "Mira Vale": 2, "77 (badge)": 1, "Jon Ash (2)": 1, "Jon Ash (3)": 1, "1400 (badge)": 1, "9999 (badge)": 1,
        "(none)": 1,
    }  # fmt: skip
    assert counted(house, "calls", "user") == {"Jon Ash (2)": 1, "Mira Vale": 1}
    assert counted(house, "doors", "user.written", only={"user": "Mira Vale"}) == {"1234": 2}


def test_attributes_are_those_of_the_start(house: Workspace) -> None:
    """Who moved department counts in each for its time; groups are filtered by any of their values."""
    assert counted(house, "doors", "user.department") == {"Stage": 2, "Box office": 1, "Press": 1, "(none)": 4}
    assert counted(house, "doors", "user", only={"user.groups": "keys"}) == {"Mira Vale": 1, "Jon Ash (3)": 1}
    assert counted(house, "calls", "user.department", measure="time") == {"Stage": 60_000_000, "Box office": 30_000_000}


def test_who_is_in_several_groups_counts_in_each_and_once_in_total(house: Workspace) -> None:
    """Rows of a set add up to more than the total, which says so; a figure of it leads to its own records."""
    result = house.run(fermata.Report.of(log="doors", by=("user.groups", "user")))
    assert counted(house, "doors", "user.groups") == {"choir": 2, "keys": 2, "(none)": 5}
    assert result.table.total
    assert result.table.total.cells[0] == 8
    assert any("counts in each of them, and once in the total" in c for c in result.notes)
    assert [r[-2] for r in result.events(at={"user.groups": "keys", "user": "Mira Vale"}).rows] == ["1:1"]
    grid = house.run(fermata.Report.of(log="doors", across="user.groups"))
    assert [c.across_label for c in grid.table.measures] == ["choir", "keys", "(none)", "Total"]
    assert grid.table.rows[0].cells == (2, 2, 5, 8)
    with pytest.raises(RequestError, match="holds several values, so the rest of a top has no count of its own"):
        house.run(fermata.Report.of(log="doors", by=("user.groups",), top=1))


def test_a_filter_means_the_identity_by_any_of_its_names(house: Workspace) -> None:
    """By label, id or a name of the field's kind; what could be several asks back; nobody found lists all names."""
    for text in ("Mira Vale", "1", "1234"):
        assert counted(house, "doors", "user", only={"user": text}) == {"Mira Vale": 2}
    assert counted(house, "calls", "user", only={"user": "1234"}) == {"Jon Ash (2)": 1}
    assert counted(house, "doors", "user", only={"user": "9999"}) == {"9999 (badge)": 1}
    with pytest.raises(RequestError, match=r"user: 'Jon Ash' may mean Jon Ash \(2\) or Jon Ash \(3\); say which"):
        counted(house, "doors", "user", only={"user": "Jon Ash"})
    result = house.run(fermata.Report.of(log="doors", only={"user": "Gone Girl"}))
    assert any("looked for: Gone Girl (badge 1500)" in c for c in result.notes)
    with pytest.raises(UnknownName, match="there is no user 'Nobody'"):
        counted(house, "doors", "user", only={"user": "Nobody"})


def test_a_unit_means_itself_and_all_below(house: Workspace) -> None:
    """Places and departments in trees; `top` and `parent` are attributes."""
    assert counted(house, "doors", "place", only={"place": "Stage side"}) == {"Stage side": 1, "Dock": 3}
    assert counted(house, "doors", "place.top") == {"House": 8}
    assert counted(house, "doors", "place.parent")["(none)"] == 1
    assert counted(house, "doors", "user.department", only={"user.department": "Front"}) == {
        "Box office": 1,
        "Press": 1,
    }


def test_figures_lead_to_records_of_the_identity(house: Workspace) -> None:
    """Drill-down keeps the identity and its attribute; the listing shows who it was."""
    result = house.run(fermata.Report.of(log="doors", by=("user.department", "user")))
    found = result.events(at={"user.department": "Stage", "user": "Mira Vale"})
    assert [r[-2] for r in found.rows] == ["1:1"]
    assert found.rows[0][1] == "Mira Vale"


def test_those_without_events_on_request(house: Workspace) -> None:
    """Everyone active in the period with a row of zeros and their attributes; the archived are left out."""
    found = counted(house, "doors", "user.department", "user", zero_rows="user", period="2026-03-12")
    assert found == {("Stage", "Jon Ash (2)"): 1, ("Box office", "Mira Vale"): 0, ("Press", "Jon Ash (3)"): 0}
    assert counted(house, "doors", "place", zero_rows="place", period="2026-03-12") == {
        "Stage side": 1,
        "House": 0,
        "Dock": 0,
        "Library": 0,
    }
    assert counted(house, "doors", "action", zero_rows="action", period="2026-03-12")["forced"] == 0
    stage = counted(house, "doors", "user", zero_rows="user", period="2026-03-12", only={"user.department": "Stage"})
    assert stage == {"Jon Ash (2)": 1}
    keys = counted(house, "doors", "user", zero_rows="user", period="2026-03-13", only={"user.groups": "keys"})
    assert keys == {"Jon Ash (3)": 0}
    with pytest.raises(
        RequestError,
        match="every user: the groups \\(by\\) may be user and its attributes of one value only, not place",
    ):
        counted(house, "doors", "user", "place", zero_rows="user")


PROBLEMS = [
    (
        "1,A,10,,X,,,,\n1,A,11,,X,,2026-01-01,,\n",
        "people.csv row 2 and people.csv row 3: 1 has two rows valid on 2026-01-01",
    ),
    (
        "1,A,10,,X,,,,\n2,B,10,,X,,,,\n",
        "people.csv row 2 and people.csv row 3: badge 10 belongs to 1 and to 2 on every day",
    ),
    ("1,A,10,,X,,2026-03-01,2026-02-01,\n", r"people.csv row 2: ends before it begins \(2026-03-01 to 2026-02-01\)"),
    ("1,A,10,,X,,01/02/2026,,\n", "people.csv row 2: From '01/02/2026' is not a date"),
    (",A,10,,X,,,,\n", "people.csv row 2: No is empty"),
    ("1,A,10,,X,,,,maybe\n", "people.csv row 2: Left 'maybe' is neither yes nor no"),
]


@pytest.mark.parametrize(("rows", "message"), PROBLEMS)
def test_contradictions_are_errors_that_name_both_rows(make: Maker, rows: str, message: str) -> None:
    """Overlapping validity, one name for two, impossible dates: nothing is merged by guess."""
    w = make(CONFIG, people=PEOPLE.splitlines()[0] + "\n" + rows, places=PLACES, units=UNITS, doors=DOORS)
    w.archive.import_log("doors")
    with pytest.raises(ConfigError, match=message):
        counted(w, "doors", "user")


def test_a_row_for_each_card_is_one_person(make: Maker) -> None:
    """Rows of one id for the same days that differ in names alone; another department is a contradiction."""
    rows = "5,Two Cards,1600,,X,,,,\n6,Bob,1800,,X,,,,\n5,Two Cards,1700,301,X,,,,\n"
    doors = "When,Who,Area,What\n2026-03-11 00:00,1600,Library,in\n2026-03-11 01:00,1700,Library,in\n"
    w = make(CONFIG, people=PEOPLE.splitlines()[0] + "\n" + rows, places=PLACES, units=UNITS, doors=doors)
    w.archive.import_log("doors")
    assert counted(w, "doors", "user") == {"Two Cards": 2}
    (person,) = [v for v in w.registers.register("people").versions if v.id == "5"]
    assert person.names == {"badge": ("1600", "1700"), "extension": ("301",)}
    (w.path / "people.csv").write_text((w.path / "people.csv").read_text().replace("301,X", "301,Y"))
    with pytest.raises(ConfigError, match="5 has two rows valid"):
        open_workspace(w.path).registers.register("people")


def test_trees_without_root_or_end_are_refused(make: Maker) -> None:
    """A parent that is not there, a unit that is part of itself."""
    lost = make(CONFIG, people=PEOPLE, places="Id,Name,In\na,A,zz\n", units=UNITS)
    with pytest.raises(ConfigError, match=r"places\.csv row 2: its parent zz is not in the register"):
        lost.registers.register("places")
    round_ = make(CONFIG, people=PEOPLE, places="Id,Name,In\na,A,b\nb,B,a\n", units=UNITS)
    with pytest.raises(ConfigError, match="a is a part of itself"):
        round_.registers.register("places")


def test_registers_from_a_workbook_and_a_database(make: Maker) -> None:
    """The same register from XLSX and from a query; a missing file or column is named."""
    head, *rows = [line.split(",") for line in PEOPLE.strip().splitlines()]
    w = make(CONFIG.replace("people.csv", "people.xlsx"), places=PLACES, units=UNITS, doors=DOORS)
    with pytest.raises(SourceError, match=r"register people: no file matches people\.xlsx"):
        w.registers.register("people")
    (w.path / "people.xlsx").write_bytes(xlsx(head, *[[c or None for c in r] for r in rows]))
    assert w.registers.find("vale")[0].label == "Mira Vale"
    with sqlite3.connect(w.path / "hr.db") as db:
        db.execute(f"CREATE TABLE staff ({', '.join(h + ' TEXT' for h in (*head[:6], 'Since', *head[7:]))})")
        db.executemany("INSERT INTO staff VALUES (?,?,?,?,?,?,?,?,?)", rows)
    db.close()
    asked = 'database = { query = "SELECT *, Since AS \\"From\\" FROM staff", address = "sqlite:///hr.db" }'
    w = make(CONFIG.replace('files = "people.csv"', asked))
    w.archive.import_log("doors")
    assert counted(w, "doors", "user")["Mira Vale"] == 2
    with pytest.raises(UnknownName, match="there is no column 'Badges' in the register people"):
        make(CONFIG.replace('"Badge"', '"Badges"'), people=PEOPLE).registers.register("people")


def test_finding_people_by_part_of_a_name(house: Workspace) -> None:
    """Candidates with what tells them apart and when last seen, the unresolved too; nothing is merged."""
    found = house.registers.find("jon")
    assert [(f.label, f.register) for f in found] == [("Jon Ash (2)", "people"), ("Jon Ash (3)", "people")]
    assert [f"{f.last:%m-%d %H:%M}" if f.last else None for f in found] == ["03-12 10:00", "03-15 10:00"]
    assert "badge 1400" in found[1].details
    (unknown,) = house.registers.find("999")
    assert (unknown.label, unknown.register) == ("9999 (badge)", "")


def test_a_register_as_of_a_date_is_listed(house: Workspace) -> None:
    """Each row of that day with names, attributes and validity; filtered like events."""
    table = house.registers.table("people", as_of=date(2026, 3, 12))
    assert [(r[0], r[4]) for r in table.rows] == [("1", "Box office"), ("2", "Stage"), ("3", "Press"), ("4", "Press")]
    before = house.registers.table("people", as_of=date(2026, 3, 1), only={"groups": "keys"})
    assert [(r[0], r[4]) for r in before.rows] == [("1", "Stage"), ("3", "Press")]


day = st.integers(0, 20)


@examples(25)
@given(
    moves=st.lists(day, min_size=0, max_size=4, unique=True),
    events=st.lists(st.tuples(day, st.integers(0, 23)), min_size=1, max_size=12),
)
def test_attributes_equal_a_search_through_the_rows(
    moves: list[int], events: list[Any], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Over any moves, each event counts for the department whose row covers its local day."""
    path = tmp_path_factory.mktemp("moves")
    begin = date(2026, 3, 20)  # the clock changes on the 29th
    edges = [begin, *(begin + timedelta(days=m) for m in sorted(moves) if m), begin + timedelta(days=30)]
    spells = [(a, b - timedelta(days=1), f"D{i}") for i, (a, b) in enumerate(itertools.pairwise(edges))]
    people = "".join(f"1,Ann,5,,{d},,{a},{b},\n" for a, b, d in spells)
    (path / "fermata.toml").write_text(CONFIG)
    (path / "people.csv").write_text(PEOPLE.splitlines()[0] + "\n" + people)
    (path / "places.csv").write_text(PLACES)
    (path / "units.csv").write_text("Unit,In\n")
    lines = [f"{begin + timedelta(days=d)} {h:02d}:30,5,Dock,in" for d, h in events]
    (path / "doors.csv").write_text("When,Who,Area,What\n" + "\n".join(lines) + "\n")
    w = open_workspace(path, now=datetime(2026, 6, 1, tzinfo=UTC))
    w.archive.import_log("doors")
    expected: dict[str, int] = {}
    for d, _ in events:
        at = begin + timedelta(days=d)
        name = next(n for a, b, n in spells if a <= at <= b)
        expected[name] = expected.get(name, 0) + 1
    assert counted(w, "doors", "user.department") == expected
