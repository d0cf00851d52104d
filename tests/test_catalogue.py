"""The catalogue: every ready report runs on the sample, and a good third of them equal what the raw files add up to."""

from __future__ import annotations

import json
import re
import tomllib
from collections import Counter, defaultdict
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from jsonschema import Draft202012Validator
from pydantic import BaseModel

from fermata.analysis.filters import conditions
from fermata.api.result import Result
from fermata.api.workspace import Workspace
from fermata.config.workspace_file import Config
from fermata.deliveries.model import Delivery
from fermata.errors import RequestError
from fermata.kinds import KINDS
from fermata.people.evacuation import Prepared
from fermata.reports.definition import files
from fermata.reports.definition.catalogue import CATEGORIES, SHELF, Entry, entries
from fermata.reports.definition.report import Report
from fermata.reports.execute.listing import PLAIN
from fermata.timeline.cycles import UNITS
from tests.conftest import ROOT, Maker, plain, raw, raw_entries

ZONE = ZoneInfo("Europe/London")
GIVEN = {"user": "Ada Umberlin", "device": "Score vault", "place": "Library", "other": "+441632960170"}
READY = entries()
Rows = list[dict[str, str]]
HOUR = 3_600_000_000


def run(hall: Workspace, name: str, **changes: Any) -> Result:
    """The ready report, whatever the workspace keeps under its name, with what it asks for."""
    report = READY[name].load()
    named = {f: GIVEN[f] for f in report.must_name}
    return hall.run(report.changed(only=report.only + conditions(named), **changes))


@pytest.mark.deep
@pytest.mark.parametrize("name", READY)
def test_every_ready_report_runs_on_the_sample(hall: Workspace, rawly: Raw, name: str) -> None:
    """It has rows, a figure in each column, says its period and zone, and prints; a third of them are what the raw
    files add up to, with nothing of the product in between.
    """
    result = run(hall, name)
    if name in FIGURES:
        got, expected = FIGURES[name](result, rawly)
        assert got == expected
        assert got
    for part in result.parts:
        item = part.answer
        if not (hasattr(item, "report") and item.report.measures == "down"):
            assert len(part.to_dicts()) == len(part)
        assert part.rows or part.context.title in NOTHING_ON_THE_SAMPLE, part.context.title
        assert part.context.zone == "Europe/London"
        assert part.context.period
        if hasattr(item, "table") and part.rows:
            for i, column in enumerate(item.table.measures):
                assert column.label in EMPTY_ON_THE_SAMPLE or any(r.cells[i] is not None for r in item.table.rows), (
                    column.label
                )
    assert result.context.title in str(result)


EMPTY_ON_THE_SAMPLE = ("Last ever", "Ago")
NOTHING_ON_THE_SAMPLE = (  # everything is in use there; test_what_is_not_used_is_listed has their rows
    "Readers nobody used", "Printers nobody used", "Logged in at several computers at once", "Programs few people use",
    "Names that are new", "More than twelve hours a day", "Network access points",
    "Own credit movements",  # whom the test asks about has no account; test_viewers has somebody who does
)  # fmt: skip


def test_the_catalogue_is_in_order() -> None:
    """Names tell one report, each has a title and a purpose of its own, names no log, and stands in a known category."""
    assert {p.name for p in SHELF.iterdir()} == set(CATEGORIES)
    assert len(READY) == len(list(SHELF.glob("*/*.toml"))) >= 70
    for seen in ([e.title for e in READY.values()], [e.about for e in READY.values() if "as of today" not in e.about]):
        assert not [t for t, n in Counter(seen).items() if n > 1 and not t.startswith("A summary")]
    for entry in READY.values():
        assert entry.title
        assert entry.about.endswith(".")
        assert not re.search(r"(?m)^\s*log\s*=", entry.path.read_text()), entry.name


def test_the_published_vocabulary_has_every_field_ready_reports_ask_for() -> None:
    """Whoever maps a log finds the fields that reports of its kind need in the list of kinds."""
    for entry in READY.values():
        report = entry.load()
        for source in (report, *report.columns, *report.parts):
            if not source.kind or source.made in MADE_OTHERWISE:
                continue
            named = [c.field for c in source.selection.conditions]
            if isinstance(source, Report):
                listed = source.listing
                named += [*source.by, *source.must_name, *((*listed.fields, *listed.second) if listed else ())]
            kind = KINDS[source.kind]
            known = {
                *kind.fields,
                *kind.further,
                *PLAIN,
                "action",
                "outcome",
                "place",
                "other",
                "pairing",
                "hour of day",
                *UNITS,
            }
            assert {n for n in named if "." not in n} <= known, entry.name


