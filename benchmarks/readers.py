"""How fast each reader is: an import of made-up records from file to archive, in a process of its own.

python -m benchmarks.readers FORMAT     prints records, seconds and peak memory of one
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import struct
import sys
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from benchmarks import data

START = datetime(2026, 1, 1, tzinfo=UTC)
MILLION = 1_000_000


def times(n: int) -> Iterator[tuple[int, datetime]]:
    """n instants over half a year, numbered."""
    step = timedelta(days=180) / n
    return ((i, START + i * step) for i in range(n))


def lines(form: Callable[[int, datetime], str]) -> Callable[[Path, int], None]:
    """A maker of text files with one record a line."""

    def write(path: Path, n: int) -> None:
        with path.open("w", encoding="utf-8") as f:
            f.writelines(form(i, at) + "\n" for i, at in times(n))

    return write


def workbook(path: Path, n: int) -> None:
    """A sheet of three columns."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet()
    sheet.append(["time", "user", "pages"])
    for i, at in times(n):
        sheet.append([at.replace(tzinfo=None), f"u{i % 500}", i % 40])
    book.save(path)


def utmp(path: Path, n: int) -> None:
    """Login records."""
    with path.open("wb") as f:
        for i, at in times(n):
            name = f"u{i % 500}".encode()
            f.write(
                struct.pack(
                    "<hxxi32s4s32s256shhiii16s20x",
                    7 + i % 2,
                    i % 9999,
                    b"pts/1",
                    b"1",
                    name,
                    b"h",
                    0,
                    0,
                    5,
                    int(at.timestamp()),
                    0,
                    b"",
                )
            )


def database(path: Path, n: int) -> None:
    """A table in an SQLite file."""
    path.unlink(missing_ok=True)
    with sqlite3.connect(path) as db:
        db.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, time TEXT, user TEXT, pages INTEGER)")
        db.executemany(
            "INSERT INTO t VALUES (?, ?, ?, ?)", ((i, at.isoformat(), f"u{i % 500}", i % 40) for i, at in times(n))
        )
    db.close()


def parquet(path: Path, n: int) -> None:
    """Typed columns."""
    import pyarrow as pa
    from pyarrow import parquet as pq

    at = [t for _, t in times(n)]
    pq.write_table(
        pa.table({"time": at, "user": [f"u{i % 500}" for i in range(n)], "pages": [i % 40 for i in range(n)]}), path
    )


def calendar(path: Path, n: int) -> None:
    """Single events without recurrence."""
    with path.open("w", newline="") as f:
        f.write("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n")
        for i, at in times(n):
            f.write(
                f"BEGIN:VEVENT\r\nUID:{i}\r\nDTSTART:{at:%Y%m%dT%H%M%SZ}\r\nDTEND:{at + timedelta(hours=1):%Y%m%dT%H%M%SZ}\r\nSUMMARY:u{i % 500}\r\nEND:VEVENT\r\n"
            )
        f.write("END:VCALENDAR\r\n")


def stream(path: Path, n: int) -> None:
    """XES with ten events a case."""
    with path.open("w") as f:
        f.write("<log>")
        for i, at in times(n):
            f.write("<trace>" if i % 10 == 0 else "")
            f.write(
                f'<event><string key="concept:name" value="s{i % 7}"/><string key="org:resource" value="u{i % 500}"/><date key="time:timestamp" value="{at.isoformat()}"/></event>'
            )
            f.write("</trace>" if i % 10 == 9 else "")
        f.write("</log>")


def document(path: Path, n: int) -> None:
    """A JSON array."""
    path.write_text(
        json.dumps([{"time": at.isoformat(), "user": f"u{i % 500}", "pages": i % 40} for i, at in times(n)])
    )


def detail(path: Path, n: int) -> None:
    """Accounting blocks of nine attributes."""
    with path.open("w") as f:
        for i, at in times(n):
            f.write(
                f'{at:%a %b %d %H:%M:%S %Y}\n\tUser-Name = "u{i % 500}"\n\tAcct-Status-Type = Stop\n\tAcct-Session-Id = "{i:X}"\n\tNAS-Identifier = "ap{i % 9}"\n'
                f"\tAcct-Session-Time = {i % 4000}\n\tAcct-Output-Octets = {i * 77 % 2**32}\n\tAcct-Output-Gigawords = {i % 2}\n\tAcct-Input-Octets = {i}\n\tAcct-Terminate-Cause = User-Request\n\n"
            )


