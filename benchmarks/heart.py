"""The measuring heart against the same work written by hand in DuckDB SQL over the same files, totals included.

`python -m benchmarks.heart PEER TASK` measures one peer in this process; answers are compared by their sums.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

from benchmarks.data import DATA, ZONE
from benchmarks.peers import EVENTS, measured

RUNS = 3
START, END = "TIMESTAMP '2025-01-01 00:00:00'", "TIMESTAMP '2026-01-01 00:00:00'"
DAYS = (  # the zone's days with their UTC edges; the year begins and ends on winter time
    f"(SELECT unnest(range({START}, {END}, INTERVAL 1 DAY)) AS day)"
)
CALENDAR = (
    f"SELECT day, timezone('UTC', timezone('{ZONE}', day)) AS a, timezone('UTC', timezone('{ZONE}', day + INTERVAL 1 DAY)) AS z, "
    f"(row_number() OVER (ORDER BY day) - 1)::BIGINT AS i FROM {DAYS}"
)
CLIPPED = f"SELECT person, device, greatest(start_utc, {START}) AS s, least(finish_utc, {END}) AS x FROM '{EVENTS}' WHERE start_utc < {END} AND finish_utc > {START}"
SUMMER = "((s >= TIMESTAMP '2025-03-30 01:00:00') AND (s < TIMESTAMP '2025-10-26 01:00:00'))::INT"
LAST = SUMMER.replace("(s ", "((x - INTERVAL 1 MICROSECOND) ")
INDEX = "date_diff('day', TIMESTAMP '2025-01-01', {at} + to_hours({summer}))"


def levels(rows: str, figures: str, keys: list[str]) -> str:
    """One aggregate per level, the finest first, as a union."""
    found = []
    for depth in range(len(keys), -1, -1):
        shown = ", ".join([*keys[:depth], *(f"NULL AS {k}" for k in keys[depth:])])
        group = f" GROUP BY {', '.join(keys[:depth])}" if depth else ""
        found.append(f"SELECT {shown}, {figures} FROM {rows}{group}")
    return " UNION ALL ".join(found)


SPLIT = f"""
WITH c AS ({CALENDAR}), e AS ({CLIPPED}),
p AS (SELECT device, s, x, unnest(range({INDEX.format(at="s", summer=SUMMER)},
      {INDEX.format(at="(x - INTERVAL 1 MICROSECOND)", summer=LAST)} + 1)) AS i FROM e),
q AS (SELECT device, day, sum(date_diff('microsecond', greatest(s, a), least(x, z)))::BIGINT AS us FROM p JOIN c USING (i) GROUP BY ALL)
{levels("q", "sum(us)::BIGINT AS v", ["device", "day"])}
"""
PAIRING = f"""
WITH e AS (SELECT person, device, action = 'in' AS opens, start_utc, file_id, record_no, event_no FROM '{EVENTS}' WHERE action IN ('in', 'out')),
w AS (SELECT *, lead(opens) OVER w AS next_opens, lead(start_utc) OVER w AS next_start, lag(opens) OVER w AS last_opens,
      lag(start_utc) OVER w AS last_start FROM e
      WINDOW w AS (PARTITION BY person ORDER BY start_utc, file_id, record_no, event_no)),
p AS (SELECT device, opens, coalesce(opens AND NOT next_opens AND next_start - start_utc <= INTERVAL 12 HOUR, false) AS closed,
      coalesce(NOT opens AND last_opens AND start_utc - last_start <= INTERVAL 12 HOUR, false) AS closing,
      date_diff('microsecond', start_utc, least(next_start, {END})) AS us FROM w WHERE start_utc >= {START} AND start_utc < {END}),