MADE_OTHERWISE = (
    "link",
    "combine",
    "amounts",
    "assignments",
    "required time",
)  # their fields are those of what makes them


def march(rows: Rows, column: str, form: str = "%d/%m/%Y %H:%M:%S") -> list[tuple[datetime, dict[str, str]]]:
    """The rows of March 2026 with their local time; those that cannot be read are left out."""
    found = []
    for row in rows:
        try:
            at = (
                datetime.strptime(row[column] or "", form)
                if form
                else datetime.fromisoformat(row[column]).astimezone(ZONE)
            )
        except ValueError:
            continue
        if (at.year, at.month) == (2026, 3):
            found.append((at.replace(tzinfo=ZONE), row))
    return found


class Raw:
    """The sample's files, read with nothing but the standard library."""

    def __init__(self, hall: Workspace) -> None:
        self.hall = hall
        self.doors = march(raw(hall, "doors-2026-03.csv"), "When")
        calls = {
            r["Call"]: r
            for m in ("02", "03")
            for r in raw(hall, f"calls-2026-{m}.txt", encoding="cp1252", skip="2", delimiter=";")
        }
        self.calls = march(list(calls.values()), "Started", "")
        self.prints = [
            (t, r)
            for t, r in march(raw(hall, "prints.csv"), "Finished", "%m/%d/%Y %I:%M:%S %p")
            if r["Pages"].isdigit()
        ]
        self.entries = [
            (datetime.fromisoformat(f"{r['Date']}T{r['From']}").replace(tzinfo=ZONE), r) for r in raw_entries(hall)
        ]
        self.entries = [(t, r) for t, r in self.entries if (t.year, t.month) == (2026, 3)]
        self.changes = march(raw(hall, "changes.txt", encoding="utf-16", delimiter=";"), "When", "%d.%m.%Y %H:%M:%S")
        self.people = raw(hall, "../registers/people.csv")

    def events(self, *kinds: str) -> list[tuple[datetime, dict[str, str]]]:
        """Door events of these kinds."""
        return [(t, r) for t, r in self.doors if r["Event"] in kinds]

    def jobs(self, status: str = "completed") -> Rows:
        """Print jobs that ended so."""
        return [r for _, r in self.prints if r["Status"] == status]

    def office(self, at: datetime) -> bool:
        """Whether the office is open: Monday to Friday 9 to 13 and 14 to 18 (no day of March 2026 is a holiday)."""
        return at.weekday() < 5 and (9 <= at.hour < 13 or 14 <= at.hour < 18)


def column(result: Result, label: str) -> dict[str, Any]:
    """The figures of a column by the shown groups of the finest level, empty and zero ones left out."""
    table = result.table
    i = next(i for i, c in enumerate(table.measures) if c.label == label and c.across_total)
    return {" / ".join(r.shown): r.cells[i] for r in table.body if r.cells[i]}


def grid(result: Result) -> dict[tuple[str, str], Any]:
    """The figures of a grid of one measure by row and column."""
    heads = [c.across_label for c in result.table.measures]
    return {
        (r.shown[0], h): v
        for r in result.table.body
        for h, v in zip(r.shown and heads, r.cells, strict=True)
        if v and h != "Total"
    }


def counted(rows: Any, *keys: Callable[[Any], str] | str) -> dict[str, int]:
    """How many rows there are of each key."""

    def key(row: Any) -> str:
        return " / ".join(k(row) if callable(k) else row[1][k] for k in keys)

    return dict(Counter(key(r) for r in rows))


def total(rows: Rows, amount: str, *keys: str) -> dict[str, int]:
    """The sum of an amount by columns."""
    sums: dict[str, int] = defaultdict(int)
    for r in rows:
        sums[" / ".join(r[k] for k in keys)] += int(Decimal(r[amount]) * (100 if "." in r[amount] else 1))
    return {k: v for k, v in sums.items() if v}


def shown_hour(row: Any) -> str:
    return f"{row[0].hour:02d}:00"


def shown_day(row: Any) -> str:
    return f"{row[0]:%Y-%m-%d}"


DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
IN, OUT, NO = "ENTRY OK", "EXIT OK", "NO ENTRY"


