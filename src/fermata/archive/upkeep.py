"""Writing and rewriting the archive's Parquet files: immutable ones are never changed, new ones take their place."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from fermata.archive import duplicates
from fermata.archive.duck import ident, lit, scan
from fermata.archive.manifest import Part
from fermata.archive.store import Writing

__all__ = ["ORDER", "edges", "edges_sql", "keeping", "place", "refresh_keys"]

ORDER = "ORDER BY start_utc, file_id, record_no, event_no"


def place(con: Any, writing: Writing, query: str, target: str, compression: str = "zstd") -> int:
    """Writes the rows of `query` as the Parquet file `target` of the archive; its size in bytes.

    The encodings of Parquet's second version (differences of numbers and times) are written in two thirds of the time,
    are two thirds of the size and are read sooner.
    """
    staged: Path = writing.staging / "part.parquet"
    how = f"FORMAT parquet, PARQUET_VERSION v2, COMPRESSION {compression}"
    con.execute(f"COPY ({query}) TO {lit(str(staged))} ({how})")
    size = staged.stat().st_size
    writing.place(staged, target)
    return size


def edges_sql(entry: Sequence[str]) -> str:
    """Two columns, the least and the greatest value of what a log's key begins with; NULL without a key."""
    return f"min({ident(entry[0])}), max({ident(entry[0])})" if entry else "NULL, NULL"


def edges(found: Sequence[Any]) -> tuple[Any, ...]:
    """The two as a Part holds them; none where they are neither texts nor numbers."""
    return tuple(found) if all(type(v) in (str, int) for v in found) else ()


def keeping(con: Any, writing: Writing, part: Any, kept: str) -> Any:
    """A file like `part` (a Part or a Carry) with only the events for which the condition `kept` holds; None if none is
    left.
    """
    number = writing.manifest.number + 1
    path = f"{part.path.removesuffix('.parquet')}-{number}.parquet"
    source = scan([writing.root / part.path])
    place(con, writing, f"SELECT * FROM {source} WHERE {kept} {ORDER}", path)
    fresh = scan([writing.root / path])
    ends = "max(coalesce(finish_utc, start_utc)), count(*) FILTER (finish_utc IS NULL)"
    rows, files, first, last, until, unfinished = con.execute(
        f"SELECT count(*), list_sort(list(DISTINCT file_id)), min(start_utc), max(start_utc), {ends} FROM {fresh}"
    ).fetchone()
    if not rows:
        return None
    changed: dict[str, Any] = {"path": path, "rows": rows, "files": tuple(files), "first": first.isoformat()}
    if isinstance(part, Part):
        keys = f"{part.keys.removesuffix('.keys.parquet')}-{number}.keys.parquet"
        held = f"SELECT k.* FROM {scan([writing.root / part.keys])} k SEMI JOIN {fresh} e USING (file_id, record_no)"
        place(con, writing, held, keys)
        size = (writing.root / path).stat().st_size
        between = con.execute(f"SELECT {edges_sql(part.entry)} FROM {fresh}").fetchone()
        changed |= {
            "keys": keys,
            "last": last.isoformat(),
            "until": until.isoformat(),
            "unfinished": unfinished,
            "size": size,
            "between": edges(between),
        }
    return dataclasses.replace(part, **changed)


def refresh_keys(con: Any, writing: Writing, say: Callable[[str], None]) -> None:
    """Writes all sidecars anew where the engine's hash has changed since they were written."""
    manifest = writing.manifest
    now = duplicates.probe(con)
    if manifest.key_probe not in ("", now):
        for name, log in manifest.logs.items():
            say(f"{name}: making record keys anew for this version of the engine")
            log.parts = [_with_keys(con, writing, p) for p in log.parts]
    manifest.key_probe = now


def _with_keys(con: Any, writing: Writing, part: Part) -> Part:
    source = scan([writing.root / part.path])
    columns = [c for c in part.columns if c not in ("file_id", "record_no", "event_no")]
    name = f"{part.path.removesuffix('.parquet')}-{writing.manifest.number + 1}.keys.parquet"
    first = "QUALIFY row_number() OVER (PARTITION BY file_id, record_no ORDER BY event_no) = 1"
    place(con, writing, f"SELECT {duplicates.sidecar_sql(columns, part.entry)} FROM {source} {first}", name)
    writing.retire([part.keys])
    return dataclasses.replace(part, keys=name)
