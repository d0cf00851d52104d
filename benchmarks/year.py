"""A year of 100,000 events a day: files added daily, put together, and ten questions against the same answers by hand.

`python -m benchmarks.year` does everything once and prints the tables; the data stay in bench-data/year (about 4 GB).
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import date, timedelta
from typing import Any

from benchmarks.data import DATA, ROOT, ZONE

YEAR = DATA / "year"
A_DAY, DAYS = 100_000, 365
FIRST = date(2025, 1, 1)
CONFIG = f"""
[workspace]
zone = "{ZONE}"
[logs.visits]
kind = "door access"
files = "incoming/*.csv"
zone = "UTC"
[logs.visits.fields]
start = {{ column = "When", form = "%Y-%m-%d %H:%M:%S" }}
finish = {{ column = "Until", form = "%Y-%m-%d %H:%M:%S" }}
user = "Badge"
device = "Reader"
place = "Area"
action = "Event"
"""
BEGIN = f"timezone('UTC', timezone('{ZONE}', TIMESTAMP '2025-{{}}-01'))"
MARCH = f"start_utc >= {BEGIN.format('03')} AND start_utc < {BEGIN.format('04')}"
WHOLE = f"start_utc >= {BEGIN.format('01')} AND start_utc < timezone('UTC', timezone('{ZONE}', TIMESTAMP '2026-01-01'))"
LOCAL = f"timezone('{ZONE}', timezone('UTC', start_utc))"
HOURS = "sum(date_diff('microsecond', start_utc, finish_utc))"  # of events that lie in one month, which those here do but at its edges


def make() -> None:
    """A file for each day: 3,000 people, 60 doors in 8 areas, stays of up to eight hours."""
    import duckdb

    (YEAR / "incoming").mkdir(parents=True, exist_ok=True)
    (YEAR / "fermata.toml").write_text(CONFIG)
    con = duckdb.connect()
    for n in range(DAYS):
        target = YEAR / "incoming" / f"visits-{FIRST + timedelta(days=n)}.csv"
        if target.exists():
            continue
        step = 86_400_000_000 // A_DAY
        con.execute(
            f"""COPY (SELECT strftime(begun, '%Y-%m-%d %H:%M:%S') AS "When",
            strftime(begun + to_seconds((60 + hash(i * 3 + {n}) % 28800)::BIGINT), '%Y-%m-%d %H:%M:%S') AS "Until",
            'B-' || lpad((1000 + hash(i * 17 + {n}) % 3000)::VARCHAR, 5, '0') AS "Badge",
            'Door ' || lpad((hash(i * 7 + {n}) % 60)::VARCHAR, 2, '0') AS "Reader", 'Area ' || (hash(i * 7 + {n}) % 60 % 8)::VARCHAR AS "Area",
            ['in', 'in', 'in', 'out', 'out', 'denied'][(1 + hash(i * 13 + {n}) % 6)::INTEGER] AS "Event"
            FROM (SELECT i, TIMESTAMP '{FIRST + timedelta(days=n)}' + to_microseconds(i * {step}) AS begun FROM range({A_DAY}) t(i))
            ORDER BY i) TO '{target}' (HEADER)"""
        )


def add_daily() -> dict[str, float]:
    """Imports the files one by one, as they would come; seconds per import early and late, then the step that puts files together."""
    import fermata

    house = fermata.open(YEAR)
    took = []
    for path in sorted((YEAR / "incoming").glob("*.csv")):
        began = time.perf_counter()
        done = house.import_log("visits", [path])
        if done[0].file:
            took.append(time.perf_counter() - began)
    began = time.perf_counter()
    found = house.compact("visits")
    together = time.perf_counter() - began
    return {
        "early": statistics.median(took[5:35]),
        "late": statistics.median(took[-30:]),
        "compact": together,
        "files": found.before,
    }


QUESTIONS: dict[str, tuple[dict[str, Any], str]] = {
    "figures by month": (
        {"period": "2025", "by": ["month"], "columns": ["count", "distinct user", "mean duration"]},
        f"SELECT date_trunc('month', {LOCAL}) m, count(*), count(DISTINCT person), avg(date_diff('microsecond', start_utc, finish_utc)) "
        f"FROM e WHERE {WHOLE} GROUP BY GROUPING SETS ((1), ())",
    ),
    "busiest hours": (
        {"period": "2025", "by": ["weekday"], "across": "hour of day"},
        f"SELECT isodow({LOCAL}) w, hour({LOCAL}) h, count(*) FROM e WHERE {WHOLE} GROUP BY CUBE (w, h)",
    ),
    "top 20 of a month": (
        {"period": "2025-03", "by": ["user"], "columns": ["count"], "top": 20},
        f"WITH g AS (SELECT person p, count(*) n FROM e WHERE {MARCH} GROUP BY 1), r AS (SELECT *, rank() OVER (ORDER BY n DESC) k FROM g) "
        "SELECT CASE WHEN k <= 20 THEN p END, sum(n) FROM r GROUP BY GROUPING SETS ((1), ())",
    ),
    "doors by people, a month": (
        {"period": "2025-03", "by": ["place", "device"], "columns": ["count", "distinct user", "last"]},
        f"SELECT place, device, count(*), count(DISTINCT person), max(start_utc) FROM e WHERE {MARCH} GROUP BY ROLLUP (1, 2)",
    ),
    "distinct people by door and month": (
        {"period": "2025", "by": ["device"], "across": "month", "columns": ["distinct user"]},
        f"SELECT device, date_trunc('month', {LOCAL}) m, count(DISTINCT person) FROM e WHERE {WHOLE} GROUP BY CUBE (1, 2)",
    ),
    "events by person and month": (
        {"period": "2025", "by": ["user", "month"], "columns": ["count"]},
        f"SELECT person, date_trunc('month', {LOCAL}) m, count(*) FROM e WHERE {WHOLE} GROUP BY ROLLUP (1, 2)",
    ),
    "refused by door, a year": (
        {"period": "2025", "only": {"action": "denied"}, "by": ["place", "device"], "columns": ["count", "distinct user"]},
        f"SELECT place, device, count(*), count(DISTINCT person) FROM e WHERE {WHOLE} AND action = 'denied' GROUP BY ROLLUP (1, 2)",
    ),
    "last use of each door": (
        {"period": "2025", "by": ["device"], "columns": ["count", "first", "last"]},
        f"SELECT device, count(*), min(start_utc), max(start_utc) FROM e WHERE {WHOLE} GROUP BY ROLLUP (1)",
    ),
    "one row a person, three selections": (
        {
            "period": "2025-Q1", "by": ["user"],
            "columns": [
                {"label": "In", "measure": "count", "only": {"action": "in"}}, {"label": "Refused", "measure": "count", "only": {"action": "denied"}},
                {"label": "Doors", "measure": "distinct device"},
            ],
        },
        f"SELECT person, count(*) FILTER (action = 'in'), count(*) FILTER (action = 'denied'), count(DISTINCT device) FROM e "
        f"WHERE start_utc >= {BEGIN.format('01')} AND start_utc < {BEGIN.format('04')} GROUP BY ROLLUP (1)",
    ),
    "one person's day": (
        {"period": "2025-03-05", "only": {"user": "B-01234"}, "by": ["device"], "columns": ["count", "first", "last"]},
        f"SELECT device, count(*), min(start_utc), max(start_utc) FROM e WHERE person = 'B-01234' AND "
        f"start_utc >= timezone('UTC', timezone('{ZONE}', TIMESTAMP '2025-03-05')) AND "
        f"start_utc < timezone('UTC', timezone('{ZONE}', TIMESTAMP '2025-03-06')) GROUP BY ROLLUP (1)",
    ),
}  # fmt: skip


def fermata_asks(name: str) -> Callable[[], Any]:
    """The question as anybody asks it, with totals, caveats and the finished table."""
    import fermata

    house = fermata.open(YEAR)
    report = fermata.Report.of(log="visits", **QUESTIONS[name][0])

    def run() -> int:
        total = house.run(report).table.total
        return int(total.cells[0] if "across" not in QUESTIONS[name][0] else total.cells[-1])

    return run


def duckdb_asks(name: str) -> Callable[[], Any]:
    """Plain SQL over the same files, the answer fetched."""
    import duckdb

    from fermata.archive import Archive

    con = duckdb.connect()
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false; SET memory_limit = '1GB'")
    parts = Archive(YEAR / "archive").snapshot().manifest.log("visits").parts  # those put together stay a day
    con.execute(f"CREATE VIEW e AS SELECT * FROM read_parquet({[f'{YEAR}/archive/{p.path}' for p in parts]})")
    sql = QUESTIONS[name][1]

    def run() -> int:
        rows = con.execute(sql).fetchall()
        shown = len(con.description) - sum(
            c[0].startswith(("count", "avg", "max", "min", "sum")) for c in con.description
        )
        total = (
            next(r for r in rows if all(v is None for v in r[:shown]))
            if name != "top 20 of a month"
            else max(rows, key=lambda r: r[-1])
        )
        return int(total[shown])

    return run


def main() -> None:
    """Everything, then the tables; or one question of one side, for a process of its own."""
    if len(sys.argv) == 3:
        ask = {"fermata": fermata_asks, "duckdb": duckdb_asks}[sys.argv[1]](sys.argv[2])
        began = time.perf_counter()
        answer = ask()
        first = time.perf_counter() - began
        warm = []
        for _ in range(3):
            began = time.perf_counter()
            ask()
            warm.append(time.perf_counter() - began)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(json.dumps({"answer": answer, "first": first, "warm": min(warm), "peak": peak}))
        return
    print("\n".join(table()))


def table() -> list[str]:
    """The year as lines of Markdown."""
    make()
    lines = ["", f"## A year on a laptop ({A_DAY * DAYS:,} events, engine memory limited to 1 GB on both sides)", ""]
    kept = YEAR / "daily.json"
    if not kept.exists():
        kept.write_text(json.dumps(add_daily()))
    daily = json.loads(kept.read_text())
    lines += [
        f"A day's {A_DAY:,} records added to the archive, file by file for a year: {daily['early']:.2f} s each in the first weeks, "
        f"{daily['late']:.2f} s each in the last (medians of 30). Putting {daily['files']:,} files together took {daily['compact']:.0f} s.",
        "",
    ]
    lines += [
        "Each question with its totals at every level; Fermata's time includes caveats and the finished table, the SQL's is that of fetching its "
        "rows. Best of three warm runs, each side in a process of its own.",
        "",
        "| | Fermata s | first run s | SQL s | Fermata / SQL | Fermata peak MB |",
        "|---|---:|---:|---:|---:|---:|",
    ]
    for name in QUESTIONS:
        found = {}
        for side in ("fermata", "duckdb"):
            done = subprocess.run(
                [sys.executable, "-m", "benchmarks.year", side, name],
                cwd=ROOT,
                capture_output=True,
                text=True,
                check=True,
            )
            found[side] = json.loads(done.stdout.splitlines()[-1])
        assert found["fermata"]["answer"] == found["duckdb"]["answer"], (name, found)
        mine, hand = found["fermata"], found["duckdb"]
        lines.append(
            f"| {name} | {mine['warm']:.2f} | {mine['first']:.2f} | {hand['warm']:.2f} | {mine['warm'] / hand['warm']:.2f} | {mine['peak']:,.0f} |"
        )
    return lines


if __name__ == "__main__":
    main()
