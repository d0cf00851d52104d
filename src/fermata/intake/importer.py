"""Importing files into the archive: parse, compare, store, prove the sums, commit.

Small files are taken together, up to `BATCH_BYTES`, into one import; each import is one line of the ledger and
either happens or does not.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata.archive import Archive, LogState, SourceFile, duplicates, upkeep
from fermata.archive.duck import connect, ident, watched
from fermata.archive.manifest import Carry, Part
from fermata.archive.store import Writing
from fermata.errors import DataError, FermataError, SourceError
from fermata.fields import LogSchema
from fermata.intake import opening
from fermata.intake.expressions import from_name
from fermata.intake.mapping import LogMap
from fermata.intake.readers import delimited
from fermata.intake.stage import FileStage, stage_file

__all__ = ["Outcome", "import_files"]

BATCH_BYTES = 256 << 20
Progress = Callable[[str], None]


@dataclass(frozen=True)
class Outcome:
    """What became of one file. `unchanged` names the import that already holds it; else `file` has the figures."""

    path: str
    file: SourceFile | None = None
    unchanged: SourceFile | None = None
    replaces: tuple[int, ...] = ()


@dataclass
class _Batch:
    """Files of one import on their way: staged in the engine, not yet in the archive."""

    number: int
    stages: list[FileStage] = field(default_factory=list)
    files: list[SourceFile] = field(default_factory=list)
    keys: list[tuple[str, str]] = field(default_factory=list)
    overlaps: list[duplicates.Overlap] = field(default_factory=list)
    superseded: set[int] = field(default_factory=set)
    outcomes: list[Outcome] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes of the files taken so far."""
        return sum(f.size for f in self.files)


def import_files(
    archive: Archive,
    log: LogMap,
    schema: LogSchema,
    paths: Iterable[Path],
    *,
    base: Path,
    now: datetime,
    complete_to: datetime | None = None,
    wait: float = 60,
    progress: Progress = lambda _: None,
) -> list[Outcome]:
    """Imports `paths` in the order given; paths are kept relative to `base` where they lie below it.

    `now` (naive UTC) is when the import is said to happen; `complete_to` declares that the log holds everything up to
    that instant. Raises SourceError for a file that cannot be read as mapped; files of imports already committed stay.
    """
    import duckdb

    found: list[Outcome] = []
    try:
        with archive.writing(now, wait, progress) as writing:
            importer = _Importer(writing, log, schema, base, progress)
            with importer.background, watched(importer.con, progress):
                for batch in importer.batches(list(paths)):
                    importer.store(batch, complete_to)
                    found += batch.outcomes
    except (duckdb.Error, OSError) as e:
        if isinstance(e, FermataError):
            raise
        raise DataError(
            f"the import failed; what is not listed as stored changed nothing: {str(e).splitlines()[0]}"
        ) from e
    return found


