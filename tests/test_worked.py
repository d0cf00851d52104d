"""The worked examples of docs/measuring.md: the tables as they stand there, the figures as they are said."""

from __future__ import annotations

import re
from pathlib import Path

from tests.conftest import Maker

PAGE = (Path(__file__).parent.parent / "docs" / "measuring.md").read_text(encoding="utf-8")
HEAD = '[workspace]\nzone = "Europe/Lisbon"\n'
HOUR = 3_600_000_000


def table(section: str) -> str:
    """The first table of a section as CSV."""
    text = PAGE.split(f"### {section}")[1]
    rows = [line.strip("| ").split(" | ") for line in text.splitlines() if line.startswith("|")]
    kept = [r for r in rows if not re.match(r"-+", r[0])]
    first = next(i for i, line in enumerate(text.splitlines()) if line.startswith("|"))
    length = next(i for i, line in enumerate([*text.splitlines()[first:], ""]) if not line.startswith("|")) - 1
    return "\n".join(",".join(c.strip() for c in r) for r in kept[:length]) + "\n"


def test_pairing_over_the_first_of_a_month(make: Maker) -> None:
    """A night belongs to both months; what found no partner is counted and listed."""
    config = (
        HEAD
        + """
[logs.doors]
files = "doors.csv"
[logs.doors.fields]
start = { column = "When (Lisbon)", form = "%Y-%m-%d %H:%M" }
user = "Who"
action = "Event"
[logs.shifts]
from = "doors"
pairing = { opening = "in", closing = "out", by = "user", reach = "16 hours" }
"""
    )
    workspace = make(config, doors=table("Pairing over the first of a month"))
    workspace.archive.import_log("doors")
    shifts = workspace.log("shifts")
    march = shifts.during("2026-03").measure("count", "time").run()
    assert march.table.total
    assert march.table.total.cells == (2, 8 * HOUR)
    assert any(n.startswith("1 of shifts of this period unfinished") for n in march.notes)
    assert any(n.startswith("1 closing of this period without an opening") for n in march.notes)
    by_month = shifts.during("2026-02/2026-03").only(user="Ann").by("month").measure("time").run().table
    assert [r.cells[0] for r in by_month.body] == [2 * HOUR, 6 * HOUR]
    listed = shifts.during("2026-03").only(pairing="no opening").listing().to_pandas()
    assert len(listed) == 1


def test_a_clock_change_and_concurrency(make: Maker) -> None:
    """A night is five hours long after midnight; union, overlap, peak and mean of a day of 23 hours."""
    config = (
        HEAD
        + """
[logs.stays]
files = "stays.csv"
[logs.stays.fields]
start = { column = "From", form = "%Y-%m-%d %H:%M" }
finish = { column = "To", form = "%Y-%m-%d %H:%M" }
user = "Who"
"""
    )
    workspace = make(config, stays=table("Splitting over a clock change, and concurrency"))
    workspace.archive.import_log("stays")
    stays = workspace.log("stays")
    ann = stays.during("2026-03-28/2026-03-29").only(user="Ann").by("day").measure("time").run().table
    assert [r.cells[0] for r in ann.body] == [2 * HOUR, 5 * HOUR]
    measures = ("time", "union", "overlap", "peak", "concurrency", "count")
    total = stays.during("2026-03-29").measure(*measures).run().table.total
    assert total
    assert total.cells == (11 * HOUR, 8 * HOUR, 3 * HOUR, 2, 11 / 23, 5)
    assert str(stays.during("2026-03-29").measure("peak time").run().cell()) == "2026-03-29 00:30:00"


def test_rounding_of_entries(make: Maker) -> None:
    """Up, down and nearest; a rounded entry over midnight is split after it was rounded."""
    rows = "\n".join(f"2026-03-02 10:00,{n}" for n in (1, 15, 16, 44, 45, 0))
    config = (
        HEAD
        + """
[logs.timesheets]
files = "entries.csv"
[logs.timesheets.fields]
start = { column = "From", form = "%Y-%m-%d %H:%M" }
duration = { column = "Minutes", form = "minutes" }
"""
    )
    workspace = make(config, entries=f"From,Minutes\n{rows}\n2026-03-05 23:50,16\n")
    workspace.archive.import_log("timesheets")
    asked = workspace.log("timesheets").during("2026-03-02").measure("time")
    quarter = HOUR // 4
    assert [asked.rounding(f"{how} 15 minutes").run().cell() for how in ("up", "down", "nearest")] == [
        10 * quarter,
        7 * quarter,
        8 * quarter,
    ]
    night = (
        workspace.log("timesheets")
        .during("2026-03-05/2026-03-06")
        .by("day")
        .measure("time")
        .rounding("up 15 minutes")
        .run()
    )
    assert [r.cells[0] for r in night.table.body] == [10 * HOUR // 60, 20 * HOUR // 60]


def test_balances(make: Maker) -> None:
    """Before, movement and after, in one month and from month to month."""
    config = (
        HEAD
        + """
[logs.credit]
files = "credit.csv"
[logs.credit.fields]
start = { column = "When", form = "%Y-%m-%d" }
user = "Account"
amount = { column = "Amount", type = "money", unit = "EUR" }
"""
    )
    workspace = make(config, credit=table("Balance"))
    workspace.archive.import_log("credit")
    march = (
        workspace.log("credit")
        .during("2026-03")
        .only(user="ann")
        .measure("opening total amount", "total amount", "all-time total amount")
        .run()
    )
    assert march.table.total
    assert march.table.total.cells == (625, 100, 725)
    months = (
        workspace.log("credit").during("2026-Q1").only(user="ann").by("month").measure("all-time total amount").run()
    )
    assert [r.cells[0] for r in months.table.body] == [1000, 625, 725]
