"""Makes the sample workspace: configuration, reports, registers and half a year of logs."""

from __future__ import annotations

import csv
import io
import shutil
from datetime import UTC, date, datetime, timedelta
from importlib import resources
from pathlib import Path
from random import Random

from fermata.demo import office, systems, terms
from fermata.demo.clock import END, FIRST_DAY, ZONE, at_hour, busy, csv_file, days, paid_on
from fermata.demo.people import DOORS, LINES, PRINTERS, PRODUCTIONS, Person, people
from fermata.errors import DataError, RequestError

__all__ = ["END", "FIRST_DAY", "make"]

ENTRY = ["Person", "Date", "From", "To", "Production", "Activity", "Charged", "Where", "Remark", "No", "Corrected by"]
ENTRY += ["Paid on"]
OUTER = ("Stage door", "Foyer east", "Foyer west", "Loading dock")  # readers that lead out of the house
MARK = ".quillmere"
KEPT = ("reports", "evacuations", "deliveries")  # folders of files people write
SEED = 20260401
Rows = list[list[str]]


def make(directory: Path, *, fresh: bool = False) -> Path:
    """Writes the workspace into `directory` and returns it. An existing one is only replaced if `fresh` and a demo."""
    if directory.exists() and any(directory.iterdir()):
        if not fresh:
            raise RequestError(f"{directory} is not empty; choose another directory, or --fresh to make the demo anew")
        if not (directory / MARK).exists():
            raise RequestError(f"{directory} is no demo workspace; nothing is removed")
        shutil.rmtree(directory)
    try:
        (directory / "incoming").mkdir(parents=True)
        for folder in ("registers", *KEPT):
            (directory / folder).mkdir()
        (directory / MARK).write_text("A sample workspace; fermata demo --fresh may replace it.\n", encoding="utf-8")
        source = resources.files("fermata.demo") / "quillmere"
        kept = [f"{folder}/{p.name}" for folder in KEPT for p in (source / folder).iterdir()]
        for name in ("fermata.toml", *kept):
            (directory / name).write_text((source / name).read_text(encoding="utf-8"), encoding="utf-8")
        _logs(directory / "incoming", directory / "registers")
        _secrets(directory / "secrets")
    except OSError as e:
        raise DataError(f"{directory}: cannot be written: {e.strerror}") from None
    return directory


def _secrets(directory: Path) -> None:
    """A key for pseudonyms that guards nothing: it is made up like the rest."""
    directory.mkdir(mode=0o700)
    key = directory / "pseudonyms.key"
    key.touch(mode=0o600)
    key.write_text("the sample's key guards nothing\n", encoding="utf-8")


def _logs(target: Path, registers: Path) -> None:
    staff = people(Random(SEED))
    _doors(target, staff, Random(SEED + 1))
    _calls(target, staff, Random(SEED + 2))
    _prints(target, staff, Random(SEED + 3))
    _entries(target, staff, Random(SEED + 4))
    more = (
        systems.logins, systems.software, systems.sessions, systems.web, systems.pages,
        office.changes, office.credit, office.states, office.plans, terms.absences, terms.helpdesk,
    )  # fmt: skip
    for number, made in enumerate(more, 5):
        made(target, staff, Random(SEED + number))
    _meter(target, staff, Random(SEED + 33))
    office.registers(registers, staff, Random(SEED + 20))


def _doors(target: Path, staff: list[Person], random: Random) -> None:
    readers, weights = list(DOORS), [w for _, w in DOORS.values()]
    events: list[tuple[datetime, Person | None, str, str]] = []
    for day in days():
        for person in random.sample(staff, min(len(staff), round(62 * busy(day, random)))):
            at = random.gauss(9.4, 1.2) if person.department != "stage" else random.gauss(13.5, 2)
            way = "Stage door" if random.random() < 0.7 else "Foyer east"
            events.append((at_hour(day, at), person, way, "ENTRY OK"))
            for _ in range(random.randrange(1, 7)):
                at += random.expovariate(1 / 1.1)
                reader = random.choices(readers, weights)[0]
                denied = random.random() < (0.25 if reader == "Score vault" else 0.012)
                read = random.random()
                stays = random.expovariate(1 / 0.5) if read < 0.9 and not denied else 0.3
                if denied:
                    events.append((at_hour(day, at), person, reader, "NO ENTRY"))
                    continue
                outside = reader in OUTER  # out for a while, and in again
                events.append((at_hour(day, at), person, reader, "EXIT OK" if outside else "ENTRY OK"))
                if read < 0.97 or outside:  # the others follow somebody through the door: no closing record
                    events.append((at_hour(day, at + stays), person, reader, "ENTRY OK" if outside else "EXIT OK"))
                at += stays if read < 0.9 else 0
            leaves = random.random()
            if leaves < 0.97:
                other = "Foyer east" if way == "Stage door" else "Stage door"
                at += random.uniform(0.1, 2)
                events.append((at_hour(day, at), person, other if leaves < 0.03 else way, "EXIT OK"))
        for kind, odds in (("DOOR FORCED", 0.04), ("HELD OPEN", 0.5)):
            if random.random() < odds:
                events.append((at_hour(day, random.uniform(7, 23)), None, random.choice(readers), kind))
    twice = datetime(2025, 10, 26, tzinfo=UTC)
    events += [(twice + timedelta(minutes=7 * i), staff[i % 40], "Stage door", "EXIT OK") for i in range(18)]
    down = (datetime(2026, 3, 14, 9, 40, tzinfo=UTC), datetime(2026, 3, 16, 11, 50, tzinfo=UTC))
    events += _alarms_and_closings(events, Random(SEED + 31))
    events = [e for e in events if e[0] <= END and not (e[2] == "Score library" and down[0] <= e[0] < down[1])]
    events.sort(key=lambda e: (e[0], e[2], e[1].badge if e[1] else ""))
    _write_doors(target, events, random)


