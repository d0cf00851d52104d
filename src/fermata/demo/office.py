"""What the hall's offices keep: changes, print credit, device states, bookings; and its registers."""

from __future__ import annotations

import csv
import io
import sqlite3
from datetime import date, datetime, time, timedelta
from pathlib import Path
from random import Random
from typing import Any

from fermata.demo import terms
from fermata.demo.clock import END, ZONE, at_hour, busy, csv_file, days
from fermata.demo.people import DOORS, HOSTS, LINES, PRINTERS, PRODUCTIONS, PROGRAMS, Person

__all__ = ["changes", "credit", "plans", "registers", "states"]

Rows = list[list[Any]]
MOVED = date(2026, 1, 12)
LEFT = date(2026, 1, 31)


def changes(target: Path, staff: list[Person], random: Random) -> None:
    """What administrators changed in the door controller: UTF-16 text with semicolons, old and new values."""
    rows: Rows = []
    admins = [p for p in staff if p.department == "office"][:4]
    for day in days():
        for _ in range(random.randrange(0, 7)):
            at = at_hour(day, random.uniform(8.5, 18.5))
            if at > END:
                continue
            who, whom = random.choice(admins), random.choice(staff)
            what, old, new = random.choice((
                ("Card issued", "", whom.badge), ("Card blocked", "active", "blocked"), ("Schedule edited",
                 "08:00-22:00", "08:00-23:30"),
                ("Rights widened", "Front of house", "Front of house; Stage side"), ("Entry removed",
                 f"{whom.badge} {at:%H:%M}", ""),
            ))  # fmt: skip
            rows.append(
                [f"{at.astimezone(ZONE):%d.%m.%Y %H:%M:%S}", f"QUILLMERE\\{who.login}", what, whom.name, old, new]
            )
    rows.sort(key=lambda r: datetime.strptime(r[0], "%d.%m.%Y %H:%M:%S"))
    text = io.StringIO()
    writer = csv.writer(text, delimiter=";", lineterminator="\r\n")
    writer.writerow(["When", "Administrator", "Change", "Object", "Before", "After"])
    writer.writerows(rows)
    (target / "changes.txt").write_bytes(text.getvalue().encode("utf-16"))


