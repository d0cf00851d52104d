"""A year of 100,000 events a day: files added daily, put together, and ten questions against the same answers by hand.

`python -m benchmarks.year` does everything once and prints the tables; the data stay in bench-data/year (about 4 GB).
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import time
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from benchmarks import ratios
from benchmarks.charts import MEMORY, SECONDS, draw
from benchmarks.data import DATA, LONG, ROOT, VISITS, ZONE, peak
from benchmarks.questions import QUESTIONS, SIDES, ZONED, files

YEAR = DATA / "year"
A_DAY, BESIDE, DAYS = 100_000, 10_000, 365  # events of the log of visits, of two others
FIRST = date(2025, 1, 1)
CONFIG = f"""
[workspace]
zone = "{ZONE}"
{VISITS}[logs.calls]
files = "calls/*.csv"
zone = "UTC"
fields = {{ start = {{ column = "When", form = "%Y-%m-%d %H:%M:%S" }}, user = "Badge", device = "Reader", action = "Event" }}
[logs.prints]
files = "prints/*.csv"
zone = "UTC"
fields = {{ start = {{ column = "When", form = "%Y-%m-%d %H:%M:%S" }}, user = "Badge", device = "Reader", action = "Event" }}
"""
LOGS = ("visits", "calls", "prints")
LEFT_OUT = 3  # what a process ends with for a question its side leaves out


def make() -> None:
    """A file for each day: 3,000 people, 60 doors in 8 areas, stays of up to eight hours."""
    for folder, events in (("incoming", A_DAY), ("calls", BESIDE), ("prints", BESIDE)):
        (YEAR / folder).mkdir(parents=True, exist_ok=True)
        for n in range(DAYS):
            target = YEAR / folder / f"{folder}-{FIRST + timedelta(days=n)}.csv"
            if not target.exists():
                _day(target, n, events)
    (YEAR / "fermata.toml").write_text(CONFIG)


def _day(target: Path, n: int, events: int) -> None:
    import duckdb

    step = 86_400_000_000 // events
    duckdb.execute(
        f"""COPY (SELECT strftime(begun, '%Y-%m-%d %H:%M:%S') AS "When",
        strftime(begun + to_seconds((60 + hash(i * 3 + {n}) % 28800)::BIGINT), '%Y-%m-%d %H:%M:%S') AS "Until",
        'B-' || lpad((1000 + hash(i * 17 + {n}) % 3000)::VARCHAR, 5, '0') AS "Badge",
        'Door ' || lpad((hash(i * 7 + {n}) % 60)::VARCHAR, 2, '0') AS "Reader", 'Area ' || (hash(i * 7 + {n}) % 60 % 8)::VARCHAR AS "Area",
        ['in', 'in', 'in', 'out', 'out', 'refused'][(1 + hash(i * 13 + {n}) % 6)::INTEGER] AS "Event"
        FROM (SELECT i, TIMESTAMP '{FIRST + timedelta(days=n)}' + to_microseconds(i * {step}) AS begun FROM range({events}) t(i))
        ORDER BY i) TO '{target}' (HEADER)"""
    )


def add_daily() -> dict[str, float]:
    """Imports the files one by one, as they would come; seconds per import early and late, then the step that puts files together."""
    import fermata

    house = fermata.open(YEAR)
    for log in ("calls", "prints"):
        house.archive.import_log(log)
    took = []
    for path in sorted((YEAR / "incoming").glob("*.csv")):
        began = time.perf_counter()
        done = house.archive.import_log("visits", [path])
        if done[0].file:
            took.append(time.perf_counter() - began)
    began = time.perf_counter()
    found = house.archive.compact("visits")
    together = time.perf_counter() - began
    return {
        "early": statistics.median(took[5:35]),
        "late": statistics.median(took[-30:]),
        "compact": together,
        "files": found.before,
    }


def sweep_out() -> None:
    """Has the system forget what it keeps of the archive's files, so that the next question reads the disk."""
    for path in (YEAR / "archive").rglob("*.parquet"):
        handle = os.open(path, os.O_RDONLY)
        try:
            os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
        finally:
            os.close(handle)


def taken_in() -> int:
    """Bytes that this process has read of files so far."""
    line = next(x for x in Path("/proc/self/io").read_text().splitlines() if x.startswith("rchar"))
    return int(line.split()[1])


def measured(side: str, name: str) -> dict[str, Any]:
    """A question asked by a side in this process: cold, then warm, what was read for it, and the peak memory."""
    ask = SIDES[side](YEAR, name)
    sweep_out()
    before, began = taken_in(), time.perf_counter()
    answer = ask()
    cold, read = time.perf_counter() - began, taken_in() - before
    warm = []
    for _ in range(3):
        began = time.perf_counter()
        ask()
        warm.append(time.perf_counter() - began)
        if warm[-1] > LONG:
            break
    return {"answer": answer, "cold": cold, "warm": min(warm), "read": read / 1e6, "peak": peak()}


def apart(side: str, name: str) -> dict[str, Any] | None:
    """The same in a process of its own; None where the side leaves the question out."""
    words = [sys.executable, "-m", "benchmarks.year", side, name]
    done = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=False)
    if done.returncode == LEFT_OUT:
        return None
    assert done.returncode == 0, done.stderr
    found: dict[str, Any] = json.loads(done.stdout.splitlines()[-1])
    return found


