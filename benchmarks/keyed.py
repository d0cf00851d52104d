"""A day's records added to a log with a key, beside what the log already holds: `python -m benchmarks.keyed`.

The day has 100,000 records: nine in ten are new entries, the others are later versions of entries of the last month.
Keys are numbers that count up, or random texts, as programs give them.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

from benchmarks.data import DATA, ROOT, peak

KEYED = DATA / "keyed"
HELD = (100_000, 1_000_000, 10_000_000)  # records the log holds before
A_DAY = 100_000
KINDS = {"numbers that count up": "i", "random texts": "md5(i::VARCHAR)"}
CONFIG = """
[workspace]
zone = "UTC"
[logs.entries]
files = "*.csv"
key = "entry"
[logs.entries.fields]
start = { column = "When", form = "%Y-%m-%d %H:%M:%S" }
user = "Who"
action = "Task"
entry = "Id"
hours = { column = "Hours", type = "number" }
"""


def make(place: Path, key: str, held: int) -> None:
    """A workspace with a file for each million records (one a day's 100,000), and the day to add."""
    import duckdb

    shutil.rmtree(place, ignore_errors=True)
    place.mkdir(parents=True)
    (place / "fermata.toml").write_text(CONFIG)
    con = duckdb.connect()
    row = (
        f"SELECT {key} AS Id, strftime(TIMESTAMP '2025-01-01' + to_seconds(i * 3), '%Y-%m-%d %H:%M:%S') AS \"When\", "
        "'user ' || (hash(i) % 3000) AS Who, 'task ' || (hash(i + 7) % 40) AS Task, {hours} AS Hours"
    )
    step = min(held, 1_000_000)
    for n in range(0, held, step):
        stored = row.format(hours="hash(i + 1) % 9")
        con.execute(f"COPY ({stored} FROM range({n}, {n + step}) r(i)) TO '{place}/e{n // step:03}.csv' (HEADER)")
    new = row.format(hours="hash(i + 1) % 9")
    again = row.format(hours="10 + hash(i + 1) % 9")
    back = f"(SELECT {held} - 1 - (j * 8) AS i FROM range({A_DAY // 10}) t(j))"
    con.execute(
        f"COPY ({new} FROM range({held}, {held + A_DAY * 9 // 10}) r(i) UNION ALL {again} FROM {back} r) "
        f"TO '{place}/day.csv' (HEADER)"
    )


def added(place: Path) -> dict[str, float]:
    """Seconds of wall and CPU that the day takes, and the peak memory of the process."""
    import fermata

    house = fermata.open(place)
    began, used = time.perf_counter(), time.process_time()
    (done,) = house.archive.import_log("entries", [place / "day.csv"])
    assert done.file
    assert (done.file.stored, done.file.replaced) == (A_DAY * 9 // 10, A_DAY // 10), done.file
    return {"wall": time.perf_counter() - began, "cpu": time.process_time() - used, "peak": peak()}


def table() -> list[str]:
    """The figures as a part of docs/benchmarks.md."""
    import fermata

    lines = [
        "",
        f"## A day's {A_DAY:,} records added to a log with a key",
        "",
        "Nine in ten are new entries, the others later versions of entries of the last days.",
        "",
        "| keys | records before | wall s | CPU s | peak MB |",
        "|---|---:|---:|---:|---:|",
    ]
    for kind, key in KINDS.items():
        for held in HELD:
            make(KEYED, key, held)
            fermata.open(KEYED).archive.import_log("entries", sorted(KEYED.glob("e*.csv")))
            done = subprocess.run(
                [sys.executable, "-m", "benchmarks.keyed", "day"], cwd=ROOT, capture_output=True, text=True, check=True
            )
            r = json.loads(done.stdout.splitlines()[-1])
            lines.append(f"| {kind} | {held:,} | {r['wall']:.2f} | {r['cpu']:.2f} | {r['peak']:,.0f} |")
    shutil.rmtree(KEYED, ignore_errors=True)
    return lines


if __name__ == "__main__":
    if sys.argv[1:] == ["day"]:
        print(json.dumps(added(KEYED)))
    else:
        print("\n".join(table()))
