r"""Syslog lines of any make, also mixed: RFC 5424, RFC 3164, and the form with an RFC 3339 time that daemons write to
files.

    <165>1 2026-03-11T22:14:15.003Z stage-1 sshd 4711 LOGIN [origin ip="192.0.2.9"] Accepted key for mira
    <34>Mar 11 22:14:15 stage-1 sshd[4711]: Accepted password for mira from 192.0.2.9
    2026-03-11T22:14:15.003+00:00 stage-1 sshd[4711]: Accepted password for mira

An RFC 3164 time has no year. It is inferred: lines are in order, so a month that falls far back begins a new year,
and the last line is no later than a day after the file was last written. The import says so; `year` of the log
declares the year of the first line instead. Columns: facility, severity (numbers of RFC 5424, table 1 and 2), time,
host, app, pid, msgid, data, message, and `data.ID.NAME` for one parameter of the structured data.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from fermata.archive.duck import lit
from fermata.errors import UnknownName
from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import BLANK, UNMATCHED, as_lines, lines

__all__ = ["open"]

STRUCTURED = r'-|(?:\[(?:[^\]"\\]|\\.|"(?:[^"\\]|\\.)*")*\])+'
NEW = rf"^(?:<(\d{{1,3}})>)?1 (\S+) (\S+) (\S+) (\S+) (\S+) ({STRUCTURED})(?: +(.*))?$"
DAY = r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ 0-3]?\d \d\d:\d\d:\d\d"
ISO = r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)"
OLD = rf"^(?:<(\d{{1,3}})>)?({DAY}|{ISO}) (\S+) (?:([^\s:\[]+)(?:\[([^\]]*)\])?: ?)?(.*)$"
NAMES = ("facility", "severity", "time", "host", "app", "pid", "msgid", "data", "message")
MONTHS = "JanFebMarAprMayJunJulAugSepOctNovDec"
FAR_BACK = 6  # months; a smaller step back is a late line


def open(job: Job) -> Records:
    """Opens a syslog file; `time` is written in RFC 3339 or, of lines without year, as `2026-03-11 22:14:15`."""
    for column in job.wanted:
        if column not in (*NAMES, "line") and not re.fullmatch(r"data\.[^.]+\..+", column):
            raise UnknownName.of("column", column, NAMES, where=f"in {job.shown} (or data.ID.NAME)")
    table = f"syslog_{job.tag}"
    new = f"regexp_extract(line, {lit(NEW)}, ['p', 't', 'h', 'a', 'i', 'm', 'd', 'x'])"
    old = f"regexp_extract(line, {lit(OLD)}, ['p', 't', 'h', 'a', 'i', 'x'])"
    either = ", ".join(f"coalesce(n.{g}, o.{g}) AS {g}" for g in "pthaix")
    # one of the two expressions is run, by what a line begins with
    told = f"SELECT line, is_new, CASE WHEN is_new THEN {new} END AS n, CASE WHEN NOT is_new THEN {old} END AS o"
    marked = f"SELECT line, regexp_matches(line, '^(<[0-9]{{1,3}}>)?1 ') AS is_new FROM {lines(job)}"
    job.con.execute(f"DROP TABLE IF EXISTS {table}")
    job.con.execute(f"CREATE TABLE {table} AS SELECT line, is_new, {either}, n.m, n.d FROM ({told} FROM ({marked}))")
    source, inferred = _with_years(job, table)
    columns = {
        "facility": "CAST(TRY_CAST(p AS INTEGER) // 8 AS VARCHAR)",
        "severity": "CAST(TRY_CAST(p AS INTEGER) % 8 AS VARCHAR)",
        "time": "CASE WHEN is_new THEN nullif(t, '-') ELSE coalesce(dated, nullif(t, '')) END",
        "host": _set("h"),
        "app": _set("a"),
        "pid": _set("i"),
        "msgid": "nullif(m, '-')",
        "data": "nullif(d, '-')",
        "message": _set("x"),
        "line": "line",
    }
    for column in job.wanted:
        if column.startswith("data."):
            columns[column] = _parameter(*column.removeprefix("data.").split(".", 1))
    none = "t = ''"
    skip = [BLANK]
    refused = f"CASE WHEN {none} THEN 'is no syslog line (RFC 5424 or RFC 3164)' END"
    if job.log.unmatched == "skip":
        skip, refused = [*skip, f"WHEN {none} THEN {lit(UNMATCHED)}"], ""
    return Records(
        source,
        columns,
        as_lines(job.log),
        job.path,
        skip=tuple(skip),
        refused=refused,
        inferred=inferred,
        whole="line",
        temporary=table,
    )


def _set(group: str) -> str:
    return f"CASE WHEN {group} NOT IN ('', '-') THEN {group} END"


def _parameter(element: str, name: str) -> str:
    """One parameter of the structured data, its escaped quotes undone."""
    before = r'(?: [^ =\]]+="(?:[^"\\]|\\.)*")*?'
    pattern = rf'\[{re.escape(element)}{before} {re.escape(name)}="((?:[^"\\]|\\.)*)"'
    return f"replace(replace(nullif(regexp_extract(d, {lit(pattern)}, 1), ''), '\\\"', '\"'), '\\\\', '\\')"


def _with_years(job: Job, table: str) -> tuple[str, str]:
    """The lines with `dated`, the time with its inferred year where it had none; and what was inferred, in words."""
    month = f"(strpos({lit(MONTHS)}, left(t, 3)) + 2) // 3"
    yearless = "NOT is_new AND regexp_matches(t, '^[A-Z]')"
    found = job.con.execute(
        f"SELECT rowid, {month}, prior FROM (SELECT rowid, t, lag({month}) OVER (ORDER BY rowid) AS prior FROM {table} "
        f"WHERE {yearless}) WHERE prior IS NULL OR abs({month} - prior) > {FAR_BACK} ORDER BY rowid"
    ).fetchall()
    if not found:
        return f"(SELECT *, NULL AS dated FROM {table})", ""
    steps, year = [], 0
    for row, this, before in found:  # a late line of December after one of January steps back again
        year += 0 if before is None else 1 if this < before else -1
        steps.append((row, year))
    first, how = (
        (job.log.year, "declared") if job.log.year else (_first_year(job, table, yearless, steps[-1][1]), "inferred")
    )
    cases = "".join(f"WHEN rowid >= {row} THEN {first + step} " for row, step in reversed(steps))
    dated = f"strptime(concat(CASE {cases}END, ' ', t), '%Y %b %d %H:%M:%S')"
    source = (
        f"(SELECT *, CASE WHEN {yearless} THEN CAST(TRY_CAST({dated.replace('strptime', 'try_strptime')} AS TIMESTAMP) "
        f"AS VARCHAR) END AS dated FROM {table})"
    )
    years = sorted({first + step for _, step in steps})
    told = " and ".join(map(str, years))
    return source, f"year {told} {how}" + ("" if how == "declared" else " from when the file was last written")


def _first_year(job: Job, table: str, yearless: str, steps: int) -> int:
    """The year of the first line: the last one is no later than a day after the file was last written."""
    written = datetime.fromtimestamp(job.modified, UTC).replace(tzinfo=None) + timedelta(days=1)
    last = job.con.execute(f"SELECT t FROM {table} WHERE {yearless} ORDER BY rowid DESC LIMIT 1").fetchone()[0]
    for year in (written.year, written.year - 1, written.year - 2, written.year - 3, written.year - 4):
        try:
            at = datetime.strptime(f"{year} {last}", "%Y %b %d %H:%M:%S")
        except ValueError:
            continue  # 29 February in a year that has none
        if at <= written:
            return year - steps
    return written.year - steps