def _alarms_and_closings(
    events: list[tuple[datetime, Person | None, str, str]], random: Random
) -> list[tuple[datetime, Person | None, str, str]]:
    """Doors held open close again, most of them; and on the first Wednesday of a month the alarm is tried and the house
    locked.
    """
    found: list[tuple[datetime, Person | None, str, str]] = []
    for at, _, reader, kind in events:
        if kind == "HELD OPEN" and random.random() < 0.93:
            found.append((at + timedelta(seconds=round(random.lognormvariate(5.2, 0.9))), None, reader, "CLOSED"))
    for day in days():
        if day.weekday() == 2 and day.day <= 7:
            for number, reader in enumerate(DOORS):
                start = at_hour(day, 10) + timedelta(seconds=3 * number)
                found.append((start, None, reader, "ALARM"))
                found.append((start + timedelta(seconds=20), None, reader, "LOCKED"))
                found.append((start + timedelta(minutes=8), None, reader, "UNLOCKED"))
    return found


def _write_doors(target: Path, events: list[tuple[datetime, Person | None, str, str]], random: Random) -> None:
    """One file a month in local time, with an overlap, a late line, broken lines, and an equal genuine pair."""
    months: dict[str, Rows] = {}
    for at, person, reader, kind in events:
        local = at.astimezone(ZONE)
        badge, holder = (person.badge, person.name) if person else ("", "")
        row = [f"{local:%d/%m/%Y %H:%M:%S}", badge, holder, reader, DOORS[reader][0], kind]
        months.setdefault(f"{local:%Y-%m}", []).append(row)
    names = sorted(months)
    months["2025-12"] = months["2025-11"][-220:] + months["2025-12"]  # the December export began a little early
    months["2026-02"].insert(0, list(months["2026-01"][-1]))  # two people through one door in one second, files apart
    late = months["2026-01"].pop(4000)
    months["2026-01"].insert(4300, late)
    for name in names:
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\r\n")
        writer.writerow(["When", "Badge", "Holder", "Reader", "Area", "Event"])
        writer.writerows(months[name])
        lines = text.getvalue().splitlines(keepends=True)
        if name == "2026-02":
            lines[1500] = "02/2026 10:11:12,B-1008,,Stage door,Stage side,ENTRY OK\r\n"
            lines.insert(2200, "13/02/2026 11:0\r\n")
            lines.insert(2600, "31/02/2026 09:30:00,B-1015,,Foyer west,Front of house,EXIT OK\r\n")
            lines.insert(3000, "\r\n")
            lines.insert(3001, "# controller restarted\r\n")
        (target / f"doors-{name}.csv").write_bytes("".join(lines).encode("utf-8-sig"))


def _meter(target: Path, staff: list[Person], random: Random) -> None:
    """The printers' counters as somebody read them on Mondays; one printer is replaced, one counter begins again."""
    rows: Rows = []
    counters = {name: 4_000 + 900 * i for i, name in enumerate(PRINTERS)}
    serials = {name: f"PM-{7_300 + 17 * i}" for i, name in enumerate(PRINTERS)}
    reader = next(p for p in staff if p.department == "office")
    for day in (d for d in days() if d.weekday() == 0 and not date(2025, 12, 20) <= d <= date(2026, 1, 2)):
        for i, name in enumerate(PRINTERS):
            counters[name] += random.randrange(180, 900)
            if day == date(2025, 11, 17) and i == 1:
                serials[name], counters[name] = "PM-9001", 12
            if day == date(2026, 2, 9) and i == 2:
                counters[name] = 31
            at = at_hour(day, 9.5 + 0.05 * i).astimezone(ZONE)
            rows.append([f"{at:%d/%m/%Y %H:%M}", name, serials[name], str(counters[name]), reader.login])
    csv_file(target / "meter.csv", ["Read at", "Printer", "Serial", "Counter", "Read by"], rows)


