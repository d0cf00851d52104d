"""The whole record behind an event, read again from its file once the file's hash is proved unchanged."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

from fermata.archive import LogState
from fermata.archive.duck import connect
from fermata.errors import RequestError, SourceError
from fermata.intake import opening
from fermata.intake.mapping import LogMap
from fermata.intake.readers import Job, Records, counting, delimited, reader
from fermata.jsontext import json_object

__all__ = ["whole_record"]


def whole_record(log: LogMap, state: LogState, base: Path, record: str) -> dict[str, str]:
    """Every column of record `FILE:NUMBER`, in the file's order, with where it stands. Empty columns are ''.

    Raises RequestError for a record that is not there, SourceError for a file that is gone or is not the one imported.
    """
    file_text, _, number_text = record.partition(":")
    if not (file_text.isdigit() and number_text.isdigit()):
        raise RequestError(f"{record!r} is no record; write FILE:NUMBER as listings show it, for instance 3:1042")
    file, number = state.files.get(int(file_text)), int(number_text)
    if file is None:
        raise RequestError(
            f"there is no file {file_text} in this log (files: {', '.join(map(str, state.files)) or 'none'})"
        )
    if not 1 <= number <= file.read:
        raise RequestError(f"{file.path} has records 1 to {file.read:,}, not {number:,}")
    path = base / file.path
    if not opening.on_disk(path).is_file():
        raise SourceError(
            f"{file.path} is gone (it had SHA-256 {file.sha256}); its events stay, its other columns are lost"
        )
    with tempfile.TemporaryDirectory() as place, opening.unpacked(path, Path(place)) as plain:
        scratch = Path(place)
        counted = counting.count(plain)
        if counted.sha256 != file.sha256:
            raise SourceError(
                f"{file.path} has changed since it was imported (its SHA-256 was {file.sha256}); not shown"
            )
        text = delimited.prepare(plain, log, counted, scratch, path) if log.format in delimited.TEXTS else plain
        values = _read(Job(connect(), text, Path(file.path), log, "shown", (), scratch, plain.stat().st_mtime), number)
    return {"file": file.path, "record": str(number), **values}


def _read(job: Job, number: int) -> dict[str, str]:
    """The columns of one record; those that were set aside while parsing say so."""
    con, records = job.con, reader(job.log.format).open(job)
    columns = ", ".join(f"{sql} AS v{i}" for i, sql in enumerate(records.columns.values())) or "NULL AS v0"
    con.execute(
        f"CREATE TABLE shown AS SELECT row_number() OVER () AS n, {records.whole} AS whole, {columns} FROM "
        f"{records.source}"
    )
    place = _place(con, records, number)
    row = con.execute("SELECT * EXCLUDE n FROM shown WHERE n = ?", [place]).fetchone()
    whole, values = row[0] or "", [v or "" for v in row[1:]]
    if job.log.format in ("json", "json lines", "icalendar", "xes"):
        return _flat(whole)
    named = dict(zip(records.columns, values, strict=False))
    return (
        named
        if whole == "" or "line" in named
        else {**named, **({"record as written": whole} if whole[:1] != "{" else {})}
    )


def _place(con: Any, records: Records, number: int) -> int:
    """The row of a record: those the parser set aside have none."""
    if not records.layout or not records.text:
        return number
    misfits = con.execute(
        "SELECT line, any_value(line_byte_position), any_value(csv_line) FROM rejects_shown GROUP BY line ORDER BY line"
    ).fetchall()
    rows = con.execute("SELECT count(*) FROM shown").fetchone()[0]
    counted = counting.count(records.text)
    blanks = delimited.nothing_lost(
        records.text, records.layout, counted, rows + len(misfits), records.width, records.text
    )
    numbers = delimited.record_numbers(misfits, blanks, records.layout.skip_lines + records.layout.header)
    if number in numbers:
        raise RequestError(
            f"record {number:,} was rejected as it stands: {misfits[numbers.index(number)][2].strip()!r}"
        )
    return number - sum(n < number for n in numbers)


def _flat(text: str) -> dict[str, str]:
    """A JSON object as columns: nested values stay JSON."""
    held = json_object(text)
    if held is None:
        return {"line": text}
    return {
        k: v if isinstance(v, str) else "" if v is None else json.dumps(v, ensure_ascii=False) for k, v in held.items()
    }
