"""Importing files into the archive: parse, compare, store, prove the sums, commit.

Small files are taken together, up to `BATCH_BYTES`, into one import; each import is one line of the ledger and
either happens or does not.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fermata.archive import Archive, LogState, SourceFile, duplicates, upkeep
from fermata.archive.duck import connect, watched
from fermata.archive.store import Writing
from fermata.errors import DataError, FermataError, FilesFailed, SourceError, UnknownName
from fermata.fields import LogSchema
from fermata.intake import file_notes as told
from fermata.intake import opening
from fermata.intake.localtime import Extent
from fermata.intake.mapping import LogMap
from fermata.intake.overlaps import Overlaps
from fermata.intake.readers import counting
from fermata.intake.stage import FileStage, stage_file
from fermata.intake.storing import Batch, Declared, Outcome, Progress, Storing
from fermata.intake.texts import from_name

__all__ = ["Declared", "Outcome", "import_files"]

BATCH_BYTES = 256 << 20


def import_files(
    archive: Archive,
    log: LogMap,
    schema: LogSchema,
    paths: Iterable[Path],
    *,
    base: Path,
    now: datetime,
    declared: Declared,
    wait: float = 60,
    progress: Progress = lambda _: None,
) -> list[Outcome]:
    """Imports `paths` in the order given; paths are kept relative to `base` where they lie below it.

    `now` (naive UTC) is when the import is said to happen; `declared` is what is said of the files. A file that cannot
    be read as mapped stops no other: FilesFailed is raised when these are stored. Of a log with a key, whose versions
    come one after another, it stops those after it.
    """
    import duckdb

    found: list[Outcome] = []
    try:
        with archive.writing(now, wait, progress) as writing:
            importer = _Importer(writing, log, schema, base, progress, declared)
            with importer.background, watched(importer.con, progress):
                for batch in importer.batches(list(paths)):
                    importer.storing.store(batch, declared if importer.whole else Declared(upto=declared.upto))
                    found += batch.outcomes
    except (duckdb.Error, OSError) as e:
        if isinstance(e, FermataError):
            raise
        raise DataError(
            f"the import failed; what is not listed as stored changed nothing: {str(e).splitlines()[0]}"
        ) from e
    if len(importer.failed) == 1 and not found:
        raise importer.failed[0]
    if importer.failed:
        raise FilesFailed(list(dict.fromkeys(map(str, importer.failed))), found)
    return found


@dataclass
class _Importer:
    writing: Writing
    log: LogMap
    schema: LogSchema
    base: Path
    progress: Progress
    declared: Declared

    def __post_init__(self) -> None:
        self.con = connect(self.writing.staging / "spill")
        self.background = ThreadPoolExecutor(max_workers=1)
        self.mapping = self.log.digest(self.schema.zone)
        self.failed: list[FermataError] = []
        self.extent: Extent | None = None  # of the wall clocks of the last small file
        self.whole = False  # whether this is the last of what was asked for, and none of it failed
        key = tuple(self.schema.field(k).stored for k in self.log.key)
        self.storing = Storing(self.con, self.writing, self.schema, key, self.mapping, self.progress)
        self.overlaps = Overlaps(self.con, self.writing, self.log, self.schema, self.declared, self.storing)
        upkeep.refresh_keys(self.con, self.writing, self.progress)

    @property
    def state(self) -> LogState:
        """The log as the archive holds it."""
        return self.storing.state

    def batches(self, paths: list[Path]) -> Iterator[Batch]:
        """The files in order, taken together until they are big enough for an import of their own."""
        batch = self._batch()
        queue = [*self._again(batch), *paths]
        while queue:
            path, superseded = queue.pop(0), set(batch.superseded)
            try:
                needed = self._take(batch, path)
            except (SourceError, UnknownName) as e:
                if self.log.key and batch.superseded:  # all versions at once or none
                    raise
                batch.superseded = superseded
                self.writing.manifest.next_file += 1  # what was begun keeps its names in the engine
                self.failed.append(SourceError(f"{e}{self._waiting(queue)}") if self.log.key and queue else e)
                queue = [] if self.log.key else queue
                continue
            if needed:
                queue = [*needed, path, *queue]
            elif batch.size >= BATCH_BYTES and not (self.log.key and batch.superseded):  # all versions at once or none
                yield batch
                batch = self._batch()
        self.whole = not self.failed
        yield batch

    def _waiting(self, queue: list[Path]) -> str:
        """What a file that failed keeps from being read."""
        return f"; {', '.join(self._shown(p) for p in queue)}: not read before that is corrected"

    def _again(self, batch: Batch) -> list[Path]:
        """The files of a log with a key that must all be read again, in their order, because
        its mapping has changed.
        """
        if not self.log.key or all(f.mapping == self.mapping for f in self.state.files.values()):
            return []
        paths = [self.base / f.path for _, f in sorted(self.state.files.items())]
        for path, file in zip(paths, self.state.files.values(), strict=True):
            if self._hash_now(path) != file.sha256:
                raise SourceError(
                    f"{file.path}: was imported under an older mapping and is no longer there as it was; put it "
                    "back, so that "
                    "every version of an entry can be read again"
                )
        batch.superseded |= set(self.state.files)
        return paths

    def _batch(self) -> Batch:
        return Batch(self.writing.manifest.next_import)

    def _take(self, batch: Batch, path: Path) -> list[Path]:
        """Stages one file, or returns the files that must come before it."""
        shown = self._shown(path)
        with opening.unpacked(path, self.writing.staging) as plain:
            return self._take_plain(batch, plain, shown)

    def _take_plain(self, batch: Batch, path: Path, shown: str) -> list[Path]:
        live = {i: f for i, f in self.state.files.items() if i not in batch.superseded}
        known = [*live.values(), *batch.files]
        size = path.stat().st_size
        named = " ".join(from_name(p, Path(shown)) for p in self.log.name_patterns)
        alike = [f for f in known if f.mapping == self.mapping and f.from_name == named]
        self.progress(f"reading {shown}, {size / 1e6:,.1f} MB")
        pending = self.background.submit(counting.count, path, tuple({f.size for f in known}))
        if any(f.size == size or (f.size < size and f.mapping != self.mapping) for f in known):
            pending.result()  # what is known already, or replaces another file, is settled before it is parsed
        replaced: set[int] = set()
        if pending.done():
            counted = pending.result()
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
        stage = stage_file(
            self.con, path, Path(shown), file_id, self.log, self.schema, pending, scratch, kept, self.extent
        )
        self.extent = stage.extent or self.extent
        self.writing.manifest.next_file += 1
        again = next((f for f in self.state.files.values() if f.id in batch.superseded and f.path == shown), None)
        since = again.known if again else self._known(replaced)
        if self.log.key:
            overlap = self.overlaps.by_key(batch, stage, since)
        else:
            overlap = self.overlaps.by_record(batch, stage, _within(alike, stage.counted))
        self._note(batch, stage, overlap, replaced, named, since)
        return []

    def _known(self, replaced: set[int]) -> str:
        """When the content of a file first came in: a repeated import has it from the one it replaces."""
        return min((self.state.files[i].known for i in replaced), default=self.writing.now.isoformat())

    def _leaned_on(self, replaced: set[int], live: dict[int, SourceFile]) -> list[Path]:
        """Files whose originals a replaced file relied on and that are still under the older mapping."""
        needed = []
        for one in (live[i] for i in replaced if i in live):
            for other in (live.get(int(i)) for i in one.leaned_on):
                if other and other.id not in replaced and other.mapping != self.mapping:
                    path = self.base / other.path
                    if self._hash_now(path) != other.sha256:
                        raise SourceError(
                            f"{one.path}: shares records with {other.path}, which was imported under an older "
                            "mapping and "
                            "is no longer there as it was; put it back so that both can be imported again"
                        )
                    needed.append(path)
        return needed

    def _hash_now(self, path: Path) -> str:
        """The hash of a file's unpacked content; empty if it is gone."""
        if not opening.on_disk(path).is_file():
            return ""
        with opening.unpacked(path, self.writing.staging) as plain:
            return counting.count(plain).sha256

    def _note(
        self, batch: Batch, stage: FileStage, overlap: duplicates.Overlap, replaced: set[int], named: str, known: str
    ) -> None:
        """Keeps what the ledger says of the file. Raises SourceError where its records do not add up."""
        file = told.entry(self.con, self.log, self.schema, stage, overlap, batch.versions[-1] if self.log.key else None)
        file = dataclasses.replace(
            file, import_no=batch.number, mapping=self.mapping, from_name=named, known=known, upto=self.declared.upto
        )
        if not file.adds_up:
            raise SourceError(f"{stage.path}: the records do not add up ({file}); nothing was imported")
        batch.stages.append(stage)
        batch.files.append(file)
        batch.overlaps.append(overlap)
        batch.outcomes.append(Outcome(file.path, file, None, tuple(sorted(replaced))))

    def _shown(self, path: Path) -> str:
        whole = path.resolve()
        return str(whole.relative_to(self.base)) if whole.is_relative_to(self.base) else str(whole)


def _within(known: list[SourceFile], counted: counting.Counted) -> list[SourceFile]:
    """The known files that a file begins with: itself, or itself when it was shorter."""
    return [f for f in known if counted.prefixes.get(f.size) == f.sha256]