def _calls(target: Path, staff: list[Person], random: Random) -> None:
    desks = [p for p in staff if p.extension]
    months: dict[str, list[str]] = {}
    number = 410_000
    for day in days():
        hours = sorted(min(max(random.gauss(13, 3.2), 7.5), 23.9) for _ in range(round(255 * busy(day, random))))
        for hour in hours:
            at = at_hour(day, hour)
            if at > END:
                break
            number += 1
            incoming = random.random() < 0.64
            result = random.choices(("ANS", "NOANS", "BUSY", "FAIL"), (78, 14, 6, 2))[0]
            talk = round(random.lognormvariate(4.6, 0.9)) if result == "ANS" else 0
            line = random.choices(LINES, (25, 22, 14, 12, 9, 18))[0]
            queue = "tickets" if line.startswith("Box") else "hire" if line.startswith("Hire") else ""
            other = _number(random.randrange(1000)) if random.random() < 0.93 else ""
            person = random.choice(desks[:34])
            local = at.astimezone(ZONE)
            months.setdefault(f"{local:%Y-%m}", []).append(
                f"{number};{local.isoformat()};{talk};{line};{person.extension};{'I' if incoming else 'O'};"
                f"{other};{queue};{result};"
                f"{_quality(number, line) if talk else ''};{_how(number, line, queue, desks, bool(talk))}\n"
            )
    previous: list[str] = []
    for name, lines in months.items():
        head = (
            "Quillmere Hall – call records\nexported "
            "nightly\nCall;Started;Talk;Line;Extension;Dir;Number;Queue;Result;MOS;"
            "Channel;Group;Rang;Site;Codec;Jitter;Loss\n"
        )
        again = previous[-1:]  # each export repeats the last call of the one before; the call number tells
        (target / f"calls-{name}.txt").write_bytes((head + "".join(again + lines)).encode("cp1252"))
        previous = lines


def _number(n: int) -> str:
    """A number from the ranges that are kept for fiction: local, national, mobile, free, and abroad."""
    if n < 460:
        return f"+441632960{n:03d}"
    if n < 620:
        return f"+4420794600{n % 100:02d}" if n % 2 else f"+4411349600{n % 100:02d}"
    if n < 880:
        return f"+447700900{n:03d}"
    return f"+44808157{n % 10:04d}" if n < 920 else f"+120255501{n % 100:02d}"


def _how(number: int, line: str, queue: str, desks: list[Person], talked: bool) -> str:
    """By which channel of the line, which telephones of the queue's group rang, where, and how the network was."""
    random = Random(number)
    channel = 1 + random.randrange(4 if line.endswith("desk") else 6)
    group = {"tickets": "280", "hire": "290"}.get(queue, "")
    rang = "|".join(sorted({random.choice(desks[:34]).extension for _ in range(4)})) if group else ""
    site = "Box office" if line.startswith("Box") else "Main house"
    if not talked:
        return f"{channel};{group};{rang};{site};;;"
    worse = 14 if line.endswith("desk") else 4
    codec = "G.722" if line.startswith("Hire") else "G.711"
    return f"{channel};{group};{rang};{site};{codec};{round(random.expovariate(1 / worse))};{random.expovariate(4):.1f}"


def _quality(number: int, line: str) -> str:
    """What the telephone system rates a call, from 1 to 4.50; one line is worse than the others."""
    random = Random(number)
    return f"{min(max(random.gauss(3.7 if line.endswith('desk') else 4.2, 0.25), 1.2), 4.5):.2f}"


