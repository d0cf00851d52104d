"""Delimited text: how the file is written, what its columns are called, and an independent count of its records.

The engine parses; this module proves that nothing was lost: the file is counted once more while it is hashed,
and records, blank lines, header and rejected records must add up to its lines.
"""

from __future__ import annotations

import codecs
import csv
import hashlib
import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.intake.mapping import LogMap
from fermata.intake.readers import Job, Records, check

__all__ = ["Counted", "columns_of", "count", "named_once", "open", "prepare", "read_sql"]

CHUNK = 1 << 20
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
BLANK = (b"\n\n", b"\n\r\n")
TWO_ENDS = re.compile(rb"\n\n")  # twice as fast as bytes.find where there are none
TWO = 0x0A0A  # the same as a number
LONGEST_LINE = 1 << 24


@dataclass(slots=True)
class Counted:
    """A file read once from end to end: its size, SHA-256 and lines; `blanks` are the offsets of empty lines.

    `prefixes` maps a byte length asked for to the SHA-256 of that many first bytes.
    """

    size: int = 0
    sha256: str = ""
    newlines: int = 0
    crlf: int = 0
    returns: int = 0
    lone_cr: bool = False
    ends_in_newline: bool = True
    nulls: int = 0
    blanks: list[int] = field(default_factory=list)
    prefixes: dict[int, str] = field(default_factory=dict)

    @property
    def lines(self) -> int:
        """Physical lines, a last one without its line end included."""
        return self.newlines + (not self.ends_in_newline and self.size > 0)


def count(path: Path, prefix_sizes: tuple[int, ...] = ()) -> Counted:
    """Reads the file once: hash, lines, blank lines, and the hashes of its beginnings of the given sizes."""
    found = Counted()
    digest = hashlib.sha256()
    wanted = sorted(set(prefix_sizes))
    tail = b"\n"  # so that an empty first line counts as one
    try:
        with path.open("rb") as f:
            while chunk := f.read(CHUNK):
                while wanted and wanted[0] <= found.size + len(chunk):
                    part = digest.copy()
                    part.update(chunk[: wanted[0] - found.size])
                    found.prefixes[wanted.pop(0)] = part.hexdigest()
                digest.update(chunk)
                newlines, together = _newlines(chunk)
                found.newlines += newlines
                found.nulls += chunk.count(b"\0") if b"\0" in chunk else 0  # to look is quicker than to count
                if b"\r" in chunk or b"\r" in tail:
                    joined = tail + chunk
                    found.returns += chunk.count(b"\r")
                    found.crlf += joined.count(b"\r\n") - tail.count(b"\r\n")
                    for blank in BLANK:
                        found.blanks += _ends_of(joined, blank, found.size - len(tail), len(tail))
                else:  # the common case, without copying and with one search
                    if tail.endswith(b"\n") and chunk.startswith(b"\n"):
                        found.blanks.append(found.size)
                    if together:
                        found.blanks += _ends_of(chunk, BLANK[0], found.size, 0)
                found.size += len(chunk)
                tail = (tail + chunk[-2:])[-2:]
    except OSError as e:
        raise SourceError(f"{path}: cannot be read: {e.strerror}") from None
    found.blanks.sort()
    found.ends_in_newline = tail.endswith(b"\n")
    found.sha256 = digest.hexdigest()
    return found


