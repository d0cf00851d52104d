"""Delimited text: how the file is written, what its columns are called, and an independent count of its records.

The engine parses; this module proves that nothing was lost: the file is counted once more while it is hashed,
and records, blank lines, header and rejected records must add up to its lines.
"""

from __future__ import annotations

import codecs
import csv
from bisect import bisect_left
from pathlib import Path

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.intake import signatures
from fermata.intake.field_map import named_once
from fermata.intake.mapping import LogMap
from fermata.intake.readers import Job, Records, check, counting, raw_text

__all__ = ["columns_of", "open", "prepare", "read_sql"]

TEXTS = (
    "delimited",
    "json lines",
    "regex",
    "syslog",
    "web access",
    "w3c",
    "page log",
    "fixed width",
    "key=value",
)  # of any encoding

WIDEST = 20_000  # columns: the engine's time grows with their square


def plain(log: LogMap) -> bool:
    """Whether the engine reads the log's encoding itself."""
    return log.encoding in ("utf-8", "utf-8-sig")


def prepare(path: Path, log: LogMap, counted: counting.Counted, scratch: Path, shown: Path) -> Path:
    """The file itself, or a UTF-8 copy with one kind of line end where it has another encoding or mixes them.

    Raises SourceError for what is no text, naming the place of the first byte the declared encoding does not have.
    """
    with path.open("rb") as f:
        start = f.read(signatures.LOOK)
    signatures.refuse(start, shown)
    mixed = 0 < counted.crlf < counted.newlines or counted.returns > counted.crlf
    if plain(log) and not mixed:
        if start[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
            raise SourceError(f'{shown}: begins like UTF-16 text; declare encoding = "utf-16"')
        return path
    copy = scratch / f"{counted.sha256[:16]}.txt"
    errors = "surrogateescape" if plain(log) else "strict"
    try:
        with (
            path.open(encoding=log.encoding, errors=errors, newline=None) as source,
            copy.open("w", encoding="utf-8", errors="surrogateescape", newline="\n") as target,
        ):
            while text := source.read(counting.CHUNK):
                target.write(text)
    except UnicodeError as e:
        place = f" near byte {e.start:,}" if isinstance(e, UnicodeDecodeError) else ""
        raise SourceError(
            f"{shown}: is not {log.encoding} text{place} ({e.reason if hasattr(e, 'reason') else e})"
        ) from None
    return copy


def columns_of(path: Path, log: LogMap, shown: Path | None = None) -> list[str]:
    """The names of the file's columns; numbers from 1 where it has no header. A repeated name gets `_2`, `_3`."""
    row = _first_row(path, log, shown or path)
    if len(row) > WIDEST:
        raise SourceError(
            f"{shown or path}: its first record has {len(row):,} columns; at most {WIDEST:,} are read. Is the "
            f"delimiter {log.delimiter!r}, and does each record end with the end of a line?"
        )
    return named_once(row) if log.header else [str(i) for i in range(1, len(row) + 1)]


def _first_row(path: Path, log: LogMap, name: Path) -> list[str]:
    with path.open(encoding="utf-8-sig", errors="replace", newline="") as f:
        for _ in range(log.skip_lines):
            f.readline(counting.LONGEST_LINE)
        if len(log.delimiter) == 1:
            cells = csv.reader(
                f,
                delimiter=log.delimiter,
                quotechar=log.quote or None,
                quoting=csv.QUOTE_MINIMAL if log.quote else csv.QUOTE_NONE,
            )
            try:
                row = next(cells, None)
            except csv.Error:
                raise SourceError(
                    f"{name}: the first record holds a text of more than {csv.field_size_limit():,} characters: a "
                    f"quote {log.quote!r} is not closed, or the delimiter is not {log.delimiter!r}"
                ) from None
        else:
            line = f.readline(counting.LONGEST_LINE).rstrip("\r\n")
            row = line.split(log.delimiter) if line else None
    if not row:
        raise SourceError(f"{name}: is empty" + (f" after {log.skip_lines} skipped lines" if log.skip_lines else ""))
    return row


def open(job: Job) -> Records:
    """Opens delimited text; in a file without header, columns are numbers from 1."""
    names = columns_of(job.path, job.log, job.shown)
    hint = "" if job.log.header else " (without a header, columns are numbers from 1)"
    if len(names) == 1:
        likely = max(";,\t|", key=names[0].count)
        hint = f"; is the delimiter {likely!r}?" if likely in names[0] else hint
    check(job, names, hint)
    source = read_sql(job, names)
    return Records(source, engine_names(names), job.log, job.path, inferred=_repeated(job))


def _repeated(job: Job) -> str:
    """What to say of columns that the header calls by one name."""
    row = [c.strip() for c in _first_row(job.path, job.log, job.shown)] if job.log.header else []
    again = [(old, new) for old, new in zip(row, named_once(row), strict=True) if old and old != new]
    return ", ".join(f"the header has {old!r} more than once: the later one is {new!r}" for old, new in again)


def engine_names(columns: list[str]) -> dict[str, str]:
    """Column -> the engine's name for it: r1, r2 ...; the engine would take `Id` and `ID` for one column."""
    return {c: f"r{i}" for i, c in enumerate(columns, 1)}


def read_sql(job: Job, columns: list[str]) -> str:
    """The engine's table over the file, every column as text; what does not parse goes to `rejects_<tag>`."""
    log, tag = job.log, job.tag
    types = ", ".join(f"{lit(c)}: 'VARCHAR'" for c in engine_names(columns).values())
    options = {
        "auto_detect": "false",
        "columns": "{" + types + "}",
        "header": "true" if log.header else "false",
        "skip": str(log.skip_lines),
        "delim": lit(log.delimiter),
        "quote": lit(log.quote),
        "escape": lit(log.escape or log.quote),
        "store_rejects": "true",
        "rejects_table": lit(f"rejects_{tag}"),
        "rejects_scan": lit(f"scan_{tag}"),
        "rejects_limit": "0",
        "max_line_size": str(counting.LONGEST_LINE),
    }
    if not job.overlong:  # the engine's own, for sixteen longest lines, takes more memory and time
        options["buffer_size"] = str(3 * counting.LONGEST_LINE // 2)
    return f"read_csv({lit(str(job.path))}, {', '.join(f'{k} = {v}' for k, v in options.items())})"


def nothing_lost(
    path: Path, log: LogMap, counted: counting.Counted, records: int, columns: int, shown: Path
) -> list[int]:
    """The offsets of the blank lines, once `records` (rejected ones included) are proved to be all there are.

    Raises SourceError where header, records and blank lines do not add up to what the file holds.
    """
    head = log.skip_lines + log.header
    if columns == 1 and head + records == counted.lines:
        return []  # with one column, an empty line is a record
    blanks = [b for b in counted.blanks if b >= _offset_after(path, head)]
    if head + records + len(blanks) == counted.lines:
        return blanks
    found, blanks = 0, []
    for offset, _, text in raw_text.walk(path, log, quotes=True):
        if text.strip(b"\r\n"):
            found += 1
        else:
            blanks.append(offset)
    if found != records:
        raise SourceError(
            f"{shown}: {found:,} records were counted but {records:,} were parsed; nothing was imported. "
            f'Check delimiter {log.delimiter!r} and quote {log.quote!r} (quote = "" if the file has no quoting)'
        )
    return blanks


def _offset_after(path: Path, lines: int) -> int:
    with path.open("rb") as f:
        return sum(len(f.readline()) for _ in range(lines))


def record_numbers(rejects: list[tuple[int, int, str]], blanks: list[int], head: int) -> list[int]:
    """The record numbers of rejects given as (line, offset from 1, text), as the engine reports them.

    The engine's line counts header, records and blank lines, a record over several lines once.
    """
    return [line - head - bisect_left(blanks, _begins(offset, text)) for line, offset, text in rejects]


def _begins(offset: int, text: str) -> int:
    """Where a reject's own text begins, from 0: the engine includes the blank lines before it."""
    return offset - 1 + len(text) - len(text.lstrip("\r\n"))
