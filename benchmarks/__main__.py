"""Runs all measurements and writes docs/benchmarks.md."""

from __future__ import annotations

import compileall
import inspect
import json
import os
import platform
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path
from typing import Any

from benchmarks import data, heart, keyed, notes, outputs, pages, peers, questions, ratios, readers, year

PAGE = data.ROOT / "docs" / "benchmarks.md"
ROUNDS = 3
TOLD = {"split": "split at days", "union": "time counted once", "concurrency": "most at once"}  # tasks in words


def peer(kind: str, name: str) -> dict[str, float]:
    """One measurement in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.peers", kind, name],
        cwd=data.ROOT,
        capture_output=True,
        text=True,
        check=True,
    )
    return json.loads(done.stdout.splitlines()[-1])


def rounds(kind: str, names: list[str]) -> dict[str, dict[str, float]]:
    """All peers in turn, several rounds; the median of each figure, and of Fermata's time divided by the peer's in
    the same round, since a machine is slower at one hour than at another. Answers must agree.
    """
    found: dict[str, list[dict[str, float]]] = {n: [] for n in names}
    for _ in range(ROUNDS):
        for name in names:
            found[name].append(peer(kind, name))
    answers = {json.dumps(r["answer"]) for rs in found.values() for r in rs}
    assert len(answers) == 1, answers
    mine = {n: "fermata, no order" if "no order" in n else "fermata" for n in names}
    told = {n: [own["wall"] / r["wall"] for own, r in zip(found[mine[n]], found[n], strict=True)] for n in names}
    return {
        n: {k: statistics.median(r[k] for r in rs) for k in ("wall", "first", "peak")}
        | {"ratio": statistics.median(told[n])}
        for n, rs in found.items()
    }


def cpu(*command: str, **env: str) -> tuple[float, float]:
    """CPU seconds and wall seconds of a command, the best of five."""
    import resource
    import time

    best = (9e9, 9e9)
    for _ in range(5):
        before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
        subprocess.run(command, capture_output=True, check=True, env={**os.environ, **env})
        after, wall = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter() - began
        used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
        best = min(best, (used, wall))
    return best


def main() -> None:
    """Everything, then the page."""
    compileall.compile_dir(data.ROOT / "src", quiet=1)  # as an installation does
    data.make()
    (data.DATA / "fermata.toml").write_text(data.CONFIG)
    data.scatter()
    imports = rounds("import", list(peers.IMPORTS))
    queries = rounds("query", list(peers.QUERIES))
    fermata = str(Path(sys.executable).with_name("fermata"))
    with tempfile.TemporaryDirectory() as place:
        hall = str(Path(place) / "hall")
        subprocess.run([fermata, "demo", hall], check=True, capture_output=True)
        report = cpu(fermata, "-w", hall, "--now", "2026-04-01T08:12", "report", "refused-entries")
    helped = cpu(fermata, "--help")
    engine = cpu(sys.executable, "-c", "import ibis, pyarrow; ibis.duckdb.connect().raw_sql('SELECT 1')")
    sections: tuple[Callable[[], list[str]], ...] = (
        lambda: table_of(imports, queries, helped, engine, report),
        lambda: code({"bare": peers.bare, "the columns of bare": peers.select, "duckdb per row": peers.PER_ROW,
               "duckdb calendar": peers.CALENDAR, "duckdb calendar, totals": peers.TOTALS, "polars": peers.polars,
               "pandas": peers.pandas}),
        table_of_heart,
        lambda: code({f"{name}, by hand": sql for name, (*_, sql) in heart.TASKS.items()}),
        table_of_readers,
        lambda: code({"plain": readers.plain}),
        outputs.table,
        lambda: code({"CSV: DuckDB COPY": outputs.with_duckdb, "CSV: polars": outputs.with_polars,
               "CSV: pandas": outputs.with_pandas, "XLSX: plain XlsxWriter": outputs.with_xlsxwriter,
               "PDF: plain canvas calls": outputs.with_canvas}),
        year.table,
        lambda: code({**{f"SQL: {name}": sql for name, (_, sql, *_) in questions.QUESTIONS.items()},
               "polars": questions.polars, "pandas": questions.pandas}),
        pages.table,
        lambda: code({"one scan": pages.scan}),
        keyed.table,
        notes.table,
        ratios.table,
    )  # fmt: skip
    lines: list[str] = []
    for section in sections:  # said as they come, so that a run that ends early has not been for nothing
        part = section()
        print("\n".join(part), flush=True)
        lines += part
    PAGE.write_text("\n".join(lines) + "\n")


def code(blocks: dict[str, Any]) -> list[str]:
    """What the peers of the table above do, to the letter: SQL, or a function."""
    lines = [""]
    for title, one in blocks.items():
        kind, text = ("sql", one) if isinstance(one, str) else ("python", inspect.getsource(one))
        shown = text.replace(f"{data.ROOT}/", "").strip()
        lines += [f"<details><summary>{title}</summary>", "", f"```{kind}", shown, "```", "", "</details>", ""]
    return lines[:-1]


def table_of_heart() -> list[str]:
    """Each task of the heart by Fermata and by hand, two rounds."""
    lines = [
        "",
        f"## The measuring heart ({data.EVENTS:,} events, engine memory limited to 800 MB for Fermata, as ever, and to 2 GB by hand)",
        "",
        "The same work by hand in DuckDB SQL over the same files, subtotals and the grand total included: pairing of entries and exits "
        "those without a match counted (by door), splitting at local days (by door and day), time counted once (by user and "
        "month, and of all), most at once (by door and day, and of all). Fermata's time includes its notes and the finished table. "
        "Contacts are all of one person over the year. Best of three runs (of two, above five seconds), medians of two rounds.",
        "",
        "| | Fermata s | by hand s | Fermata / by hand | Fermata peak MB |",
        "|---|---:|---:|---:|---:|",
    ]
    for task in [*heart.TASKS, "contacts"]:
        peers = ("fermata", "duckdb") if task in heart.TASKS else ("fermata",)
        found: dict[str, list[dict[str, float]]] = {p: [] for p in peers}
        for _ in range(2):
            for name in peers:
                done = subprocess.run(
                    [sys.executable, "-m", "benchmarks.heart", name, task],
                    cwd=data.ROOT, capture_output=True, text=True, check=True,
                )  # fmt: skip
                found[name].append(json.loads(done.stdout.splitlines()[-1]))
        assert len({json.dumps(r["answer"]) for rs in found.values() for r in rs}) == 1, found
        wall = {p: statistics.median(r["wall"] for r in rs) for p, rs in found.items()}
        peak = statistics.median(r["peak"] for r in found["fermata"])
        hand = f"{wall['duckdb']:.2f} | {wall['fermata'] / wall['duckdb']:.2f}" if "duckdb" in wall else " | "
        if "duckdb" in wall:
            ratios.note(f"{TOLD.get(task, task)} / SQL", wall["fermata"] / wall["duckdb"])
        lines.append(f"| {task} | {wall['fermata']:.2f} | {hand} | {peak:,.0f} |")
    return lines


def table_of_readers() -> list[str]:
    """Each reader once in a process of its own, and the plain regular expression beside the one that does the same."""
    lines = [
        "",
        "## Readers: from file to archive",
        "",
        "One import each, with everything an import does (numbers, rejects, clock changes, duplicates, months, ledger). `plain` is "
        "DuckDB's `COPY` of the same regular expression's groups to one Parquet file and nothing else. Delimited text is above.",
        "",
        "| format | records | MB | wall s | records/s | peak MB |",
        "|---|---:|---:|---:|---:|---:|",
    ]
    speed: dict[str, float] = {}
    for name in [*readers.FORMATS, "plain"]:
        done = subprocess.run(
            [sys.executable, "-m", "benchmarks.readers", name],
            cwd=data.ROOT,
            capture_output=True,
            text=True,
            check=True,
        )
        r = json.loads(done.stdout.splitlines()[-1])
        speed[name] = r["wall"] / r["records"]
        shown = "plain (of web access)" if name == "plain" else name
        peak = f"{r['peak']:,.0f}" if r["peak"] else ""
        lines.append(
            f"| {shown} | {r['records']:,} | {r['size'] / 1e6:,.0f} | {r['wall']:.2f} | {r['records'] / r['wall']:,.0f} | {peak} |"
        )
    ratios.note("web access log / COPY", speed["web access"] / speed["plain"])
    return lines


def table_of(
    imports: dict[str, dict[str, float]],
    queries: dict[str, dict[str, float]],
    helped: tuple[float, float],
    engine: tuple[float, float],
    report: tuple[float, float],
) -> list[str]:
    """The page as lines of Markdown."""
    size = data.CSV.stat().st_size / 1e6
    versions = ", ".join(f"{p} {version(p)}" for p in ("duckdb", "ibis-framework", "polars", "pandas", "pyarrow"))
    lines = [
        "# Benchmarks",
        "",
        "Made by `make bench` from invented data; what counts are the ratios of one run, not the seconds. "
        f"{os.cpu_count()} cores, Python {platform.python_version()}, {versions}. Medians of {ROUNDS} rounds (of ratios, too: "
        "each is of one round), every measurement in a process of its own; queries are the best of five runs in it (of two, above five seconds). Peaks of memory are of the first run, "
        "as of a command, which asks once.",
        "",
        f"## Import of a CSV export ({size:,.0f} MB, {data.EVENTS:,} records, one year in {data.ZONE})",
        "",
        "`bare` is DuckDB's `COPY (SELECT parsed columns FROM read_csv(...)) TO` one Parquet file; `bare utc` the same with "
        "local times made UTC by the engine's zone functions, as the archive holds them. Fermata also numbers and counts every "
        "record, lists rejects with reasons, settles clock changes, hashes the file, keys each record against duplicates, sorts "
        "by time into months, lists spans that leave their month, and commits through ledger and manifest. `no order`: half of "
        "the records, shuffled, against `bare` over the same file.",
        "",
        "| | wall s | peak MB | Fermata's time, the peer's = 1 |",
        "|---|---:|---:|---:|",
    ]
    for name, r in imports.items():
        lines.append(f"| {name} | {r['wall']:.2f} | {r['peak']:,.0f} | {r['ratio']:.2f} |")
    ratios.note("import in order / COPY", imports["bare"]["ratio"])
    ratios.note("import in no order / COPY", imports["bare, no order"]["ratio"])
    lines += [
        "",
        f"## Events and hours per user and month from the archive ({data.EVENTS:,} events, 2,000 users, zone {data.ZONE})",
        "",
        "`duckdb per row` asks DuckDB's own zone functions for each event; `duckdb calendar` joins twelve month edges made with "
        "them; `totals` adds those of each user and of all, as Fermata's table has them. Fermata's time includes its totals, notes and the finished table in Python objects; the peers stop at their "
        "data frame. All give the same counts and the same microseconds.",
        "",
        "| | wall s | first run s | peak MB | Fermata's time, the peer's = 1 |",
        "|---|---:|---:|---:|---:|",
    ]
    ratios.note("user by month / calendar", queries["duckdb calendar, totals"]["ratio"])
    ratios.note("user by month / polars", queries["polars"]["ratio"])
    ratios.note("command / engine start", report[0] / engine[0])
    for name, r in queries.items():
        lines.append(f"| {name} | {r['wall']:.3f} | {r['first']:.3f} | {r['peak']:,.0f} | {r['ratio']:.2f} |")
    lines += [
        "",
        "## Start-up",
        "",
        "| | CPU s | wall s |",
        "|---|---:|---:|",
        f"| `fermata --help` | {helped[0]:.2f} | {helped[1]:.2f} |",
        f"| importing and starting the engine alone (ibis, duckdb, pyarrow) | {engine[0]:.2f} | {engine[1]:.2f} |",
        f"| `fermata report refused-entries` on the demo | {report[0]:.2f} | {report[1]:.2f} |",
    ]
    return lines


if __name__ == "__main__":
    main()
