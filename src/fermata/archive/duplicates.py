"""Which records of a new file the archive already holds.

A record is a duplicate when its fields are equal to a stored one's *and* it is part of an overlap: the same file
grown, a run of at least two consecutive records, or a declared record id. A lone equal record is kept and
counted as a possible repeat: two people may well open one door in the same second.

Keys are the engine's own fast hash; since engines may change it, the manifest keeps a probe and the sidecars are
written anew from the events when it differs. A key only finds candidates: fields are compared before anything is
called a duplicate.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fermata.archive.duck import ident, scan

__all__ = ["Overlap", "find", "key_sql", "make_keys", "overlap_in", "probe", "sidecar_sql"]


@dataclass(frozen=True)
class Overlap:
    """The result for one file: duplicates by the file that holds the original, and lone equal records. `upto` is the
    last duplicate where they are the first records of the file, as of one that has grown.
    """

    table: str
    by_original: dict[int, int] = field(default_factory=dict)
    possible_repeats: int = 0
    upto: int = 0

    @property
    def duplicates(self) -> int:
        """Records that are not stored again."""
        return sum(self.by_original.values())

    @property
    def left_out(self) -> str:
        """A condition that keeps the other records, to stand behind a FROM."""
        if self.upto:
            return f" WHERE record_no > {self.upto}"
        return f" WHERE record_no NOT IN (SELECT record_no FROM {self.table})" if self.by_original else ""

    @property
    def mixes(self) -> bool:
        """Whether the other records come in another order than the file's, as out of a join."""
        return bool(self.by_original) and not self.upto


def probe(con: Any) -> str:
    """What the engine's hash gives for a fixed row; another value means sidecars must be made anew."""
    row = con.execute("SELECT hash(TIMESTAMP '2026-01-02 03:04:05', 'fermata', NULL::VARCHAR, 42::BIGINT)").fetchone()
    return str(row[0])


def key_sql(columns: Sequence[str]) -> str:
    """The key of a record: the hash of its first event's stored fields."""
    return f"hash({', '.join(ident(c) for c in columns)})"


def sidecar_sql(columns: list[str], entry: Sequence[str]) -> str:
    """What a sidecar holds of a record; in a log with a key, `entry` are the columns of it."""
    own = f", {key_sql(entry)} AS entry" if entry else ""
    return f"{key_sql(columns)} AS key, file_id, record_no{own}"


def make_keys(con: Any, events: str, columns: list[str], table: str, several: bool, entry: Sequence[str] = ()) -> None:
    """The view `table` of what the sidecar will hold, and start_utc: one row per record of `events`."""
    first = " QUALIFY row_number() OVER (PARTITION BY file_id, record_no ORDER BY event_no) = 1" if several else ""
    con.execute(f"CREATE VIEW {table} AS SELECT {sidecar_sql(columns, entry)}, start_utc FROM {events}{first}")


def find(
    con: Any,
    *,
    keys: str,
    events: str,
    columns: list[str],
    sidecars: list[Path],
    parts: list[Path],
    earlier: list[tuple[str, str]],
    ignored: list[int],
    grown_to: int,
    lone_too: bool,
) -> Overlap:
    """Compares one file's records with the archive's `parts` and the `earlier` (keys, events) of this import.

    `ignored` files are about to be replaced; records up to number `grown_to` come from the same file when it was
    shorter; `lone_too` is set by a declared record id or `repeats = "drop"`.
    """
    table = f"dup_{keys}"
    stored = [f"SELECT key, file_id, record_no FROM {scan(sidecars)}"] if sidecars else []
    stored += [f"SELECT key, file_id, record_no FROM {k}" for k, _ in earlier]
    if lone_too:
        stored.append(
            f"SELECT key, file_id, min(record_no) AS record_no FROM {keys} GROUP BY key, file_id HAVING count(*) > 1"
        )
    if not stored:
        return Overlap("")
    out = f" AND file_id NOT IN ({', '.join(map(str, ignored))})" if ignored else ""
    con.execute(
        f"CREATE OR REPLACE TABLE held AS SELECT * FROM ({' UNION ALL '.join(stored)}) s "
        f"WHERE key IN (SELECT key FROM {keys}){out}"
    )
    if not con.execute("SELECT 1 FROM held LIMIT 1").fetchone():
        return Overlap("")
    con.execute(
        "CREATE OR REPLACE TABLE matched AS SELECT k.record_no, k.key, o.file_id AS old_file, o.record_no AS "
        "old_record, "
        f"o.n, k.seq FROM (SELECT *, row_number() OVER (ORDER BY record_no) AS seq FROM {keys}) k JOIN ("
        "SELECT key, min(file_id) AS file_id, arg_min(record_no, (file_id, record_no)) AS record_no, count(*) AS n "
        "FROM held GROUP BY key) o USING (key) "
        "WHERE NOT (k.file_id = o.file_id AND k.record_no = o.record_no)"
    )
    _drop_unequal(con, events, columns, parts, [e for _, e in earlier] + ([events] if lone_too else []))
    overlap = "true" if lone_too else f"(run > 1 OR record_no <= {grown_to})"
    at_most = "true" if lone_too else "copy <= n"
    con.execute(
        f"CREATE TABLE {table} AS SELECT record_no, old_file FROM ("
        "SELECT *, row_number() OVER (PARTITION BY key ORDER BY record_no) AS copy FROM ("
        "SELECT *, count(*) OVER (PARTITION BY island) AS run FROM ("
        "SELECT *, seq - row_number() OVER (ORDER BY seq) AS island FROM matched)) "
        f"WHERE {overlap}) WHERE {at_most}"
    )
    found = overlap_in(con, table, keys)
    matched = con.execute("SELECT count(*) FROM matched").fetchone()[0]
    return dataclasses.replace(found, possible_repeats=matched - found.duplicates)


def overlap_in(con: Any, table: str, records: str) -> Overlap:
    """The overlap whose record numbers and originals stand in `table`; `records` are all of the file."""
    by_original = dict(con.execute(f"SELECT old_file, count(*) FROM {table} GROUP BY ALL").fetchall())
    if not by_original:
        return Overlap(table)
    last, count = con.execute(f"SELECT max(record_no), count(DISTINCT record_no) FROM {table}").fetchone()
    (there,) = con.execute(f"SELECT count(DISTINCT record_no) FROM {records} WHERE record_no <= {last}").fetchone()
    return Overlap(table, by_original, upto=last if there == count else 0)


def _drop_unequal(con: Any, events: str, columns: list[str], parts: list[Path], earlier: list[str]) -> None:
    """Takes out of `matched` every record whose key is equal but whose fields are not."""
    named = ", ".join(f"e.{ident(c)}" for c in (*columns, "event_no"))
    plain = ", ".join(ident(c) for c in (*columns, "file_id", "record_no", "event_no"))
    sources = ([f"SELECT {plain} FROM {scan(parts)}"] if parts else []) + [f"SELECT {plain} FROM {e}" for e in earlier]
    new = f"SELECT m.record_no, {named} FROM matched m JOIN {events} e USING (record_no)"
    old = (
        f"SELECT m.record_no, {named} FROM matched m JOIN ({' UNION ALL '.join(sources)}) e "
        "ON e.file_id = m.old_file AND e.record_no = m.old_record"
    )
    con.execute(
        f"DELETE FROM matched WHERE record_no IN (SELECT record_no FROM (({new} EXCEPT ALL {old}) "
        f"UNION ALL ({old} EXCEPT ALL {new})))"
    )
