"""The same questions over one, ten and a hundred million events, on the embedded engine and on Spark of this machine.

`python -m benchmarks.scale` makes and imports what is missing, asks, and writes the figures of docs/scaling.md with its charts; the data stay in
bench-data/scale (about 12 GB). `python -m benchmarks.scale SIZE ENGINE QUESTION` asks one question in a process of its own.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from benchmarks.charts import MEMORY, SECONDS, draw
from benchmarks.data import DATA, ROOT, VISITS, ZONE, peak

SCALE = DATA / "scale"
SIZES = {"1x": 1_000_000, "10x": 10_000_000, "100x": 100_000_000}
ENGINES = ("embedded", "spark")
CONFIG = f"""
[workspace]
zone = "{ZONE}"
ENGINE
{VISITS}"""
BEGIN, END = "<!-- figures -->", "<!-- end of figures -->"
QUESTIONS: dict[str, dict[str, Any]] = {
    "events and people by month": {"period": "2025", "by": ["month"], "columns": ["count", "distinct user"]},
    "hours by person and month": {"period": "2025", "by": ["user", "month"], "columns": ["count", "time"]},
    "most at once by place, a month": {"period": "2025-03", "by": ["place"], "columns": ["peak"]},
    "one day by door": {"period": "2025-03-05", "by": ["device"], "columns": ["count", "distinct user", "last"]},
}


DRAWN = {
    "scaling-people": ("events and people by month", SECONDS),
    "scaling-hours": ("hours by person and month", SECONDS),
    "scaling-day": ("one day by door", SECONDS),
    "scaling-memory": ("hours by person and month", MEMORY),
}


def make(size: str) -> Path:
    """A workspace with a file for each month, not yet imported: 3,000 people, 60 doors in 8 areas, stays of up to eight hours."""
    import duckdb

    house, events = SCALE / size, SIZES[size]
    (house / "incoming").mkdir(parents=True, exist_ok=True)
    (house / "fermata.toml").write_text(CONFIG.replace("ENGINE", ""))
    con = duckdb.connect()
    step, each = 365 * 86_400_000_000 // events, -(-events // 12)
    for n in range(12):
        target = house / "incoming" / f"visits-{n:02}.csv"
        if target.exists() or (house / "imported.json").exists():
            continue
        con.execute(
            f"""COPY (SELECT strftime(begun, '%Y-%m-%d %H:%M:%S') AS "When",
            strftime(begun + to_seconds((60 + hash(i * 3) % 28800)::BIGINT), '%Y-%m-%d %H:%M:%S') AS "Until",
            'B-' || lpad((1000 + hash(i * 17) % 3000)::VARCHAR, 5, '0') AS "Badge",
            'Door ' || lpad((hash(i * 7) % 60)::VARCHAR, 2, '0') AS "Reader", 'Area ' || (hash(i * 7) % 60 % 8)::VARCHAR AS "Area",
            ['in', 'in', 'in', 'out', 'out', 'refused'][(1 + hash(i * 13) % 6)::INTEGER] AS "Event"
            FROM (SELECT i, TIMESTAMP '2025-01-01' + to_microseconds(i * {step}) AS begun
            FROM range({n * each}, least({(n + 1) * each}, {events})) t(i)) ORDER BY i) TO '{target}' (HEADER)"""
        )
    return house


def bring_in(size: str) -> dict[str, float]:
    """Imports all files, then one day more, twice: seconds, records a second, peak memory, and how long a known file takes."""
    import fermata

    house = fermata.open(SCALE / size)
    began = time.perf_counter()
    done = house.archive.import_log("visits")
    took = time.perf_counter() - began
    most = peak()
    stored = sum(o.file.stored for o in done if o.file)
    assert stored == SIZES[size], stored
    more = SCALE / size / "more.csv"
    lines = ["When,Until,Badge,Reader,Area,Event"]
    lines += [
        f"2025-06-15 {s // 3600:02}:{s % 3600 // 60:02}:{s % 60:02},2025-06-15 23:59:59,X-{i % 3000:05},Door 01,Area 1,in"
        for i in range(100_000)
        for s in (i * 86_000 // 100_000,)
    ]
    more.write_text("\n".join(lines) + "\n")
    began = time.perf_counter()
    number = house.archive.import_log("visits", [more])[0].file
    day = time.perf_counter() - began
    assert number
    began = time.perf_counter()
    assert house.archive.import_log("visits", [more])[0].unchanged
    again = time.perf_counter() - began
    house.archive.undo_import(number.import_no)
    held = sum(p.size for p in house.base.place().state("visits").parts)
    return {"import": took, "peak": most, "day": day, "again": again, "archive": held / 1e6}


def ask(size: str, engine: str, question: str) -> dict[str, Any]:
    """A question in this process: the first run, the best of two more, and the peak memory with what the process started."""
    import fermata

    house = fermata.open(SCALE / size / engine)
    report = fermata.Report.of(log="visits", **QUESTIONS[question])
    began = time.perf_counter()
    _ = house.base.place().worker
    started = time.perf_counter() - began
    times = []
    for _ in range(3):
        began = time.perf_counter()
        result = house.run(report)
        times.append(time.perf_counter() - began)
        if times[-1] > 100:
            break
    most = peak() + sum(peak(p) for p in Path("/proc").glob("[0-9]*") if _started_here(p))
    cells = [[str(c) for c in r.cells] for r in result.table.rows if not r.level]
    return {"answer": cells, "start": started, "first": times[0], "warm": min(times[1:] or times), "peak": most}


def _started_here(process: Path) -> bool:
    """Whether a process was started by this one, directly or not."""
    import os

    try:
        parent = process
        while (number := int(parent.joinpath("stat").read_text().rpartition(") ")[2].split()[1])) > 1:
            if number == os.getpid():
                return True
            parent = Path("/proc") / str(number)
    except (OSError, ValueError):
        pass
    return False


def measure() -> dict[str, Any]:
    """Everything that is not measured yet, kept in bench-data/scale/figures.json as it comes."""
    kept = SCALE / "figures.json"
    SCALE.mkdir(parents=True, exist_ok=True)
    found: dict[str, Any] = json.loads(kept.read_text()) if kept.exists() else {}
    for size in SIZES:
        house = make(size)
        if "import " + size not in found:
            found["import " + size] = _apart(size, "import", "")
            (house / "imported.json").write_text("{}")
            for engine in ENGINES:
                beside = house / engine
                beside.mkdir(exist_ok=True)
                words = 'engine = { name = "spark", workers = 2, memory = "4g" }' if engine == "spark" else ""
                (beside / "fermata.toml").write_text(CONFIG.replace("ENGINE", words))
                if not (beside / "archive").exists():
                    (beside / "archive").symlink_to(house / "archive")
            for csv in (house / "incoming").glob("*.csv"):
                csv.unlink()  # the archive is what is asked
            kept.write_text(json.dumps(found, indent=1))
        for question in QUESTIONS:
            answers = []
            for engine in ENGINES:
                key = f"{size} {engine} {question}"
                if key not in found:
                    found[key] = _apart(size, engine, question)
                    kept.write_text(json.dumps(found, indent=1))
                answers.append(found[key]["answer"])
            assert answers[0] == answers[1], (size, question, answers)
    return found


def _apart(*words: str) -> dict[str, Any]:
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.scale", *words], cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    found: dict[str, Any] = json.loads(done.stdout.splitlines()[-1])
    return found


def charts(found: dict[str, Any]) -> None:
    """The figures as charts."""
    rows = [
        (question, engine, f"{events // 1_000_000} million", one["warm"], one["peak"])
        for size, events in SIZES.items()
        for engine in ENGINES
        for question in QUESTIONS
        if (one := found[f"{size} {engine} {question}"])
    ]
    asked = {
        name: {
            "title": f"{question.capitalize()}: {column['label'].lower()}", "by": ("events",), "columns": (column,),
            "only": {"question": question},
        }
        for name, (question, column) in DRAWN.items()
    }  # fmt: skip
    draw("scale", rows, asked)


def table(found: dict[str, Any]) -> list[str]:
    """The figures as lines of Markdown."""
    lines = [
        "| events | import s | records/s | peak MB | archive MB | a day more, s | a known file, s |",
        "|---:|---:|---:|---:|---:|---:|---:|",
    ]
    for size, events in SIZES.items():
        one = found["import " + size]
        most = f"{one['peak']:,.0f}" if one["peak"] else "–"
        lines.append(
            f"| {events:,} | {one['import']:.0f} | {events / one['import']:,.0f} | {most} | {one['archive']:,.0f} | {one['day']:.2f} | {one['again']:.2f} |"
        )
    for question in QUESTIONS:
        lines += [
            "",
            f"**{question.capitalize()}**",
            "",
            "| events | embedded, s | MB | Spark, s | MB | Spark's start, s | its first run, s |",
            "|---:|---:|---:|---:|---:|---:|---:|",
        ]
        for size, events in SIZES.items():
            here, there = (found[f"{size} {engine} {question}"] for engine in ENGINES)
            lines.append(
                f"| {events:,} | {here['warm']:.2f} | {here['peak']:,.0f} | {there['warm']:.1f} | {there['peak']:,.0f} | {there['start']:.0f} | {there['first']:.0f} |"
            )
    return lines


def write(lines: list[str]) -> None:
    """Puts the figures into docs/scaling.md, where they were."""
    page = ROOT / "docs" / "scaling.md"
    before, _, rest = page.read_text().partition(BEGIN)
    _, _, after = rest.partition(END)
    page.write_text(f"{before}{BEGIN}\n\n" + "\n".join(lines) + f"\n\n{END}{after}")


def main() -> None:
    """One measurement, or all of them, the charts and the page."""
    if len(sys.argv) == 4:
        size, engine, question = sys.argv[1:]
        print(json.dumps(bring_in(size) if engine == "import" else ask(size, engine, question)))
        return
    found = measure()
    charts(found)
    lines = table(found)
    write(lines)
    print("\n".join(lines))


if __name__ == "__main__":
    main()