def _prints(target: Path, staff: list[Person], random: Random) -> None:
    titles = (
        "Programme book",
        "Seating plan",
        "Réglage lumière",
        'Parts "Glass Harbour"',
        "Invoice; hire",
        "=SUM(A1:A9)",
        "Poster <b>gala</b>",
        "Call sheet",
        "Untitled\nsecond line",
        "Score, vol. 2",
    )
    rows: Rows = []
    job = 7000
    for day in days():
        for _ in range(round(125 * busy(day, random))):
            at = at_hour(day, min(max(random.gauss(13, 2.8), 7), 23.5))
            if at > END:
                continue
            job += random.randrange(1, 3)
            printer = random.choices(list(PRINTERS), (40, 25, 14, 15, 6))[0]
            can_colour, mono, colour_cents, paper = PRINTERS[printer]
            colour = can_colour and random.random() < 0.35
            status = random.choices(("completed", "cancelled", "refused by rule"), (94, 4, 2))[0]
            pages = 0 if status == "cancelled" else max(1, round(random.lognormvariate(1.4, 0.9)))
            copies = random.choices((1, 2, 10, 40), (80, 12, 6, 2))[0]
            total = pages * copies
            sheets = (total + 1) // 2 if printer.startswith("Office") and random.random() < 0.6 else total
            cents = total * (colour_cents if colour else mono) if status == "completed" else 0
            owner = random.choice(staff[:80])
            login = owner.login if random.random() < 0.96 else f"QUILLMERE\\{owner.login}"
            tags = random.choice(("", "", "", "urgent", "programme|gala", "gala", "hire|urgent"))
            rows.append(
                [
                    str(job),
                    f"{at.astimezone(ZONE):%m/%d/%Y %I:%M:%S %p}",
                    login,
                    printer,
                    random.choice(titles),
                    str(total),
                    str(copies),
                    str(sheets),
                    "C" if colour else "M",
                    paper,
                    f"{cents // 100}.{cents % 100:02d}",
                    status,
                    tags,
                    f"ws-{1 + systems.hash_of(owner.login) % 24:02d}",
                    "print-2" if printer.startswith("Poster") else "print-1",
                    ("desktop", "desktop", "mail", "mobile")[job % 4],
                    str(total * (91_000 if colour else 23_000) + job % 977),
                ]
            )
    rows.sort(key=lambda r: int(r[0]))
    rows[5000][5] = "n/a"  # a page count the server could not read
    with (target / "prints.csv").open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(
            [
                "Job",
                "Finished",
                "Owner",
                "Printer",
                "Document",
                "Pages",
                "Copies",
                "Sheets",
                "Colour",
                "Paper",
                "Cost",
                "Status",
                "Tags",
                "Workstation",
                "Server",
                "Client",
                "Bytes",
            ]
        )
        writer.writerows(rows)


def _entries(target: Path, staff: list[Person], random: Random) -> None:
    crew = [p for p in staff if p.department in ("stage", "workshop", "house")][:42]
    rows: Rows = []
    for day in days():
        for person in random.sample(crew, min(len(crew), round(26 * busy(day, random)))):
            late = random.random() < 0.22
            start = (21, 30) if late else (random.choice((8, 9, 10, 14)), random.choice((0, 15, 30)))
            minutes = random.choice((240, 270, 285, 300)) if late else random.choice((210, 240, 285, 360, 480))
            begin = datetime(day.year, day.month, day.day, *start)
            if begin.replace(tzinfo=ZONE) > END:
                continue
            finish = begin + timedelta(minutes=minutes)
            production = random.choice(PRODUCTIONS)
            to = "" if random.random() < 0.006 else f"{finish:%H:%M}"  # forgotten to stop
            name = person.name if random.random() < 0.985 else person.name.upper()
            rows.append(
                [
                    name,
                    day.isoformat(),
                    f"{begin:%H:%M}",
                    to,
                    production,
                    "get-out" if late else random.choice(("rig", "rehearsal", "show")),
                    "y" if production.startswith("Hire") else "n",
                    random.choice(("Stage side", "Workshop", "Front of house")),
                    random.choice(("", "", "with two helpers", "late start")),
                ]
            )
    numbered = Random(SEED + 32)
    for day in (date(2025, 10, 25), date(2026, 3, 28)):  # both clock changes fall into a night watch
        rows.append(
            [
                crew[0].name,
                day.isoformat(),
                "22:00",
                "06:00",
                "House upkeep",
                "night watch",
                "n",
                "Stage side",
                "",
            ]
        )
    with (target / "time-entries.csv").open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(ENTRY)
        writer.writerows([*row, str(n), "", paid_on(row[1])] for n, row in enumerate(rows, 50_001))
    _corrections(target, rows, crew, numbered)


def _corrections(target: Path, rows: Rows, crew: list[Person], random: Random) -> None:
    """A later export of entries that somebody put right: a finish filled in, an end moved, another production."""
    lead = crew[5]  # one of them puts the entries of all right
    with (target / "time-entries-corrected.csv").open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(ENTRY)
        for n in sorted(random.sample(range(3000, len(rows)), 14)):
            row = [*rows[n], str(50_001 + n), lead.name, paid_on(rows[n][1])]
            if row[3] and random.random() < 0.7:
                hour, minute = row[3].split(":")
                row[3] = f"{(int(hour) + 1) % 24:02d}:{minute}"
            else:
                row[4] = "House upkeep"
            writer.writerow(row)
