"""What is kept and said of a staged file beside its events."""

from __future__ import annotations

from typing import Any

from fermata.archive.duck import ident
from fermata.fields import LogSchema
from fermata.intake.file_stage import FileStage
from fermata.intake.mapping import LogMap
from fermata.intake.readers import delimited

__all__ = ["nowhere", "nulls", "values"]

MOST_VALUES = 200  # different actions or outcomes of a file that the manifest keeps


def nulls(log: LogMap, counted: delimited.Counted) -> str:
    """What to say of NUL bytes, which are no part of a text and end none."""
    text = log.format in delimited.TEXTS and delimited.plain(log)
    return f"{counted.nulls:,} NUL bytes in it are no part of any text" if text and counted.nulls else ""


def nowhere(con: Any, log: LogMap, schema: LogSchema, stage: FileStage, stored: int) -> str:
    """Ways into objects that no record has: a slip in one is no error to a reader, and the field is empty."""
    if not stored or not log.format.startswith("json"):
        return ""
    mapped = {n: f for part in log.parts() for n, f in part.items() if n in schema.by_name and f.read_columns}
    stored_as = {n: schema.by_name[n].stored for n in mapped}
    counts = ", ".join(f"count({ident(c)})" for c in stored_as.values())
    found = con.execute(f"SELECT {counts} FROM {stage.events}").fetchone() if counts else ()
    empty = [f"{', '.join(mapped[n].read_columns)} ({n})" for n, held in zip(mapped, found, strict=True) if not held]
    return f"no record has {', '.join(empty)}" if empty else ""


def values(con: Any, schema: LogSchema, stage: FileStage) -> dict[str, dict[str, int]]:
    """How often each action and outcome occurs, where the log's kind has a vocabulary for them."""
    found: dict[str, dict[str, int]] = {}
    for name in ("action", "outcome"):
        if schema.kind and name in schema.by_name:
            rows = con.execute(
                f"SELECT {name}, count(*) FROM {stage.events} WHERE {name} IS NOT NULL GROUP BY 1 ORDER BY 2 DESC, 1 "
                f"LIMIT {MOST_VALUES}"
            ).fetchall()
            found[name] = dict(rows)
    return found