def spent(row: dict[str, str]) -> int:
    """Microseconds of a time entry."""
    if not row["To"]:
        return 0
    start, finish = (datetime.fromisoformat(f"{row['Date']}T{row[c]}") for c in ("From", "To"))
    finish += timedelta(days=finish < start)
    return round((finish.replace(tzinfo=ZONE).timestamp() - start.replace(tzinfo=ZONE).timestamp()) * 1e6)


def charged_in_march(files: Raw) -> dict[str, int]:
    """Microseconds of charged entries by production, what of them lies in March."""
    edges = [datetime(2026, month, 1, tzinfo=ZONE).timestamp() for month in (3, 4)]
    sums: dict[str, int] = defaultdict(int)
    for row in raw_entries(files.hall):
        if row["Charged"] == "y" and row["To"]:
            start = datetime.fromisoformat(f"{row['Date']}T{row['From']}").replace(tzinfo=ZONE).timestamp()
            inside = min(start + spent(row) / 1e6, edges[1]) - max(start, edges[0])
            sums[row["Production"]] += round(max(inside, 0) * 1e6)
    return {k: v for k, v in sums.items() if v}


def paid_in_march(files: Raw) -> tuple[int, int]:
    """How many entries were paid in March, whenever they were worked, and their microseconds, each whole."""
    paid = [r for r in raw_entries(files.hall) if r["Paid on"].startswith("2026-03")]
    assert {r["Date"][:7] for r in paid} == {"2026-02", "2026-03"}
    return len(paid), sum(spent(r) for r in paid)


def talk(rows: Any) -> int:
    return sum(int(r["Talk"]) for _, r in rows) * 1_000_000