CLOCK = 'start = { column = "time", form = "%d/%b/%Y:%H:%M:%S %z" }'
SPAN = r'pattern = "^(?P<time>\\S+) (?P<user>\\S+) (?P<door>\\S+) (?P<what>\\S+) (?P<n>\\d+)$"'
FORMATS: dict[str, tuple[int, Callable[[Path, int], None], str, str]] = {
    "regex": (MILLION, lines(lambda i, at: f"{at:%Y-%m-%dT%H:%M:%S} u{i % 500} door{i % 30} in {i % 9}"), SPAN, 'start = "time"\nuser = "user"\ndevice = "door"\naction = "what"'),
    "syslog": (MILLION, lines(lambda i, at: f"{at:%b} {at.day:2d} {at:%H:%M:%S} host{i % 9} sshd[{i % 30000}]: Accepted password for u{i % 500} from 192.0.2.{i % 250} port 22 ssh2"), "year = 2026", 'start = { column = "time", form = "%Y-%m-%d %H:%M:%S" }\nuser = { column = "message", part = "for (\\\\S+) from" }\ndevice = "host"'),
    "web access": (MILLION, lines(lambda i, at: f'192.0.2.{i % 250} - u{i % 500} [{at:%d/%b/%Y:%H:%M:%S %z}] "GET /p/{i % 900} HTTP/1.1" 200 {i % 90000} "-" "Reader/1.{i % 9}"'), "", f'{CLOCK}\nuser = "user"\naction = "method"\nother = "path"\noutcome = "status"\nsize = {{ column = "bytes", type = "number" }}'),
    "page log": (MILLION, lines(lambda i, at: f"office-{i % 5} u{i % 500} {i} [{at:%d/%b/%Y:%H:%M:%S %z}] total {i % 30} - localhost Programme notes A4 one-sided"), "", f'{CLOCK}\nuser = "user"\ndevice = "printer"\ntitle = "job-name"\npages = {{ column = "copies", type = "number" }}'),
    "w3c": (MILLION, lines(lambda i, at: "#Fields: date time c-ip cs-username cs-method cs-uri-stem sc-status" if i == 0 else f"{at:%Y-%m-%d %H:%M:%S} 192.0.2.{i % 250} u{i % 500} GET /p/{i % 900} 200"), 'zone = "UTC"', 'start = { columns = ["date", "time"], form = "%Y-%m-%d %H:%M:%S" }\nuser = "cs-username"\nother = "cs-uri-stem"'),
    "json lines": (MILLION, lines(lambda i, at: json.dumps({"time": at.isoformat(), "who": {"name": f"u{i % 500}"}, "app": "x", "pages": i % 40})), "", 'start = "time"\nuser = "who.name"\nother = "app"\npages = { column = "pages", type = "number" }'),
    "radius detail": (300_000, detail, "", 'finish = { column = "time", form = "%a %b %d %H:%M:%S %Y" }\nduration = { column = "Acct-Session-Time", form = "seconds" }\nuser = "User-Name"\ndevice = "NAS-Identifier"\nreceived = { column = "Output-Octets", type = "number" }'),
    "login records": (MILLION, utmp, "", 'start = { column = "time", form = "epoch s" }\nuser = "user"\naction = "event"\ndevice = "line"'),
    "parquet": (MILLION, parquet, "", 'start = "time"\nuser = "user"\npages = { column = "pages", type = "number" }'),
    "sql": (300_000, database, '[logs.log.database]\naddress = "sqlite:///in.data"\nquery = "SELECT * FROM t"\ngrowing = "id"', 'start = "time"\nuser = "user"\npages = { column = "pages", type = "number" }'),
    "json": (200_000, document, "", 'start = "time"\nuser = "user"\npages = { column = "pages", type = "number" }'),
    "xlsx": (100_000, workbook, "", 'start = "time"\nuser = "user"\npages = { column = "pages", type = "number" }'),
    "xes": (100_000, stream, "", 'start = "time:timestamp"\nuser = "org:resource"\naction = "concept:name"'),
    "icalendar": (5_000, calendar, "", 'start = "start"\nfinish = "finish"\nuser = "summary"'),
}  # fmt: skip


def measure(name: str) -> dict[str, float]:
    """One import: records, seconds, peak megabytes of the process."""
    n, write, settings, fields = FORMATS[name]
    place = data.DATA / "readers" / name.replace(" ", "-")
    shutil.rmtree(place, ignore_errors=True)
    place.mkdir(parents=True)
    source = "" if name == "sql" else 'files = "in.data"'
    text = (
        f'[workspace]\nzone = "UTC"\n[logs.log]\nformat = "{name}"\n{source}\n{settings}\n[logs.log.fields]\n{fields}\n'
    )
    if name == "xlsx":
        text = text.replace("in.data", "in.xlsx")
    (place / "fermata.toml").write_text(text)
    write(place / "in.data", n)
    if name == "xlsx":
        (place / "in.data").rename(place / "in.xlsx")

    import fermata

    workspace = fermata.open(place)
    began = time.perf_counter()
    (outcome,) = workspace.archive.import_log("log")
    wall = time.perf_counter() - began
    assert outcome.file
    assert outcome.file.stored in (n, n - 1), outcome  # the directive line of one format is no record
    size = next(place.glob("in.*")).stat().st_size
    shutil.rmtree(place)
    return {"records": n, "wall": wall, "size": size, "peak": data.peak()}


def plain(name: str) -> dict[str, float]:
    """The same regular expression written by hand: DuckDB's COPY of the groups to one Parquet file, nothing else."""
    import duckdb

    from fermata.intake.readers.webaccess import PATTERN

    n, write, _, _ = FORMATS[name]
    place = data.DATA / "readers"
    place.mkdir(parents=True, exist_ok=True)
    path = place / "plain.data"
    write(path, n)
    groups = ", ".join(f"'g{i}'" for i in range(9))
    source = f"read_csv('{path}', auto_detect = false, columns = {{'line': 'VARCHAR'}}, header = false, delim = '\x01', quote = '', escape = '')"
    began = time.perf_counter()
    duckdb.connect().execute(
        f"COPY (SELECT strptime(m.g3, '%d/%b/%Y:%H:%M:%S %z') AS time, m.g2, m.g4, m.g5, m.g6 FROM (SELECT regexp_extract(line, '{PATTERN}', [{groups}]) AS m "
        f"FROM {source})) TO '{place / 'plain.parquet'}' (FORMAT parquet)"
    )
    wall = time.perf_counter() - began
    size = path.stat().st_size
    for left in (path, place / "plain.parquet"):
        left.unlink()
    return {"records": n, "wall": wall, "size": size, "peak": 0}


if __name__ == "__main__":
    asked = sys.argv[1]
    print(json.dumps(plain("web access") if asked == "plain" else measure(asked)))
