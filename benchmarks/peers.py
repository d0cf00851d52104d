"""The same work written by hand, one function per peer. Each runs in a process of its own: `python -m benchmarks.peers NAME`.

Prints the best wall time of several warm runs, peak memory, and a check sum of the answer, as JSON.
"""

from __future__ import annotations

import json
import shutil
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from benchmarks.data import COLUMNS, CSV, DATA, FORM, LONG, SCATTERED, VALUES, ZONE, peak

EVENTS = f"{DATA}/archive/visits/2*/*[0-9].parquet"
RUNS = 5


def bare(select: str, export: Path = CSV) -> Callable[[], Any]:
    """A plain COPY of the export to Parquet."""
    import duckdb

    con = duckdb.connect()
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false")
    types = ", ".join(f"'{c}': 'VARCHAR'" for c in COLUMNS)
    source = (
        f"read_csv('{export}', auto_detect = false, header = true, delim = ',', quote = '\"', columns = {{{types}}})"
    )
    return lambda: con.execute(f"COPY (SELECT {select} FROM {source}) TO '{DATA}/bare.parquet'")


def select(utc: bool) -> str:
    """The columns of the bare copy: parsed, renamed, and with `utc` made UTC by the engine's zone functions."""
    times = [f"strptime(\"{c}\", '{FORM}')" for c in ("When", "Until")]
    if utc:
        times = [f"timezone('UTC', timezone('{ZONE}', {t}))" for t in times]
    cases = " ".join(f"WHEN '{k}' THEN '{v}'" for k, v in VALUES.items())
    return f'{times[0]} AS s, {times[1]} AS f, "Badge" AS p, "Reader" AS d, CASE "Event" {cases} END AS a'


def import_fermata(house: Path = DATA) -> Callable[[], Any]:
    """The import with everything it does: record numbers, rejects, clock changes, duplicates, hashes, ledger."""
    import tempfile

    import fermata

    shutil.rmtree(house / "archive", ignore_errors=True)
    with tempfile.TemporaryDirectory() as warm:  # modules and the zone's changes are loaded before the clock runs
        (Path(warm) / "fermata.toml").write_text((DATA / "fermata.toml").read_text())
        with CSV.open() as f:
            (Path(warm) / "events.csv").write_text(f.readline() + f.readline())
        fermata.open(warm).archive.import_log("visits")
    workspace = fermata.open(house)
    return lambda: workspace.archive.import_log("visits")


def query_fermata() -> Callable[[], Any]:
    """The question as anybody asks it, totals and notes included."""
    import fermata

    question = fermata.open(DATA).log("visits").during("2025").by("user", "month").measure("count", "time")

    def run() -> tuple[int, int, int]:
        table = question.run().table
        assert table.total
        return len(table.body), *table.total.cells[:2]

    return run


def duck(sql: str) -> Callable[[], Any]:
    """Plain DuckDB SQL; the answer fetched as Arrow."""
    import duckdb

    con = duckdb.connect()
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false")

    def run() -> tuple[int, int, int]:
        rows = con.execute(sql).to_arrow_table()
        rows = rows.filter(rows.column("m").is_valid())  # without the totals
        count, time_ = sum(rows.column("n").to_pylist()), sum(rows.column("us").to_pylist())
        return rows.num_rows, int(count), int(time_)

    return run


YEAR = (
    f"timezone('UTC', timezone('{ZONE}', TIMESTAMP '2025-01-01'))",
    f"timezone('UTC', timezone('{ZONE}', TIMESTAMP '2026-01-01'))",
)
INSIDE = f"start_utc < {YEAR[1]} AND finish_utc > {YEAR[0]}"
PER_ROW = f"""
WITH e AS (
    SELECT person, greatest(start_utc, {YEAR[0]}) AS s, least(finish_utc, {YEAR[1]}) AS f, start_utc >= {YEAR[0]} AS began
    FROM '{EVENTS}' WHERE {INSIDE}),
l AS (SELECT *, date_trunc('month', timezone('{ZONE}', timezone('UTC', s))) AS m FROM e),
p AS (
    SELECT person, m, began::INT AS n, s, least(f, timezone('UTC', timezone('{ZONE}', m + INTERVAL 1 MONTH))) AS f FROM l
    UNION ALL
    SELECT person, m + INTERVAL 1 MONTH, 0, timezone('UTC', timezone('{ZONE}', m + INTERVAL 1 MONTH)), f
    FROM l WHERE f > timezone('UTC', timezone('{ZONE}', m + INTERVAL 1 MONTH)))
SELECT person, m, sum(n)::BIGINT AS n, sum(date_diff('microsecond', s, f))::BIGINT AS us FROM p GROUP BY ALL
"""
CALENDAR = f"""
WITH b AS (SELECT unnest(generate_series(TIMESTAMP '2025-01-01', TIMESTAMP '2025-12-01', INTERVAL 1 MONTH)) AS m),
k AS (SELECT m, timezone('UTC', timezone('{ZONE}', m)) AS a, timezone('UTC', timezone('{ZONE}', m + INTERVAL 1 MONTH)) AS z FROM b)
SELECT person, m, count(*) FILTER (start_utc >= a) AS n,
       sum(date_diff('microsecond', greatest(start_utc, a), least(finish_utc, z)))::BIGINT AS us
FROM '{EVENTS}' JOIN k ON start_utc < z AND finish_utc > a GROUP BY ALL
"""
TOTALS = f"""
WITH g AS MATERIALIZED ({CALENDAR})
SELECT person, m, sum(n)::BIGINT AS n, sum(us)::BIGINT AS us FROM g GROUP BY ROLLUP (person, m)
"""