def credit(target: Path, staff: list[Person], random: Random) -> None:
    """Movements on print accounts as a workbook with a banner row, real dates and amounts."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet("Movements")
    sheet.append(["Print credit, all accounts"])
    sheet.append(["When", "Account", "Movement", "Amount", "By or for", "Balance"])
    rows: Rows = [
        [datetime(2025, 10, 1, 0, 0), p.login, "Opening balance", round(random.uniform(0, 12), 2), None]
        for p in staff[:60]
    ]
    for day in days():
        for _ in range(round(9 * busy(day, random))):
            at = at_hour(day, random.uniform(8, 20)).astimezone(ZONE).replace(tzinfo=None)
            if at.replace(tzinfo=ZONE) > END:
                continue
            who = random.choice(staff[:60])
            kind = random.choices(("Charge", "Top-up", "Refund"), (84, 13, 3))[0]
            amount = {
                "Charge": -round(random.uniform(0.02, 3), 2),
                "Top-up": float(random.choice((5, 10, 20))),
                "Refund": round(random.uniform(0.1, 2), 2),
            }[kind]
            rows.append(
                [at, who.login, kind, amount, "Cash desk" if kind == "Top-up" else random.choice(list(PRINTERS))]
            )
    held: dict[str, int] = {}  # the balance as the cash system noted it, wrong from one movement on
    for number, row in enumerate(sorted(rows, key=lambda r: (r[0], r[1]))):
        held[row[1]] = held.get(row[1], 0) + round(row[3] * 100) + (25 if number == 1300 else 0)
        sheet.append([*row, held[row[1]] / 100])
    book.save(target / "print-credit.xlsx")


def states(target: Path, staff: list[Person], random: Random) -> None:
    """States of devices in an SQLite database that only grows; times are Julian days in UTC."""
    rows: Rows = []
    for device in (*PRINTERS, *HOSTS, "Fly tower", "Hydraulic lift"):
        at, state = datetime.combine(date(2025, 10, 1), time(), ZONE), "up"
        while at <= END:
            rows.append([at, device, state])
            if state == "up":
                at, state = (
                    at + timedelta(seconds=round(3600 * random.expovariate(1 / 160))),
                    random.choice(("down", "maintenance")),
                )
            else:
                at, state = at + timedelta(seconds=round(60 * random.expovariate(1 / 95))), "up"
    rows.sort(key=lambda r: (r[0], r[1]))
    path = target / "device-states.db"
    with sqlite3.connect(path) as db:
        db.execute(
            "CREATE TABLE state (id INTEGER PRIMARY KEY, noted REAL NOT NULL, device TEXT NOT NULL, state TEXT NOT "
            "NULL)"
        )
        unix = 2440587.5  # the Julian day of 1970-01-01T00:00 UTC
        db.executemany(
            "INSERT INTO state (noted, device, state) VALUES (?, ?, ?)",
            [(unix + at.timestamp() / 86_400, d, s) for at, d, s in rows],
        )
    db.close()


def plans(target: Path, staff: list[Person], random: Random) -> None:
    """Bookings as a calendar: weekly rehearsals with exceptions, concerts, days the house is closed."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Quillmere Hall//Bookings//EN"]

    def event(uid: str, title: str, place: str, start: datetime, hours: float, *more: str) -> None:
        finish = start + timedelta(hours=hours)
        lines.extend([
            "BEGIN:VEVENT", f"UID:{uid}@quillmere.example", "DTSTAMP:20260401T070000Z", f"SUMMARY:{title}",
            f"LOCATION:{place}",
            f"DTSTART;TZID=Europe/London:{start:%Y%m%dT%H%M%S}", f"DTEND;TZID=Europe/London:{finish:%Y%m%dT%H%M%S}",
            *more, "END:VEVENT",
        ])  # fmt: skip

    for i, room in enumerate(("Rehearsal room 1", "Rehearsal room 2", "Orchestra pit")):
        start = datetime(2026, 1, 5 + i, 10, 0)
        skipped = start + timedelta(weeks=6)
        event(
            f"weekly-{i}",
            f"Rehearsal\\, {PRODUCTIONS[i]}",
            room,
            start,
            3,
            "RRULE:FREQ=WEEKLY;UNTIL=20260630T200000Z",
            f"EXDATE;TZID=Europe/London:{skipped:%Y%m%dT%H%M%S}",
        )
    for i in range(22):
        start = datetime(2026, 1, 9, 19, 30) + timedelta(days=5 * i + random.randrange(3))
        event(f"concert-{i}", f"Concert: {random.choice(PRODUCTIONS[:3])}", "Main hall", start, 2.5)
    event("night", "Night watch", "Stage side", datetime(2026, 3, 29, 0, 30), 2, "STATUS:TENTATIVE")
    lines += [
        "BEGIN:VEVENT",
        "UID:closed@quillmere.example",
        "DTSTAMP:20260401T070000Z",
        "SUMMARY:House closed",
        "DTSTART;VALUE=DATE:20260406",
        "DTEND;VALUE=DATE:20260407",
        "END:VEVENT",
        "END:VCALENDAR",
    ]
    (target / "bookings.ics").write_text("\r\n".join(lines) + "\r\n", encoding="utf-8", newline="")


DEPARTMENTS = (
    ("stage", "stage-lead@quillmere.example"), ("house", "house-lead@quillmere.example"), ("office",
     "office-lead@quillmere.example"),
    ("library", "library-lead@quillmere.example"), ("visiting", "desk@visiting-crews.example"), ("workshop", ""),
)  # fmt: skip
CLIENTS = (("Quillmere Hall", "accounts@quillmere.example"), ("Farrowmere Ensemble", "accounts@farrowmere.example"))


