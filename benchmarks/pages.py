"""What a page of parts reads and takes, beside one scan of the log: `python -m benchmarks.pages`, after the year of
`benchmarks.year` was made.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from typing import Any

from benchmarks import ratios
from benchmarks.data import ROOT
from benchmarks.questions import files
from benchmarks.year import YEAR, taken_in

PAGE, MONTH, BEFORE, OTHER = "doors-monthly", "2025-03", "2025-02", "2025-07"
COLUMNS = ("start_utc", "person", "device", "place", "action")  # what its parts ask about


def scan() -> dict[str, float]:
    """Each of these columns read once, in the month and the one before, with which it is compared."""
    import duckdb

    con = duckdb.connect()
    con.execute("SET enable_progress_bar = false")
    read = [f for f in files(YEAR, "visits") if f"/{MONTH}/" in f or f"/{BEFORE}/" in f]
    asked = f"SELECT {', '.join(f'bit_xor(hash({c}))' for c in COLUMNS)} FROM read_parquet({read})"
    return timed(lambda: con.execute(asked).fetchall())


def page() -> dict[str, float]:
    """The page as people ask for it, with how many statements that took."""
    import fermata
    from fermata.engines.embedded import DuckEngine

    house, plain, said = fermata.open(YEAR), DuckEngine.do, list[str]()
    house.report(PAGE, period=OTHER)  # so that what is read is the log, not modules of the program
    DuckEngine.do = lambda engine, text: said.append(text) or plain(engine, text)  # type: ignore
    found = timed(lambda: house.report(PAGE, period=MONTH))
    return {**found, "statements": len(said) / 4, "parts": len(house.report(PAGE, period=MONTH).answer.parts)}


def timed(ask: Any) -> dict[str, float]:
    """MB taken in by the first run, seconds of the best of three more."""
    before = taken_in()
    ask()
    read, runs = (taken_in() - before) / 1e6, []
    for _ in range(3):
        began = time.perf_counter()
        ask()
        runs.append(time.perf_counter() - began)
    return {"read": read, "wall": min(runs)}


def table() -> list[str]:
    """The page beside the scan, as lines of Markdown."""
    found = {}
    for side in ("scan", "page"):
        words = [sys.executable, "-m", "benchmarks.pages", side]
        done = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=True)
        found[side] = json.loads(done.stdout.splitlines()[-1])
    one, asked = found["scan"], found["page"]
    ratios.note("a page's MB / one scan's", asked["read"] / one["read"])
    ratios.note("a page / one scan", asked["wall"] / one["wall"])
    return [
        "",
        "## A page of parts",
        "",
        f"`{PAGE}` of the year above for {MONTH} ({asked['parts']} parts, {asked['statements']:.0f} statements), beside one scan: "
        f"its columns ({', '.join(COLUMNS)}) of that month and the one before, each read once and nothing grouped. "
        "Parts ask nothing twice and take what they read from the disk once; what is left is grouping, which takes longer than reading.",
        "",
        "| | read MB | wall s | read, scan = 1 | wall, scan = 1 |",
        "|---|---:|---:|---:|---:|",
        f"| one scan | {one['read']:,.0f} | {one['wall']:.3f} | 1.00 | 1.00 |",
        f"| the page | {asked['read']:,.0f} | {asked['wall']:.3f} | {asked['read'] / one['read']:.2f} "
        f"| {asked['wall'] / one['wall']:.0f} |",
    ]


if __name__ == "__main__":
    if len(sys.argv) == 2:
        print(json.dumps({"scan": scan, "page": page}[sys.argv[1]]()))
    else:
        print("\n".join(table()))
