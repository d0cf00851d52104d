"""What a file being imported shares with what the log holds: records that came before, versions of an entry."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fermata.archive import SourceFile, duplicates, upkeep, versions
from fermata.archive.duck import ident, scan
from fermata.archive.store import Writing
from fermata.fields import LogSchema
from fermata.intake.file_stage import FileStage
from fermata.intake.mapping import LogMap
from fermata.intake.storing import Batch, Declared, Storing

__all__ = ["Overlaps"]


def _meet(between: tuple[Any, ...], least: Any, greatest: Any) -> bool:
    """Whether values from `least` to `greatest` can be in a file with those `between`; unknown is yes."""
    return not between or (between[0] <= greatest and least <= between[1])


@dataclass(frozen=True)
class Overlaps:
    """Compares the staged files of an import with the archive, and with each other."""

    con: Any
    writing: Writing
    log: LogMap
    schema: LogSchema
    declared: Declared
    storing: Storing

    @property
    def columns(self) -> list[str]:
        """The columns that make two records equal."""
        return [c for c in self.schema.columns if c not in ("file_id", "record_no", "event_no")]

    def by_key(self, batch: Batch, stage: FileStage, known: str) -> duplicates.Overlap:
        """Compares a file of a log with a key, version by version."""
        keys = f"keys_{stage.file_id}"
        key = self.storing.key
        duplicates.make_keys(self.con, stage.events, self.columns, keys, False, key)
        held = ", ".join(ident(c) for c in self.schema.columns)
        live = [f"SELECT {held} FROM {e}" for _, e in batch.keys]
        ended = [v.ended for v in batch.versions]
        complete = self._complete(stage)
        if not batch.superseded:
            live += [f"SELECT {held} FROM ({query})" for query in self._near(stage, complete)]
        empty = f"SELECT {held} FROM {stage.events} WHERE false"
        query = " UNION ALL ".join(live) or empty
        gone = " UNION ALL ".join(f"SELECT * FROM {t}" for t in ended)
        found = versions.settle(
            self.con,
            file_id=stage.file_id,
            key=list(key),
            columns=self.columns,
            events=stage.events,
            live=versions.without_ended(query, f"({gone})") if gone else query,
            at=known,
            complete=complete,
        )
        batch.keys.append((keys, stage.events))
        batch.versions.append(found)
        return found.overlap

    def _near(self, stage: FileStage, complete: tuple[str, str] | None) -> list[str]:
        """Queries over the archive's events that a file of a log with a key may concern: those with one of its keys,
        found by their hashes in files that can have them, and those of the stretch that it is `complete` for. Files
        stored without these hashes are looked through.
        """
        key, root = self.storing.key, self.writing.root
        least, greatest = self.con.execute(f"SELECT {upkeep.edges_sql(key)} FROM {stage.events}").fetchone()
        hashed = [p for p in self.storing.state.parts if p.entry == key]
        older = [p for p in self.storing.state.parts if p.entry != key]
        alike = [p for p in hashed if least is not None and _meet(p.between, least, greatest)]
        near = ["SELECT 0 AS file_id, 0::BIGINT AS record_no WHERE false"]
        if alike:
            own = f"SELECT entry FROM keys_{stage.file_id}"
            sidecars = scan([root / p.keys for p in alike])
            near.append(f"SELECT file_id, record_no FROM {sidecars} WHERE entry IN ({own})")
        first, end = (t.replace(" ", "T") for t in complete or ("", ""))
        whole = [p for p in hashed if complete and p.first < end and p.last >= first]
        if complete and whole:
            events = scan([root / p.path for p in whole])
            near.append(f"SELECT file_id, record_no FROM {events} WHERE {versions.within(complete)}")
        self.con.execute(f"CREATE OR REPLACE TABLE near AS {' UNION '.join(near)}")
        snapshot = self.writing.archive.snapshot()
        concerned = [p for p in hashed if p in alike or p in whole]
        found = snapshot.standing_sql(self.schema, concerned, " SEMI JOIN near USING (file_id, record_no)")
        return [query for query in (found, snapshot.standing_sql(self.schema, older)) if query]

    def _complete(self, stage: FileStage) -> tuple[str, str] | None:
        """The UTC stretch in which the file is declared to hold every entry."""
        if self.declared.complete:
            start, end = self.declared.complete
        elif self.log.complete:
            start, end = self.con.execute(f"SELECT min(start_utc), max(start_utc) FROM {stage.events}").fetchone()
            if start is None:
                return None
            end += timedelta(microseconds=1)
        else:
            return None
        return start.isoformat(sep=" "), end.isoformat(sep=" ")

    def by_record(self, batch: Batch, stage: FileStage, grown: list[SourceFile]) -> duplicates.Overlap:
        """Compares a file record by record; the files `grown` are its own beginning."""
        keys = f"keys_{stage.file_id}"
        duplicates.make_keys(self.con, stage.events, self.columns, keys, len(self.log.parts()) > 1)
        asked = f"SELECT count(*), min(start_utc), max(start_utc) FROM {stage.events}"
        events, first, last = self.con.execute(asked).fetchone()
        stage.held = events, first, last
        meeting = [
            k for k, t in zip(batch.keys, batch.times, strict=True) if t and first and t[0] <= last and first <= t[1]
        ]
        parts = [p for p in self.storing.state.parts if not set(p.files) <= batch.superseded]
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
            earlier=meeting,  # an equal record starts at the same time
            ignored=sorted(batch.superseded),
            grown_to=max((f.read - (not f.ends_in_newline) for f in grown), default=0),
            lone_too=bool(self.log.record_id) or self.log.repeats == "drop",
        )
        batch.keys.append((keys, stage.events))
        batch.times.append((first, last) if first else None)
        return overlap
