"""Versions of an entry: in a log with a key, a record with a known key and other content replaces the version before
it.

Nothing stored is changed: a version that was replaced or deleted is named in the log's `ended` files, with when that
became known, and readers leave out what had ended by the time they ask about.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fermata.archive.duck import ident
from fermata.archive.duplicates import Overlap, overlap_in

__all__ = ["ENDED", "Versions", "settle", "within", "without_ended"]

ENDED = "file_id INTEGER, record_no BIGINT, how VARCHAR, by_file INTEGER, by_record BIGINT, since TIMESTAMP"


@dataclass(frozen=True)
class Versions:
    """What a file's records do to the versions there are: duplicates, and the table of versions they end."""

    overlap: Overlap
    ended: str
    replaced: int
    deleted: int


def settle(
    con: Any,
    *,
    file_id: int,
    key: list[str],
    columns: list[str],
    events: str,
    live: str,
    at: str,
    complete: tuple[str, str] | None,
) -> Versions:
    """Compares a file's records with the `live` versions (a query), entry by entry, in the file's order.

    `columns` are those that make the content. `at` is when the file became known; `complete` are the UTC texts of
    [from, to) within which the file holds every entry there is, so that a missing one was deleted.
    """
    ended, copies = f"ended_{file_id}", f"dup_keys_{file_id}"
    keys, same = ", ".join(ident(k) for k in key), _same(key, "o")
    stretch = within(complete) if complete else ""
    _compare(con, key=key, columns=columns, events=events, live=live, stretch=stretch)
    con.execute(
        f"CREATE OR REPLACE TABLE {copies} AS SELECT record_no, coalesce(old_file, {file_id}) AS old_file FROM "
        "told "
        "WHERE known AND content IS NOT DISTINCT FROM prior"
    )
    con.execute(f"CREATE OR REPLACE TABLE {ended} ({ENDED})")
    con.execute(
        f"INSERT INTO {ended} SELECT coalesce(before_file, {file_id}), coalesce(before_record, old_record), "
        "'replaced', "
        f"{file_id}, record_no, TIMESTAMP '{at}' FROM (SELECT *, lag(record_no) OVER w AS before_record, "
        f"CASE WHEN lag(record_no) OVER w IS NULL THEN old_file END AS before_file FROM told "
        f"WHERE record_no NOT IN (SELECT record_no FROM {copies}) WINDOW w AS (PARTITION BY {keys} ORDER BY "
        "record_no)) "
        "WHERE before_record IS NOT NULL OR old_record IS NOT NULL"
    )
    replaced = con.execute(f"SELECT count(*) FROM {ended}").fetchone()[0]
    if complete:
        con.execute(
            f"INSERT INTO {ended} SELECT o.file_id, o.record_no, 'deleted', {file_id}, NULL, TIMESTAMP '{at}' "
            f"FROM live_versions o ANTI JOIN {events} n ON {same} WHERE {stretch}"
        )
    deleted = con.execute(f"SELECT count(*) FROM {ended}").fetchone()[0] - replaced
    return Versions(overlap_in(con, copies, events), ended, replaced, deleted)


def within(complete: tuple[str, str]) -> str:
    """The condition of events that start within [from, to), UTC texts."""
    return f"start_utc >= TIMESTAMP '{complete[0]}' AND start_utc < TIMESTAMP '{complete[1]}'"


def _same(key: list[str], other: str) -> str:
    return " AND ".join(f"n.{ident(k)} = {other}.{ident(k)}" for k in key)


def _compare(con: Any, *, key: list[str], columns: list[str], events: str, live: str, stretch: str) -> None:
    """Makes the table `live_versions` of the entries that are concerned, and `told`, which has each record of the file
    beside the content before it.
    """
    keys = ", ".join(ident(k) for k in key)
    content = "{" + ", ".join(f"{ident(c)}: {ident(c)}" for c in columns) + "}"
    # only the keys that the file names, and of a complete file all of its time: the rest of the archive is not touched
    near = f"SELECT l.* FROM ({live}) l SEMI JOIN {events} n ON {_same(key, 'l')}"
    if stretch:
        near += f" UNION SELECT * FROM ({live}) WHERE {stretch}"
    con.execute(
        f"CREATE OR REPLACE TABLE live_versions AS SELECT {keys}, {content} AS content, start_utc, file_id, "
        "record_no "
        f"FROM ({near}) QUALIFY row_number() OVER (PARTITION BY {keys} ORDER BY file_id DESC, record_no DESC) = 1"
    )
    con.execute(
        f"CREATE OR REPLACE TABLE told AS SELECT {', '.join(f'n.{ident(k)}' for k in key)}, n.record_no, "
        "n.content, "
        "CASE WHEN n.nth = 1 THEN o.content ELSE n.prior END AS prior, n.nth > 1 OR o.file_id IS NOT NULL AS known, "
        "o.file_id AS old_file, o.record_no AS old_record FROM ("
        f"SELECT {keys}, record_no, {content} AS content, row_number() OVER w AS nth, lag({content}) OVER w AS prior "
        f"FROM {events} WINDOW w AS (PARTITION BY {keys} ORDER BY record_no)) n "
        f"LEFT JOIN live_versions o ON {_same(key, 'o')}"
    )


def without_ended(query: str, ended: str, known: str | None = None) -> str:
    """The events of `query` that `ended` (a table expression) had not ended; by the UTC instant `known`, if given."""
    by_then = f" WHERE since <= TIMESTAMP '{known}'" if known else ""
    return (
        f"SELECT * FROM ({query}) e ANTI JOIN (SELECT file_id, record_no FROM {ended}{by_then}) x "
        "ON x.file_id = e.file_id AND x.record_no = e.record_no"
    )
