"""One file parsed into the engine: its events as a view, every record accounted for.

    bytes -> read_csv -> table of typed columns + reason if refused -> view of events in UTC

The table is filled once, in parallel, in the file's order; a row's position gives its record number.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata.archive.duck import ident, lit
from fermata.errors import SourceError, UnknownName
from fermata.fields import LogSchema
from fermata.intake import rejects
from fermata.intake.expressions import FILES
from fermata.intake.file_stage import FileStage, Seen
from fermata.intake.localtime import FIRST, LAST, Extent, minus, second_pass, ts, windows, within
from fermata.intake.mapping import LogMap
from fermata.intake.numbering import number_records
from fermata.intake.parts import Columns, Part, is_one_of, parts_of, refused
from fermata.intake.readers import Job, Reader, Records, counting, delimited, reader
from fermata.intake.texts import Origin
from fermata.timeline.zones import Change

__all__ = ["FileStage", "stage_file"]

SMALL = 4_000_000  # bytes of a file that is read twice sooner than planned for every clock change there is


def stage_file(
    con: Any,
    path: Path,
    shown: Path,
    file_id: int,
    log: LogMap,
    schema: LogSchema,
    pending: Future[counting.Counted],
    scratch: Path,
    kept_from: datetime | None = None,
    extent: Extent | None = None,
) -> FileStage:
    """Parses `path` into the engine under names ending in `file_id`, while it may still be counted.

    Records that begin before `kept_from` (naive UTC) are skipped: the log no longer holds that time. The wall clocks
    of a small file are first taken to lie within `extent`, that of the file before. Raises SourceError, UnknownName.
    """
    stage = FileStage(shown, file_id, scratch, f"events_{file_id}", f"rejects_of_{file_id}", extent=extent)
    wanted = tuple(
        dict.fromkeys([*(c for p in log.parts() for f in p.values() for c in f.read_columns), *log.keep, *log.drop])
    )
    job = Job(con, path, shown, log, str(file_id), wanted, scratch, path.stat().st_mtime)
    opener = reader(log.format)
    early, opened = None, None
    if delimited.plain(log):
        try:
            opened = _open(opener, job, schema, kept_from, stage)
        except (SourceError, UnknownName) as e:
            early = e
    stage.counted = pending.result()
    is_text = log.format in delimited.TEXTS
    text = delimited.prepare(path, log, stage.counted, scratch, shown) if is_text else path
    overlong = is_text and stage.counted.overlong
    if text != path or overlong:
        temporary = [opened.records.temporary] if opened and opened.records.temporary else []
        for left in (f"stage_{file_id}_rows", f"rejects_{file_id}", f"scan_{file_id}", *temporary):
            con.execute(f"DROP TABLE IF EXISTS {left}")
        again = dataclasses.replace(job, path=text, overlong=overlong)
        opened = _open(opener, again, schema, kept_from, stage)
    elif early:
        raise early
    assert opened
    stage.inferred = opened.records.inferred
    number_records(con, stage, opened.records, stage.counted if opened.records.text == path else None, opened.seen)
    _events(con, stage, log, schema, opened)
    if opened.records.temporary:
        con.execute(f"DROP TABLE {opened.records.temporary}")
    if opened.records.held:
        con.unregister(opened.records.held)
    return stage


@dataclass
class _Opened:
    """A file in the engine: what its reader says of it, the events its records give as columns of the stage, and what
    stands there.
    """

    records: Records
    parts: list[Part]
    seen: Seen


def _open(opener: Reader, job: Job, schema: LogSchema, kept_from: datetime | None, stage: FileStage) -> _Opened:
    """Opens a file and fills its stage table."""
    import duckdb

    try:
        records = opener.open(job)
    except duckdb.Error as e:
        raise SourceError(f"{job.shown}: cannot be read as {job.log.format}: {str(e).splitlines()[0]}") from None
    records = _with_texts(records, job.wanted)
    small = job.path.stat().st_size < SMALL
    if small and stage.extent:
        found = _filled(job, records, schema, kept_from, stage.extent)
        ends = _local_ends(job, found.parts, f"stage_{job.tag}_rows")
        if not ends or (stage.extent[0] <= min(ends) and max(ends) <= stage.extent[1]):
            return found
        _run(job, f"DROP TABLE stage_{job.tag}_rows")
    stage.extent = _extent(job, records, schema) if small else None
    return _filled(job, records, schema, kept_from, stage.extent or (FIRST, LAST))


def _filled(job: Job, records: Records, schema: LogSchema, kept_from: datetime | None, extent: Extent) -> _Opened:
    """Fills the stage table for wall clocks within an extent."""
    columns = Columns()
    parts, reasons = parts_of(job.log, schema, _origin(job, records), columns, extent)
    _parse(job, records, columns, refused(reasons, records.refused), parts, kept_from)
    walls = sorted({wall for part in parts for wall in part.walls.values()})
    kept = "FILTER (skip IS NULL AND bad IS NULL)"
    asked = ["count(*)", "count(skip)", "count(bad)"] + [f"min({w}) {kept}, max({w}) {kept}" for w in walls]
    rows, skips, bads, *ends = _run(job, f"SELECT {', '.join(asked)} FROM stage_{job.tag}_rows").fetchone()
    seen = Seen(rows, skips, bads, {w: (ends[2 * i], ends[2 * i + 1]) for i, w in enumerate(walls)})
    return _Opened(records, parts, seen)


def _local_ends(job: Job, parts: list[Part], source: str) -> list[datetime]:
    """The first and the last of each sort of wall clock."""
    if not (local := sorted({wall for part in parts for wall in part.local})):
        return []
    ends = ", ".join(f"min({wall}), max({wall})" for wall in local)
    return [at for at in _run(job, f"SELECT {ends} FROM {source}").fetchone() if at is not None]


def _origin(job: Job, records: Records) -> Origin:
    return Origin(job.shown, records.columns, FILES, job.log.zones)


def _extent(job: Job, records: Records, schema: LogSchema) -> Extent:
    """Whole years around the wall clocks of a file: looking costs less than planning for a hundred years."""
    columns = Columns()
    parts, _ = parts_of(job.log, schema, _origin(job, records), columns, (FIRST, FIRST))
    met = _local_ends(job, parts, f"({columns.over(records.source, 'NULL')})")
    if not met:
        return FIRST, FIRST
    return datetime(min(met).year, 1, 1), datetime(min(max(met).year + 1, LAST.year), 12, 31)


def _with_texts(records: Records, wanted: Sequence[str]) -> Records:
    """The records with each wanted text worked out once, as a column of its own."""
    made = {c: sql for c in wanted if not (sql := records.columns[c]).isidentifier()}
    if not made:
        return records
    names = {c: f"t{i}" for i, c in enumerate(made)}
    texts = ", ".join(f"nullif({sql}, '') AS {names[c]}" for c, sql in made.items())
    return dataclasses.replace(
        records, source=f"(SELECT *, {texts} FROM {records.source})", columns={**records.columns, **names}
    )


def _parse(
    job: Job, records: Records, columns: Columns, refused: str, parts: list[Part], kept_from: datetime | None
) -> None:
    """Fills the stage table: typed columns, `skip` (why a record is left out) and `bad` (why it is refused).

    Only the columns the mapping names are read: what a refused record holds is fetched from the file afterwards.
    """
    log, texts = job.log, records.columns
    others = list(records.skip)
    if log.comment and records.layout:
        first = next(iter(texts.values())) if log.format == "delimited" else "line"
        others.append(f"WHEN starts_with(ltrim({first}), {lit(log.comment)}) THEN 'comment'")
    for column, values in log.keep.items():
        others.append(
            f"WHEN NOT coalesce({is_one_of(texts[column], values, FILES)}, false) THEN 'outside the selection'"
        )
    for column, values in log.drop.items():
        others.append(f"WHEN {is_one_of(texts[column], values, FILES)} THEN 'outside the selection'")
    nothing = "NULL::VARCHAR" if kept_from else "NULL::BOOLEAN"  # of a narrow type, since it stands in every row
    skip = f"CASE {' '.join(others)} END" if others else nothing
    kept = ", ".join(columns.names.values())
    bad = f"CASE WHEN skip IS NULL THEN {refused} END AS bad" if others else f"{refused} AS bad"
    late = "skip"
    if kept_from:
        over = " AND ".join(f"coalesce({p.finish or p.start}, {p.start}) < {ts(kept_from)}" for p in parts)
        late = f"CASE WHEN skip IS NULL AND {over} THEN 'older than is kept' ELSE skip END AS skip"
    source = records.source
    if records.refused:
        source = f"(SELECT *, ({records.refused}) IS NULL AS shaped FROM {source})"
    _run(
        job,
        f"CREATE TABLE stage_{job.tag}_rows AS SELECT {kept}, {late}, {bad} FROM ({columns.over(source, skip)})",
    )


def _run(job: Job, sql: str) -> Any:
    """Runs a parsing statement; what the engine says of the file becomes a SourceError."""
    import duckdb

    try:
        return job.con.execute(sql)
    except duckdb.Error as e:
        raise SourceError(f"{job.shown}: cannot be parsed: {str(e).splitlines()[0]}") from None


def _events(con: Any, stage: FileStage, log: LogMap, schema: LogSchema, opened: _Opened) -> None:
    """The view of the file's events in UTC, after clock changes are settled and impossible times refused."""
    table, parts = f"stage_{stage.file_id}", opened.parts
    stage.rejected += opened.seen.bads
    stage.twice, stage.never = _clock_changes(con, table, stage, log, schema, opened)
    for part in parts:
        if part.walls.keys() >= {"start", "finish"} or (part.finish and not part.duration):
            shown = f"concat('finish ', {part.finish}, ' is before start ', {part.start}, ' (UTC)')"
            _refuse(con, stage, f"{part.finish} < {part.start}", shown)
    if stage.rejected:
        refused_here = f"SELECT record_no, bad AS reason FROM {table} WHERE bad IS NOT NULL"
        con.execute(f"INSERT INTO {stage.rejects} BY NAME {refused_here}")
        rejects.texts(con, stage, opened.records, log.comment)
        stage.rejected = con.execute(f"SELECT count(*) FROM {stage.rejects}").fetchone()[0]
    stage.skipped = {reason: n for reason, n in stage.skipped.items() if n}
    selects = []
    for i, part in enumerate(parts):
        named = [f"{part.fields.get(f.name, 'NULL')} AS {ident(f.stored)}" for f in schema.fields]
        finish = part.finish or "NULL::TIMESTAMP"
        listed = ", ".join([f"{part.start} AS start_utc", f"{finish} AS finish_utc", *named])
        selects.append(
            f"SELECT {listed}, {stage.file_id}::INTEGER AS file_id, record_no, {i}::SMALLINT AS event_no "
            f"FROM {table} WHERE skip IS NULL AND bad IS NULL AND {part.start} IS NOT NULL"
        )
    con.execute(f"CREATE VIEW {stage.events} AS {' UNION ALL '.join(selects)}")


