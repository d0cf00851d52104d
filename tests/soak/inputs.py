"""Real files of every reader, spoiled at random, proposed and imported: nothing fails without a sentence, and every
record that is read is stored, a duplicate, refused or skipped.
"""

from __future__ import annotations

import bz2
import functools
import gzip
import io
import lzma
import random
import sqlite3
import struct
import tempfile
import tomllib
import zipfile
from pathlib import Path

from fermata.api.workspace import open_workspace
from fermata.errors import FermataError
from fermata.workspace.proposing import add_log
from tests.conftest import NOW, sample
from tests.test_proposals import CASES, as_ods

__all__ = ["one"]

OLD = Path(__file__).parents[1] / "shifts.xls"
LOG = '[workspace]\nzone = "Europe/Berlin"\n'
NASTY = (b"\x00", b"\xff\xfe", b"\xf0\x9f\x92\xa9", b'"', b"'", b"\r", b"\n\n\n", b",", b";", b"\t", b"{", b"]", b"<!DOCTYPE",
         b"&e;", b"-1", b"99999999999999999999", b"NaN", b"0001-01-01", b"9999-12-31T23:59:59", b"\\", b"=", b"\x1b[31m",
         b"RRULE:FREQ=SECONDLY\r\n", b"%s%n", b"../../x", b"\xe2\x80\xae", b"A\xcc\x88", b" " * 300, b"x" * 3000, b"[" * 3000, b'{"a":' * 3000, b"<a>" * 3000)  # fmt: skip


@functools.cache
def samples() -> list[tuple[str, bytes]]:
    """A file of each kind that is read: the texts of the proposals, and binary ones."""
    texts = [(name, text.encode()) for name, text, *_ in CASES]
    rows = "When,Who,Door,Pages\n" + "".join(
        f"2026-03-{d:02d} 08:{d:02d}:00,u{d % 7},North,{d}\n" for d in range(1, 29)
    )
    texts.append(("plain.csv", rows.encode()))
    texts.append(("wide.csv", rows.encode("utf-16")))
    texts += [(f"packed.csv.{m.__name__}", m.compress(rows.encode())) for m in (gzip, bz2, lzma)]
    texts += [("shifts.ods", as_ods(sample("shifts/twice.csv"))), ("shifts.xls", OLD.read_bytes())]
    logins = b"".join(
        struct.pack("<h2xi32s4s256shhiii16s20x", 7 if i % 2 else 8, 100 + i, b"pts/0", b"ts/0",
                    b"host" if False else b"", 0, 0, 0, 1_774_681_272 + i, 0, b"\x0a\0\0\x07" + b"\0" * 12)
        for i in range(12)
    )  # fmt: skip
    texts.append(("wtmp", logins))
    texts.append(("dates.ics", CALENDAR.encode()))
    texts.append(("case.xes", STREAM.encode()))
    texts.append(("site.log", W3C.encode()))
    return [*texts, *_binary(rows)]


def _binary(rows: str) -> list[tuple[str, bytes]]:
    import openpyxl
    import pyarrow as pa
    import pyarrow.parquet as pq

    table = [line.split(",") for line in rows.splitlines()]
    book, held = openpyxl.Workbook(), io.BytesIO()
    for row in table:
        book.active.append(row)  # type: ignore[union-attr]
    book.save(held)
    columns = {n: [r[i] for r in table[1:]] for i, n in enumerate(table[0])}
    parquet = io.BytesIO()
    pq.write_table(pa.table(columns), parquet)
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as z:
        z.writestr("a.csv", rows)
        z.writestr("b.csv", rows.replace("North", "South"))
    with tempfile.TemporaryDirectory() as made:
        path = Path(made) / "x.db"
        with sqlite3.connect(path) as db:
            db.execute("CREATE TABLE moves (id INTEGER PRIMARY KEY, at TEXT, who TEXT, door TEXT)")
            db.executemany("INSERT INTO moves (at, who, door) VALUES (?, ?, ?)", [r[:3] for r in table[1:]])
        db.close()
        database = path.read_bytes()
    return [("book.xlsx", held.getvalue()), ("rows.parquet", parquet.getvalue()), ("two.zip", packed.getvalue()),
            ("moves.db", database)]  # fmt: skip