q AS (SELECT device, sum(us) FILTER (closed)::BIGINT AS us, count(*) FILTER (opens AND NOT closed) AS unfinished,
      count(*) FILTER (NOT opens AND NOT closing) AS alone FROM p GROUP BY ALL)
{levels("q", "sum(us)::BIGINT AS v, sum(unfinished), sum(alone)", ["device"])}
"""


def union(keys: str) -> str:
    """Time once: the part of each span beyond the latest finish before it."""
    over = f"PARTITION BY {keys} " if keys else ""
    return (
        f"SELECT {keys + ',' if keys else ''} greatest(s, coalesce(max(x) OVER ({over}ORDER BY s, x ROWS BETWEEN UNBOUNDED PRECEDING "
        "AND 1 PRECEDING), s)) AS s, x FROM e"
    )


MONTHS = f"SELECT m, timezone('UTC', timezone('{ZONE}', m)) AS a, timezone('UTC', timezone('{ZONE}', m + INTERVAL 1 MONTH)) AS z FROM (SELECT unnest(range({START}, {END}, INTERVAL 1 MONTH)) AS m)"
UNION = f"""
WITH k AS ({MONTHS}), e AS ({CLIPPED}), u AS ({union("person")}), t AS ({union("")}),
q AS (SELECT person, m, sum(date_diff('microsecond', greatest(s, a), least(x, z)))::BIGINT AS us
      FROM u JOIN k ON s < z AND x > a WHERE x > s GROUP BY ALL)
SELECT person, m, us AS v FROM q UNION ALL SELECT person, NULL, sum(us)::BIGINT FROM q GROUP BY person
UNION ALL SELECT NULL, NULL, sum(date_diff('microsecond', s, x))::BIGINT FROM t WHERE x > s
"""


def at_once(keys: str) -> str:
    """Peaks: ends counted up and down in order, within each group and day."""
    named = f"{keys}, " if keys else ""
    return f"""SELECT {named} day, max(n)::BIGINT AS v FROM (
    SELECT {named} day, sum(d) OVER (PARTITION BY {named} day ORDER BY t) AS n FROM (
    SELECT {named} day, t, sum(d) AS d FROM (
    SELECT {named} day, greatest(s, a) AS t, 1 AS d FROM pieces UNION ALL SELECT {named} day, least(x, z), -1 FROM pieces) GROUP BY ALL)) GROUP BY ALL"""


CONCURRENCY = f"""
WITH c AS ({CALENDAR}), e AS ({CLIPPED}),
p AS (SELECT device, s, x, unnest(range({INDEX.format(at="s", summer=SUMMER)},
      {INDEX.format(at="(x - INTERVAL 1 MICROSECOND)", summer=LAST)} + 1)) AS i FROM e),
pieces AS MATERIALIZED (SELECT device, day, s, x, a, z FROM p JOIN c USING (i)),
q AS ({at_once("device")}), t AS ({at_once("")})
SELECT device, day, v FROM q UNION ALL SELECT device, NULL, max(v) FROM q GROUP BY device UNION ALL SELECT NULL, NULL, max(v) FROM t
"""
TASKS = {
    "pairing": ("presence", ("device",), "time", PAIRING),
    "split": ("visits", ("device", "day"), "time", SPLIT),
    "union": ("visits", ("user", "month"), "union", UNION),
    "concurrency": ("visits", ("device", "day"), "peak", CONCURRENCY),
}


def mine(task: str) -> Callable[[], Any]:
    """The question as anybody asks it, totals and notes included."""
    import fermata

    workspace = fermata.open(DATA)
    if task == "contacts":
        return lambda: len(workspace.contacts("visits", "B-01500", at="device", within="0", period="2025").rows)
    log, by, measure, _ = TASKS[task]
    question = workspace.log(log).during("2025").by(*by).measure(measure)

    def run() -> list[int]:
        rows = question.run().table.rows
        return [len(rows), sum(r.cells[0] or 0 for r in rows)]

    return run


def duck(task: str) -> Callable[[], Any]:
    """Plain SQL on the same files, within 2 GB; Fermata takes its usual 800 MB."""
    import duckdb

    con = duckdb.connect()
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false; SET memory_limit = '2GB'")

    def run() -> list[int]:
        rows = con.execute(TASKS[task][3]).to_arrow_table()
        return [rows.num_rows, int(sum(v or 0 for v in rows.column("v").to_pylist()))]

    return run


def main() -> None:
    """Measures one peer."""
    peer, task = sys.argv[1:3]
    measured((mine if peer == "fermata" else duck)(task), RUNS)


if __name__ == "__main__":
    main()