def _newlines(chunk: bytes) -> tuple[int, bool]:
    """How many line ends there are, and whether two stand together. Of a whole chunk, all bytes are compared at once,
    in a third of the time.
    """
    if len(chunk) < CHUNK:
        return chunk.count(b"\n"), bool(TWO_ENDS.search(chunk))
    import numpy as np

    pairs = (np.frombuffer(chunk, "<u2", (len(chunk) - at) // 2, at) for at in (0, 1))
    return int(np.count_nonzero(np.frombuffer(chunk, np.uint8) == ord("\n"))), any((p == TWO).any() for p in pairs)


def _ends_of(data: bytes, blank: bytes, base: int, seen: int) -> list[int]:
    """The offsets of the empty lines that `blank` marks and that end past the `seen` bytes of `data`."""
    offsets = []
    at = data.find(blank)
    while at >= 0:
        if at + len(blank) > seen:
            offsets.append(base + at + 1)
        at = data.find(blank, at + 1)
    return offsets


def plain(log: LogMap) -> bool:
    """Whether the engine reads the log's encoding itself."""
    return log.encoding in ("utf-8", "utf-8-sig")


def prepare(path: Path, log: LogMap, counted: Counted, scratch: Path) -> Path:
    """The file itself, or a UTF-8 copy with one kind of line end where it has another encoding or mixes them.

    Raises SourceError naming the place of the first byte the declared encoding does not have.
    """
    mixed = 0 < counted.crlf < counted.newlines or counted.returns > counted.crlf
    if plain(log) and not mixed:
        with path.open("rb") as f:
            start = f.read(4)
        if start[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
            raise SourceError(f'{path}: begins like UTF-16 text; declare encoding = "utf-16"')
        return path
    copy = scratch / f"{counted.sha256[:16]}.txt"
    errors = "surrogateescape" if plain(log) else "strict"
    try:
        with (
            path.open(encoding=log.encoding, errors=errors, newline=None) as source,
            copy.open("w", encoding="utf-8", errors="surrogateescape", newline="\n") as target,
        ):
            while text := source.read(CHUNK):
                target.write(text)
    except UnicodeError as e:
        place = f" near byte {e.start:,}" if isinstance(e, UnicodeDecodeError) else ""
        raise SourceError(
            f"{path}: is not {log.encoding} text{place} ({e.reason if hasattr(e, 'reason') else e})"
        ) from None
    return copy


def columns_of(path: Path, log: LogMap, shown: Path | None = None) -> list[str]:
    """The names of the file's columns; numbers from 1 where it has no header. A repeated name gets `_2`, `_3`."""
    row = _first_row(path, log, shown or path)
    return named_once(row) if log.header else [str(i) for i in range(1, len(row) + 1)]


def _first_row(path: Path, log: LogMap, name: Path) -> list[str]:
    with path.open(encoding="utf-8-sig", errors="replace", newline="") as f:
        for _ in range(log.skip_lines):
            f.readline(LONGEST_LINE)
        if len(log.delimiter) == 1:
            row = next(
                csv.reader(
                    f,
                    delimiter=log.delimiter,
                    quotechar=log.quote or None,
                    quoting=csv.QUOTE_MINIMAL if log.quote else csv.QUOTE_NONE,
                ),
                None,
            )
        else:
            line = f.readline(LONGEST_LINE).rstrip("\r\n")
            row = line.split(log.delimiter) if line else None
    if not row:
        raise SourceError(f"{name}: is empty" + (f" after {log.skip_lines} skipped lines" if log.skip_lines else ""))
    return row


def named_once(row: Sequence[str]) -> list[str]:
    """The names of a header, each told from the others: a repeated one gets `_2`, `_3`."""
    seen: dict[str, int] = {}
    names = []
    for column in (c.strip() for c in row):
        seen[column] = seen.get(column, 0) + 1
        names.append(column if seen[column] == 1 else f"{column}_{seen[column]}")
    return names


def open(job: Job) -> Records:
    """Opens delimited text; in a file without header, columns are numbers from 1."""
    names = columns_of(job.path, job.log, job.shown)
    hint = "" if job.log.header else " (without a header, columns are numbers from 1)"
    if len(names) == 1:
        likely = max(";,\t|", key=names[0].count)
        hint = f"; is the delimiter {likely!r}?" if likely in names[0] else hint
    check(job, names, hint)
    source = read_sql(job.path, job.log, names, job.tag)
    return Records(source, engine_names(names), job.log, job.path, inferred=_repeated(job))


def _repeated(job: Job) -> str:
    """What to say of columns that the header calls by one name."""
    row = [c.strip() for c in _first_row(job.path, job.log, job.shown)] if job.log.header else []
    again = [(old, new) for old, new in zip(row, named_once(row), strict=True) if old and old != new]
    return ", ".join(f"the header has {old!r} more than once: the later one is {new!r}" for old, new in again)


def engine_names(columns: list[str]) -> dict[str, str]:
    """Column -> the engine's name for it: r1, r2 ...; the engine would take `Id` and `ID` for one column."""
    return {c: f"r{i}" for i, c in enumerate(columns, 1)}


def read_sql(path: Path, log: LogMap, columns: list[str], tag: str) -> str:
    """The engine's table over the file, every column as text; what does not parse goes to `rejects_<tag>`."""
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
        "max_line_size": str(LONGEST_LINE),
    }
    return f"read_csv({lit(str(path))}, {', '.join(f'{k} = {v}' for k, v in options.items())})"


def nothing_lost(path: Path, log: LogMap, counted: Counted, records: int, columns: int, shown: Path) -> list[int]:
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
    for offset, _, text in _walk(path, log, quotes=True):
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


def raw_records(path: Path, log: LogMap, wanted: list[int], columns: int, quotes: bool) -> list[tuple[int, str]]:
    """The line, from 1, and the text of each record of `wanted` (rising record numbers), as they stand in the file.

    `quotes` says whether a record may run over several lines. With one column, an empty line is a record.
    """
    found: list[tuple[int, str]] = []
    numbers = iter(wanted)
    following = next(numbers, None)
    for number, line, text in _numbered(path, log, columns) if quotes else _near(path, log, columns, wanted):
        if number == following:
            found.append((line, text.decode("utf-8", "replace").rstrip("\r\n")))
            following = next(numbers, None)
        if following is None:
            break
    return found


def _numbered(path: Path, log: LogMap, columns: int) -> Iterator[tuple[int, int, bytes]]:
    """(record number, line, bytes) of each record; that of a blank line is 0."""
    number = 0
    for _, line, text in _walk(path, log, quotes=True):
        is_record = columns == 1 or bool(text.strip(b"\r\n"))
        number += is_record
        yield number if is_record else 0, line, text


def _near(path: Path, log: LogMap, columns: int, wanted: list[int]) -> Iterator[tuple[int, int, bytes]]:
    """The same of records of one line each, but only of the pieces of the file with one that is wanted in them."""
    number, line = 0, log.skip_lines + log.header
    with path.open("rb") as f:
        for _ in range(line):
            f.readline()
        while (piece := f.read(CHUNK) + f.readline()) and number < wanted[-1]:
            lines = piece.count(b"\n") + (not piece.endswith(b"\n"))
            blank = columns > 1 and (piece[:1] in b"\r\n" or TWO_ENDS.search(piece) or b"\n\r" in piece)
            told = piece.split(b"\n")[:lines] if blank else ()
            records = sum(1 for text in told if text.strip(b"\r")) if blank else lines
            if wanted[bisect_right(wanted, number)] <= number + records:
                here = number
                for n, text in enumerate(told or piece.split(b"\n")[:lines], line + 1):
                    is_record = not blank or bool(text.strip(b"\r"))
                    here += is_record
                    yield here if is_record else 0, n, text
            number, line = number + records, line + lines


def _offset_after(path: Path, lines: int) -> int:
    with path.open("rb") as f:
        return sum(len(f.readline()) for _ in range(lines))


def _walk(path: Path, log: LogMap, *, quotes: bool) -> Iterator[tuple[int, int, bytes]]:
    """(offset, line from 1, bytes) of each record and each blank line; with `quotes` following them over line ends."""
    head = log.skip_lines + log.header
    quote, delimiter = log.quote.encode(), re.escape(log.delimiter.encode())
    q = re.escape(quote)
    opening = re.compile(rb"(?:^|" + delimiter + rb") *" + q)
    closing = (
        re.compile(rb"[^" + q + rb"]*(?:" + q + q + rb"[^" + q + rb"]*)*" + q + rb"(?!" + q + rb")") if q else opening
    )
    with path.open("rb") as f:
        offset = sum(len(f.readline()) for _ in range(head))
        begun, first, held = offset, head + 1, b""
        for number, line in enumerate(f, head + 1):
            if not held:
                begun, first = offset, number
            offset += len(line)
            if quotes and quote and (held or quote in line) and _still_open(line, opening, closing, bool(held)):
                held += line
                continue
            yield begun, first, held + line
            held = b""
        if held:
            yield begun, first, held


def _still_open(line: bytes, opening: re.Pattern[bytes], closing: re.Pattern[bytes], inside: bool) -> bool:
    """Whether a quoted field is open at the end of `line`; a quote opens only at the start of a field."""
    at = 0
    while True:
        if not inside:
            begin = opening.search(line, at)
            if not begin:
                return False
            at = begin.end()
        end = closing.match(line, at)
        if not end:
            return True
        inside, at = False, end.end()


def record_numbers(rejects: list[tuple[int, int, str]], blanks: list[int], head: int) -> list[int]:
    """The record numbers of rejects given as (line, offset from 1, text), as the engine reports them.

    The engine's line counts header, records and blank lines, a record over several lines once.
    """
    return [line - head - bisect_left(blanks, _begins(offset, text)) for line, offset, text in rejects]


def _begins(offset: int, text: str) -> int:
    """Where a reject's own text begins, from 0: the engine includes the blank lines before it."""
    return offset - 1 + len(text) - len(text.lstrip("\r\n"))
