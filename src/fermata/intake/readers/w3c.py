"""W3C Extended Log Format. Its `#Fields:` line names the columns and may come again with others in the middle.

Values are parted by blanks; a value in quotes may hold blanks, and doubled quotes in it stand for one; `-` is empty.
Where a record has no `date` column, the last `#Date:` line gives it. Times are UTC unless the log's `zone` says
otherwise. Source: the W3C working draft WD-logfile-960323.
"""

from __future__ import annotations

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.intake.readers import Job, Records, check
from fermata.intake.readers.lines import BLANK, as_lines, lines

__all__ = ["open"]

VALUES = r'"(?:[^"]|"")*"|\S+'


def open(job: Job) -> Records:
    """Opens an extended log; a column that only some stretches of the file have is empty in the others."""
    table = f"w3c_{job.tag}"
    job.con.execute(f"DROP TABLE IF EXISTS {table}")
    job.con.execute(
        f"CREATE TABLE {table} AS SELECT line, CASE WHEN line LIKE '#%' THEN NULL WHEN contains(line, '\"') THEN "
        f"regexp_extract_all(line, {lit(VALUES)}) ELSE string_split(line, ' ') END AS v FROM {lines(job)}"
    )
    directives = job.con.execute(
        f"SELECT rowid, line FROM {table} WHERE line LIKE '#Fields:%' OR line LIKE '#Date:%' ORDER BY rowid"
    ).fetchall()
    fields = [(row, line.split(":", 1)[1].split()) for row, line in directives if line.startswith("#Fields:")]
    if not fields:
        raise SourceError(f"{job.shown}: has no #Fields: line, so it is no W3C extended log")
    dates = [
        (row, line.split(":", 1)[1].split()[0])
        for row, line in directives
        if line.startswith("#Date:") and line.split(":", 1)[1].split()
    ]
    names = list(dict.fromkeys(n for _, held in fields for n in held))
    check(job, (*names, "date", "line"))
    columns = {name: _column(name, fields) for name in names}
    columns["date"] = f"coalesce({columns.get('date', 'NULL')}, {_latest(dates)})"
    before = f"rowid < {fields[0][0]}"
    wide = _latest([(row, str(len(held))) for row, held in fields])
    refused = (
        f"CASE WHEN {before} THEN 'stands before the first #Fields: line' "
        f"WHEN len(v) <> TRY_CAST({wide} AS INTEGER) THEN concat('has ', len(v), ' values, not ', {wide}, ' as "
        "#Fields: says') END"
    )
    skip = (BLANK, "WHEN line LIKE '#%' THEN 'comment'")
    source = f"(SELECT rowid, * FROM {table})"
    return Records(
        source,
        {**columns, "line": "line"},
        as_lines(job.log),
        job.path,
        skip=skip,
        refused=refused,
        whole="line",
        temporary=table,
    )


def _column(name: str, fields: list[tuple[int, list[str]]]) -> str:
    """The value of a column in each stretch of the file, unquoted."""
    placed = [(row, held.index(name) + 1 if name in held else 0) for row, held in fields]
    cases = " ".join(
        f"WHEN rowid > {row} THEN {f'v[{place}]' if place else 'NULL'}" for row, place in reversed(_changes(placed))
    )
    text = f"(CASE {cases} END)"
    return (
        f"CASE WHEN {text} = '-' THEN NULL WHEN starts_with({text}, '\"') "
        f"THEN replace({text}[2:-2], '\"\"', '\"') ELSE {text} END"
    )


def _latest(marks: list[tuple[int, str]]) -> str:
    """What the last mark before a row says."""
    cases = " ".join(f"WHEN rowid > {row} THEN {lit(text)}" for row, text in reversed(_changes(marks)))
    return f"(CASE {cases} END)" if cases else "NULL"


def _changes(marks: list) -> list:  # type: ignore[type-arg]
    """Only the marks that say something else than the one before."""
    return [m for i, m in enumerate(marks) if not i or marks[i - 1][1] != m[1]]