# name -> (what the report says, what the files say)
FIGURES: dict[str, Callable[[Result, Raw], tuple[Any, Any]]] = {
    "refused-entries": lambda r, f: (column(r, "Refused"), counted(f.events(NO), "Area", "Reader")),
    "refused-by-person": lambda r, f: (sum(column(r, "Refused").values()), len(f.events(NO))),
    "refused-by-hour": lambda r, f: (grid(r), dict(Counter((shown_hour(e),
    DAYS[e[0].weekday()]) for e in f.events(NO)))),
    "refused-outside-hours": lambda r, f: (sum(column(r, "Refused").values()), sum(not f.office(t) for t,
    _ in f.events(NO))),
    "doors-forced": lambda r, f: (column(r, "Held open"), counted(f.events("HELD OPEN"), "Area", "Reader")),
    "alarms-and-lockdowns": lambda r, f: ({k: v for k, v in grid(r).items() if k[1] == "alarm"}, {(k,
    "alarm"): v for k, v in counted(f.events("ALARM"), "Reader").items()}),
    "alarms-in-order": lambda r, f: (len(r.rows), len(f.events("ALARM", "LOCKED", "UNLOCKED", "DOOR FORCED"))),
    "entries-by-day": lambda r, f: (column(r, "Entries"), counted(f.events(IN), shown_day)),
    "entries-by-person": lambda r, f: (sum(column(r, "Entries").values()), len(f.events(IN))),
    "door-use": lambda r, f: (column(r, "Readings"), counted(f.events(IN, OUT), "Reader")),
    "entries-outside-hours": lambda r, f: (sum(column(r, "Entries").values()), sum(not f.office(t) for t,
    _ in f.events(IN))),
    "people-and-doors": lambda r, f: (r.cell(), len(f.events(IN))),
    "busiest-hours": lambda r, f: (grid(r), dict(Counter((shown_hour(e), DAYS[e[0].weekday()]) for e in f.events(IN)))),
    "readings-of-a-door": lambda r, f: (len(r.rows), sum(e["Reader"] == "Score vault" for _, e in f.doors)),
    "in-and-out": lambda r, f: (column(r, "Missed"),
    counted([c for c in f.calls if c[1]["Dir"] == "I" and c[1]["Result"] in ("NOANS", "BUSY")], "Line")),
    "calls-by-line": lambda r, f: (r.cell(of="Time"), talk(f.calls)),
    "calls-by-day": lambda r, f: (column(r, "Calls"), counted(f.calls, shown_day)),
    "calls-by-person": lambda r, f: (sum(column(r, "Out").values()), sum(c["Dir"] == "O" for _, c in f.calls)),
    "missed-calls": lambda r, f: (sum(column(r, "Missed").values()), sum(c["Dir"] == "I" and c["Result"] in ("NOANS",
    "BUSY") for _, c in f.calls)),
    "answered-by-queue": lambda r, f: (r.cell(of="Answered"), sum(c["Dir"] == "I" and c["Result"] == "ANS" for _,
    c in f.calls)),
    "busiest-call-hours": lambda r, f: (grid(r), dict(Counter((shown_hour(c), DAYS[c[0].weekday()]) for c in f.calls))),
    "longest-calls": lambda r, f: ([row[2] for row in r.rows], sorted((int(c["Talk"]) * 1_000_000 for _, c in f.calls),
    reverse=True)[:25]),
    "calls-with-a-number": lambda r, f: (len(r.rows), sum(c["Number"] == GIVEN["other"] for _, c in f.calls)),
    "calls-outside-hours": lambda r, f: (sum(column(r, "Calls").values()), sum(not f.office(t) for t, _ in f.calls)),
    "call-quality": lambda r, f: (column(r, "Poor"),
    counted([c for c in f.calls if c[1]["Result"] == "ANS" and c[1]["MOS"] and Decimal(c[1]["MOS"]) < Decimal("3.6")],
    "Line")),
    "pages-by-department": lambda r, f: (r.cell(of="Cost"), sum(total(f.jobs(), "Cost", "Status").values())),
    "colour-and-mono": lambda r, f: (r.cell(of="Colour"), sum(int(j["Pages"]) for j in f.jobs() if j["Colour"] == "C")),
    "paper-sizes": lambda r, f: (column(r, "Sheets"), total(f.jobs(), "Sheets", "Paper", "Printer")),
    "printing-by-hour": lambda r, f: (grid(r), dict(Counter((shown_hour(p),
    DAYS[p[0].weekday()]) for p in march(raw(f.hall, "prints.csv"), "Finished",
    "%m/%d/%Y %I:%M:%S %p") if p[1]["Pages"] != "n/a"))),
    "biggest-jobs": lambda r, f: ([row[4] for row in r.rows], sorted((int(p["Pages"]) for _, p in f.prints),
    reverse=True)[:25]),
    "project-hours": lambda r, f: (column(r, "Entries"), counted(f.entries, "Production", "Activity")),
    "charged-and-not": lambda r, f: (column(r, "Charged"), charged_in_march(f)),
    "unfinished-entries": lambda r, f: (len(r.rows), sum(not e["To"] for _, e in f.entries)),
    "unfinished-by-person": lambda r, f: (sum(column(r, "Unfinished").values()), sum(not e["To"] for _,
    e in f.entries)),
    "long-entries": lambda r, f: (sorted(row[3] for row in r.rows), sorted(spent(e) for _,
    e in f.entries if spent(e) >= 7 * HOUR)),
    "change-trail": lambda r, f: ([row[6] for row in r.rows], [c["After"] or None for _, c in sorted(f.changes,
    key=lambda c: c[0])]),
    "changes-by-administrator": lambda r, f: (r.cell(), len(f.changes)),
    "deleted-things": lambda r, f: (len(r.rows), sum(c["Change"] == "Entry removed" for _, c in f.changes)),
    "edited-entries": lambda r, f: ({row[2] for row in r.rows if row[1] == "timesheets"}, {e["No"] for e in raw(f.hall,
    "time-entries-corrected.csv")}),
    "people-by-department": lambda r, f: (sum(row[2] for row in r.rows), sum(valid(p, date(2026, 4,
    1)) for p in f.people)),
    "person-statements": lambda r, f: (sum(len(p.rows) for p in r.parts), len(f.entries)),
    "hours-by-place": lambda r, f: (column(r, "Entries"), counted(f.entries, "Where")),
    "pay-by-department": lambda r, f: (r.cell(of="Entries"), len(f.entries)),
    "hours-by-date-paid": lambda r, f: ((r.cell(of="Entries"), r.cell(of="Worked"),
    [n for n in r.notes if "from before" in n]), (*paid_in_march(f), [])),
    "hours-by-day-and-person": lambda r, f: (sum(column(r, "Entries").values()), len(f.entries)),
    "calls-of-a-group": lambda r, f: (column(r, "Answered"),
    counted([c for c in f.calls if c[1]["Group"] and c[1]["Result"] == "ANS"], "Group")),
    "telephones-that-rang": lambda r, f: (column(r, "Calls"),
    dict(Counter(f"{c['Group']} / {one}" for _, c in f.calls if c["Group"] for one in c["Rang"].split("|")))),
    "who-is-inside": lambda r, f: (len(r.rows), len(inside_by_hand(f))),
}  # fmt: skip


