"""Storing an import: its events, keys, carried events, rejects and ended versions become files, then one commit."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fermata.archive import LogState, SourceFile, duplicates, upkeep
from fermata.archive.duck import ident
from fermata.archive.manifest import Carry, Part
from fermata.archive.store import Writing
from fermata.archive.versions import Versions
from fermata.fields import LogSchema
from fermata.intake.stage import FileStage

__all__ = ["Batch", "Declared", "Outcome", "Progress", "Storing"]

KEY = '"#key"'  # as no field is called
BLOCK = 122_880  # rows the engine keeps together, with their least and greatest values
EVER = [("", "9999-12")]  # every month there may be
MONTHS = 24  # that blocks of a file in order may begin and end in, beyond their own
Progress = Callable[[str], None]


@dataclass(frozen=True)
class Outcome:
    """What became of one file. `unchanged` names the import that already holds it; else `file` has the figures."""

    path: str
    file: SourceFile | None = None
    unchanged: SourceFile | None = None
    replaces: tuple[int, ...] = ()


@dataclass(frozen=True)
class Declared:
    """What is said of the files of an import, times as naive UTC.

    `complete_to`: the log holds everything up to then. `complete`: the file holds every entry of [from, to), so that
    what is missing was deleted. `corrected`: the files put right what was rejected before. `upto`: how far a query had
    come.
    """

    complete_to: datetime | None = None
    complete: tuple[datetime, datetime] | None = None
    corrected: bool = False
    upto: str = ""


@dataclass
class Batch:
    """Files of one import on their way: staged in the engine, not yet in the archive. `times` are their first and last
    starts, naive UTC.
    """

    number: int
    stages: list[FileStage] = field(default_factory=list)
    files: list[SourceFile] = field(default_factory=list)
    keys: list[tuple[str, str]] = field(default_factory=list)
    times: list[tuple[datetime, datetime] | None] = field(default_factory=list)
    overlaps: list[duplicates.Overlap] = field(default_factory=list)
    versions: list[Versions] = field(default_factory=list)
    superseded: set[int] = field(default_factory=set)
    outcomes: list[Outcome] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes of the files taken so far."""
        return sum(f.size for f in self.files)


