"""What a workspace declares for measuring: figures of the sample computed again from its files, mistakes, commands."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from datetime import UTC, date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path
from zoneinfo import ZoneInfo

import holidays
import pytest

from fermata.api.workspace import Workspace
from fermata.cli.main import cli
from fermata.errors import FermataError, RequestError
from fermata.reports.definition.report import Report
from fermata.timeline.hours import written
from tests.conftest import Maker, fermata, raw, raw_entries, sample, some

ZONE = ZoneInfo("Europe/Lisbon")
REPORTS = sorted(p.stem for p in (Path(__file__).parent.parent / "src/fermata/demo/quillmere/reports").glob("*.toml"))


@pytest.mark.deep
@pytest.mark.parametrize("name", REPORTS)
def test_every_report_of_the_sample_has_something_to_say(hall: Workspace, name: str) -> None:
    """It runs, has rows, a figure in each shown column, and prints."""
    result = hall.report(name)
    assert result.table.body
    for i, column in enumerate(result.table.measures):
        assert any(r.cells[i] not in (None, 0) for r in result.table.rows) or column.label in ("Never",), column.label
    assert result.context.title in str(result)
    assert not [n for n in result.notes if n.startswith("DOES NOT HOLD")]


RATES = {  # beginning of a number -> set-up, a minute, at least, in 2026
    "+441632": ("0.04", "0.012", "0.05"), "+447": ("0.04", "0.075", "0.10"), "+44808": ("0", "0", "0"),
    "+44": ("0.04", "0.021", "0.05"), "+": ("0.10", "0.145", "0.25"),
}  # fmt: skip


def test_call_charges_by_hand(hall: Workspace) -> None:
    """Started minutes at the rates of the day, at least the least, half up for each call."""
    total = Decimal(0)
    for r in raw(hall, "calls-2026-03.txt", encoding="cp1252", skip="2", delimiter=";"):
        if (
            r["Dir"] == "O"
            and r["Result"] == "ANS"
            and r["Number"].startswith("+")
            and datetime.fromisoformat(r["Started"]).astimezone(ZONE).month == 3
        ):
            minutes = -(-int(r["Talk"]) // 60)
            setup, minute, least = next(rates for prefix, rates in RATES.items() if r["Number"].startswith(prefix))
            charge = (Decimal(setup) + minutes * Decimal(minute)).quantize(Decimal("0.01"), ROUND_HALF_UP)
            total += max(charge, Decimal(least))
    assert hall.report("call-charges").cell(of="Charge") == int(total * 100)


def test_work_is_priced_at_the_rates_of_its_time(hall: Workspace) -> None:
    """An entry over the turn of the year has two rates; each is rounded once."""
    rates = {"*": ("31.50", "33.00"), "night watch": ("38.00", "40.00")}
    turn = datetime(2026, 1, 1, tzinfo=ZONE).timestamp()
    total = 0
    for r in raw_entries(hall):
        if not r["To"]:
            continue
        start, finish = (datetime.fromisoformat(f"{r['Date']}T{r[c]}") for c in ("From", "To"))
        finish += timedelta(days=finish < start)
        a, b = (t.replace(tzinfo=ZONE).timestamp() for t in (start, finish))
        old, new = rates.get(r["Activity"], rates["*"])
        cost = (
            Decimal(old) * Decimal(max(min(b, turn) - a, 0)) / 3600
            + Decimal(new) * Decimal(max(b - max(a, turn), 0)) / 3600
        )
        total += int((cost * 100).quantize(Decimal(1), ROUND_HALF_UP))
    assert hall.log("timesheets").measure("total billed").run().cell() == total


def test_required_time_by_hand(hall: Workspace) -> None:
    """Patterns less public holidays and the house's own, paid absences excused up to what a day requires."""
    weeks = {"full time": (8, 8, 8, 8, 6, 0, 0), "part time": (0, 6, 6, 6, 0, 0, 0), "crew": (0, 4, 4, 4, 5, 5, 0)}
    closed = set(holidays.country_holidays("PT", years=(2025, 2026)))
    closed |= {date(2025, 12, 24) + timedelta(days=i) for i in range(9)} | {date(2026, 2, 16), date(2026, 2, 17)}
    days = [date(2026, 2, 1) + timedelta(days=i) for i in range(28)]
    people = {
        r["Login"]: r
        for r in raw(hall, "../registers/people.csv")
        if r["Archived"] == "" and r["Until"] in ("", "2026-03-01")
    }
    due = {
        who: {d: 0 if d in closed else weeks[r["Pattern"]][d.weekday()] * 60 for d in days} for who, r in people.items()
    }
    away: dict[tuple[str, date], int] = defaultdict(int)
    for r in raw(hall, "absences.csv"):
        at, to = (datetime.fromisoformat(r[c]) for c in ("From", "To"))
        while at < to:
            following = min(datetime.combine(at.date() + timedelta(days=1), datetime.min.time()), to)
            away[r["Login"], at.date()] += (following - at) // timedelta(minutes=1)
            at = following
    excused = sum(min(minutes, away[who, d]) for who, by_day in due.items() for d, minutes in by_day.items())
    got = (
        hall.log("required")
        .during("2026-02")
        .measure("total required", "total excused", "total workday")
        .run()
        .table.total
    )
    assert got
    minutes = sum(m for by_day in due.values() for m in by_day.values())
    workdays = sum(m > 0 for by_day in due.values() for m in by_day.values())
    assert got.cells == (minutes * 60_000_000, excused * 60_000_000, workdays)


