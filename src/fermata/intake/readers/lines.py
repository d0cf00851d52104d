"""Lines of a text, and what regular expressions take out of them; the other line readers build on this."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.intake.mapping import LogMap
from fermata.intake.readers import NO_DELIMITER, Job, Records, check, delimited

__all__ = ["UNMATCHED", "as_lines", "lines", "matched"]

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
    layout = as_lines(job.log)
    return f"(SELECT r1 AS line FROM {delimited.read_sql(job.path, layout, ['line'], job.tag)})"


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
    check(job, (*names, *(derived or ()), "line"))
    checked(job, pattern)
    asked = " ".join(sql for name, sql in (derived or {}).items() if name in job.wanted)
    kept = [
        i for i, n in enumerate(names) if not (i and job.wanted) or n in job.wanted or re.search(rf"\bg{i}\b", asked)
    ]
    keys = ", ".join(lit(f"g{i}") for i in kept)
    groups = ", ".join(f"m.g{i} AS g{i}" for i in kept)
    taken = f"regexp_extract(line, {lit(_capturing(pattern, kept))}, [{keys}])"
    found = f"(SELECT line, {groups} FROM (SELECT line, {taken} AS m FROM {lines(job)}))"
    columns, empty = {}, ", ".join(lit(t) for t in ("", *unset))
    for i in kept:
        text = f"CASE WHEN g{i} NOT IN ({empty}) THEN g{i} END"
        columns[names[i]] = unescaped(text) if names[i] in unquote else text
    none = " AND ".join(f"g{i} = ''" for i in kept)
    skip, refused = [BLANK], f"CASE WHEN {none} THEN {lit('is no ' + shape)} END"
    if job.log.unmatched == "skip":
        skip, refused = [BLANK, f"WHEN {none} THEN {lit(UNMATCHED)}"], ""
    everything = {**columns, **(derived or {}), "line": "line"}
    return Records(found, everything, as_lines(job.log), job.path, skip=tuple(skip), refused=refused, whole="line")


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