@dataclass
class Storing:
    """What it takes to store batches of one log: an engine, the open archive, the log's schema, the columns of its key
    and its mapping.
    """

    con: Any
    writing: Writing
    schema: LogSchema
    key: tuple[str, ...]
    mapping: str
    progress: Progress

    @property
    def state(self) -> LogState:
        """The log as the archive holds it, made on first use."""
        return self.writing.manifest.logs.setdefault(self.schema.name, LogState())

    def store(self, batch: Batch, said: Declared) -> None:
        """Writes the batch's files and commits them; a batch that changes nothing leaves no trace."""
        declared = said.complete_to.isoformat() if said.complete_to else None
        if not batch.files and (declared is None or declared == self.state.complete_to):
            return
        manifest, state = self.writing.manifest, self.state
        earlier = [n for n in state.rejects if n not in state.corrected]
        self._supersede(batch)
        if batch.files:
            self._write(batch)
            self._write_ended(batch)
        if said.corrected:
            state.corrected.update(dict.fromkeys(earlier, batch.number))
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
                "files": [dataclasses.asdict(dataclasses.replace(f, values={})) for f in batch.files],
                "superseded": sorted(batch.superseded),
                "corrected": earlier if said.corrected else [],
            }
        )
        for stage in batch.stages:
            _forget(self.con, stage)

    def _write_ended(self, batch: Batch) -> None:
        """The versions this import ended, as a file of their own."""
        if batch.superseded:
            self.writing.retire(list(self.state.ended.values()))
            self.state.ended.clear()
        if sum(v.replaced + v.deleted for v in batch.versions):
            rows = " UNION ALL ".join(f"SELECT * FROM {v.ended}" for v in batch.versions)
            name = f"{self.schema.name}/ended/{batch.number}.parquet"
            self._place(rows, name)
            self.state.ended[str(batch.number)] = name

    def _supersede(self, batch: Batch) -> None:
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
                rest = f"file_id NOT IN ({', '.join(map(str, sorted(gone)))})"
                if fresh := upkeep.keeping(self.con, self.writing, part, rest):
                    kept.append(fresh)
            setattr(state, name, kept)
        for file_id in gone:
            state.files.pop(file_id, None)

    def _write(self, batch: Batch) -> None:
        """The batch's events, keys, carried events and rejects as Parquet files in place."""
        self.con.execute(f"CREATE OR REPLACE VIEW incoming AS {self._incoming(batch)}")
        events, keys, unsorted = self._in_order(batch)
        held, held_keys = tuple(self.schema.columns), f"key, file_id, record_no{', entry' if self.key else ''}"
        columns = ", ".join(ident(c) for c in held)
        months = self.con.execute(
            f"SELECT {_named('m')}, sum(n)::BIGINT, min(low), max(high), max(ends), "
            "sum(unfinished)::BIGINT, list_sort(list(file_id)), min(least), max(greatest) FROM ("
            f"SELECT {_month('start_utc')} AS m, file_id, count(*) AS n, min(start_utc) AS low, "
            "max(start_utc) AS high, max(coalesce(finish_utc, start_utc)) AS ends, count(*) FILTER (finish_utc IS "
            f"NULL) AS unfinished, {upkeep.edges_sql(self.key)} "
            "FROM incoming GROUP BY ALL) x(m, file_id, n, low, high, ends, unfinished, least, greatest) "
            "GROUP BY m ORDER BY m"
        ).fetchall()
        parts, placed = [], []
        for month, rows, first, last, until, unfinished, files, *between in months:
            names = [f"{self.schema.name}/{month}/{batch.number}{end}" for end in (".parquet", ".keys.parquet")]
            order = upkeep.ORDER if any(low <= month <= high for low, high in unsorted) else ""
            own = f"SELECT {columns} FROM {events} WHERE {_inside(month)} {order}"
            placed.append(upkeep.File(own, names[0], said=f"{self.schema.name}: writing {month}, {rows:,} events"))
            own = f"SELECT {held_keys} FROM ({keys}) WHERE {_inside(month)}"
            placed.append(upkeep.File(own, names[1], upkeep.HASHES))
            edges = first.isoformat(), last.isoformat(), until.isoformat()
            key = self.key, upkeep.edges(between)
            parts.append(Part(names[0], names[1], month, rows, 0, tuple(files), *edges, unfinished, held, *key))
        sizes = upkeep.place_all(self.con, self.writing, placed, self.progress)
        self.state.parts += [dataclasses.replace(p, size=s) for p, s in zip(parts, sizes[::2], strict=True)]
        self._write_carry(batch, events, columns, [m[0] for m in months])
        self.con.execute("DROP TABLE IF EXISTS in_order")
        rejects = " UNION ALL ".join(f"SELECT {s.file_id} AS file_id, * FROM {s.rejects}" for s in batch.stages)
        if sum(f.rejected for f in batch.files):
            name = f"{self.schema.name}/rejects/{batch.number}.parquet"
            self._place(f"SELECT * FROM ({rejects}) ORDER BY file_id, record_no", name)
            self.state.rejects[str(batch.number)] = name

    def _scattered(self) -> bool:
        """Whether the incoming events lie so far from the order of their time that most of them would be looked through
        for each month.
        """
        whole = "date_diff('month', min(start_utc), max(start_utc)) + 1"
        blocks, months = self.con.execute(
            f"SELECT count(*), sum(n) FROM (SELECT {whole} AS n FROM incoming GROUP BY file_id, record_no // {BLOCK})"
        ).fetchone()
        return bool(blocks > 1 and months > 2 * blocks + MONTHS)

    def _in_order(self, batch: Batch) -> tuple[str, str, list[tuple[str, str]]]:
        """The incoming events, a query of the keys of their records, and the stretches of months (both included) in
        which the events are not in the order of their time.

        Where they are scattered, they are put in order once, in a table of their own, with the keys of records that
        have one event only.
        """
        alone = not self.con.execute("SELECT max(event_no) FROM incoming").fetchone()[0]
        unsorted = EVER if any(o.mixes for o in batch.overlaps) else self._unsorted()
        if not (unsorted and self._scattered()):
            return "incoming", self._keys(batch), unsorted if alone else EVER
        columns = [c for c in self.schema.columns if c not in ("file_id", "record_no", "event_no")]
        alone = alone and not self.key
        key = f", {duplicates.key_sql(columns)} AS {KEY}" if alone else ""
        self.con.execute(f"CREATE OR REPLACE TABLE in_order AS SELECT *{key} FROM incoming {upkeep.ORDER}")
        keys = f"SELECT {KEY} AS key, file_id, record_no, start_utc FROM in_order" if alone else self._keys(batch)
        return "in_order", keys, []

    def _unsorted(self) -> list[tuple[str, str]]:
        """From the month of each event that is earlier than the one before it, to the month of that one: an event that
        comes too late for its month has such a step back before it, across that month.
        """
        before = "SELECT start_utc, lag(start_utc) OVER () AS before FROM incoming"
        steps = f"SELECT DISTINCT {_month('start_utc')} AS low, {_month('before')} AS high FROM ({before})"
        found: list[tuple[str, str]] = self.con.execute(
            f"SELECT {_named('low')}, {_named('high')} FROM ({steps} WHERE before > start_utc)"
        ).fetchall()
        return found

    def _write_carry(self, batch: Batch, events: str, columns: str, months: list[str]) -> None:
        if not (self.schema.spans and months):
            return
        leaving = " UNION ALL ".join(
            f"SELECT {columns} FROM {events} WHERE {_inside(m)} AND (finish_utc IS NULL OR finish_utc > {_after(m)})"
            for m in months
        )
        self.con.execute(f"CREATE OR REPLACE TABLE carried AS {leaving}")
        rows, first, files = self.con.execute(
            "SELECT count(*), min(start_utc), list_sort(list(DISTINCT file_id)) FROM carried"
        ).fetchone()
        if rows:
            name = f"{self.schema.name}/carry/{batch.number}.parquet"
            self._place(f"SELECT * FROM carried {upkeep.ORDER}", name)
            self.state.carry.append(Carry(name, rows, tuple(files), first.isoformat(), tuple(self.schema.columns)))

    def _incoming(self, batch: Batch) -> str:
        selects = []
        for stage, overlap in zip(batch.stages, batch.overlaps, strict=True):
            selects.append(f"SELECT * FROM {stage.events}{overlap.left_out}")
        return " UNION ALL ".join(selects)

    def _keys(self, batch: Batch) -> str:
        selects = []
        for (keys, _), overlap in zip(batch.keys, batch.overlaps, strict=True):
            selects.append(f"SELECT * FROM {keys}{overlap.left_out}")
        return " UNION ALL ".join(selects)

    def _place(self, query: str, target: str) -> None:
        upkeep.place(self.con, self.writing, upkeep.File(query, target))


def _month(time: str) -> str:
    """The month of a time as a number: the engine groups by it in a third of the time of a truncated time."""
    return f"year({time}) * 12 + month({time}) - 1"


def _named(month: str) -> str:
    """Such a number as 2026-03."""
    return f"printf('%04d-%02d', {month} // 12, {month} % 12 + 1)"


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
    for table in (stage.rows, stage.rejects, f"dup_keys_{n}", f"ended_{n}"):
        con.execute(f"DROP TABLE IF EXISTS {table}")
