"""What the hall has agreed: working patterns and absences, rates, targets, budgets, seats; and transferred calls."""

from __future__ import annotations

from datetime import date, timedelta
from pathlib import Path
from random import Random
from typing import Any

from fermata.demo.clock import END, ZONE, at_hour, busy, csv_file, days
from fermata.demo.people import PRODUCTIONS, PROGRAMS, Person

__all__ = ["absences", "agreed", "helpdesk", "pattern"]

Rows = list[list[Any]]


def pattern(person: Person) -> str:
    """The working pattern of somebody: crews work by shifts of their own, offices full or part time."""
    if person.department in ("stage", "workshop", "house"):
        return "crew"
    return "part time" if int(person.badge[2:]) % 3 == 0 else "full time"


def absences(target: Path, staff: list[Person], random: Random) -> None:
    """Leave and illness, whole days from and to, some of it unpaid; half days by hours."""
    rows: Rows = []
    for person in staff[:80]:
        at = date(2025, 10, 6) + timedelta(days=random.randrange(40))
        while at < date(2026, 4, 20):
            length = random.choice((1, 1, 2, 5, 10))
            why = random.choices(("leave", "illness", "unpaid"), (60, 32, 8))[0]
            half = length == 1 and random.random() < 0.3
            rows.append([
                person.login, f"{at.isoformat()} {'13:00' if half else '00:00'}",
                f"{at.isoformat()} 18:00" if half else f"{(at + timedelta(days=length)).isoformat()} 00:00", why,
            ])  # fmt: skip
            at += timedelta(days=length + random.randrange(20, 90))
    rows.sort(key=lambda r: (r[1], r[0]))
    csv_file(target / "absences.csv", ["Login", "From", "To", "Why"], rows)


def helpdesk(target: Path, staff: list[Person], random: Random) -> None:
    """Cases of the house's own help desk: each is opened, worked on and closed by a result, one line a step."""
    rows: Rows = []
    desk = [p for p in staff if p.department == "office"][:5]
    case = 300
    for day in days():
        for _ in range(round(6 * busy(day, random))):
            at = at_hour(day, random.uniform(8, 17))
            case += 1
            steps = [
                "opened",
                *random.choices(("called back", "replied", "visited"), (30, 50, 20), k=random.randrange(1, 4)),
            ]
            steps.append(random.choices(("solved", "refused", "handed over"), (78, 8, 14))[0])
            for step in steps:
                if at <= END:
                    row = [at.astimezone(ZONE).isoformat(), f"C-{case}", random.choice(desk).login, step]
                    about = random.choice(("Office ground", "Box office", "Library desk"))
                    rows.append([*row, about, f"https://help.quillmere.example/cases/C-{case}"])
                at += timedelta(minutes=round(random.expovariate(1 / 55)) + 1)
    rows.sort()
    csv_file(target / "helpdesk.csv", ["When", "Case", "Who", "Step", "About", "Page"], rows)


def agreed(target: Path, staff: list[Person], random: Random) -> None:
    """Rates that changed at the new year, targets, budgets, seats of licence pools."""
    csv_file(
        target / "call-rates.csv",
        ["Class", "Direction", "From", "Until", "Setup", "Minute", "Least"],
        [
            ["national", "out", "", "2025-12-31", "0.04", "0.018", "0.05"],
            ["national", "out", "2026-01-01", "", "0.04", "0.021", "0.05"],
            ["local", "out", "", "", "0.04", "0.012", "0.05"],
            ["mobile", "out", "", "2025-12-31", "0.04", "0.068", "0.10"],
            ["mobile", "out", "2026-01-01", "", "0.04", "0.075", "0.10"],
            ["free", "out", "", "", "0", "0", "0"],
            ["abroad", "out", "", "", "0.10", "0.145", "0.25"],
            ["*", "in", "", "", "0", "0", "0"],
        ],
    )
    csv_file(
        target / "project-rates.csv",
        ["Activity", "From", "Until", "Hour"],
        [
            ["*", "", "2025-12-31", "31.50"],
            ["*", "2026-01-01", "", "33.00"],
            ["night watch", "", "2025-12-31", "38.00"],
            ["night watch", "2026-01-01", "", "40.00"],
        ],
    )
    csv_file(
        target / "wages.csv",
        ["Title", "Hour"],
        [["assistant", "14.20"], ["technician", "17.60"], ["lead", "22.40"], ["steward", "13.10"]],
    )
    csv_file(
        target / "papers.csv",
        ["Paper", "Square metres", "Grams"],
        [
            [paper, area, grams]
            for paper, area, grams in (("A4", "0.0624", "5.0"), ("A3", "0.1247", "10.0"), ("A1", "0.4997", "60.0"))
        ],
    )
    prices = {
        ("A4", "no"): "0.02",
        ("A4", "yes"): "0.09",
        ("A3", "no"): "0.03",
        ("A3", "yes"): "0.07",
        ("A1", "no"): "0.40",
        ("A1", "yes"): "1.80",
    }
    csv_file(
        target / "print-rates.csv",
        ["Paper", "Colour", "Page"],
        [[paper, colour, price] for (paper, colour), price in prices.items()],
    )
    csv_file(target / "reading-room-rates.csv", ["Paper", "Page"], [["*", "0.05"]])
    csv_file(
        target / "budgets.csv",
        ["Production", "From", "Until", "Budget"],
        [[p, "2025-10-01", "2026-06-30", str(120_000 + 24_000 * i)] for i, p in enumerate(PRODUCTIONS)],
    )
    desks = [p for p in staff if p.extension][:12]
    csv_file(
        target / "targets.csv",
        ["Extension", "From", "Until", "Calls a month"],
        [[p.extension, "2025-10-01", "", str(random.choice((180, 200, 220)))] for p in desks],
    )
    seats = {"scores": "4", "stage": "8", "office": "5"}
    pools = dict.fromkeys(pool for _, pool in PROGRAMS if pool)
    csv_file(target / "pools.csv", ["Pool", "Seats"], [[p, seats.get(p, "5")] for p in pools])
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Quillmere Hall//Closed//EN"]
    for number, (title, first, last) in enumerate((
        ("Winter break", date(2025, 12, 24), date(2026, 1, 1)), ("Hall inspection", date(2026, 2, 16), date(2026, 2,
         17)),
    )):  # fmt: skip
        lines += [
            "BEGIN:VEVENT", f"UID:closed-{number}@quillmere.example", "DTSTAMP:20250901T080000Z", f"SUMMARY:{title}",
            f"DTSTART;VALUE=DATE:{first:%Y%m%d}", f"DTEND;VALUE=DATE:{last + timedelta(days=1):%Y%m%d}", "END:VEVENT",
        ]  # fmt: skip
    text = "\r\n".join([*lines, "END:VCALENDAR"]) + "\r\n"
    (target / "closed.ics").write_text(text, encoding="utf-8", newline="")