def polars() -> Callable[[], Any]:
    """polars, lazily, with its own zone conversions; no stay is longer than a month."""
    import polars as pl

    def run() -> tuple[int, int, int]:
        zoned = [
            pl.col(c).dt.replace_time_zone("UTC").dt.convert_time_zone(ZONE).alias(a)
            for c, a in (("start_utc", "s"), ("finish_utc", "f"))
        ]
        e = pl.scan_parquet(EVENTS).select("person", *zoned)
        start, end = (pl.datetime(y, 1, 1, time_zone=ZONE) for y in (2025, 2026))
        e = e.filter((pl.col("s") < end) & (pl.col("f") > start)).with_columns(f=pl.min_horizontal("f", end))
        e = e.with_columns(m=pl.col("s").dt.truncate("1mo")).with_columns(z=pl.col("m").dt.offset_by("1mo"))
        first = e.group_by("person", "m").agg(n=pl.len(), us=(pl.min_horizontal("f", "z") - pl.col("s")).sum())
        rest = (
            e.filter(pl.col("f") > pl.col("z"))
            .group_by("person", pl.col("z").alias("m"))
            .agg(us=(pl.col("f") - pl.col("z")).sum())
        )
        both = pl.concat([first, rest.with_columns(n=pl.lit(0, pl.UInt32)).select("person", "m", "n", "us")])
        done = both.group_by("person", "m").agg(pl.sum("n"), pl.sum("us")).collect()
        return done.height, int(done["n"].sum()), int(done["us"].dt.total_microseconds().sum())

    return run


def pandas() -> Callable[[], Any]:
    """pandas with PyArrow reading."""
    import pandas as pd
    import pyarrow.dataset as ds

    def run() -> tuple[int, int, int]:
        from glob import glob

        e = ds.dataset(sorted(glob(EVENTS))).to_table(columns=["person", "start_utc", "finish_utc"]).to_pandas()
        s, f = (e[c].dt.tz_localize("UTC").dt.tz_convert(ZONE) for c in ("start_utc", "finish_utc"))
        end = pd.Timestamp("2026-01-01", tz=ZONE)
        f = f.where(f < end, end)
        m = s.dt.tz_localize(None).dt.to_period("M")
        z = (m + 1).dt.to_timestamp().dt.tz_localize(ZONE)
        first = pd.DataFrame({"person": e["person"], "m": m, "n": 1, "us": f.where(f < z, z) - s})
        over = f > z
        rest = pd.DataFrame({"person": e["person"][over], "m": m[over] + 1, "n": 0, "us": f[over] - z[over]})
        done = pd.concat([first, rest]).groupby(["person", "m"], observed=True)[["n", "us"]].sum()
        return len(done), int(done["n"].sum()), int(done["us"].sum() / pd.Timedelta(microseconds=1))

    return run


IMPORTS: dict[str, Callable[[], Callable[[], Any]]] = {
    "fermata": import_fermata,
    "bare": lambda: bare(select(utc=False)),
    "bare utc": lambda: bare(select(utc=True)),
    "fermata, no order": lambda: import_fermata(SCATTERED),
    "bare, no order": lambda: bare(select(utc=False), SCATTERED / "events.csv"),
}
QUERIES: dict[str, Callable[[], Callable[[], Any]]] = {
    "fermata": query_fermata,
    "duckdb calendar, totals": lambda: duck(TOTALS),
    "duckdb calendar": lambda: duck(CALENDAR),
    "duckdb per row": lambda: duck(PER_ROW),
    "polars": polars,
    "pandas": pandas,
}


def measured(run: Callable[[], Any], runs: int) -> None:
    """Prints the best time of several runs (of two, where they are long), the first one's, peak memory of the first (a
    command asks once) and the last answer, as JSON.
    """
    times, peaks, answer = [], [], None
    while len(times) < (min(runs, 2) if times and times[-1] > LONG else runs):
        began = time.perf_counter()
        answer = run()
        times.append(time.perf_counter() - began)
        peaks.append(peak())
    print(json.dumps({"wall": min(times), "first": times[0], "peak": peaks[0], "answer": answer}))


def main() -> None:
    """Measures one peer."""
    kind, name = sys.argv[1], " ".join(sys.argv[2:])
    if kind == "import":
        run = IMPORTS[name]()
        measured(lambda: [run()][1:], 1)  # what an import gives is no answer to compare
    else:
        measured(QUERIES[name](), RUNS)


if __name__ == "__main__":
    main()