def _clock_changes(
    con: Any, table: str, stage: FileStage, log: LogMap, schema: LogSchema, opened: _Opened
) -> tuple[int, int]:
    """Settles times that happen twice, refuses what the policies refuse, and counts the records of either sort."""
    tests: dict[bool, list[str]] = {True: [], False: []}
    for part in opened.parts:
        for name, wall in sorted(part.walls.items(), reverse=True):  # start before finish
            low, high = opened.seen.ends[wall]
            for back in (True, False) if low else ():
                found = windows(schema.zone, low, high, sets_back=back)
                condition = within(wall, found)
                if found and (log.ambiguous if back else log.nonexistent) == "reject":
                    why = f" {'happens twice' if back else 'never happens'} in {schema.zone}"
                    _refuse(con, stage, condition, f"concat({lit(name + ': ')}, {wall}, {lit(why)})")
                elif found:
                    tests[back].append(condition)
                    if back and log.ambiguous == "order":
                        _settle(con, table, stage, part, name, found)
    return _records(con, table, tests[True]), _records(con, table, tests[False])


def _records(con: Any, table: str, tests: list[str]) -> int:
    """How many records fulfil one of the conditions, each on a column of its own: asked one after another, so that the
    engine looks only where the column's values may be.
    """
    counted = 0
    for i, test in enumerate(tests):
        met = "".join(f" AND NOT coalesce({t}, false)" for t in tests[:i])
        query = f"SELECT count(*) FROM {table} WHERE {test} AND skip IS NULL AND bad IS NULL{met}"
        counted += con.execute(query).fetchone()[0]
    return counted


