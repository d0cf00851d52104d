"""Reports on the sample workspace, their figures computed again from the raw files with nothing of ours."""

from __future__ import annotations

import subprocess
import sys
from collections import Counter, defaultdict
from datetime import date, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

import fermata
from fermata.api.workspace import Workspace
from tests.conftest import raw, raw_entries

ZONE = ZoneInfo("Europe/Lisbon")
LONG = "two_months_of_deliveries"  # its first days are run by a test of the command line
EXAMPLES = sorted(p for p in (Path(__file__).parent.parent / "examples").glob("*.py") if p.stem != LONG)


def test_refused_entries(hall: Workspace) -> None:
    """Counts, people and last time per door are those of the file."""
    refused = [r for r in raw(hall, "doors-2026-03.csv") if r["Event"] == "NO ENTRY"]
    result = hall.report("refused-entries")
    expected = Counter(r["Reader"] for r in refused)
    assert {row.shown[1]: row.cells[0] for row in result.table.body} == expected
    people = defaultdict(set)
    for r in refused:
        people[r["Area"]].add(r["Badge"])
    for row in result.table.rows:
        if row.level == 1:
            assert row.cells[1] == len(people[row.shown[0]])
    assert result.table.total
    assert result.table.total.cells[:2] == (len(refused), len({r["Badge"] for r in refused}))
    assert result.context.period == "1 to 31 March 2026"
    assert [row.cells[0] for row in result.table.rows if row.level == 1] == sorted(
        (row.cells[0] for row in result.table.rows if row.level == 1), reverse=True
    )


def test_hours_by_person(hall: Workspace) -> None:
    """Time entries over midnight, month ends and both clock changes, added up by hand in real time."""
    hours: dict[tuple[str, str], timedelta] = defaultdict(timedelta)
    for r in raw_entries(hall):
        if not r["To"]:
            continue
        start = datetime.fromisoformat(f"{r['Date']}T{r['From']}")
        finish = datetime.fromisoformat(f"{r['Date']}T{r['To']}")
        finish += timedelta(days=finish < start)
        a, b = (t.replace(tzinfo=ZONE).timestamp() for t in (start, finish))
        edge = datetime(finish.year, finish.month, 1, tzinfo=ZONE).timestamp()
        cut = min(max(edge, a), b) if f"{start:%Y-%m}" != f"{finish:%Y-%m}" else b
        hours[r["Person"], f"{start:%Y-%m}"] += timedelta(seconds=cut - a)
        hours[r["Person"], f"{finish:%Y-%m}"] += timedelta(seconds=b - cut)
    result = hall.report("hours-by-person", by=("user.written",))
    months = [c.across_label for c in result.table.measures]
    got = {
        (row.shown[0], month): timedelta(microseconds=cell)
        for row in result.table.body
        for month, cell in zip(months, row.cells, strict=True)
        if cell and month != "Total"
    }
    assert got == {k: v for k, v in hours.items() if v and k[1] <= "2026-03"}


def test_time_over_a_clock_change(hall: Workspace) -> None:
    """The watch from 22:00 to 06:00 lasts nine hours in October and seven in March, each side of midnight its share."""
    watch = hall.log("timesheets").only(activity="night watch").by("day").measure("count", "time")
    cells = {row.shown[0]: row.cells for row in watch.run().table.body if any(row.cells)}
    hour = 3_600_000_000
    assert cells == {
        "2025-10-25": (1, 2 * hour), "2025-10-26": (0, 7 * hour), "2026-03-28": (1, 2 * hour), "2026-03-29": (0,
        5 * hour)
    }  # fmt: skip


