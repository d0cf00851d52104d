"""The whole record behind an event, read again from its file once the file's hash is proved unchanged."""

from __future__ import annotations

import tempfile
from pathlib import Path

from fermata.archive import LogState
from fermata.archive.duck import connect
from fermata.errors import RequestError, SourceError
from fermata.intake import delimited
from fermata.intake.mapping import LogMap

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
    if not path.is_file():
        raise SourceError(
            f"{file.path} is gone (it had SHA-256 {file.sha256}); its events stay, its other columns are lost"
        )
    counted = delimited.count(path)
    if counted.sha256 != file.sha256:
        raise SourceError(f"{file.path} has changed since it was imported (its SHA-256 was {file.sha256}); not shown")
    with tempfile.TemporaryDirectory() as scratch:
        text = delimited.prepare(path, log, counted, Path(scratch))
        names = delimited.columns_of(text, log, path)
        values = _read(text, log, names, number, counted if text == path else delimited.count(text))
    return {"file": file.path, "record": str(number), **dict(zip(names, values, strict=True))}


def _read(text: Path, log: LogMap, names: list[str], number: int, counted: delimited.Counted) -> list[str]:
    con = connect()
    source = delimited.read_sql(text, log, names, "shown")
    con.execute(f"CREATE TEMP TABLE shown AS SELECT row_number() OVER () AS n, * FROM {source}")
    misfits = con.execute(
        "SELECT line, any_value(line_byte_position), any_value(csv_line) FROM rejects_shown GROUP BY line ORDER BY line"
    ).fetchall()
    rows = con.execute("SELECT count(*) FROM shown").fetchone()[0]
    blanks = delimited.nothing_lost(text, log, counted, rows + len(misfits), len(names), text)
    numbers = delimited.record_numbers(misfits, blanks, log.skip_lines + log.header)
    if number in numbers:
        raise RequestError(
            f"record {number:,} was rejected as it stands: {misfits[numbers.index(number)][2].strip()!r}"
        )
    place = number - sum(n < number for n in numbers)
    row = con.execute("SELECT * EXCLUDE n FROM shown WHERE n = ?", [place]).fetchone()
    return [v or "" for v in row]
