"""Records as they stand in a text: their lines, and their bytes whether or not they were understood."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from fermata.intake.mapping import LogMap
from fermata.intake.readers import counting

__all__ = ["raw_records", "walk"]


def raw_records(
    path: Path, log: LogMap, wanted: list[int], columns: int, quotes: bool, counted: counting.Counted
) -> list[tuple[int, str]]:
    """The line, from 1, and the text of each record of `wanted` (rising record numbers), as they stand in the file.

    `quotes` says whether a record may run over several lines. With one column, an empty line is a record.
    """
    found = _walked(path, log, wanted, columns) if quotes else _at_once(path, log, wanted, columns, counted)
    return [(line, text.decode("utf-8", "replace").rstrip("\r\n")) for line, text in found]


def _walked(path: Path, log: LogMap, wanted: list[int], columns: int) -> Iterator[tuple[int, bytes]]:
    """(line, bytes) of records, found from the beginning of the file."""
    numbers = iter(wanted)
    following, number = next(numbers), 0
    for _, line, text in walk(path, log, quotes=True):
        is_record = columns == 1 or bool(text.strip(b"\r\n"))
        number += is_record
        if is_record and number == following:
            yield line, text
            if not (following := next(numbers, 0)):
                return


def _at_once(
    path: Path, log: LogMap, wanted: list[int], columns: int, counted: counting.Counted
) -> Iterator[tuple[int, bytes]]:
    """The same of records of one line each: only the pieces are read in which they, or blank lines, begin."""
    head = log.skip_lines + log.header
    with path.open("rb") as f:
        pieces = _Pieces(f, counted)
        blank = [] if columns == 1 else [line for line in map(pieces.line, counted.blanks) if line > head]
        before = [line - 1 - head - i for i, line in enumerate(blank)]  # records before each blank line
        for line in (head + number + bisect_left(before, number) for number in wanted):
            f.seek(pieces.begin(line))
            if not (text := f.readline()):
                return
            yield line, text


class _Pieces:
    """The lines of a file that was counted in pieces; the piece asked for last is kept."""

    def __init__(self, file: BinaryIO, counted: counting.Counted) -> None:
        self.file, self.counted, self.held = file, counted, -1
        self.ends: list[int] = []

    def _before(self, piece: int) -> int:
        """The line ends before a piece; its own, as places in it, are in `ends` then."""
        import numpy as np

        if piece != self.held:
            self.file.seek(piece * counting.CHUNK)
            marks = np.frombuffer(self.file.read(counting.CHUNK), np.uint8) == ord("\n")
            self.ends, self.held = np.flatnonzero(marks).tolist(), piece
        return self.counted.upto[piece - 1] if piece else 0

    def line(self, offset: int) -> int:
        """The number, from 1, of the line that begins at an offset."""
        piece, at = divmod(offset, counting.CHUNK)
        return self._before(piece) + bisect_left(self.ends, at) + 1

    def begin(self, line: int) -> int:
        """The offset at which a line begins; that of the end where there is no such line."""
        piece = bisect_left(self.counted.upto, line - 1)
        if line == 1 or piece == len(self.counted.upto):
            return 0 if line == 1 else self.counted.size
        before = self._before(piece)
        return piece * counting.CHUNK + self.ends[line - 2 - before] + 1


def walk(path: Path, log: LogMap, *, quotes: bool) -> Iterator[tuple[int, int, bytes]]:
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
        begun, first = offset, head + 1
        held: list[bytes] = []
        for number, line in enumerate(f, head + 1):
            if not held:
                begun, first = offset, number
            offset += len(line)
            held.append(line)
            within = len(held) > 1
            if not (quotes and quote and (within or quote in line) and _still_open(line, opening, closing, within)):
                yield begun, first, b"".join(held)
                held = []
        if held:
            yield begun, first, b"".join(held)


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
