"""Ten questions over a year, each as Fermata is asked, as plain SQL, and in two data frame libraries where they can.

All give the totals of every level. Every side is a function that answers once and returns one figure by which the sides are compared.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from benchmarks.data import ZONE

__all__ = ["QUESTIONS", "SIDES", "ZONED"]

PERSON = "B-01234"
BEGIN = f"timezone('UTC', timezone('{ZONE}', TIMESTAMP '{{}}'))"
YEAR, MARCH, APRIL, END = (BEGIN.format(f"{d}-01") for d in ("2025-01", "2025-03", "2025-04", "2026-01"))
WHOLE = f"start_utc >= {YEAR} AND start_utc < {END}"
IN_MARCH = f"start_utc >= {MARCH} AND start_utc < {APRIL}"
LOCAL = f"timezone('{ZONE}', timezone('UTC', {{}}))"
MONTH = f"date_trunc('month', {LOCAL.format('start_utc')})"
LENGTH = "date_diff('microsecond', start_utc, finish_utc)"
ZONED = (
    "figures by month",
    "hours by person and month",
    "busiest hours",
    "people by door and month",
)  # cut by local months or hours

QUESTIONS: dict[str, tuple[dict[str, Any], str]] = {
    "figures by month": (
        {"period": "2025", "by": ["month"], "columns": ["count", "distinct user", "mean duration"]},
        f"SELECT {MONTH} m, count(*) n, count(DISTINCT person), avg({LENGTH}) FROM e WHERE {WHOLE} GROUP BY GROUPING SETS ((1), ())",
    ),
    "hours by person and month": (
        {"period": "2025", "by": ["user", "month"], "columns": ["time"]},
        f"""WITH p AS (SELECT person, greatest(start_utc, {YEAR}) s, least(finish_utc, {END}) f, date_trunc('month', {LOCAL.format('s')}) m0,
        date_trunc('month', {LOCAL.format("f - INTERVAL 1 microsecond")}) m1 FROM e WHERE start_utc < {END} AND finish_utc > {YEAR}),
        x AS (SELECT person, m0 m, date_diff('microsecond', s, CASE WHEN m1 > m0 THEN timezone('UTC', timezone('{ZONE}', m1)) ELSE f END) us
        FROM p UNION ALL SELECT person, m1, date_diff('microsecond', timezone('UTC', timezone('{ZONE}', m1)), f) FROM p WHERE m1 > m0)
        SELECT person, m, sum(us) n FROM x GROUP BY ROLLUP (1, 2)""",
    ),
    "busiest hours": (
        {"period": "2025", "by": ["weekday"], "across": "hour of day"},
        f"SELECT isodow({LOCAL.format('start_utc')}) w, hour({LOCAL.format('start_utc')}) h, count(*) n FROM e WHERE {WHOLE} GROUP BY CUBE (w, h)",
    ),
    "top 20 of a month": (
        {"period": "2025-03", "by": ["user"], "columns": ["count"], "top": 20},
        f"WITH g AS (SELECT person p, count(*) n FROM e WHERE {IN_MARCH} GROUP BY 1), r AS (SELECT *, rank() OVER (ORDER BY n DESC) k FROM g) "
        "SELECT CASE WHEN k <= 20 THEN p END p, sum(n) n FROM r GROUP BY GROUPING SETS ((1), ())",
    ),
    "one person's trace": (
        {"log": "visits", "period": "2025"},
        f"SELECT start_utc, finish_utc, device, place, action, file_id, record_no, count(*) OVER () n FROM e WHERE person = '{PERSON}' AND {WHOLE} ORDER BY 1",
    ),
    "most at once by place, a month": (
        {"period": "2025-03", "by": ["place"], "columns": ["peak"]},
        f"""WITH p AS (SELECT place, greatest(start_utc, {MARCH}) s, least(finish_utc, {APRIL}) f FROM e
        WHERE start_utc < {APRIL} AND finish_utc > {MARCH}), x AS (SELECT place, s t, 1 d FROM p UNION ALL SELECT place, f, -1 FROM p),
        a AS (SELECT place, t, sum(d) d FROM x GROUP BY 1, 2 UNION ALL SELECT NULL, t, sum(d) FROM x GROUP BY t),
        r AS (SELECT place, sum(d) OVER (PARTITION BY place ORDER BY t) n FROM a) SELECT place, max(n) n FROM r GROUP BY 1""",
    ),
    "people by door and month": (
        {"period": "2025", "by": ["device"], "across": "month", "columns": ["distinct user"]},
        f"SELECT device, {MONTH} m, count(DISTINCT person) n FROM e WHERE {WHOLE} GROUP BY CUBE (1, 2)",
    ),
    "refused by door": (
        {"period": "2025", "only": {"action": "refused"}, "by": ["place", "device"], "columns": ["count", "distinct user"]},
        f"SELECT place, device, count(*) n, count(DISTINCT person) FROM e WHERE {WHOLE} AND action = 'refused' GROUP BY ROLLUP (1, 2)",
    ),
    "a row a person, three selections": (
        {
            "period": "2025-Q1", "by": ["user"],
            "columns": [
                {"label": "In", "measure": "count", "only": {"action": "in"}},
                {"label": "Refused", "measure": "count", "only": {"action": "refused"}},
                {"label": "Doors", "measure": "distinct device"},
            ],
        },
        f"SELECT person, count(*) FILTER (action = 'in') n, count(*) FILTER (action = 'refused'), count(DISTINCT device) FROM e "
        f"WHERE start_utc >= {YEAR} AND start_utc < {APRIL} GROUP BY ROLLUP (1)",
    ),
    "a row a person, three logs": (
        {
            "period": "2025", "by": ["user"],
            "columns": [{"label": w.capitalize(), "measure": "count", "log": w} for w in ("visits", "calls", "prints")],
        },
        f"SELECT person, sum(n) FILTER (l = 0) n, sum(n) FILTER (l = 1), sum(n) FILTER (l = 2) FROM ("
        f"SELECT 0 l, person, count(*) n FROM e WHERE {WHOLE} GROUP BY 2 UNION ALL SELECT 1, person, count(*) FROM calls WHERE {WHOLE} GROUP BY 2 "
        f"UNION ALL SELECT 2, person, count(*) FROM prints WHERE {WHOLE} GROUP BY 2) GROUP BY ROLLUP (1)",
    ),
}  # fmt: skip


def files(house: Path, log: str = "visits") -> list[str]:
    """The Parquet files of a log; those that were put together stay beside the new ones for a day."""
    from fermata.archive import Archive

    return [f"{house}/archive/{p.path}" for p in Archive(house / "archive").snapshot().manifest.log(log).parts]


def fermata(house: Path, name: str) -> Callable[[], int]:
    """As anybody asks it, with totals, notes and the finished table."""
    import fermata as library

    opened = library.open(house)
    if name == "one person's trace":

        def trace() -> int:
            found = opened.trace(PERSON, period="2025", log="visits").answer
            return sum(1 for _ in found.parts[-1].item.rows)  # the summary comes before

        return trace
    report = library.Report.of(log="visits", **QUESTIONS[name][0])

    def run() -> int:
        total = opened.run(report).table.total
        return int(total.cells[-1 if "across" in QUESTIONS[name][0] else 0])

    return run


def duckdb(house: Path, name: str) -> Callable[[], int]:
    """Plain SQL over the same files, the rows fetched."""
    import duckdb as engine

    con = engine.connect()
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false; SET memory_limit = '1GB'")
    for view, log in (("e", "visits"), ("calls", "calls"), ("prints", "prints")):
        con.execute(f"CREATE VIEW {view} AS SELECT * FROM read_parquet({files(house, log)})")

    def run() -> int:
        rows = con.execute(QUESTIONS[name][1]).fetchall()
        at = [c[0] for c in con.description].index("n")
        whole = [r for r in rows if all(v is None for v in r[:at])] or rows
        return int(max(r[at] for r in whole))

    return run


def polars(house: Path, name: str) -> Callable[[], int]:
    """Lazy frames over the same files; a level of totals is a query beside the others, all collected at once."""
    import polars as pl

    def edge(day: str) -> pl.Expr:
        local = pl.lit(day).str.to_datetime("%Y-%m-%d", time_unit="us").dt.replace_time_zone(ZONE)
        return local.dt.convert_time_zone("UTC").dt.replace_time_zone(None)

    def scan(log: str = "visits", start: str = "2025-01-01", end: str = "2026-01-01") -> pl.LazyFrame:
        return pl.scan_parquet(files(house, log)).filter(
            (pl.col("start_utc") >= edge(start)) & (pl.col("start_utc") < edge(end))
        )

    local = pl.col("start_utc").dt.replace_time_zone("UTC").dt.convert_time_zone(ZONE)
    month = local.dt.month()
    length = (pl.col("finish_utc") - pl.col("start_utc")).dt.total_microseconds()
    people, n = pl.col("person").n_unique(), pl.len().alias("n")

    def truncated(column: str, less: Any = None) -> pl.Expr:
        at = pl.col(column) if less is None else pl.col(column) - less
        return at.dt.replace_time_zone("UTC").dt.convert_time_zone(ZONE).dt.truncate("1mo")

    def within(start: str, end: str) -> pl.LazyFrame:
        a, b = edge(start), edge(end)
        kept = pl.scan_parquet(files(house)).filter((pl.col("start_utc") < b) & (pl.col("finish_utc") > a))
        return kept.with_columns(s=pl.max_horizontal("start_utc", a), f=pl.min_horizontal("finish_utc", b))

    def levels(frame: pl.LazyFrame, keys: list[tuple[str, ...]], *wanted: Any) -> list[pl.LazyFrame]:
        return [frame.group_by(k).agg(*wanted) if k else frame.select(*wanted) for k in keys]

    def asked() -> list[pl.LazyFrame]:
        if name == "figures by month":
            return levels(scan().with_columns(m=month), [("m",), ()], n, people, length.mean().alias("mean"))
        if name == "hours by person and month":
            p = within("2025-01-01", "2026-01-01").with_columns(
                m0=truncated("s"), m1=truncated("f", pl.duration(microseconds=1))
            )
            begin = pl.col("m1").dt.convert_time_zone("UTC").dt.replace_time_zone(None)
            later = pl.col("m1") > pl.col("m0")
            until = pl.when(later).then(begin).otherwise(pl.col("f"))
            parts = [
                p.select("person", m="m0", us=(until - pl.col("s")).dt.total_microseconds()),
                p.filter(later).select("person", m="m1", us=(pl.col("f") - begin).dt.total_microseconds()),
            ]
            return levels(pl.concat(parts), [("person", "m"), ("person",), ()], pl.col("us").sum().alias("n"))
        if name == "most at once by place, a month":
            p = within("2025-03-01", "2025-04-01")
            ends = pl.concat([p.select("place", t="s", d=pl.lit(1)), p.select("place", t="f", d=pl.lit(-1))])
            place = (
                ends.group_by("place", "t")
                .agg(pl.col("d").sum())
                .sort("t")
                .select("place", n=pl.col("d").cum_sum().over("place"))
            )
            whole = ends.group_by("t").agg(pl.col("d").sum()).sort("t").select(n=pl.col("d").cum_sum())
            return [place.group_by("place").agg(pl.col("n").max()), whole.select(pl.col("n").max())]
        if name == "busiest hours":
            frame = scan().with_columns(w=local.dt.weekday(), h=local.dt.hour())
            return levels(frame, [("w", "h"), ("w",), ("h",), ()], n)
        if name == "top 20 of a month":
            each = scan(start="2025-03-01", end="2025-04-01").group_by("person").agg(n)
            return [each.top_k(20, by="n"), each.select(pl.col("n").sum())]
        if name == "one person's trace":
            frame = scan().filter(pl.col("person") == PERSON).sort("start_utc")
            return [
                frame.select("start_utc", "finish_utc", "device", "place", "action", "file_id", "record_no"),
                frame.select(n),
            ]
        if name == "people by door and month":
            frame = scan().with_columns(m=month)
            return levels(frame, [("device", "m"), ("device",), ("m",), ()], people.alias("n"))
        if name == "refused by door":
            frame = scan().filter(pl.col("action") == "refused")
            return levels(frame, [("place", "device"), ("place",), ()], n, people)
        if name == "a row a person, three selections":
            frame = scan(end="2025-04-01")
            several = [
                (pl.col("action") == "in").sum().alias("n"),
                (pl.col("action") == "refused").sum().alias("d"),
                pl.col("device").n_unique(),
            ]
            return levels(frame, [("person",), ()], *several)
        if name == "a row a person, three logs":
            each = [scan(log).group_by("person").agg(pl.len().alias(log)) for log in ("visits", "calls", "prints")]
            joined = (
                each[0]
                .join(each[1], on="person", how="full", coalesce=True)
                .join(each[2], on="person", how="full", coalesce=True)
            )
            return [joined, joined.select(pl.col("visits").sum().alias("n"))]
        raise NotImplementedError

    def run() -> int:
        return int(pl.collect_all(asked())[-1]["n"].max())  # type: ignore[arg-type]

    return run


def pandas(house: Path, name: str) -> Callable[[], int]:
    """Whole columns in memory, texts as categories, by way of Arrow; questions that need more of it than a laptop has are left out."""
    import pandas as pd
    import pyarrow.dataset as ds

    wanted = {
        "top 20 of a month": ["person"],
        "refused by door": ["person", "place", "device", "action"],
        "a row a person, three selections": ["person", "device", "action"],
        "one person's trace": [
            "start_utc",
            "finish_utc",
            "person",
            "device",
            "place",
            "action",
            "file_id",
            "record_no",
        ],
        "busiest hours": ["start_utc"],
    }
    if name not in wanted:
        raise NotImplementedError
    periods = {
        "top 20 of a month": ("2025-03-01", "2025-04-01"),
        "a row a person, three selections": ("2025-01-01", "2025-04-01"),
    }
    start, end = (
        pd.Timestamp(d, tz=ZONE).tz_convert("UTC").tz_localize(None)
        for d in periods.get(name, ("2025-01-01", "2026-01-01"))
    )
    form = ds.ParquetFileFormat(dictionary_columns={"person", "place", "device", "action"})
    data = ds.dataset(files(house), format=form)

    def run() -> int:
        test = (ds.field("start_utc") >= start) & (ds.field("start_utc") < end)
        if name == "one person's trace":
            test = test & (ds.field("person") == PERSON)
        if name == "refused by door":
            test = test & (ds.field("action") == "refused")
        frame = data.to_table(columns=wanted[name], filter=test).unify_dictionaries().to_pandas()
        if name == "one person's trace":
            return len(frame.sort_values("start_utc"))
        if name == "busiest hours":
            local = frame.start_utc.dt.tz_localize("UTC").dt.tz_convert(ZONE)
            table = pd.crosstab(local.dt.weekday, local.dt.hour, margins=True)
            return int(table.iloc[-1, -1])
        if name == "top 20 of a month":
            counts = frame.person.value_counts()
            return int(counts.head(20).sum() + counts.iloc[20:].sum())
        if name == "refused by door":
            by = [
                frame.groupby(k, observed=True).person.agg(["size", "nunique"])
                for k in (["place", "device"], ["place"])
            ]
            return int(by[1]["size"].sum())
        by = (
            frame.assign(i=frame.action == "in", d=frame.action == "refused")
            .groupby("person", observed=True)
            .agg({"i": "sum", "d": "sum", "device": "nunique"})
        )
        return int(by.i.sum())

    return run


SIDES: dict[str, Callable[[Path, str], Callable[[], int]]] = {
    "fermata": fermata,
    "duckdb": duckdb,
    "polars": polars,
    "pandas": pandas,
}