def valid(person: dict[str, str], day: date) -> bool:
    """Whether a row of the register is valid on a day."""
    return (person["From"] or "0") <= f"{day}" <= (person["Until"] or "9")


def inside_by_hand(files: Raw) -> set[str]:
    """Whose last way in or out in the sixteen hours before now is a way in, by badge."""
    rows = [r for m in ("03", "04") for r in raw(files.hall, f"doors-2026-{m}.csv")]
    last: dict[str, str] = {}
    since = datetime(2026, 3, 31, 16, 12, tzinfo=ZONE)
    timed = [(datetime.strptime(r["When"], "%d/%m/%Y %H:%M:%S").replace(tzinfo=ZONE), r) for r in rows]
    for at, row in sorted(timed, key=lambda p: p[0]):
        if at >= since and row["Badge"] and row["Event"] in (IN, OUT):
            last[row["Badge"]] = row["Event"]
    return {badge for badge, event in last.items() if event == IN}


@pytest.fixture(scope="module")
def rawly(hall: Workspace) -> Raw:
    return Raw(hall)


def test_at_least_a_third_is_computed_again() -> None:
    """With those that tests of their own compute again."""
    elsewhere = {
        "call-charges",
        "calls-and-targets",
        "hours-by-person",
        "licence-use",
        "licence-uptake",
        "heaviest-users",
        "prevented-prints",
        "help-desk-cases",
        "project-profit",
    }
    assert len(set(FIGURES) | elsewhere) * 3 >= len(READY)


@pytest.mark.deep
def test_one_row_per_person_over_all_logs(hall: Workspace, rawly: Raw) -> None:
    """Columns of eight logs stand in one row, each with its own filter; 0 where a log covers the period, empty where it
    does not.
    """
    result = run(hall, "person-by-person")
    assert result.cell(of="Entries") == len(rawly.events(IN))
    assert result.cell(of="Refused") == len(rawly.events(NO))
    assert result.cell(of="Calls out") == sum(c["Dir"] == "O" for _, c in rawly.calls)
    assert result.cell(of="Pages") == sum(int(j["Pages"]) for j in rawly.jobs())
    assert result.cell(of="Entries by hand") == len(rawly.entries)
    talked = Counter()
    for _, c in rawly.calls:
        talked[c["Extension"]] += int(c["Talk"]) * 1_000_000
    ada = next(p for p in rawly.people if p["Name"] == "Ada Umberlin")
    row = next(r for r in result.rows if r[0] == "Ada Umberlin")
    names = [c.label for c in result.table.columns]
    assert row[names.index("Talked")] == talked[ada["Extension"]]
    assert row[names.index("Worked")] == 0
    before = run(hall, "person-by-person", period="2025-11").table  # logins are kept from December on
    assert {r.cells[[c.label for c in before.measures].index("Failed logins")] for r in before.body} == {None}
    people = {r[0] for r in result.rows}
    assert {
        p["Name"] for p in rawly.people for _, c in rawly.calls if p["Extension"] == c["Extension"] and p["Name"]
    } & people


def test_ready_reports_say_what_they_need(make: Maker) -> None:
    """Without the kind, the way it is made, a field, or working hours: what is missing and what to write."""
    bare = make(plain('kind = "door access"'), doors="When,Who,Door\n2026-03-02 08:00:00,a,x\n")
    bare.archive.import_log("doors")
    cases = {
        "calls-by-line": "this needs a log of the kind 'calls', and the workspace has none; propose a mapping with: "
                         "fermata map FILE",
        "refused-entries": "doors has no 'place' and no 'action' (fields: device, user; more are mapped in "
                           "[logs.doors.fields]",
        "room-use": "this needs a log made from doors by pairing: in; declare one in "
                    "fermata.toml:\n\n[logs.NAME]\nfrom = \"doors\"\npairing = ",
        "entries-by-department": "no register gives doors user.department",
        "device-list": "there is no register 'devices'",
        "who-was-near": "say which user: --only user=NAME",
    }  # fmt: skip
    for name, said in cases.items():
        with pytest.raises(RequestError) as caught:
            bare.report(name)
        assert said in str(caught.value)
    with pytest.raises(RequestError, match="the workspace does not say what its working hours are"):
        bare.run(Report(kind="door access", hours="outside working hours"))
    assert bare.run(Report(kind="door access", by=("user",))).rows == (("a", 1),)