def _settle(con: Any, table: str, stage: FileStage, part: Part, name: str, found: list[Change]) -> None:
    """Moves to the second pass the times that come after the file stepped back: those of the end the source gives
    (where it gives both, the starts, and the finishes that would lie before their start). What is reckoned from a moved
    time moves with it.
    """
    alone = len(part.walls) == 1
    for change in found:
        gap = change.before - change.after
        second = (
            second_pass(con, table, part.walls[name], change)
            if alone or name == "start"
            else f"{part.finish} < {part.start}"
        )
        if second:
            both = [c for c in (part.start, part.finish) if c]
            moved = both if alone else [part.start if name == "start" else part.finish]
            sets = ", ".join(f"{c} = {minus(c, -gap)}" for c in moved)
            _update(con, stage, sets, f"{within(part.walls[name], [change])} AND {second}")


def _refuse(con: Any, stage: FileStage, condition: str, reason: str) -> None:
    stage.rejected += _update(con, stage, f"bad = {reason}", f"skip IS NULL AND bad IS NULL AND {condition}")


def _update(con: Any, stage: FileStage, sets: str, condition: str) -> int:
    """Updates rows of the stage; where its record numbers are a view over positions, in the table below. How many."""
    if stage.rows.endswith("_rows"):
        condition = condition.replace("record_no", "(rowid + 1)")
    return int(con.execute(f"UPDATE {stage.rows} SET {sets} WHERE {condition}").fetchone()[0])
