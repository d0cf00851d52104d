"""What is kept and said of a staged file beside its events."""

from __future__ import annotations

from typing import Any

from fermata.archive import SourceFile
from fermata.archive.duck import ident
from fermata.archive.duplicates import Overlap
from fermata.archive.versions import Versions
from fermata.fields import LogSchema
from fermata.intake.file_stage import FileStage
from fermata.intake.mapping import LogMap
from fermata.intake.readers import counting, delimited

__all__ = ["entry"]

MOST_VALUES = 200  # different actions or outcomes of a file that the manifest keeps


def entry(
    con: Any, log: LogMap, schema: LogSchema, stage: FileStage, overlap: Overlap, changes: Versions | None
) -> SourceFile:
    """The file as the ledger keeps it; `changes` for a log with a key. Which import it belongs to, and what was
    declared of it, its reader does not know.
    """
    asked = f"SELECT count(*), min(start_utc), max(start_utc) FROM {stage.events}{overlap.left_out}"
    known = None if overlap.left_out else stage.held
    stored, first, last = known or con.execute(asked).fetchone()
    counted, newer = stage.counted, changes.replaced if changes else 0
    assumed = (stage.inferred, _nulls(log, counted), _nowhere(con, log, schema, stage, stored))
    return SourceFile(
        id=stage.file_id,
        path=str(stage.path),
        sha256=counted.sha256,
        size=counted.size,
        import_no=0,
        mapping="",
        read=stage.read,
        stored=_records(con, log, stage) - overlap.duplicates - newer,
        replaced=newer,
        deleted=changes.deleted if changes else 0,
        duplicate=overlap.duplicates,
        rejected=stage.rejected,
        skipped=stage.skipped,
        events=stored,
        possible_repeats=overlap.possible_repeats,
        twice=stage.twice,
        never=stage.never,
        first=first.isoformat() if first else None,
        last=last.isoformat() if last else None,
        ends_in_newline=counted.ends_in_newline,
        leaned_on={str(k): v for k, v in sorted(overlap.by_original.items())},
        inferred="; ".join(filter(None, assumed)),
        values=_values(con, schema, stage),
    )


def _records(con: Any, log: LogMap, stage: FileStage) -> int:
    """Records that gave an event, counted from the events themselves and not by subtraction."""
    if len(log.parts()) == 1 and stage.held:
        return stage.held[0]
    distinct = "DISTINCT record_no" if len(log.parts()) > 1 else "*"
    return int(con.execute(f"SELECT count({distinct}) FROM {stage.events}").fetchone()[0])


def _nulls(log: LogMap, counted: counting.Counted) -> str:
    """What to say of NUL bytes, which are no part of a text and end none."""
    text = log.format in delimited.TEXTS and delimited.plain(log)
    return f"{counted.nulls:,} NUL bytes in it are no part of any text" if text and counted.nulls else ""


def _nowhere(con: Any, log: LogMap, schema: LogSchema, stage: FileStage, stored: int) -> str:
    """Ways into objects that no record has: a slip in one is no error to a reader, and the field is empty."""
    if not stored or not log.format.startswith("json"):
        return ""
    mapped = {n: f for part in log.parts() for n, f in part.items() if n in schema.by_name and f.read_columns}
    stored_as = {n: schema.by_name[n].stored for n in mapped}
    counts = ", ".join(f"count({ident(c)})" for c in stored_as.values())
    found = con.execute(f"SELECT {counts} FROM {stage.events}").fetchone() if counts else ()
    empty = [f"{', '.join(mapped[n].read_columns)} ({n})" for n, held in zip(mapped, found, strict=True) if not held]
    return f"no record has {', '.join(empty)}" if empty else ""


def _values(con: Any, schema: LogSchema, stage: FileStage) -> dict[str, dict[str, int]]:
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