def test_columns_without_a_log_are_left_out_and_said(make: Maker) -> None:
    """An optional column whose log the workspace does not have is no reason to fail; the note says so."""
    small = make(
        plain('kind = "door access"', 'action = "What"'), doors="When,Who,Door,What\n2026-03-02 08:00:00,a,x,in\n"
    )
    small.archive.import_log("doors")
    result = small.report("person-by-person")
    assert [c.label for c in result.table.measures] == ["Entries", "Refused"]
    assert any(n.startswith("Calls out is left out: this needs a log of the kind 'calls'") for n in result.notes)


def test_which_of_several_logs_was_taken(hall: Workspace) -> None:
    """The first of the kind with all fields is taken, the others are named, and --log takes one of them."""
    taken = run(hall, "printing-by-hour")
    assert any(
        "of the logs of printing, prints was taken; there is also pages" in n and n.more == "--log NAME"
        for n in taken.notes
    )
    assert run(hall, "printing-by-hour", log="pages").cell() != taken.cell()


def test_definitions_survive_being_written(hall: Workspace) -> None:
    """Every report, as its definition is written, reads as the same report again."""
    for entry in (*READY.values(), *hall.reports.catalogue()):
        report = entry.load()
        assert Report.of(**tomllib.loads(files.text_of(report))) == report, entry.name


def test_search_finds_by_words(hall: Workspace) -> None:
    """Every word must be found, in any of title, purpose, columns or kinds, in the singular too."""
    found = [e.name for e in hall.reports.catalogue("unused licences")]
    assert "unused-licences" in found
    assert {"doors-not-used", "printers-not-used"} <= {e.name for e in hall.reports.catalogue("nobody used")}
    assert not hall.reports.catalogue("submarine")


def test_own_reports_come_before_ready_ones_of_their_name(make: Maker) -> None:
    """A copy is the workspace's; the original stays; a name that is taken is refused."""
    own = make(
        plain('kind = "door access"', 'action = "What"'), doors="When,Who,Door,What\n2026-03-02 08:00:00,a,x,in\n"
    )
    path = own.reports.copy("entries-by-person", "entries-by-person")
    assert path.read_text() == READY["entries-by-person"].path.read_text()
    path.write_text(path.read_text().replace("Entries by person", "Mine"))
    assert own.reports.definition("entries-by-person").title == "Mine"
    assert [e.title for e in own.reports.catalogue() if e.name == "entries-by-person"] == ["Mine"]
    with pytest.raises(RequestError, match="there is a report entries-by-person already"):
        own.reports.copy("door-use", "entries-by-person")
    with pytest.raises(RequestError, match="cannot name a report"):
        own.reports.copy("door-use", "../x")


def test_the_schemas_take_every_file_there_is(hall: Workspace) -> None:
    """The JSON Schemas in docs are those of the code; no ready file and none of the sample is wrong by them, and an
    unknown key is.
    """
    files: dict[type[BaseModel], tuple[str, list[Path]]] = {
        Config: ("fermata", [hall.path / "fermata.toml"]),
        Report: ("report", [*(e.path for e in READY.values()), *(hall.path / "reports").glob("*.toml")]),
        Delivery: ("delivery", [*(hall.path / "deliveries").glob("*.toml")]),
        Prepared: ("evacuation", [*(hall.path / "evacuations").glob("*.toml")]),
    }
    for model, (name, paths) in files.items():
        schema = json.loads((ROOT / "docs" / f"{name}.schema.json").read_text())
        assert schema == model.model_json_schema()
        validator = Draft202012Validator(schema)
        assert paths
        for path in paths:
            table = json.loads(json.dumps(tomllib.loads(path.read_text()), default=str))
            assert not [e.message for e in validator.iter_errors(table)], path
            assert [*validator.iter_errors({**table, "nosuch": 1})]
    slip = {"workspace": {"zone": "UTC"}, "logs": {"doors": {"fields": {"start": "When"}, "fiels": "x"}}}
    validator = Draft202012Validator(Config.model_json_schema())
    assert [e.message for e in validator.iter_errors(slip)] == [
        "Additional properties are not allowed ('fiels' was unexpected)"
    ]


def test_entries_tell_what_they_need() -> None:
    """Kinds of log, and how they are made, are said of each report."""
    entry: Entry = READY["person-by-person"]
    assert entry.needs[:3] == ("door access", "door access (pairing: in)", "calls")
