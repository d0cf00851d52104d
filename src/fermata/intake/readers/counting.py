"""A file counted while it is hashed: an independent count of its lines, to which what is parsed must add up."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass, field
from pathlib import Path

from fermata.errors import SourceError

__all__ = ["Counted", "count"]

CHUNK = 1 << 20
BLANK = (b"\n\n", b"\n\r\n")
TWO_ENDS = re.compile(rb"\n\n")  # twice as fast as bytes.find where there are none
TWO = 0x0A0A  # the same as a number
LONGEST_LINE = 1 << 24


@dataclass(slots=True)
class Counted:
    """A file read once from end to end: its size, SHA-256 and lines; `blanks` are the offsets of empty lines.

    `stretch` is the length of what was met at once without a line end in it: a line is at most two pieces longer.
    `upto` are the line ends up to the end of each piece of `CHUNK` bytes. `prefixes` maps a byte length asked for to
    the SHA-256 of that many first bytes.
    """

    size: int = 0
    sha256: str = ""
    newlines: int = 0
    crlf: int = 0
    returns: int = 0
    ends_in_newline: bool = True
    nulls: int = 0
    stretch: int = field(default=0, compare=False)  # by the pieces the file is read in
    upto: list[int] = field(default_factory=list, compare=False)
    blanks: list[int] = field(default_factory=list)
    prefixes: dict[int, str] = field(default_factory=dict)

    @property
    def lines(self) -> int:
        """Physical lines, a last one without its line end included."""
        return self.newlines + (not self.ends_in_newline and self.size > 0)

    @property
    def overlong(self) -> bool:
        """Whether a line may be longer than the engine is to read."""
        return self.stretch + 2 * CHUNK > LONGEST_LINE


def count(path: Path, prefix_sizes: tuple[int, ...] = ()) -> Counted:
    """Reads the file once: hash, lines, blank lines, and the hashes of its beginnings of the given sizes."""
    found = Counted()
    digest = hashlib.sha256()
    wanted = sorted(set(prefix_sizes))
    tail = b"\n"  # so that an empty first line counts as one
    stretch = 0
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
                found.upto.append(found.newlines)
                stretch = 0 if newlines else stretch + len(chunk)
                found.stretch = max(found.stretch, stretch)
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
