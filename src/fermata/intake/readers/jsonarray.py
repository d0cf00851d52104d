"""An array of records within a JSON document, in pieces that are decoded one at a time.

A piece ends where a record seems to end. That it does is proved by decoding it: what is not whole is no JSON.
"""

from __future__ import annotations

import mmap
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

__all__ = ["Piece", "Unusual", "cut"]

PIECE = 1_000_000  # bytes that are decoded at once, about
NEAR = 1_000_000  # bytes in which a record ends
TRIES = 8  # places that are tried
FIRST_KEY = re.compile(rb'\s*\{\s*("(?:[^"\\]|\\.)*")')


class Unusual(Exception):
    """The document has another shape, or a value that is written in more than one way."""


@dataclass(frozen=True)
class Piece:
    """Some records of an array: the number of the first of them, how many there are, and where they stand (bytes)."""

    first: int
    count: int
    start: int
    end: int

    def read(self, path: Path) -> list[Any]:
        """The records."""
        with path.open("rb") as f:
            f.seek(self.start)
            found = _decoded(f.read(self.end - self.start))
        assert found is not None
        return found


def cut(path: Path, keys: Sequence[str]) -> Iterator[tuple[Piece, list[Any]]]:
    """The records of the array at `keys` (none: of the document itself) with where they stand. Raises Unusual."""
    with path.open("rb") as f:
        text = mmap.mmap(f.fileno(), 0, access=mmap.ACCESS_READ)
    keys = [k for k in keys if k]
    at = _beginning(text, keys)
    head = FIRST_KEY.match(text, at)
    between = re.compile(rb"\}\s*(,)\s*\{\s*" + re.escape(head[1])) if head else None
    first, shell = 1, text[:at]
    while between and len(text) - at > 2 * PIECE:
        near = between.finditer(text, at + PIECE, at + PIECE + NEAR)
        end, records = _tried(text, at, (m.start(1) for m in near))
        yield Piece(first, len(records), at, end), records
        at, first = end + 1, first + len(records)
    end, records = _tried(text, at, _endings(text, at, shell, keys))
    if not records and first == 1:
        raise Unusual
    yield Piece(first, len(records), at, end), records


def _tried(text: mmap.mmap, at: int, ends: Iterator[int]) -> tuple[int, list[Any]]:
    """The first of the places at which the records that begin at `at` end. Raises Unusual."""
    for end, _ in zip(ends, range(TRIES), strict=False):
        part = text[at:end]
        if b"\\u0000" in part or _long_number(part):
            raise Unusual
        if (found := _decoded(part)) is not None:
            return end, found
    raise Unusual


def _decoded(part: bytes) -> list[Any] | None:
    import orjson

    try:
        return list(orjson.loads(b"[" + part + b"]"))
    except ValueError:
        return None


def _beginning(text: mmap.mmap, keys: Sequence[str]) -> int:
    """Where the first record begins. Raises Unusual."""
    if not keys:
        found = re.compile(rb"\s*\[").match(text)
        if not found:
            raise Unusual
        return found.end()
    named = re.compile(rb'"' + re.escape(keys[-1].encode()) + rb'"\s*:\s*\[')
    for found, _ in zip(named.finditer(text, 0, NEAR), range(TRIES), strict=False):
        if _empty_at(text[: found.end()] + b"]" + b"}" * len(keys), keys):
            return found.end()
    raise Unusual


def _endings(text: mmap.mmap, at: int, shell: bytes, keys: Sequence[str]) -> Iterator[int]:
    """Where the array may end, the last such place first: without its records the document is whole."""
    end = len(text)
    while (end := text.rfind(b"]", max(at, len(text) - NEAR), end)) >= 0:
        rest = text[end:]
        again = keys and f'"{keys[-1]}"'.encode() in rest  # which of two would count?
        if not again and _empty_at(shell + rest, keys):
            yield end


def _empty_at(document: bytes, keys: Sequence[str]) -> bool:
    """Whether a document has an empty array at the keys."""
    import orjson

    try:
        found = orjson.loads(document)
        for key in keys:
            found = found[key]
    except (ValueError, KeyError, TypeError):
        return False
    return bool(found == [])


def _long_number(text: bytes) -> bool:
    """Whether nineteen digits stand side by side: a number that could have more than 64 bits."""
    import numpy as np

    found = np.frombuffer(text, dtype=np.uint8)
    some = found[::4] - np.uint8(48) < 10  # nineteen digits lie on at least four of these places
    for more in (1, 2):
        some = some[:-more] & some[more:]
    if not some.any():
        return False
    run = found - np.uint8(48) < 10  # a digit; then whether 2, 4, 8, 16, 19 begin here
    for more in (1, 2, 4, 8, 3):
        run = run[:-more] & run[more:]
    return bool(run.any())