@dataclass
class _Importer:
    writing: Writing
    log: LogMap
    schema: LogSchema
    base: Path
    progress: Progress

    def __post_init__(self) -> None:
        self.con = connect(self.writing.staging / "spill")
        self.background = ThreadPoolExecutor(max_workers=1)
        self.mapping = self.log.digest(self.schema.zone)
        self.columns = [c for c in self.schema.columns if c not in ("file_id", "record_no", "event_no")]
        upkeep.refresh_keys(self.con, self.writing, self.progress)

    @property
    def state(self) -> LogState:
        """The log as the archive holds it, made on first use."""
        return self.writing.manifest.logs.setdefault(self.schema.name, LogState())

    def batches(self, paths: list[Path]) -> Iterator[_Batch]:
        """The files in order, taken together until they are big enough for an import of their own."""
        batch = self._batch()
        queue = list(paths)
        while queue:
            path = queue.pop(0)
            needed = self._take(batch, path)
            if needed:
                queue = [*needed, path, *queue]
            elif batch.size >= BATCH_BYTES:
                yield batch
                batch = self._batch()
        yield batch

    def _batch(self) -> _Batch:
        return _Batch(self.writing.manifest.next_import)

    def _take(self, batch: _Batch, path: Path) -> list[Path]:
        """Stages one file, or returns the files that must come before it."""
        shown = self._shown(path)
        with opening.unpacked(path, self.writing.staging) as plain:
            return self._take_plain(batch, plain, shown)

    def _take_plain(self, batch: _Batch, path: Path, shown: str) -> list[Path]:
        live = {i: f for i, f in self.state.files.items() if i not in batch.superseded}
        known = [*live.values(), *batch.files]
        size = path.stat().st_size
        named = " ".join(from_name(p, Path(shown)) for p in self.log.name_patterns)
        alike = [f for f in known if f.mapping == self.mapping and f.from_name == named]
        self.progress(f"reading {shown}, {size / 1e6:,.1f} MB")
        counting = self.background.submit(delimited.count, path, tuple({f.size for f in known}))
        if any(f.size == size or (f.size < size and f.mapping != self.mapping) for f in known):
            counting.result()  # what is known already, or replaces another file, is settled before it is parsed
        replaced: set[int] = set()
        if counting.done():
            counted = counting.result()
            same = next((f for f in alike if f.sha256 == counted.sha256), None)
            if same:
                batch.outcomes.append(Outcome(shown, unchanged=same))
                return []
            replaced = {f.id for f in _within(known, counted) if f.mapping != self.mapping}
            if needed := self._leaned_on(replaced, live):
                return needed
            batch.superseded |= replaced
        file_id = self.writing.manifest.next_file
        kept = datetime.fromisoformat(self.state.kept_from) if self.state.kept_from else None
        scratch = self.writing.staging
        stage = stage_file(self.con, path, Path(shown), file_id, self.log, self.schema, counting, scratch, kept)
        self.writing.manifest.next_file += 1
        overlap = self._compare(batch, stage, _within(alike, stage.counted))
        self._note(batch, stage, overlap, replaced, named)
        return []

    def _leaned_on(self, replaced: set[int], live: dict[int, SourceFile]) -> list[Path]:
        """Files whose originals a replaced file relied on and that are still under the older mapping."""
        needed = []
        for one in (live[i] for i in replaced if i in live):
            for other in (live.get(int(i)) for i in one.leaned_on):
                if other and other.id not in replaced and other.mapping != self.mapping:
                    path = self.base / other.path
                    if self._hash_now(path) != other.sha256:
                        raise SourceError(
                            f"{one.path}: shares records with {other.path}, which was imported under an older mapping and "
                            "is no longer there as it was; put it back so that both can be imported again"
                        )
                    needed.append(path)
        return needed

    def _hash_now(self, path: Path) -> str:
        """The hash of a file's unpacked content; empty if it is gone."""
        if not opening.on_disk(path).is_file():
            return ""
        with opening.unpacked(path, self.writing.staging) as plain:
            return delimited.count(plain).sha256

    def _compare(self, batch: _Batch, stage: FileStage, grown: list[SourceFile]) -> duplicates.Overlap:
        keys = f"keys_{stage.file_id}"
        duplicates.make_keys(self.con, stage.events, self.columns, keys, len(self.log.parts()) > 1)
        parts = [p for p in self.state.parts if not set(p.files) <= batch.superseded]
        if parts:
            months = self.con.execute(f"SELECT DISTINCT date_trunc('month', start_utc) FROM {keys}").fetchall()
            touched = {f"{m:%Y-%m}" for (m,) in months}
            parts = [p for p in parts if p.month in touched]
        overlap = duplicates.find(
            self.con,
            keys=keys,
            events=stage.events,
            columns=self.columns,
            sidecars=[self.writing.root / p.keys for p in parts],
            parts=[self.writing.root / p.path for p in parts],
            earlier=batch.keys,
            ignored=sorted(batch.superseded),
            grown_to=max((f.read - (not f.ends_in_newline) for f in grown), default=0),
            lone_too=bool(self.log.record_id) or self.log.repeats == "drop",
        )
        batch.keys.append((keys, stage.events))
        return overlap

    def _note(
        self, batch: _Batch, stage: FileStage, overlap: duplicates.Overlap, replaced: set[int], named: str
    ) -> None:
        out = f" WHERE record_no NOT IN (SELECT record_no FROM {overlap.table})" if overlap.by_original else ""
        stored, first, last = self.con.execute(
            f"SELECT count(*), min(start_utc), max(start_utc) FROM {stage.events}{out}"
        ).fetchone()
        counted = stage.counted
        file = SourceFile(
            id=stage.file_id,
            path=str(stage.path),
            sha256=counted.sha256,
            size=counted.size,
            import_no=batch.number,
            mapping=self.mapping,
            read=stage.read,
            stored=self._records(stage) - overlap.duplicates,
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
            from_name=named,
            leaned_on={str(k): v for k, v in sorted(overlap.by_original.items())},
            inferred=stage.inferred,
            known=min((self.state.files[i].known for i in replaced), default=self.writing.now.isoformat()),
        )
        if not file.adds_up:
            raise SourceError(f"{stage.path}: the records do not add up ({file}); nothing was imported")
        batch.stages.append(stage)
        batch.files.append(file)
        batch.overlaps.append(overlap)
        batch.outcomes.append(Outcome(file.path, file, None, tuple(sorted(replaced))))

    def _records(self, stage: FileStage) -> int:
        """Records that gave an event, counted from the events themselves and not by subtraction."""
        distinct = "DISTINCT record_no" if len(self.log.parts()) > 1 else "*"
        return int(self.con.execute(f"SELECT count({distinct}) FROM {stage.events}").fetchone()[0])

    def store(self, batch: _Batch, complete_to: datetime | None) -> None:
        """Writes the batch's files and commits them; a batch that changes nothing leaves no trace."""
        declared = complete_to.isoformat() if complete_to else None
        if not batch.files and (declared is None or declared == self.state.complete_to):
            return
        manifest, state = self.writing.manifest, self.state
        self._supersede(batch)
        if batch.files:
            self._write(batch)
        state.files.update({f.id: f for f in batch.files})
        state.complete_to = max(filter(None, (declared, state.complete_to)), default=None)
        manifest.next_import += 1
        self.writing.commit(
            {
                "import": batch.number,
                "at": self.writing.now.isoformat(),
                "log": self.schema.name,
                "mapping": self.mapping,
                "complete_to": declared,
                "files": [dataclasses.asdict(f) for f in batch.files],
                "superseded": sorted(batch.superseded),
            }
        )
        for stage in batch.stages:
            _forget(self.con, stage)

    def _supersede(self, batch: _Batch) -> None:
        """Takes the events of replaced files out, rewriting the Parquet files they share with others."""
        gone, state = batch.superseded, self.state
        if not gone:
            return
        for name, rows in (("parts", state.parts), ("carry", state.carry)):
            kept: list[Any] = []
            for part in rows:
                if not set(part.files) & gone:
                    kept.append(part)
                    continue
                self.writing.retire([part.path, part.keys] if isinstance(part, Part) else [part.path])
                if rest := sorted(set(part.files) - gone):
                    kept.append(upkeep.without(self.con, self.writing, part, rest, batch.number))
            setattr(state, name, kept)
        for file_id in gone:
            state.files.pop(file_id, None)

    def _write(self, batch: _Batch) -> None:
        """The batch's events, keys, carried events and rejects as Parquet files in place."""
        self.con.execute(f"CREATE OR REPLACE TEMP VIEW incoming AS {self._incoming(batch)}")
        held = tuple(self.schema.columns)
        columns = ", ".join(ident(c) for c in held)
        months = self.con.execute(
            "SELECT strftime(m, '%Y-%m'), sum(n)::BIGINT, min(low), max(high), max(ends), "
            "sum(unfinished)::BIGINT, list_sort(list(file_id)) FROM ("
            "SELECT date_trunc('month', start_utc) AS m, file_id, count(*) AS n, min(start_utc) AS low, "
            "max(start_utc) AS high, max(coalesce(finish_utc, start_utc)) AS ends, count(*) FILTER (finish_utc IS NULL) AS unfinished "
            "FROM incoming GROUP BY ALL) GROUP BY m ORDER BY m"
        ).fetchall()
        for month, rows, first, last, until, unfinished, files in months:
            self.progress(f"{self.schema.name}: writing {month}, {rows:,} events")
            names = [f"{self.schema.name}/{month}/{batch.number}{end}" for end in (".parquet", ".keys.parquet")]
            size = self._place(f"SELECT {columns} FROM incoming WHERE {_inside(month)} {upkeep.ORDER}", names[0])
            keys = f"SELECT key, file_id, record_no FROM ({self._keys(batch)}) WHERE {_inside(month)}"
            self._place(keys, names[1], compression="snappy")  # hashes do not compress
            edges = first.isoformat(), last.isoformat(), until.isoformat()
            self.state.parts.append(Part(names[0], names[1], month, rows, size, tuple(files), *edges, unfinished, held))
        self._write_carry(batch, columns, [m[0] for m in months])
        rejects = " UNION ALL ".join(f"SELECT {s.file_id} AS file_id, * FROM {s.rejects}" for s in batch.stages)
        if sum(f.rejected for f in batch.files):
            name = f"{self.schema.name}/rejects/{batch.number}.parquet"
            self._place(f"SELECT * FROM ({rejects}) ORDER BY file_id, record_no", name)
            self.state.rejects[str(batch.number)] = name

    def _write_carry(self, batch: _Batch, columns: str, months: list[str]) -> None:
        if not self.schema.spans:
            return
        leaving = " UNION ALL ".join(
            f"SELECT {columns} FROM incoming WHERE {_inside(m)} AND (finish_utc IS NULL OR finish_utc > {_after(m)})"
            for m in months
        )
        self.con.execute(f"CREATE OR REPLACE TEMP TABLE carried AS {leaving}")
        rows, first, files = self.con.execute(
            "SELECT count(*), min(start_utc), list_sort(list(DISTINCT file_id)) FROM carried"
        ).fetchone()
        if rows:
            name = f"{self.schema.name}/carry/{batch.number}.parquet"
            self._place(f"SELECT * FROM carried {upkeep.ORDER}", name)
            self.state.carry.append(Carry(name, rows, tuple(files), first.isoformat(), tuple(self.schema.columns)))

    def _incoming(self, batch: _Batch) -> str:
        selects = []
        for stage, overlap in zip(batch.stages, batch.overlaps, strict=True):
            out = f" WHERE record_no NOT IN (SELECT record_no FROM {overlap.table})" if overlap.by_original else ""
            selects.append(f"SELECT * FROM {stage.events}{out}")
        return " UNION ALL ".join(selects)

    def _keys(self, batch: _Batch) -> str:
        selects = []
        for (keys, _), overlap in zip(batch.keys, batch.overlaps, strict=True):
            out = f" WHERE record_no NOT IN (SELECT record_no FROM {overlap.table})" if overlap.by_original else ""
            selects.append(f"SELECT * FROM {keys}{out}")
        return " UNION ALL ".join(selects)

    def _place(self, query: str, target: str, compression: str = "zstd") -> int:
        return upkeep.place(self.con, self.writing, query, target, compression)

    def _shown(self, path: Path) -> str:
        whole = path.resolve()
        return str(whole.relative_to(self.base)) if whole.is_relative_to(self.base) else str(whole)


def _within(known: list[SourceFile], counted: delimited.Counted) -> list[SourceFile]:
    """The known files that a file begins with: itself, or itself when it was shorter."""
    return [f for f in known if counted.prefixes.get(f.size) == f.sha256]


def _after(month: str) -> str:
    return f"(TIMESTAMP '{month}-01' + INTERVAL 1 MONTH)"


def _inside(month: str) -> str:
    return f"start_utc >= TIMESTAMP '{month}-01' AND start_utc < {_after(month)}"


def _forget(con: Any, stage: FileStage) -> None:
    """Drops what a stored file left in the engine."""
    n = stage.file_id
    numbers = [f"VIEW stage_{n}"] if stage.rows != f"stage_{n}" else []
    for name in (f"VIEW keys_{n}", f"VIEW events_{n}", *numbers):
        con.execute(f"DROP {name}")
    for table in (stage.rows, stage.rejects, f"dup_keys_{n}"):
        con.execute(f"DROP TABLE IF EXISTS {table}")
