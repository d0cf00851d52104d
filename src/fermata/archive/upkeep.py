"""Writing and rewriting the archive's Parquet files: immutable ones are never changed, new ones take their place."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

from fermata.archive import duplicates
from fermata.archive.duck import ident, lit, scan
from fermata.archive.manifest import Part
from fermata.archive.store import Writing

__all__ = ["HASHES", "ORDER", "File", "edges", "edges_sql", "keeping", "place", "place_all", "refresh_keys"]

ORDER = "ORDER BY start_utc, file_id, record_no, event_no"
ROWS = "snappy, DICTIONARY_SIZE_LIMIT 8192"  # a block's different values that are worth a list
HASHES = "uncompressed, DICTIONARY_SIZE_LIMIT 64"  # they do not compress, and are all different
MOST_AT_ONCE = 4  # files written beside each other, each with a block of rows in memory


class File(NamedTuple):
    """A Parquet file to be written: the rows of `query` as `target` of the archive. `said` when it is begun."""

    query: str
    target: str
    compression: str = ROWS
    said: str = ""


def place(con: Any, writing: Writing, file: File) -> int:
    """Writes a Parquet file of the archive; its size in bytes.

    The encodings of Parquet's second version (differences of numbers and times) are written in two thirds of the time,
    are two thirds of the size and are read sooner. After them, what compresses harder than snappy (zstd) saves a
    fourteenth of such records, of long texts a quarter, and takes up to twice the time of reading one person's events.
    """
    staged = writing.staging / file.target.replace("/", "-")
    how = f"FORMAT parquet, PARQUET_VERSION v2, COMPRESSION {file.compression}"
    con.execute(f"COPY ({file.query}) TO {lit(str(staged))} ({how})")
    size = staged.stat().st_size
    writing.place(staged, file.target)
    return size


def place_all(con: Any, writing: Writing, files: Sequence[File], say: Callable[[str], None]) -> list[int]:
    """Writes files as `place` does; their sizes. Many are written beside each other, by one thread each: that is less
    work than to share each out among threads and to put its rows in order again.
    """

    def one(file: File) -> int:
        if file.said:
            say(file.said)
        return place(con.cursor(), writing, file)

    (threads,) = con.execute("SELECT current_setting('threads')").fetchone()
    if len(files) < 2 * threads or threads == 1:
        return [one(f) for f in files]
    con.execute("SET threads = 1")
    with ThreadPoolExecutor(min(threads, MOST_AT_ONCE)) as pool:
        begun = [pool.submit(one, f) for f in files]
        try:
            return [b.result() for b in begun]
        finally:
            pool.shutdown(cancel_futures=True)  # what failed, or was broken off, begins no other
            con.execute(f"SET threads = {threads}")


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
    place(con, writing, File(f"SELECT * FROM {source} WHERE {kept} {ORDER}", path))
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
        place(con, writing, File(held, keys, HASHES))
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
    query = f"SELECT {duplicates.sidecar_sql(columns, part.entry)} FROM {source} {first}"
    place(con, writing, File(query, name, HASHES))
    writing.retire([part.keys])
    return dataclasses.replace(part, keys=name)
