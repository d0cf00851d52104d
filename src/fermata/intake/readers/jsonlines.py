"""JSON Lines: one object a line. A column is a path: `user.name`, `items[0].id`, or `/user/name` (RFC 6901)."""

from __future__ import annotations

import re

from fermata.archive.duck import lit
from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import BLANK, as_lines, lines

__all__ = ["open", "paths", "ways"]

PLACE = re.compile("[0-9]+")


def open(job: Job) -> Records:
    """Opens a text of JSON objects. A path that a record does not have is an empty column."""
    wanted = [c for c in dict.fromkeys(job.wanted) if c != "line"]
    places: dict[str, list[int]] = {}
    asked: list[str] = []
    for column in wanted:
        for path in paths(column):
            places.setdefault(column, []).append(len(asked) + 1)
            asked.append(path)
    listed = ", ".join(lit(p) for p in asked) or "'$'"
    taken = f"TRY(json_extract_string(line, [{listed}]))"
    source = f"(SELECT line, {taken} AS j FROM {lines(job)})"
    columns = {}
    for column, numbers in places.items():
        texts = [f"nullif(j[{n}], '')" for n in numbers]
        columns[column] = texts[0] if len(texts) == 1 else f"coalesce({', '.join(texts)})"
    refused = "CASE WHEN j IS NULL OR NOT starts_with(ltrim(line), '{') THEN 'is no JSON object' END"
    return Records(
        source, {**columns, "line": "line"}, as_lines(job.log), job.path, skip=(BLANK,), refused=refused, whole="line"
    )


def ways(column: str) -> list[list[str | int]]:
    """The ways to a column, as keys and places: a key written just so comes before a way through nested objects."""
    if column.startswith("/"):
        steps = [p.replace("~1", "/").replace("~0", "~") for p in column[1:].split("/")]
        return [[int(p) if PLACE.fullmatch(p) else p for p in steps]]
    if not re.search(r"[.\[]", column):
        return [[column]]
    found = re.finditer(r"\[([0-9]+)\]|([^.\[\]]+)", column)
    return [[column], [int(s[1]) if s[1] else s[2] for s in found]]


def paths(column: str) -> list[str]:
    """The same as the engine's paths."""
    return ["$" + "".join(f"[{s}]" if isinstance(s, int) else f".{_key(s)}" for s in way) for way in ways(column)]


def _key(name: str) -> str:
    return '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'