CALENDAR = """BEGIN:VCALENDAR\r
VERSION:2.0\r
BEGIN:VEVENT\r
UID:1\r
DTSTART;TZID=Europe/Berlin:20260328T080112\r
DTEND;TZID=Europe/Berlin:20260328T090000\r
RRULE:FREQ=WEEKLY;COUNT=5\r
SUMMARY:Choir\r
LOCATION:Great hall\r
END:VEVENT\r
BEGIN:VEVENT\r
UID:2\r
DTSTART;VALUE=DATE:20260329\r
SUMMARY:Closed\r
END:VEVENT\r
END:VCALENDAR\r
"""
STREAM = """<?xml version="1.0" encoding="UTF-8"?><log xes.version="1.0"><trace><string key="concept:name" value="c1"/>
<event><string key="concept:name" value="open"/><date key="time:timestamp" value="2026-03-28T08:01:12+01:00"/></event>
<event><string key="concept:name" value="close"/><date key="time:timestamp" value="2026-03-28T09:01:12+01:00"/></event>
</trace></log>
"""
W3C = """#Version: 1.0
#Fields: date time c-ip cs-username cs-method cs-uri-stem sc-status
2026-03-28 07:01:12 10.0.0.7 anna GET /a 200
2026-03-28 07:02:12 10.0.0.8 - GET /b 404
"""


def mutated(data: bytes, chance: random.Random) -> bytes:
    """A file as it may come out of a bad day: bytes changed, parts gone, doubled, moved, or something put in."""
    held = bytearray(data)
    for _ in range(chance.choice((0, 1, 1, 2, 3, 8))):
        at = chance.randrange(len(held) + 1)
        end = min(len(held), at + chance.choice((1, 3, 20, 200)))
        match chance.randrange(6):
            case 0:
                held[at:end] = bytes(chance.randrange(256) for _ in range(end - at))
            case 1:
                del held[at:end]
            case 2:
                held[at:at] = held[at:end] * chance.choice((1, 2, 50))
            case 3:
                del held[at:]
            case _:
                held[at:at] = chance.choice(NASTY)
    return bytes(held)


@functools.cache
def mapping(number: int) -> str:
    """The mapping that the file proposes as it should be."""
    name, data = samples()[number]
    with tempfile.TemporaryDirectory() as made:
        hall = Path(made).resolve()
        (hall / "fermata.toml").write_text(LOG)
        (hall / name).write_bytes(data)
        add_log(open_workspace(hall, now=NOW).base, hall / name, "log")
        return (hall / "fermata.toml").read_text()


def one(seed: int) -> str:
    """What became of one file: `stored`, `refused` (with a sentence), or what is wrong, after `wrong: `."""
    chance = random.Random(seed)
    number = chance.randrange(len(samples()))
    name, data = samples()[number]
    with tempfile.TemporaryDirectory() as made:
        hall = Path(made).resolve()
        try:
            (hall / "fermata.toml").write_text(LOG)
            (hall / name).write_bytes(mutated(data, chance))
            if chance.random() < 0.5:
                (hall / "fermata.toml").write_text(mapping(number))
            else:
                add_log(open_workspace(hall, now=NOW).base, hall / name, "log")
            outcomes = open_workspace(hall, now=NOW).archive.import_log("log")
        except FermataError as e:
            return "refused" if str(e).strip() else "wrong: an error without a sentence"
        except Exception as e:
            return f"wrong: {name}: {type(e).__name__}: {e}"
        for outcome in outcomes:
            if outcome.file and not outcome.file.adds_up:
                return f"wrong: {name}: {outcome.file.read} records read do not add up"
        log = open_workspace(hall, now=NOW).base.archive.snapshot().manifest.log("log")
        if log.events != sum(f.events for f in log.files.values()):
            return f"wrong: {name}: the archive holds another number of events than its files"
        assert tomllib.loads((hall / "fermata.toml").read_text())
    return "stored" if log.events else "nothing to store"
