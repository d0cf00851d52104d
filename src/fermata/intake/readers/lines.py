"""Lines of a text, and what regular expressions take out of them; the other line readers build on this."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Mapping, Sequence

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.intake.mapping import LogMap
from fermata.intake.readers import NO_DELIMITER, Job, Records, check, delimited

__all__ = ["UNMATCHED", "as_lines", "headings", "lines", "matched", "records_of"]

UNMATCHED = "outside the pattern"
BEGINS_BLANK = " OR ".join(f"starts_with(line, chr({c}))" for c in (32, 9, 13))
BLANK = (  # trimming every line would cost more than its regular expression
    f"WHEN CASE WHEN {BEGINS_BLANK} THEN trim(line, ' \t\r') = '' ELSE coalesce(line, '') = '' END THEN 'blank'"
)


def as_lines(log: LogMap) -> LogMap:
    """The log as a text of one column without header."""
    return log.model_copy(update={"delimiter": NO_DELIMITER, "quote": "", "escape": None, "header": False})


def lines(job: Job) -> str:
    """The lines of the file as a table expression with the column `line`; those that are not text are set aside."""
    job = dataclasses.replace(job, log=as_lines(job.log))
    return f"(SELECT r1 AS line FROM {delimited.read_sql(job, ['line'])})"


def headings(log: LogMap) -> dict[str, str]:
    """The columns that lines of headings give to the lines below them, with the names they have in `records_of`."""
    named = re.compile(log.heading).groupindex if log.heading else {}
    return {name: f"above_{i}" for i, name in enumerate(named)}


def records_of(job: Job) -> Records:
    """The file as records of the one column `line`: a line each, or with `begins` of the log all lines from one that
    begins a record to the next. What a heading says stands beside the lines below it.
    """
    log = job.log
    skip = [BLANK]
    if log.begins:
        return _of_several_lines(job)
    source = lines(job)
    if log.heading:
        checked(job, log.heading)
        above = headings(log)
        names = ", ".join(lit(n) for n in above)
        named = _capturing(re.sub(r"\(\?P<\w+>", "(", log.heading), range(99))
        held = ", ".join(
            f"last_value(CASE WHEN heads THEN nullif(m[{lit(n)}], '') END IGNORE NULLS) OVER (ORDER BY n "
            f"ROWS UNBOUNDED PRECEDING) AS {column}"
            for n, column in above.items()
        )
        heads = f"regexp_matches(line, {lit(log.heading)})"
        taken = f"regexp_extract(line, {lit(named)}, [{names}])"
        numbered = f"SELECT line, row_number() OVER () AS n, {heads} AS heads, {taken} AS m FROM {source}"
        source = f"(SELECT line, heads, {held} FROM ({numbered}) ORDER BY n)"
        skip = ["WHEN heads THEN 'heading'", *skip]
    return Records(source, {"line": "line"}, as_lines(log), job.path, skip=tuple(skip), whole="line")


def _of_several_lines(job: Job) -> Records:
    begins, table = job.log.begins or "", f"text_{job.tag}"
    checked(job, begins)
    numbered = f"SELECT line, row_number() OVER () AS n FROM {lines(job)}"
    record = f"sum(CAST(regexp_matches(line, {lit(begins)}) AS INTEGER)) OVER (ORDER BY n ROWS UNBOUNDED PRECEDING)"
    job.con.execute(
        f"CREATE OR REPLACE TABLE {table} AS SELECT r, string_agg(coalesce(line, ''), chr(10) ORDER BY n) AS line "
        f"FROM (SELECT line, n, {record} AS r FROM ({numbered})) GROUP BY r ORDER BY r"
    )
    spoiled = job.con.execute(f"SELECT min(line) FROM rejects_{job.tag}").fetchone()[0]
    if spoiled is not None:
        raise SourceError(f"{job.shown}: line {spoiled} is not text in the declared encoding, {job.log.encoding}")
    rows = job.con.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
    skip = ("WHEN r = 0 THEN 'before the first record'",)
    return Records(f"(SELECT * FROM {table})", {"line": "line"}, rows=rows, whole="line", skip=skip, temporary=table)


def matched(
    job: Job,
    pattern: str,
    names: Sequence[str],
    *,
    shape: str,
    unquote: Sequence[str] = (),
    unset: Sequence[str] = ("-",),
    derived: Mapping[str, str] | None = None,
) -> Records:
    """The groups of `pattern` (all groups, in their order, are called `names`) in each line.

    `shape` says in a reject what the line is not; a group that is empty or one of `unset` is an empty column. In the
    groups of `unquote` an escaped quote becomes a quote. `derived` columns are expressions over the groups g0, g1 ...
    """
    check(job, (*names, *(derived or ()), *headings(job.log), "line"))
    checked(job, pattern)
    asked = " ".join(sql for name, sql in (derived or {}).items() if name in job.wanted)
    kept = [
        i for i, n in enumerate(names) if not (i and job.wanted) or n in job.wanted or re.search(rf"\bg{i}\b", asked)
    ]
    keys = ", ".join(lit(f"g{i}") for i in kept)
    groups = ", ".join(f"m.g{i} AS g{i}" for i in kept)
    taken = f"regexp_extract(line, {lit(_capturing(pattern, kept))}, [{keys}])"
    whole = records_of(job)
    found = f"(SELECT * EXCLUDE (m), {groups} FROM (SELECT *, {taken} AS m FROM {whole.source}))"
    columns, empty = {}, ", ".join(lit(t) for t in ("", *unset))
    for i in kept:
        text = f"CASE WHEN g{i} NOT IN ({empty}) THEN g{i} END"
        columns[names[i]] = unescaped(text) if names[i] in unquote else text
    none = " AND ".join(f"g{i} = ''" for i in kept)
    skip, refused = list(whole.skip), f"CASE WHEN {none} THEN {lit('is no ' + shape)} END"
    if job.log.unmatched == "skip":
        skip, refused = [*skip, f"WHEN {none} THEN {lit(UNMATCHED)}"], ""
    everything = {**headings(job.log), **columns, **(derived or {}), "line": "line"}
    return dataclasses.replace(whole, source=found, columns=everything, skip=tuple(skip), refused=refused)


def _capturing(pattern: str, kept: Sequence[int]) -> str:
    """The pattern with only the groups numbered in `kept` capturing: each one that does costs time."""
    number = -1

    def one(found: re.Match[str]) -> str:
        nonlocal number
        if not found[0].startswith("(") or found[0] in ("(?:", "(?"):
            return found[0]
        number += 1
        return found[0] if number in kept else "(?:"

    return re.sub(r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|\(\?P<\w+>|\(\?:|\(\?|\(", one, pattern)


def unescaped(text: str) -> str:
    """Escaped quotes and backslashes as they were meant; nothing else is decoded."""
    undone = f"replace(replace(replace({text}, '\\x22', '\"'), '\\\"', '\"'), '\\\\', '\\')"
    return f"CASE WHEN contains({text}, '\\') THEN {undone} ELSE {text} END"


def checked(job: Job, pattern: str) -> None:
    """Raises SourceError where the engine cannot run the expression."""
    import duckdb

    try:
        job.con.execute("SELECT regexp_matches('', ?)", [pattern])
    except duckdb.Error as e:
        raise SourceError(f"{job.shown}: the pattern cannot be run: {str(e).splitlines()[0]}") from None


def group_names(pattern: str) -> list[str]:
    """A name for every group of a pattern: its own, or its number where it has none."""
    compiled = re.compile(pattern)
    own = {number: name for name, number in compiled.groupindex.items()}
    return [own.get(i, str(i)) for i in range(1, compiled.groups + 1)]
