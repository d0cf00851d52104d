"""The archive on disk: reading a snapshot, and changing it so that a kill at any moment leaves old or new.

archive/manifest.json          the only commit point (written aside, fsync, rename)
archive/ledger.jsonl           one line per import, each with the hash of the line before
archive/doors/2026-03/7.parquet       events of import 7 that start in March 2026 (UTC), by time
archive/doors/2026-03/7.keys.parquet  their record keys, for finding duplicates
archive/doors/carry/7.parquet         copies of those that leave their month or have no finish
archive/doors/rejects/7.parquet       records refused, with the reason
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fermata.archive import versions
from fermata.archive.duck import Local, Reader, scan
from fermata.archive.manifest import Carry, Manifest, Part
from fermata.chain import digest, follow
from fermata.errors import ArchiveDamaged
from fermata.fields import LogSchema
from fermata.locks import alone

__all__ = ["Archive", "Snapshot", "Writing"]

KEPT_AFTER = timedelta(days=1)
Say = Callable[[str], None]


@dataclass(frozen=True)
class Snapshot:
    """The archive at one moment. Files it names stay readable for at least a day."""

    root: Path
    manifest: Manifest

    def months(self, log: str, start: datetime, end: datetime) -> list[Part]:
        """The files of the UTC months that [start, end) touches."""
        first, last = f"{start:%Y-%m}", f"{end - timedelta(microseconds=1):%Y-%m}"
        return [p for p in self.manifest.log(log).parts if first <= p.month <= last]

    def events_sql(
        self,
        schema: LogSchema,
        start: datetime,
        end: datetime,
        *,
        spans: bool,
        known: datetime | None = None,
        reader: Reader | None = None,
    ) -> str:
        """A query over the events that may matter for naive UTC [start, end), in the schema's columns, in the SQL of
        `reader` (the embedded engine's by default).

        Versions that were replaced or deleted are left out; with `known` (naive UTC), so is all that came in later.

        Events that start in the period lie in the files of its UTC months; with `spans`, those that began in an
        earlier month and may reach into it come from the carried ones, so the past is never read.
        """
        reader = reader or Local(self.root)
        edge = start.replace(day=1, hour=0, minute=0, second=0, microsecond=0)
        parts = self.months(schema.name, start, end)
        carry = self.manifest.log(schema.name).carry
        carried = [c for c in carry if spans and datetime.fromisoformat(c.first) < edge]
        before = f" WHERE start_utc < TIMESTAMP '{edge:%Y-%m-%d}'"
        selects = [*self._selects(schema, parts, "", reader), *self._selects(schema, carried, before, reader)]
        if not selects:
            empty = ", ".join(
                f"{reader.typed('NULL', kind)} AS {reader.column(c)}" for c, kind in schema.columns.items()
            )
            return f"SELECT {empty} WHERE false"
        return self._standing(schema.name, " UNION ALL ".join(selects), known, reader)

    def standing_sql(self, schema: LogSchema, parts: Sequence[Part], where: str = "") -> str:
        """A query over the events of `parts` that stand, in the schema's columns; `where` follows each FROM."""
        here = Local(self.root)
        selects = self._selects(schema, parts, where, here)
        return self._standing(schema.name, " UNION ALL ".join(selects), None, here) if selects else ""

    def versions_sql(self, schema: LogSchema) -> tuple[str, str]:
        """Two queries, empty texts where nothing was ever replaced or deleted: the versions of entries that ended, with
        `how`, `since` and the file and record that ended them (`by_file`, `by_record`); and the versions that took
        their place.
        """
        state = self.manifest.log(schema.name)
        if not state.ended or not state.parts:
            return "", ""
        ended = scan([self.root / p for p in state.ended.values()])
        every = " UNION ALL ".join(self._selects(schema, state.parts, "", Local(self.root)))
        old = (
            f"SELECT e.*, x.how, x.since, x.by_file, x.by_record FROM ({every}) e JOIN {ended} x "
            "ON x.file_id = e.file_id AND x.record_no = e.record_no ORDER BY x.since, e.start_utc, e.file_id, "
            "e.record_no"
        )
        new = f"SELECT e.* FROM ({every}) e SEMI JOIN {ended} x ON x.by_file = e.file_id AND x.by_record = e.record_no"
        return old, new

    def _standing(self, log: str, query: str, known: datetime | None, reader: Reader) -> str:
        """The events of `query` without ended versions and without what came in after `known`."""
        state = self.manifest.log(log)
        if known:
            later = [str(i) for i, f in state.files.items() if f.known and datetime.fromisoformat(f.known) > known]
            if later:
                query = f"SELECT * FROM ({query}) WHERE file_id NOT IN ({', '.join(later)})"
        if not state.ended:
            return query
        ended = reader.files(list(state.ended.values()))
        return versions.without_ended(query, ended, known.isoformat() if known else None)

    def _selects(self, schema: LogSchema, files: Sequence[Part | Carry], where: str, reader: Reader) -> list[str]:
        """One query per set of files that hold the same columns; what a file does not hold is NULL."""
        alike: dict[tuple[str, ...], list[str]] = {}
        for file in files:
            alike.setdefault(file.columns, []).append(file.path)
        found = []
        for held, paths in alike.items():
            columns = ", ".join(
                f"{reader.typed(reader.column(c) if c in held else 'NULL', kind)} AS {reader.column(c)}"
                for c, kind in schema.columns.items()
            )
            found.append(f"SELECT {columns} FROM {reader.files(paths)}{where}")
        return found

    def rejects(self, log: str) -> list[Path]:
        """The Parquet files of the log's rejected records."""
        return [self.root / p for p in self.manifest.log(log).rejects.values()]


@dataclass
class Archive:
    """The archive directory of a workspace."""

    root: Path
    seen: tuple[tuple[int, int, int], Manifest] | None = field(default=None, repr=False, compare=False)

    @property
    def manifest_path(self) -> Path:
        """Where the commit point is."""
        return self.root / "manifest.json"

    def snapshot(self) -> Snapshot:
        """The archive as it is now; its manifest is read again where another file stands in its place."""
        try:
            stat = self.manifest_path.stat()
        except OSError:
            return Snapshot(self.root, Manifest.load(self.manifest_path))
        which = stat.st_ino, stat.st_mtime_ns, stat.st_size
        if self.seen is None or self.seen[0] != which:
            self.seen = which, Manifest.load(self.manifest_path)
        return Snapshot(self.root, self.seen[1])

    def ledger(self) -> list[dict[str, Any]]:
        """Every committed import, oldest first. Raises ArchiveDamaged where a line was changed or lost."""
        manifest = Manifest.load(self.manifest_path)
        path = self.root / "ledger.jsonl"
        raw = path.read_bytes()[: manifest.ledger_size] if path.exists() else b""
        lines, head = follow(raw, path)
        if head != manifest.ledger_head:
            raise ArchiveDamaged(f"{path}: does not end as the manifest says; lines were changed or lost")
        return lines

    def changed_files(self) -> list[str]:
        """What is wrong with the files the manifest names, a line each: gone, or not as the ledger says they were
        stored.

        Raises ArchiveDamaged where the ledger itself was changed.
        """
        stored = {path: mark for entry in self.ledger() for path, mark in entry.get("made", {}).items()}
        manifest = Manifest.load(self.manifest_path)
        wrong = []
        for path in sorted(manifest.paths() - set(manifest.retired)):
            try:
                found = digest(self.root / path)
            except OSError:
                wrong.append(f"{path} is gone or cannot be read")
                continue
            if found != stored.get(path, found):
                wrong.append(f"{path} is not as it was stored")
        return wrong

    @contextlib.contextmanager
    def writing(self, now: datetime, wait: float = 60, say: Say = lambda _: None) -> Iterator[Writing]:
        """The right to change the archive, held by one process at a time.

        Waits up to `wait` seconds for another import (saying so through `say`), then raises ArchiveBusy. What a
        killed import left behind is cleared first.
        """
        with alone(self.root / "lock", "import", wait, say):
            writing = Writing(self, Manifest.load(self.manifest_path), now)
            writing.clear_leftovers()
            try:
                yield writing
            finally:
                writing.syncer.shutdown()
                shutil.rmtree(writing.staging, ignore_errors=True)


@dataclass
class Writing:
    """An open change: files are prepared in `staging`, moved into place, and count only after `commit`."""

    archive: Archive
    manifest: Manifest
    now: datetime
    syncing: dict[str, Future[str]] = field(default_factory=dict)
    syncer: ThreadPoolExecutor = field(default_factory=lambda: ThreadPoolExecutor(max_workers=2))

    @property
    def root(self) -> Path:
        """The archive's directory."""
        return self.archive.root

    @property
    def staging(self) -> Path:
        """Where files are prepared; same disk, so that moving them is a rename."""
        path = self.root / "staging"
        path.mkdir(exist_ok=True)
        return path

    def clear_leftovers(self) -> None:
        """Removes what no manifest names: staged files of a killed import, and files retired over a day ago."""
        shutil.rmtree(self.root / "staging", ignore_errors=True)
        expired = {p for p, at in self.manifest.retired.items() if datetime.fromisoformat(at) + KEPT_AFTER < self.now}
        for path in expired:
            del self.manifest.retired[path]
        kept = self.manifest.paths()
        for file in self.root.rglob("*.parquet"):
            if file.relative_to(self.root).as_posix() not in kept:
                file.unlink(missing_ok=True)

    def retire(self, paths: list[str]) -> None:
        """Files that leave the manifest with the next commit; readers may still be on them."""
        self.manifest.retired.update(dict.fromkeys(paths, self.now.isoformat()))

    def place(self, staged: Path, target: str) -> None:
        """Moves a finished file to its place; until the commit, which waits for the disk, nothing refers to it."""
        path = self.root / target
        path.parent.mkdir(parents=True, exist_ok=True)
        staged.replace(path)
        self.syncing[target] = self.syncer.submit(_settled, path)  # on its way to disk while the next is made

    def commit(self, entry: dict[str, Any]) -> None:
        """Writes the ledger line with the SHA-256 of each new file, then the manifest: from the rename on, the change
        has happened.
        """
        manifest = self.manifest
        made = {target: pending.result() for target, pending in self.syncing.items()}
        self.syncing.clear()
        line = json.dumps({"previous": manifest.ledger_head, **entry, "made": made}, sort_keys=True).encode()
        with (self.root / "ledger.jsonl").open("ab") as f:
            f.truncate(manifest.ledger_size)  # the torn line of a killed import
            f.write(line + b"\n")
            f.flush()
            os.fsync(f.fileno())
        manifest.ledger_size += len(line) + 1
        manifest.ledger_head = hashlib.sha256(line).hexdigest()
        manifest.number += 1
        aside = self.archive.manifest_path.with_suffix(".new")
        with aside.open("w", encoding="utf-8") as f:
            f.write(manifest.to_json())
            f.flush()
            os.fsync(f.fileno())
        aside.replace(self.archive.manifest_path)
        _sync_directory(self.root)


def _settled(path: Path) -> str:
    """Makes a file and its name durable; its SHA-256."""
    with path.open("rb") as f:
        os.fsync(f.fileno())
    _sync_directory(path.parent)
    return digest(path)


def _sync_directory(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