def test_calls(hall: Workspace) -> None:
    """Talk time, mean and the 95th percentile of a line, the repeated last call of each export counted once."""
    calls = {
        r["Call"]: r
        for m in ("02", "03")
        for r in raw(hall, f"calls-2026-{m}.txt", encoding="cp1252", skip="2", delimiter=";")
    }
    march = [
        int(r["Talk"]) for r in calls.values()
        if r["Started"].startswith("2026-03") and (r["Line"], r["Dir"], r["Result"]) == ("Hire desk", "I", "ANS")
    ]  # fmt: skip
    result = hall.report("calls-by-line")
    at = {"direction": "in", "device": "Hire desk"}
    assert result.cell(of="Calls", at=at) == len(march)
    assert result.cell(of="Mean", at=at) == (2 * sum(march) * 10**6 + len(march)) // (2 * len(march))
    assert result.cell(of="95 % up to", at=at) == sorted(march)[-(-95 * len(march) // 100) - 1] * 10**6


def test_money_is_exact(hall: Workspace) -> None:
    """Cents are added as integers; the share of cost adds up to one."""
    cents = sum(
        int(r["Cost"].replace(".", "")) for r in raw(hall, "prints.csv")
        if r["Status"] == "completed" and r["Finished"][6:10] == "2026" and r["Finished"][:2] in ("01", "02",
        "03") and r["Pages"] != "n/a"
    )  # fmt: skip
    result = hall.report("pages-by-printer")
    assert result.cell(of="Cost") == cents
    assert sum(row.cells[-1] for row in result.table.body) == pytest.approx(1)


def test_columns_with_selections_of_their_own(hall: Workspace) -> None:
    """Each column may narrow the report's events for itself; the rest of a top N is one row."""
    result = hall.report("heaviest-users")
    plain = hall.log("prints").during("2026-Q1").only(action="refused").measure("count").run()
    assert result.cell(of="Refused jobs") == plain.cell()
    assert len(result.table.body) == 11
    assert result.table.body[-1].shown == ("(everyone else)",)
    narrow = hall.log("prints").during("2026-Q1").only(action=["printed", "refused"]).measure(A="count").run()
    nested = hall.run(fermata.Report.model_validate({
        "log": "prints", "period": "2026-Q1", "only": {"action": ["printed", "refused"]},
        "columns": [{"measure": "count", "only": {"action": "refused"}}],
    }))  # fmt: skip
    assert nested.cell() == plain.cell() < narrow.cell()


def test_the_zone_of_a_report_moves_its_days(hall: Workspace) -> None:
    """The same events, another zone's midnight: days differ, totals over the same instants do not."""
    lisbon = hall.log("doors").during("2026-03-10T00:00Z/2026-03-20T00:00Z").by("day")
    tokyo = lisbon.zone("Asia/Tokyo")
    assert lisbon.run().cell() == tokyo.run().cell()
    assert [r.cells for r in lisbon.run().table.body] != [r.cells for r in tokyo.run().table.body]


def test_plans_are_frozen_and_comparable(hall: Workspace) -> None:
    """The same question gives the same plan; anything that changes figures changes its digest, a title does not."""
    question = hall.log("doors").during("2026-03").by("device")
    digest = question.run().context.plan
    assert question.titled("Another").run().context.plan == digest
    others = [
        question.during("2026-02"),
        question.zone("Asia/Tokyo"),
        question.only(action="in"),
        question.measure("distinct user"),
    ]
    assert len({digest, *(q.run().context.plan for q in others)}) == 5
    assert hash(question.run().data.plan) == hash(question.run().data.plan)


def test_patterns_say_what_they_matched(hall: Workspace) -> None:
    """A pattern is asked for, and the report names what it matched."""
    result = hall.log("doors").during("2026-03").only(device=fermata.like("Score*")).measure("count").run()
    assert "device matches Score*: 2 matched (Score library, Score vault)" in result.notes


def test_pandas_and_arrow_have_proper_types(hall: Workspace) -> None:
    """Durations are timedeltas, times in the report's zone, money decimals; events come as a table too."""
    frame = (
        hall.log("calls").during("2026-03").by("device").measure("time", "mean duration", "last", "share").to_pandas()
    )
    assert [str(t) for t in frame.dtypes][1:] == [
        "timedelta64[us]",
        "timedelta64[us]",
        "datetime64[us, Europe/London]",
        "float64",
    ]
    arrow = hall.log("prints").during("2026-03").measure("total cost").to_arrow()
    assert str(arrow.schema.field(0).type) == "decimal128(38, 2)"
    events = hall.log("timesheets").during("2026-03-02").listing(limit=5).to_pandas()
    assert len(events) == 5
    assert list(events.columns[-2:]) == ["file", "record"]


def test_read_without_a_workspace(tmp_path: Path) -> None:
    """One call maps an export and answers; the documented one-liner works as written."""
    path = tmp_path / "x.csv"
    path.write_text("When,Badge,Door\n2026-01-31T23:30:00Z,a,X\n2026-02-01T00:30:00Z,b,X\n2025-01-01T00:00:00Z,b,X\n")
    frame = (
        fermata.read(path, time="When", user="Badge", device="Door", zone="Europe/Lisbon")
        .during("2026").by("month").measure("count").to_pandas()
    )  # fmt: skip
    assert frame["Month"].tolist() == [date(2026, m, 1) for m in range(1, 13)]
    assert frame["Count"].dropna().tolist() == [1, 1]  # the log says nothing of March and later: no zeros there
    with pytest.raises(fermata.UnknownName, match="there is no column 'Wen'"):
        fermata.read(path, time="Wen", zone="UTC")
    with pytest.raises(fermata.ConfigError, match="there is no time zone 'Lisbon'"):
        fermata.read(path, time="When", zone="Lisbon")
    slashes = tmp_path / "s.csv"
    slashes.write_text("When\n03/04/2026 10:00\n")
    with pytest.raises(
        fermata.DataError, match=r"none of 1 records could be read: .* is not a time written as ISO 8601"
    ):
        fermata.read(slashes, time="When", zone="UTC")


@pytest.mark.deep
@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_examples_run(path: Path, hall: Workspace, tmp_path: Path) -> None:
    """Each example script runs as it stands, on the sample workspace."""
    asked = [sys.executable, str(path), str(hall.path)]
    done = subprocess.run(asked, capture_output=True, text=True, check=False, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert len(done.stdout.splitlines()) > 5


def test_there_are_examples() -> None:
    """At least the two the documentation names."""
    assert len(EXAMPLES) >= 2


def test_what_never_occurred_is_refused_also_of_derived_logs(hall: Workspace) -> None:
    """A value that no event of a derived log ever had is named with those there are; without totals, nothing has no
    row.
    """
    with pytest.raises(fermata.UnknownName, match="there is no device 'Nowhere' in the log visits"):
        hall.log("visits").during("2026-03").only(device="Nowhere").measure("count").run()
    assert any(
        "no event of the whole log has action 'refused'" in n
        for n in hall.log("visits").during("2026-03").only(action="refused").measure("count").run().notes
    )
    nothing = hall.run(fermata.Report(log="calls", period="2026-03", by=("user",), only={"user": ""}, totals=False))
    assert nothing.rows == ()
    assert any(n.startswith("nothing found: 'only user is empty' removed all") for n in nothing.notes)
