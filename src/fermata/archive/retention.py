"""Taking things out of the archive on purpose: an import by its number, and events older than a log keeps them.

Both can be tried first (`dry`), both are a line of the ledger, which keeps hashes and counts only.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.archive import upkeep
from fermata.archive.duck import connect, scan
from fermata.archive.manifest import LogState, Part, SourceFile
from fermata.archive.store import Archive, Writing
from fermata.errors import DataError, RequestError

__all__ = ["Removal", "expire", "undo_import"]

Say = Callable[[str], None]


@dataclass(frozen=True)
class Removal:
    """What was taken out, or would be: events, rejects kept with their text, the files they came from, and kept outputs
    of that time.
    """

    log: str
    events: int
    rejects: int
    files: tuple[SourceFile, ...]
    done: bool
    outputs: int = 0


def undo_import(
    archive: Archive, number: int, now: datetime, *, dry: bool = False, wait: float = 60, say: Say = lambda _: None
) -> Removal:
    """Takes import `number` out again, as if it had never been. Raises RequestError, DataError where others build on
    it.
    """
    with archive.writing(now, wait, say) as writing:
        for name, state in writing.manifest.logs.items():
            gone = {i for i, f in state.files.items() if f.import_no == number}
            if gone:
                _check_alone(name, state, number, gone)
                return _take_back(writing, name, state, number, gone, dry)
    raise RequestError(
        f"there is no import {number} whose records are still held; list them with: fermata import --list"
    )


def _check_alone(name: str, state: LogState, number: int, gone: set[int]) -> None:
    """Raises DataError where later imports lean on this one."""
    leaning = {f.import_no for i, f in state.files.items() if i not in gone and gone & {int(o) for o in f.leaned_on}}
    if state.ended:
        leaning |= {f.import_no for f in state.files.values() if f.import_no > number}
    if leaning:
        why = (
            "replace versions of its entries or follow it"
            if state.ended
            else "left out records because this one holds them"
        )
        raise DataError(
            f"import {number} of {name} cannot be taken back alone: import {', '.join(map(str, sorted(leaning)))} "
            f"{why}; "
            "take those back first, then import their files again"
        )


def _take_back(writing: Writing, name: str, state: LogState, number: int, gone: set[int], dry: bool) -> Removal:
    files = tuple(state.files[i] for i in sorted(gone))
    con = connect(writing.staging / "spill")
    rejects = _count_rejects(con, writing, state, gone)
    removal = Removal(name, sum(f.events for f in files), rejects, files, not dry)
    if dry:
        return removal
    kept = lambda part: f"file_id NOT IN ({', '.join(map(str, sorted(gone)))})"  # noqa: E731
    _rewrite(con, writing, state, lambda part: bool(set(part.files) & gone), kept)
    for held in (state.rejects, state.ended):
        if path := held.pop(str(number), None):
            writing.retire([path])
    state.corrected = {k: v for k, v in state.corrected.items() if k != str(number) and v != number}
    for i in gone:
        del state.files[i]
    _commit(writing, "taken back", removal, {"taken_back": number})
    return removal


def expire(
    archive: Archive,
    log: str,
    before: datetime,
    now: datetime,
    *,
    dry: bool = False,
    wait: float = 60,
    say: Say = lambda _: None,
) -> Removal:
    """Drops the events of `log` that ended before the naive UTC instant `before`, and the rejects of files wholly
    older.

    An event without finish counts by its start. Later imports skip records of that time.
    """
    with archive.writing(now, wait, say) as writing:
        state = writing.manifest.logs.get(log)
        if state is None:
            raise RequestError(f"the log {log} holds no events")
        con = connect(writing.staging / "spill")
        edge = f"TIMESTAMP '{before.isoformat(sep=' ')}'"
        old = [p for p in state.parts if datetime.fromisoformat(p.first) < before]
        counts: dict[int, int] = {}
        if old:
            counts = dict(
                con.execute(
                    f"SELECT file_id, count(*) FROM {scan([writing.root / p.path for p in old])} "
                    f"WHERE coalesce(finish_utc, start_utc) < {edge} GROUP BY 1"
                ).fetchall()
            )
        files = tuple(state.files[i] for i in sorted(counts))
        past = {i for i, f in state.files.items() if f.last and datetime.fromisoformat(f.last) < before}
        removal = Removal(log, sum(counts.values()), _count_rejects(con, writing, state, past), files, not dry)
        if dry:
            return removal
        kept = lambda part: f"coalesce(finish_utc, start_utc) >= {edge}"  # noqa: E731
        _rewrite(con, writing, state, lambda part: datetime.fromisoformat(part.first) < before, kept)
        for i, n in counts.items():
            state.files[i] = dataclasses.replace(state.files[i], expired=state.files[i].expired + n)
        _drop_rejects(con, writing, state, past)
        state.kept_from = max(filter(None, (state.kept_from, before.isoformat())))
        _commit(writing, "expired", removal, {"before": before.isoformat()})
        return removal


def _rewrite(
    con: Any, writing: Writing, state: LogState, touched: Callable[[Any], bool], kept: Callable[[Any], str]
) -> None:
    """Writes the parts and carried events anew without what is to go; what loses nothing stays as it is."""
    for name, rows in (("parts", state.parts), ("carry", state.carry)):
        left: list[Any] = []
        for part in rows:
            if not touched(part):
                left.append(part)
                continue
            writing.retire([part.path, part.keys] if isinstance(part, Part) else [part.path])
            if fresh := upkeep.keeping(con, writing, part, kept(part)):
                left.append(fresh)
        setattr(state, name, left)


def _count_rejects(con: Any, writing: Writing, state: LogState, files: set[int]) -> int:
    paths = [writing.root / p for p in state.rejects.values()]
    if not paths or not files:
        return 0
    named = ", ".join(map(str, sorted(files)))
    return int(con.execute(f"SELECT count(*) FROM {scan(paths)} WHERE file_id IN ({named})").fetchone()[0])


def _drop_rejects(con: Any, writing: Writing, state: LogState, files: set[int]) -> None:
    """Drops the kept texts of rejects of `files`; their count stays in the ledger and with their file."""
    if not files:
        return
    named = ", ".join(map(str, sorted(files)))
    for number, path in list(state.rejects.items()):
        source = scan([writing.root / path])
        left, all_of = con.execute(
            f"SELECT count(*) FILTER (file_id NOT IN ({named})), count(*) FROM {source}"
        ).fetchone()
        if left == all_of:
            continue
        writing.retire([path])
        del state.rejects[number]
        if left:
            name = f"{path.removesuffix('.parquet')}-{writing.manifest.number + 1}.parquet"
            query = f"SELECT * FROM {source} WHERE file_id NOT IN ({named})"
            upkeep.place(con, writing, upkeep.File(query, name))
            state.rejects[number] = name


def _commit(writing: Writing, what: str, removal: Removal, more: dict[str, Any]) -> None:
    writing.manifest.next_import += 1
    writing.commit(
        {
            "import": writing.manifest.next_import - 1,
            "at": writing.now.isoformat(),
            "log": removal.log,
            "what": what,
            "events": removal.events,
            "rejects": removal.rejects,
            "files": [{"id": f.id, "sha256": f.sha256, "events": f.events} for f in removal.files],
            **more,
        }
    )
