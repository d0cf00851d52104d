"""What the administrator does with a workspace: bring logs in, judge them, take them out."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING, cast

from fermata.archive.compacting import Compaction, compact
from fermata.archive.retention import Removal
from fermata.intake.importer import Outcome
from fermata.intake.mapping import LogMap
from fermata.intake.storing import Progress
from fermata.reports.definition.report import Report
from fermata.reports.execute import survey as surveys
from fermata.reports.result import Records
from fermata.timeline.zones import Moment, instant, zone
from fermata.workspace import importing, queries
from fermata.workspace.base import Base
from fermata.workspace.check import Problem, problems

if TYPE_CHECKING:
    import pyarrow as pa

__all__ = ["Upkeep"]


@dataclass(frozen=True)
class Upkeep:
    """The archive of a workspace as its administrator has it: logs come in, are judged, and are taken out. No viewer
    has it.
    """

    base: Base

    @property
    def logs(self) -> list[str]:
        """The logs whose records are imported: all but derived ones and those read where they are.

        >>> hall.archive.logs[:3]
        ['doors', 'calls', 'prints']
        """
        return self.base.imported

    def imports(self) -> list[dict[str, object]]:
        """All that was done to the archive, oldest first, as its ledger has it. Raises ArchiveDamaged.

        >>> sorted(hall.archive.imports()[0])[:4]
        ['at', 'complete_to', 'corrected', 'files']
        """
        return self.base.archive.ledger()

    def mapping(self, log: str) -> LogMap:
        """How the log's records become events. Raises UnknownName.

        >>> hall.archive.mapping("doors").format
        'delimited'
        """
        return self.base.mapping(log)

    def files(self, log: str) -> list[Path]:
        """The files the log's patterns match now, oldest records first; those of a zip archive one by one.

        >>> [p.name for p in hall.archive.files("doors")][:2]
        ['doors-2025-10.csv', 'doors-2025-11.csv']
        """
        return importing.files(self.base, log)

    def import_log(
        self,
        log: str,
        sources: Iterable[str | Path | IO[bytes]] = (),
        *,
        complete_to: Moment | None = None,
        complete: str = "",
        corrected: bool = False,
        wait: float = 60,
        progress: Progress = lambda _: None,
    ) -> list[Outcome]:
        """Imports files into a log (those its `files` match or what its query gives, unless `sources` are given).

        What is known changes nothing. An open binary stream is a source too; what comes through it, or from a query, is
        kept under `received/`. `complete_to` declares that the log holds everything up to then; `complete` names the
        period of which the sources hold every entry, so that a missing one was deleted (logs with a key); `corrected`
        says that they put right the records rejected so far. Raises RequestError, SourceError.

        >>> [o.unchanged is not None for o in hall.archive.import_log("doors")][:2]
        [True, True]
        """
        if complete_to is not None:
            complete_to = instant(complete_to, zone(self.base.config.workspace.zone), "complete_to")
        told = {"complete_to": complete_to, "complete": complete, "corrected": corrected, "wait": wait,
        "progress": progress}  # fmt: skip
        # as declared above
        return importing.import_log(self.base, log, list(sources), **told)  # type: ignore[arg-type]

    def undo_import(self, number: int, *, dry: bool = False, wait: float = 60) -> Removal:
        """Takes import `number` out of the archive; with `dry`, only says what would go. Raises RequestError,
        DataError.

        >>> hall.archive.undo_import(1, dry=True).events > 0
        True
        """
        return importing.undo_import(self.base, number, dry=dry, wait=wait)

    def expire(self, log: str, older_than: str = "", *, dry: bool = False, wait: float = 60) -> Removal:
        """Drops the log's events that ended longer ago than `older_than` ("13 months"; the log's `keep_for` by
        default).

        From days on, whole local days are counted back from today. Kept rejects and received copies of files wholly
        older go too, and what the shelf holds of the log from that time; later imports skip records of that time.
        Raises RequestError.

        >>> hall.archive.expire("doors", "2 years", dry=True).events
        0
        """
        return importing.expire(self.base, log, older_than, dry=dry, wait=wait)

    def compact(self, log: str, *, least: int = 2, dry: bool = False, wait: float = 60) -> Compaction:
        """Puts the many small files of daily imports together, a file for each month of the log with at least `least`
        of them.

        No figure, provenance or fingerprint changes; with `dry`, only says what would be done. Raises UnknownName,
        ArchiveBusy.

        >>> hall.archive.compact("doors", dry=True)
        Compaction(log='doors', before=0, after=0, events=0, done=False)
        """
        self.mapping(log)
        return compact(self.base.archive, log, importing.naive(self.base.now()), least=least, dry=dry, wait=wait)

    def rejects(self, log: str) -> list[dict[str, object]]:
        """The log's rejected records: file, record number, line in the file where known, reason, text.

        >>> len(hall.archive.rejects("doors"))
        3
        """
        self.mapping(log)
        return self.base.place().rejects(log)

    def survey(self, log: str, *, period: str = "all") -> surveys.Survey:
        """What the log covers and holds, its gaps and rejects, what became of its records. Raises UnknownName.

        >>> hall.archive.survey("doors", period="2026-03").log
        'doors'
        """
        self.mapping(log)
        place = self.base.place()
        with place.keeping():
            return surveys.survey(log, place, self.base.now(), period)

    def survey_all(self) -> Records:
        """One line for each log: kind, events, time covered, gaps, rejects, files under an older mapping.

        >>> hall.archive.survey_all().names[:3]
        ('log', 'kind', 'events')
        """
        return cast("Records", self.base.answer(Report.of(ask="logs", title="Logs")))

    def export_rejects(self, log: str, target: Path) -> list[tuple[Path, int]]:
        """Writes the rejects not yet corrected as they stood in their files, under their header, to be corrected and
        imported again.

        Returns the files with their numbers of records; one per header. Raises RequestError.

        >>> hall.archive.export_rejects("doors", Path("rejects"))
        [(PosixPath('rejects'), 3)]
        """
        return importing.export_rejects(self.base, log, target)

    def source_record(self, log: str, record: str) -> dict[str, str]:
        """The whole record behind an event, unmapped columns too. `record` is `FILE:NUMBER` as listings show it.

        Raises RequestError for a record that does not exist, SourceError if the file is gone or has changed since.

        >>> list(hall.archive.source_record("doors", "1:1"))[:3]
        ['file', 'record', 'When']
        """
        from fermata.intake.source import whole_record

        mapping = self.mapping(log)
        if held := self.base.tables.get(log):
            return held.whole(record)
        return whole_record(mapping, self.base.archive.snapshot().manifest.log(log), self.base.path, record)

    def sql(self, query: str) -> pa.Table:
        """The rows of one SELECT over the logs (their events with the names of registers), derived logs and registers
        (`register_NAME`), as an Arrow table. Raises RequestError.

        >>> hall.archive.sql("SELECT count(*) AS n FROM doors").to_pylist()
        [{'n': 95219}]
        """
        return queries.asked(self.base, query)

    def tables(self) -> dict[str, list[str]]:
        """What `sql` can be asked of, each with its columns.

        >>> "doors" in hall.archive.tables()
        True
        """
        return queries.tables(self.base)

    def check(self) -> list[Problem]:
        """Every problem of the files of the workspace: reports that could not run, registers that cannot be read,
        patterns that find no file.

        >>> hall.archive.check()
        []
        """
        return problems(self.base)

    def paths(self, log: str) -> list[Path]:
        """The Parquet files that hold the events of a log now, for other programs to read: times are UTC, names as
        written, money and decimals whole numbers of their last place. Raises UnknownName.

        >>> {p.suffix for p in hall.archive.paths("doors")}
        {'.parquet'}
        """
        self.base.mapping(log)
        root = self.base.archive.root
        return [root / part.path for part in self.base.archive.snapshot().manifest.log(log).parts]
