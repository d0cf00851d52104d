"""Putting small files together: one file for each month of a log, however many imports it came in. Figures, provenance,
fingerprints stay.

Every import adds a file to each month it touches, so that importing never rewrites what is stored; a year of daily
imports leaves thirty files to a month, which every report opens. Compaction is a step of its own, for a quiet hour.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.archive import upkeep
from fermata.archive.duck import connect, scan
from fermata.archive.manifest import Carry, Part
from fermata.archive.store import Archive, Writing

__all__ = ["Compaction", "compact"]

Say = Callable[[str], None]


@dataclass(frozen=True)
class Compaction:
    """What was put together in a log, or would be: files before and after, and the events in them."""

    log: str
    before: int
    after: int
    events: int
    done: bool


def compact(
    archive: Archive,
    log: str,
    now: datetime,
    *,
    least: int = 2,
    dry: bool = False,
    wait: float = 60,
    say: Say = lambda _: None,
) -> Compaction:
    """Puts the files of each month of `log` together where there are at least `least` of them; `now` is naive UTC.

    Files that hold different fields stay apart. Raises ArchiveBusy, DataError.
    """
    with archive.writing(now, wait, say) as writing:
        state = writing.manifest.log(log)
        groups = [g for g in _alike(state.parts, lambda p: (p.month, p.columns, p.entry)) if len(g) >= least]
        carried = [g for g in _alike(state.carry, lambda c: c.columns) if len(g) >= least]
        chosen = [f for g in (*groups, *carried) for f in g]
        found = Compaction(
            log,
            len(chosen),
            len(groups) + len(carried),
            sum(p.rows for g in groups for p in g),
            not dry and bool(chosen),
        )
        if not found.done:
            return found
        con = connect(writing.staging / "spill")
        number = writing.manifest.next_import
        for group in groups:
            say(f"{log}: {group[0].month}, {len(group)} files become one")
            together = _part(con, writing, log, group, number)
            state.parts = [together if p is group[0] else p for p in state.parts if p not in group[1:]]
        for n, pieces in enumerate(carried):
            merged = _carry(con, writing, log, pieces, f"{number}_{n}")
            state.carry = [merged if c is pieces[0] else c for c in state.carry if c not in pieces[1:]]
        writing.manifest.next_import += 1
        writing.commit(
            {
                "import": number, "at": now.isoformat(), "log": log, "what": "compacted", "events": found.events,
                "files": [],
                "before": found.before, "after": found.after,
            }
        )  # fmt: skip
        return found


def _alike(files: Sequence[Any], key: Callable[[Any], Any]) -> list[list[Any]]:
    groups: dict[Any, list[Any]] = {}
    for file in files:
        groups.setdefault(key(file), []).append(file)
    return list(groups.values())


def _part(con: Any, writing: Writing, log: str, group: list[Part], number: int) -> Part:
    """One file, and one sidecar of keys, in the place of those of a month."""
    month = group[0].month
    same = sum(p.path.startswith(f"{log}/{month}/{number}") for p in writing.manifest.log(log).parts)
    name = f"{log}/{month}/{number}{f'_{same}' if same else ''}"
    events = f"SELECT * FROM {scan([writing.root / p.path for p in group])} {upkeep.ORDER}"
    size = upkeep.place(con, writing, upkeep.File(events, f"{name}.parquet"))
    keys = f"SELECT * FROM {scan([writing.root / p.keys for p in group])}"
    upkeep.place(con, writing, upkeep.File(keys, f"{name}.keys.parquet", upkeep.HASHES))
    writing.retire([path for p in group for path in (p.path, p.keys)])
    return Part(
        f"{name}.parquet", f"{name}.keys.parquet", month, sum(p.rows for p in group), size,
        tuple(sorted({f for p in group for f in p.files})),
        min(p.first for p in group), max(p.last for p in group), max(p.until for p in group),
        sum(p.unfinished for p in group), group[0].columns, group[0].entry,
        (min(p.between[0] for p in group), max(p.between[1] for p in group)) if all(p.between for p in group) else (),
    )  # fmt: skip


def _carry(con: Any, writing: Writing, log: str, group: list[Carry], number: str) -> Carry:
    name = f"{log}/carry/{number}.parquet"
    query = f"SELECT * FROM {scan([writing.root / c.path for c in group])} {upkeep.ORDER}"
    upkeep.place(con, writing, upkeep.File(query, name))
    writing.retire([c.path for c in group])
    files = tuple(sorted({f for c in group for f in c.files}))
    return Carry(name, sum(c.rows for c in group), files, min(c.first for c in group), group[0].columns)