def registers(target: Path, staff: list[Person], random: Random) -> None:
    """People with those who moved department and one who left, devices as a workbook, places as a tree, projects,
    licences.
    """
    rows: Rows = []
    groups = ("choir", "first aid", "fire wardens", "keys", "works council")
    for i, p in enumerate(staff):
        own = "|".join(sorted(random.sample(groups, random.choices((0, 1, 2), (55, 33, 12))[0])))
        base = [f"Q-{100 + i}", p.name, p.badge, p.extension, p.login, f"{p.login}@quillmere.example"]
        title = random.choice(("assistant", "technician", "lead", "steward"))
        if i % 11 == 4:  # moved in January
            other = "house" if p.department != "house" else "office"
            rows.append(
                [*base, p.department, title, own, terms.pattern(p), "", (MOVED - timedelta(days=1)).isoformat(), ""]
            )
            rows.append([*base, other, title, own, terms.pattern(p), MOVED.isoformat(), "", ""])
        else:
            rows.append([*base, p.department, title, own, terms.pattern(p), "", LEFT.isoformat() if i == 7 else "", ""])
    for i in range(6):  # on the books, never seen
        rows.append(
            [
                f"Q-{900 + i}",
                f"Spare Steward {i + 1}",
                f"B-9{i:03d}",
                "",
                f"spare{i + 1}",
                "",
                "house",
                "steward",
                "",
                "crew",
                "",
                "",
                "yes" if i == 5 else "",
            ]
        )
    csv_file(
        target / "people.csv",
        [
            "Staff no",
            "Name",
            "Badge",
            "Extension",
            "Login",
            "Mail",
            "Department",
            "Title",
            "Groups",
            "Pattern",
            "From",
            "Until",
            "Archived",
        ],
        rows,
    )
    areas = sorted({a for a, _ in DOORS.values()})
    places: Rows = [["house", "Quillmere Hall", ""], ["north", "North wing", "house"], ["south", "South wing", "house"]]
    places += [
        [f"a{i}", a, "north" if a in ("Stage side", "Rehearsal wing", "Workshop") else "south"]
        for i, a in enumerate(areas)
    ]
    csv_file(target / "places.csv", ["Id", "Name", "Within"], places)
    csv_file(
        target / "projects.csv",
        ["Code", "Name", "Client", "Archived"],
        [
            [f"P{i:02d}", p, "Farrowmere Ensemble" if p.startswith("Hire") else "Quillmere Hall", ""]
            for i, p in enumerate(PRODUCTIONS)
        ]
        + [["P90", "Winter gala 2024", "Quillmere Hall", "yes"], ["P91", "Foyer repairs", "Quillmere Hall", "yes"]],
    )
    csv_file(target / "departments.csv", ["Department", "Mail"], [list(d) for d in DEPARTMENTS])
    csv_file(target / "clients.csv", ["Client", "Mail"], [list(c) for c in CLIENTS])
    holders = [
        [random.choice(staff[:70]).login, program, "2025-10-01", "2025-12-31" if random.random() < 0.2 else ""]
        for program, pool in PROGRAMS
        if pool
        for _ in range(8)
    ]
    csv_file(
        target / "licences.csv",
        ["Login", "Program", "From", "Until"],
        [list(h) for h in dict.fromkeys(map(tuple, holders))],
    )
    _devices(target / "devices.xlsx")
    terms.agreed(target, staff, random)


def _devices(path: Path) -> None:
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet("Devices")
    sheet.append(
        ["Asset", "Name", "Known as", "Type", "Make", "Group", "In use since", "Channels", "Model", "Firmware"]
    )
    every = [(d, "reader", "Lockwright") for d in DOORS] + [(p, "printer", "Pressmark") for p in PRINTERS]
    every += [(line, "telephone line", "Bellfounder") for line in LINES] + [
        (h, "computer", "Slate & Co") for h in HOSTS
    ]
    for i, (name, kind, make) in enumerate(every):
        group = DOORS[name][0] if name in DOORS else "Machines"
        channels = (4 if name.endswith("desk") else 6) if name in LINES else None
        model, firmware = f"{make.split()[0]} {(3, 5, 7)[i % 3]}00", f"{2 + i % 3}.{i % 5}"
        since = date(2024, 1 + i % 12, 1)
        sheet.append([f"QH-{i + 1:03d}", name, name, kind, make, group, since, channels, model, firmware])
    book.save(path)