def main() -> None:
    """Everything, then the table; or one question of one side."""
    if len(sys.argv) == 3:
        try:
            print(json.dumps(measured(sys.argv[1], sys.argv[2])))
        except NotImplementedError:
            sys.exit(LEFT_OUT)
        return
    print("\n".join(table()))


def table() -> list[str]:
    """The year as lines of Markdown."""
    make()
    kept = YEAR / "daily.json"
    if not kept.exists():
        shutil.rmtree(YEAR / "archive", ignore_errors=True)  # of a run that ended early
        kept.write_text(json.dumps(add_daily()))
    daily = json.loads(kept.read_text())
    archive = sum(Path(f).stat().st_size for log in LOGS for f in files(YEAR, log)) / 1e6
    lines = [
        "",
        f"## A year on a laptop ({A_DAY * DAYS:,} events of one log, {2 * BESIDE * DAYS:,} of two others)",
        "",
        f"A day's {A_DAY:,} records added to the archive, file by file for a year: {daily['early']:.2f} s each in the first weeks, "
        f"{daily['late']:.2f} s each in the last (medians of 30). Putting {daily['files']:,} files together took {daily['compact']:.0f} s.",
        "",
        "Each question with its totals at every level; Fermata's time includes notes and the finished table, the others' is that of fetching their "
        "rows. Engine memory is limited to 800 MB for Fermata (as ever) and 1 GB for SQL. Best of three warm runs (of one, above five seconds); cold is the first run of a process, after the system was told "
        f"to forget the files. Read is what the first run of Fermata took in; the archive has {archive:,.0f} MB. A dash: left out for its memory.",
        "",
        "| | Fermata s | cold s | read MB | peak MB | SQL s | cold s | polars s | pandas s | Fermata / SQL | / polars |",
        "|---|---:|---:|---:|---:|---:|---:|---:|---:|---:|---:|",
    ]
    drawn, warm, read = [], {}, {}
    shutil.rmtree(YEAR / "archive" / "cache", ignore_errors=True)
    anew = apart("fermata", next(iter(QUESTIONS)))
    assert anew
    for name in QUESTIONS:
        found = {side: apart(side, name) for side in SIDES}
        assert len({f["answer"] for f in found.values() if f}) == 1, (name, found)
        mine, hand, frames, pandas = (found[s] for s in ("fermata", "duckdb", "polars", "pandas"))
        assert mine
        assert hand
        assert frames
        last = f"{pandas['warm']:.2f}" if pandas else "-"
        lines.append(
            f"| {name} | {mine['warm']:.2f} | {mine['cold']:.2f} | {mine['read']:,.0f} | {mine['peak']:,.0f} | {hand['warm']:.2f} | {hand['cold']:.2f} "
            f"| {frames['warm']:.2f} | {last} | {mine['warm'] / hand['warm']:.2f} | {mine['warm'] / frames['warm']:.2f} |"
        )
        warm[name] = [one["warm"] for one in (mine, hand, frames)]
        ratios.note(f"a year, {name} / polars", mine["warm"] / frames["warm"])
        read[name] = mine["read"]
        drawn += [(name, side, str(A_DAY * DAYS), one["warm"], one["peak"]) for side, one in found.items() if one]
    for column, file in ((SECONDS, "year-seconds"), (MEMORY, "year-memory")):
        title = f"A year of {A_DAY * DAYS // 1_000_000} million events: {column['label'].lower()}"
        draw("year", drawn, {file: {"title": title, "by": ("question",), "columns": (column,)}})
    return [
        *lines,
        "",
        verdict(warm),
        f"A question about a month reads a month, and of that only its columns: the top 20 took in {read['top 20 of a month']:,.0f} MB of {archive:,.0f}, "
        f"some ten of them the program's own modules. The first question after an import also works out the log's silences, which are kept until the next: {anew['cold']:.2f} s in all.",
        "",
        "![seconds](charts/year-seconds.png)",
        "![memory](charts/year-memory.png)",
        "",
        "The charts are the program's own, of these figures as a log.",
    ]


def verdict(warm: dict[str, list[float]]) -> str:
    """Whether each question (seconds of Fermata, SQL, polars) is within what is asked of it, those that are not by name."""
    limits = {
        "1.15 of SQL's time and 0.1 s": {n: 1.15 * sql + 0.1 for n, (_, sql, _) in warm.items()},
        "half of SQL's, of those cut by local months or hours": {n: warm[n][1] / 2 for n in ZONED},
        "twice that of polars": {n: 2 * polars for n, (*_, polars) in warm.items()},
    }
    told = []
    for limit, most in limits.items():
        over = [f"{n} ({warm[n][0]:.2f} s, {most[n]:.2f} s)" for n in most if warm[n][0] > most[n]]
        told.append(
            f"{len(most) - len(over)} of {len(most)} take at most {limit}"
            + (f", not {' and '.join(over)}" if over else "")
        )
    return f"Warm, {'; '.join(told)}."


if __name__ == "__main__":
    main()
