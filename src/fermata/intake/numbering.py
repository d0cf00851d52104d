"""Record numbers for the rows of a stage, and the proof that every record of the file is among them or refused."""

from __future__ import annotations

from typing import Any

from fermata.errors import SourceError
from fermata.intake import rejects
from fermata.intake.file_stage import FileStage, Seen
from fermata.intake.readers import NO_DELIMITER, Records, counting, delimited

__all__ = ["number_records"]

MOST_MISFITS = 100_000


def number_records(con: Any, stage: FileStage, records: Records, counted: counting.Counted | None, seen: Seen) -> None:
    """Gives every row its record number, lists what the parser refused, and proves that nothing was lost.

    `counted` is what is known of the text the records stand in; None has it counted here.
    """
    table, misfits, rows = f"stage_{stage.file_id}", _misfits(con, stage, records), seen.rows
    blanks: list[int] = []
    numbers: list[int] = []
    if records.layout:
        layout, text = records.layout, records.text or stage.path
        stage.text = counted = counted or counting.count(text)
        blanks = delimited.nothing_lost(text, layout, counted, rows + len(misfits), records.width, stage.path)
        head = layout.skip_lines + layout.header
        numbers = delimited.record_numbers([(line, at, whole or "") for line, at, whole, _ in misfits], blanks, head)
        stage.several_lines = head + rows + len(misfits) + len(blanks) != counted.lines
    elif rows != records.rows:
        raise SourceError(
            f"{stage.path}: {records.rows:,} records were made but {rows:,} were parsed; nothing was imported"
        )
    stage.read = rows + len(misfits) + len(blanks)
    stage.skipped = {"blank": len(blanks)}
    stage.rejected = len(numbers)
    rejects.begin(con, stage, numbers, [kind for _, _, _, kind in misfits])
    if misfits:
        shifts = {n - 1 - j: j + 1 for j, n in enumerate(numbers)}  # position from which on -> refused before
        thresholds = ", ".join(f"({begins}, {shift})" for begins, shift in shifts.items())
        con.execute(
            f"CREATE TABLE {table} AS SELECT s.rowid + 1 + coalesce(t.shift, 0) AS record_no, s.* "
            f"FROM {table}_rows s ASOF LEFT JOIN (VALUES {thresholds}) t(begins, shift) ON s.rowid >= t.begins"
        )
        con.execute(f"DROP TABLE {table}_rows")
        stage.rows = table
    else:
        stage.rows = f"{table}_rows"
        con.execute(f"CREATE VIEW {table} AS SELECT rowid + 1 AS record_no, * FROM {table}_rows")
    if not seen.skips:
        return
    skips = con.execute(f"SELECT skip, count(*) FROM {table} WHERE skip IS NOT NULL GROUP BY skip").fetchall()
    for reason, n in skips:
        stage.skipped[reason] = stage.skipped.get(reason, 0) + n


def _misfits(con: Any, stage: FileStage, records: Records) -> list[Any]:
    """What the engine's parser of text set aside: (line, offset, text, kind)."""
    if not records.layout:
        return []
    found: list[Any] = con.execute(
        f"SELECT line, any_value(line_byte_position), any_value(csv_line), "
        "coalesce(arg_min(CAST(error_type AS VARCHAR), column_idx), any_value(CAST(error_type AS VARCHAR))) "
        f"FROM rejects_{stage.file_id} GROUP BY line ORDER BY line LIMIT {MOST_MISFITS + 1}"
    ).fetchall()
    if len(found) > MOST_MISFITS:
        layout = records.layout
        hint = f"; is the delimiter really {layout.delimiter!r}?" if layout.delimiter != NO_DELIMITER else ""
        fits = "its header" if layout.header else "its columns" if hint else "its format or are not UTF-8 text"
        raise SourceError(f"{stage.path}: more than {MOST_MISFITS:,} records do not fit {fits}{hint}")
    return found