def test_required_time_ends_with_the_data(hall: Workspace) -> None:
    """A day counts when it has ended, up to the last entry; the day asked on stands apart, the whole month beside."""

    def asked(house: Workspace) -> tuple[int, ...]:
        april = house.log("required").during("2026-04").measure("total required", "total today", "total whole")
        total = april.run().table.total
        assert total
        return total.cells

    required, today, whole = asked(hall)
    assert required == 0 < today < whole
    assert asked(hall.at(datetime(2026, 4, 3, 7, tzinfo=UTC)))[::2] == (today, whole)


def test_cases_are_one_event_each(hall: Workspace) -> None:
    """From the first line to the last of each case, its result, its steps; and steps by result."""
    cases: dict[str, list[dict[str, str]]] = defaultdict(list)
    for r in raw(hall, "helpdesk.csv"):
        cases[r["Case"]].append(r)
    result = hall.log("cases").by("action").measure("count", "total steps", "max duration").run()
    for row in result.table.body:
        mine = [c for c in cases.values() if max(c, key=lambda r: r["When"])["Step"] == row.shown[0]]
        times = [[datetime.fromisoformat(r["When"]) for r in c] for c in mine]
        longest = max(max(t) - min(t) for t in times)
        assert row.cells == (len(mine), sum(map(len, mine)), longest // timedelta(microseconds=1))
    steps = hall.with_steps("cases").log("cases").during("2026-03-30").listing().to_pandas()
    assert steps["thing"].nunique() < len(steps)


def test_budgets_targets_and_uptake(hall: Workspace) -> None:
    """Amounts once and by month, spread to the cent; entitled and active."""
    assert hall.report("project-budgets").cell(of="Budget") == sum(range(120_000, 264_000, 24_000)) * 100
    targets = {r["Extension"]: int(r["Calls a month"]) for r in raw(hall, "../registers/targets.csv")}
    assert hall.log("targets").during("2026-Q1").measure("total target").run().cell() == 3 * sum(targets.values())
    uptake = hall.report("licence-uptake")
    held = {(r["Login"], r["Program"]) for r in raw(hall, "../registers/licences.csv") if r["Until"] in ("",)}
    assert uptake.cell(of="Entitled", at={"other": "Light plot"}) == sum(p == "Light plot" for _, p in held)


SMALL = sample("houses/declared-small.toml")
MISTAKES = [
    ('[logs.x]\nfrom = "door"\nstates = { by = "user" }', "logs.x: there is no log 'door'; did you mean 'doors'?"),
    ('[logs.x]\nfrom = "y"\nstates = { by = "user" }\n[logs.y]\nfrom = "x"\nstates = { by = "user" }',
     "logs.x: made from y, which is made from it in turn"),
    ('[logs.x]\nfrom = "doors"', "say how it is derived, by one of pairing, states, merge, counter, link, combine"),
    ('[logs.x]\nfrom = "doors"\nstates = { by = "usr" }',
     "there is no field 'usr' in the log doors; did you mean 'user'?"),
    ('[logs.x]\nfrom = "doors"\npairing = { opening = "in", closing = "out", by = "user", reach = "1 month" }',
     "a month has no one length"),
    ('[logs.x]\nfrom = "doors"\npairing = { opening = "in", closing = "out", by = "user", reach = "1 day", '
     'unfinished = "never" }', "write open, until next"),
    ('[logs.x]\nfrom = "doors"\npairing = { opening = "in", by = "user", reach = "1 day" }',
     "line 20, logs.x.pairing.closing: is missing"),
    ('[holidays.house]\ndays = ["2026-01-01"]\n[logs.y]\nfiles = "y"\nclosed = "hose"\n[logs.y.fields]\nstart = "t"',
     "there is no set of holidays 'hose' (logs.y.closed); did you mean 'house'?"),
    ('[logs.x]\nfrom = "doors"\nmerge = { by = "user", within = "1 hour", total = "user" }',
     "total: user is a text and cannot be added up"),
    ('[logs.x]\nfrom = "doors"\nlink = { to = "doors", on = "user", take = { user = "action" } }',
     "doors has a field user already"),
    ('[logs.x]\nfrom = "doors"\ncombine = { doors = { amount = "user" } }', "amount: user of doors is a text"),
    ('[logs.x]\ngenerate = "amounts"\nregister = "rates"\nup_to = "doors"', "there is no attribute 'amount'"),
    ('[computed.x]\nlogs = "doors"\nformula = "amount * user"', "user is a text"),
    ('[computed.x]\nlogs = "doors"\nformula = "amount / 2"', "divide in a report's column"),
    ('[computed.x]\nlogs = "doors"\nrules = [{ is = "a", prefix = "1" }]', "rules with a prefix need of"),
    ('[computed.x]\nlogs = "doors"\nrates = "rates"\neach = "cost"', "there is no attribute 'cost'"),
    ('[computed.x]\nlogs = "doors"\nrates = "rates"\neach = "price"', "both are valid for in on 2026-02-01"),
    ('[computed.user]\nlogs = "doors"\nformula = "amount"', "doors has a field user already"),
]  # fmt: skip


@pytest.mark.parametrize(("added", "said"), MISTAKES)
def test_mistakes_in_what_is_declared(make: Maker, added: str, said: str) -> None:
    """Each is refused with the table, and what would be right."""
    rates = "What,Price,From,Until\nin,0.10,,2026-02-28\nin,0.20,2026-02-01,\n"
    with pytest.raises(FermataError) as e:
        _ = make(f"{SMALL}\n{added}\n", rates=rates).schemas
    assert said in str(e.value)


HOURS = [
    ('[hours.a]\ntimes = "9-5"', "hours.a: '9-5' are no times"), ('[hours.a]\nholidays = "x"',
     "there is no set of holidays 'x'"),
    ('[holidays.x]\ncountry = "ZZ"\n[hours.a]\nholidays = "x"', "country 'ZZ'; write its two letters"),
    ('[holidays.x]\ncountry = "PT"\nregion = "99"\n[hours.a]\nholidays = "x"', "region '99' of PT; its regions: 01"),
     ('[hours.a]\nby = "user"\nothers = "b"', "there is no set of hours 'b'"),
]  # fmt: skip


@pytest.mark.parametrize(("named", "plain"), [
    ("night", "22:00-06:00"), ("stage", "Tuesday to Sunday 10:00-23:00"), ("outside stage", "outside tuesday-sunday 10:00-23:00"),
])  # fmt: skip
def test_hours_may_be_written_out(hall: Workspace, named: str, plain: str) -> None:
    """They give the same figures as those of that name; days alone are whole days, times alone every day's."""
    asked = hall.log("timesheets").during("2026-03").by("user").measure("count", "time")
    assert asked.hours(plain).run().rows == asked.hours(named).run().rows
    assert plain.removeprefix("outside ") in "".join(asked.hours(plain).run().context.filters)
    whole = written("weekend")
    assert whole
    assert whole.name == "saturday, sunday"
    assert whole.week == ((),) * 5 + (((0, 1440),),) * 2
    assert written("after lunch") is None


@pytest.mark.parametrize(("added", "said"), HOURS)
def test_mistakes_in_hours(make: Maker, added: str, said: str) -> None:
    """Times, holidays and names that do not exist."""
    with pytest.raises(RequestError) as e:
        _ = make(f"{SMALL}\n{added}\n").base.terms
    assert said in str(e.value)


@pytest.mark.parametrize(("arguments", "said"), some([
    (["report", "doors", "--hours", "offce"], "there is no set of hours 'offce' (hours may be written out"),
    (["report", "timesheets", "--rounding", "15"], "write 'up 15 minutes'"),
    (["report", "timesheets", "--rounding", "up 15 minutes", "--columns", "union"], "union with rounding means nothing"),
    (["report", "doors", "--columns", "union"], "the log doors has no finish and no duration, so nothing is at once"),
    (["report", "timesheets", "--columns", "time,x = time + total billed"], "EUR cannot be added to h"),
    (["report", "timesheets", "--columns", "x = 1 + 1"], "names no column and no measure"),
    (["report", "timesheets", "--columns", "x = tme / 2"], "there is no column 'tme'"),
    (["report", "timesheets", "--columns", "running time", "--by", "week,day"], "goes on from one unit to the next"),
    (["report", "timesheets", "--columns", "over 8h day", "--by", "project"], "a user's day falls into several"),
    (["report", "timesheets", "--columns", "at capacity place"], "no register that knows it has an attribute capacity"),
    (["report", "timesheets", "--rows", "Count"], "is no condition on a column"),
    (["report", "timesheets", "--rows", "count > nan"], "Count: 'nan' is no number"),
    (["report", "timesheets", "--rows", "count > 1e999999999"], "Count: '1e999999999' is no number"),
    (["report", "timesheets", "--by", "user", "--warn", "Cuont > 3"], "did you mean 'Count'?"),
    (["report", "timesheets", "--check", "Count > 3"], "write an equality"),
    (["report", "timesheets", "--date-field", "project"], "project is a text; a period goes by a time"),
    (["report", "timesheets", "--compare", "someday"], "cannot read the period 'someday'"),
    (["report", "room-use", "--events", "--column", "Most at once"],
     "is made of no events of its own; ask for those of a count or an amount"),
    (["report", "availability", "--events", "--column", "Available"],
     "is worked out from Up, Covered; ask for the events of these"),
    (["people", "inside", "calls"], "there is no action 'in' in the log calls"), (["people", "inside", "states"],
     "there is no field 'user' in the log states"),
    (["people", "contacts", "doors", "Nobody"], "doors has no event of 'Nobody'"), (["people", "contacts", "doors", "B-1008", "--within",
     "x"], "no length of time"),
    (["people", "unusual", "doors", "--unit", "device"], "device is no calendar unit"), (["events", "visits", "--steps"],
     "it has no steps"),
    (["survey", "visits"], "visits has no records of its own; it is made from doors"), (["import", "visits"],
     "it is made from doors"),
], 3))  # fmt: skip
def test_wrong_requests_say_what_would_be_right(hall: Workspace, arguments: list[str], said: str) -> None:
    """Each is refused with one message (run here and not as a process of its own, which takes a second)."""
    with pytest.raises(RequestError) as e:
        cli.main(["-w", str(hall.path), "--now", "2026-04-01T08:12", *arguments], standalone_mode=False)
    assert said in str(e.value)
    assert e.value.exit_code == 2


def test_commands_about_people(hall: Workspace) -> None:
    """Inside at a time, contacts and what is unusual, as text and as JSON, with their notes."""

    def run(*arguments: str) -> str:
        return fermata("-w", str(hall.path), "--now", "2026-04-01T08:12", *arguments).stdout

    inside = json.loads(run("people", "inside", "doors", "--at", "2026-03-05T14:00", "--output", "json"))
    readings: dict[str, tuple[datetime, str]] = {}
    for r in raw(hall, "doors-2026-03.csv"):
        if r["Event"] in ("ENTRY OK", "EXIT OK") and r["Badge"] and len(r["When"]) == 19:
            at = datetime.strptime(r["When"], "%d/%m/%Y %H:%M:%S")
            recent = datetime(2026, 3, 4, 14) <= at < datetime(2026, 3, 5, 14)
            if recent and at >= readings.get(r["Badge"], (at, ""))[0]:
                readings[r["Badge"]] = (at, r["Event"])
    assert len(inside["rows"]) == sum(event == "ENTRY OK" for _, event in readings.values())
    near = run(
        "people",
        "contacts",
        "visits",
        "Wanda Thistlewick",
        "--period",
        "2026-03",
        "--place",
        "device",
        "--within",
        "0",
        "--limit",
        "3",
    )
    assert "Near Wanda Thistlewick: same device, within 0" in near
    assert "1 to 31 March 2026, against all before, Europe/London (last month)" in run("people", "unusual", "doors")
    assert "nobody has 28 days of history" in run("people", "unusual", "doors", "--period", "all")
    assert "nothing is beyond the usual" in run("people", "unusual", "doors", "--period", "2026-03-02")
    odd = run("people", "unusual", "logins", "--only", "action=failed", "--period", "2026-03", "--history", "10")
    assert "quillroot (login)" in odd
    assert "at least 10 days of history" in odd


def test_options_of_one_run(hall: Workspace) -> None:
    """Hours, comparison, formulas, conditions on rows, limits and checks from the command line."""
    out = fermata(
        "-w", str(hall.path), "--now", "2026-04-01T08:12", "report", "prints", "--period", "last month", "--by",
        "device",
        "--columns", "total pages,total colour_pages,total mono_pages,A day = total pages / days", "--compare",
        "before",
        "--check", "total colour_pages + total mono_pages = total pages", "--rows", "Total pages > 7000", "--warn",
        "A day > 100",
        "--hours", "outside office", "--notes", "all",
    ).stdout  # fmt: skip
    assert "outside hours office" in out
    assert "compared with 1 to 28 February 2026" in out
    assert "holds: total colour_pages + total mono_pages = total pages" in out
    assert "limit A day > 100 crossed in" in out
    assert "only rows with Total pages > 7000" in out
    assert "beyond chance: daily figures of 31 days against 28" in out


def test_a_recorded_balance_that_disagrees_is_said(hall: Workspace) -> None:
    """The sample's cash system is off by 25 cents from one movement on; before, it agrees."""
    wrong = [n for n in hall.report("print-credit").notes if "where the recorded balance differs from the sum" in n]
    assert len(wrong) == 1
    assert re.search(r": recorded -?[\d.,]+, by the movements -?[\d.,]+", wrong[0])
    before = hall.report("print-credit", period="2025-11").notes
    assert any("agree with the movements" in n for n in before)


@pytest.mark.deep
@pytest.mark.parametrize(
    "log",
    ["visits", "desk-sessions", "uptime", "readings", "cases", "case-work", "accounts", "licensed-use", "required"],
)
def test_an_event_is_the_same_whatever_period_asks(hall: Workspace, log: str) -> None:
    """Months asked one by one, each reading its own files and its reach, equal the months of one run over everything."""
    columns = ["count", "distinct user" if log != "uptime" else "distinct device"]
    columns += ["time", "union"] if hall.base.schemas[log].spans else []
    everything = hall.log(log).during("2025-10/2026-03").by("month").measure(*columns).run().table
    covered = [r for r in everything.body if r.cells[0] is not None]
    assert len(covered) > 1
    for row in covered[::2]:
        alone = hall.log(log).during(row.shown[0]).measure(*columns).run().table.total
        assert alone
        assert alone.cells == row.cells, row


def test_rates_and_rules_know_people_by_any_of_their_names(make: Maker) -> None:
    """A rate by login and a class by label hold for what the badge of the same person did."""
    config = """
[workspace]
zone = "Europe/Lisbon"
[logs.visits]
files = "visits.csv"
[logs.visits.fields]
start = "When"
user = { column = "Badge", names = "badge" }
[registers.people]
files = "people.csv"
id = "Id"
label = "Name"
names = { badge = "Badge", login = "Login" }
[registers.fees]
files = "fees.csv"
links = { user = { column = "Login", names = "login" } }
attributes = { fee = "Fee" }
[computed.fee]
logs = "visits"
rates = "fees"
unit = "EUR"
each = "fee"
[computed.rank_of]
logs = "visits"
rules = [{ is = "chief", only = { user = "Ann Ode" } }]
"""
    files = {
        "visits": "When,Badge\n2026-03-01 10:00:00,B1\n2026-03-01 11:00:00,B2\n",
        "people": "Id,Name,Badge,Login\n1,Ann Ode,B1,ann\n2,Bob,B2,bob\n",
        "fees": "Login,Fee\nann,2.50\n*,1\n",
    }
    workspace = make(config, **files)
    workspace.archive.import_log("visits")
    rows = workspace.log("visits").during("2026-03").by("user", "rank_of").measure("total fee").run().table.body
    assert [(r.shown, r.cells) for r in rows] == [(("Ann Ode", "chief"), (250,)), (("Bob", "(none)"), (100,))]


def test_a_listing_is_laid_out_as_asked(hall: Workspace) -> None:
    """Fields chosen, attributes too, sorted, some passed over, running numbers, totals of all that there are."""
    jobs = [r for r in raw(hall, "prints.csv") if r["Finished"].startswith("03/") and r["Finished"][6:10] == "2026"]
    ordered = sorted((int(r["Pages"]) for r in jobs), reverse=True)
    out = fermata(
        "-w", str(hall.path), "events", "prints", "--period", "2026-03", "--sort", "-pages", "--skip", "5", "--limit",
        "3",
        "--fields", "user.department,pages", "--numbers", "--totals", "--output", "json",
    ).stdout  # fmt: skip
    listed = json.loads(out)
    assert [c["label"] for c in listed["columns"]] == ["No.", "Department", "Pages"]
    assert [r["values"][0] for r in listed["rows"]] == [6, 7, 8]
    assert [r["values"][2] for r in listed["rows"]] == ordered[5:8]
    assert f"totals of all {len(jobs):,}: pages {sum(ordered):,} pages" in listed["notes"]
    with pytest.raises(RequestError, match="there is no field 'nix'"):
        cli.main(["-w", str(hall.path), "events", "prints", "--fields", "nix"], standalone_mode=False)


GENERATED = sample("houses/declared-generated.toml")
CALLED = "When,Who\n2026-02-01 10:00:00,ann\n2026-04-30 10:00:00,ann\n"


@pytest.mark.parametrize("spread", ["start", "days", "workdays"])
def test_an_amount_is_spread_in_whole_parts(make: Maker, spread: str) -> None:
    """A month's target on its first day, on each of its days, on its workdays: the parts are even and add up exactly."""
    targets = "Who,Target,From\nann,100.01,2026-03-01\n"
    workspace = make(GENERATED.replace("SPREAD", spread), calls=CALLED, targets=targets)
    workspace.archive.import_log("calls")
    days = workspace.log("targets").during("2026-02/2026-04").by("day").measure("total target").run().table
    held = {r.shown[0]: r.cells[0] for r in days.body if r.cells[0]}
    march = [v for day, v in held.items() if day.startswith("2026-03")]
    assert sum(march) == 10001
    assert len(march) == {"start": 1, "days": 31, "workdays": 22}[spread]
    assert max(march) - min(march) <= 1
    assert not [day for day in held if day < "2026-03-01"]


@pytest.mark.parametrize(
    ("amount", "said"),
    [*((n, f"'{n}' is not a number") for n in ("nan", "inf", "1e30", "much")), ("", "is empty; write a number")],
)
def test_an_amount_that_is_none_is_named_with_its_row(make: Maker, amount: str, said: str) -> None:
    """As tables that went through another program hold it."""
    targets = f"Who,Target,From\nann,{amount},2026-03-01\n"
    workspace = make(GENERATED.replace("SPREAD", "days"), calls=CALLED, targets=targets)
    workspace.archive.import_log("calls")
    with pytest.raises(FermataError, match=f"row 2 of targets: target {said}"):
        workspace.log("targets").during("2026-03").measure("total target").run()


def test_a_log_that_does_not_cover_the_period_gives_no_zero(hall: Workspace) -> None:
    """Its cells are empty, and so is what is worked out from them; where it covers, an absence is 0."""
    columns = [
        "count",
        {"measure": "count", "log": "sessions", "label": "Sessions"},
        {"formula": "Count + Sessions", "label": "Both"},
    ]
    asked = {"log": "doors", "by": ["user"], "columns": columns}
    before = hall.run(Report.of(period="2025-11", **asked)).table
    assert {r.cells[1:] for r in before.rows} == {(None, None)}
    covered = hall.run(Report.of(period="2026-02", **asked)).table
    assert all(r.cells[2] == (r.cells[0] or 0) + (r.cells[1] or 0) for r in covered.rows)
    assert any(r.cells[1] == 0 for r in covered.rows)
