"""What the administrator does with a workspace: bring logs in, judge them, take them out."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import IO, Any

from fermata.api import importing
from fermata.api.base import Base
from fermata.archive.compacting import Compaction, compact
from fermata.archive.retention import Removal
from fermata.intake.importer import Outcome
from fermata.intake.storing import Progress
from fermata.reports import noticing
from fermata.reports import survey as surveys
from fermata.reports.model import Report
from fermata.reports.result import Records

__all__ = ["Administered"]


class Administered(Base):
    """A workspace that logs are imported into. Nothing here is for a viewer who does not see everything."""

    def files(self, log: str) -> list[Path]:
        """The files the log's patterns match now, oldest records first; those of a zip archive one by one."""
        return importing.files(self, log)

    def import_log(
        self,
        log: str,
        sources: Iterable[str | Path | IO[bytes]] = (),
        *,
        complete_to: datetime | None = None,
        holds_all: str = "",
        mended: bool = False,
        wait: float = 60,
        progress: Progress = lambda _: None,
    ) -> list[Outcome]:
        """Imports files into a log (those its `files` match or what its query gives, unless `sources` are given).

        What is known changes nothing. An open binary stream is a source too; what comes through it, or from a query, is
        kept under `received/`. `complete_to` declares that the log holds everything up to then; `holds_all` names the
        period of which the sources hold every entry, so that a missing one was deleted (logs with a key); `mended`
        says that they put right the records rejected so far. Raises RequestError, SourceError.
        """
        self.view.refuse("importing")
        told = {"complete_to": complete_to, "holds_all": holds_all, "mended": mended, "wait": wait, "progress": progress}  # fmt: skip
        return importing.import_log(self, log, list(sources), **told)  # type: ignore[arg-type]  # as declared above

    def take_back(self, number: int, *, dry: bool = False, wait: float = 60) -> Removal:
        """Takes import `number` out of the archive; with `dry`, only says what would go. Raises RequestError, DataError."""
        self.view.refuse("taking an import back")
        return importing.take_back(self, number, dry=dry, wait=wait)

    def expire(self, log: str, older_than: str = "", *, dry: bool = False, wait: float = 60) -> Removal:
        """Drops the log's events that ended longer ago than `older_than` ("13 months"; the log's `keep_for` by default).

        From days on, whole local days are counted back from today. Kept rejects and received copies of files wholly older
        go too, and what the shelf holds of the log from that time; later imports skip records of that time. Raises RequestError.
        """
        self.view.refuse("dropping old events")
        return importing.expire(self, log, older_than, dry=dry, wait=wait)

    def compact(self, log: str, *, least: int = 2, dry: bool = False, wait: float = 60) -> Compaction:
        """Puts the many small files of daily imports together, a file for each month of the log with at least `least` of them.

        No figure, provenance or fingerprint changes; with `dry`, only says what would be done. Raises UnknownName, ArchiveBusy.
        """
        self.view.refuse("putting files together")
        self.mapping(log)
        return compact(self.archive, log, importing.naive(self.now()), least=least, dry=dry, wait=wait)

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records: file, record number, line in the file where known, reason, text."""
        self.view.refuse("listing rejected records")
        self.mapping(log)
        return self.place().rejects(log)

    def survey(self, log: str, *, period: str = "all") -> surveys.Survey:
        """What the log covers and holds, its gaps and rejects, what became of its records. Raises UnknownName."""
        self.view.refuse("a survey of a whole log")
        self.mapping(log)
        return surveys.survey(log, self.place(), self.now(), period)

    def survey_all(self) -> Records:
        """One line for each log: kind, events, time covered, gaps, rejects, files under an older mapping."""
        self.view.refuse("a survey of all logs")
        return noticing.covered(Report.of(ask="logs", title="Logs"), self.place(), self.now())

    def export_rejects(self, log: str, target: Path) -> list[tuple[Path, int]]:
        """Writes the rejects not yet mended as they stood in their files, under their header, to be mended and imported again.

        Returns the files with their numbers of records; one per header. Raises RequestError.
        """
        self.view.refuse("exporting rejected records")
        return importing.export_rejects(self, log, target)

    def source_record(self, log: str, record: str) -> dict[str, str]:
        """The whole record behind an event, unmapped columns too. `record` is `FILE:NUMBER` as listings show it.

        Raises RequestError for a record that does not exist, SourceError if the file is gone or has changed since.
        """
        from fermata.intake.source import whole_record

        self.view.refuse("a whole record of a source")

        mapping = self.mapping(log)
        if held := self.tables.get(log):
            return held.whole(record)
        return whole_record(mapping, self.archive.snapshot().manifest.log(log), self.path, record)
