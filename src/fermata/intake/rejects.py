"""Refused records of one file: number, line, reason, and the text as it stands in the file."""

from __future__ import annotations

import json
from typing import Any

from fermata.archive.duck import lit
from fermata.intake.file_stage import FileStage
from fermata.intake.readers import Records, raw_text

__all__ = ["begin", "texts"]

MOST_TEXTS = 100_000  # rejects whose text is kept; a file with more is mapped wrongly
LONGEST_TEXT = 100_000  # characters of a rejected record that are kept
MISFITS = {
    "TOO MANY COLUMNS": "has more columns than the header",
    "MISSING COLUMNS": "has fewer columns than the header",
    "UNQUOTED VALUE": "has a quote that is never closed, or text after a closing quote",
    "INVALID ENCODING": "is not UTF-8 text; an older program may write encoding = 'cp1252'",
    "LINE SIZE OVER MAXIMUM": "is longer than 16 MB",
    "CAST": "cannot be read",
}


def begin(con: Any, stage: FileStage, numbers: list[int], kinds: list[str]) -> None:
    """Makes the table of the file's rejects, with what the parser refused (kinds as the engine names them)."""
    con.execute(
        f"CREATE OR REPLACE TABLE {stage.rejects} (record_no BIGINT, reason VARCHAR, line BIGINT, whole VARCHAR)"
    )
    if numbers:
        reasons = [MISFITS.get(kind, kind.lower()) for kind in kinds]
        _table_of(con, stage, "misfits", record_no=(numbers, "BIGINT"), reason=(reasons, "VARCHAR"))
        con.execute(f"INSERT INTO {stage.rejects} BY NAME FROM misfits")


def _table_of(con: Any, stage: FileStage, name: str, **columns: tuple[list[Any], str]) -> None:
    """A table of Python values, a list a column, by way of a file: the engine loads pandas before it is given the first
    value itself, and reads a long list in a statement slowly.
    """
    path = stage.scratch / f"{name}.jsonl"
    with path.open("w") as f:
        for row in zip(*(values for values, _ in columns.values()), strict=True):
            f.write(json.dumps(dict(zip(columns, row, strict=True))) + "\n")
    types = ", ".join(f"{c}: {lit(kind)}" for c, (_, kind) in columns.items())
    read = f"read_json({lit(str(path))}, format = 'newline_delimited', columns = {{{types}}})"
    con.execute(f"CREATE OR REPLACE TABLE {name} AS FROM {read}")
    path.unlink()


def texts(con: Any, stage: FileStage, records: Records, comment: str) -> None:
    """Gives the rejects their line and text; those that turn out blank or comments become skipped."""
    wanted = [
        n for (n,) in con.execute(f"SELECT record_no FROM {stage.rejects} ORDER BY 1 LIMIT {MOST_TEXTS}").fetchall()
    ]
    if not wanted:
        return
    found = _found(con, stage, records, wanted)
    found += [(0, "?")] * (len(wanted) - len(found))
    lines, held = [line or None for line, _ in found], [t[:LONGEST_TEXT] for _, t in found]
    _table_of(con, stage, "texts", record_no=(wanted, "BIGINT"), line=(lines, "BIGINT"), whole=(held, "VARCHAR"))
    con.execute(
        f"CREATE OR REPLACE TABLE {stage.rejects} AS SELECT record_no, reason, t.line, t.whole "
        f"FROM {stage.rejects} LEFT JOIN texts t USING (record_no)"
    )
    if not records.layout:
        return
    signs = records.layout.delimiter + records.layout.quote + " "
    blank = [n for n, t in zip(wanted, held, strict=True) if not t.strip(signs)]
    comments = [n for n, t in zip(wanted, held, strict=True) if comment and t.lstrip().startswith(comment)]
    for reason, numbers in (("blank", blank), ("comment", comments)):
        if numbers:
            stage.skipped[reason] = stage.skipped.get(reason, 0) + len(numbers)
            con.execute(f"DELETE FROM {stage.rejects} WHERE record_no IN (SELECT unnest({numbers}))")


def _found(con: Any, stage: FileStage, records: Records, wanted: list[int]) -> list[tuple[int, str]]:
    """The line, where the records stand in a text, and the text of each record of `wanted`."""
    if not wanted:
        return []
    if records.layout:
        text = records.text or stage.path
        assert stage.text
        return raw_text.raw_records(text, records.layout, wanted, records.width, stage.several_lines, stage.text)
    if records.texts:
        return [(0, text) for text in records.texts(wanted)]
    numbered = f"SELECT row_number() OVER () AS n, {records.whole} AS whole FROM {records.source}"
    rows = con.execute(f"SELECT whole FROM ({numbered}) SEMI JOIN {stage.rejects} r ON r.record_no = n ORDER BY n")
    return [(0, whole or "") for (whole,) in rows.fetchmany(len(wanted))]
