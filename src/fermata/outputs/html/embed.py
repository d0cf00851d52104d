"""Rows inside a page: columns of numbers into lists of different texts, packed where they are many."""

from __future__ import annotations

import base64
import gzip
import json
from collections.abc import Iterator, Sequence
from typing import Any

from fermata.outputs.formats import people
from fermata.outputs.grid import Grid
from fermata.outputs.writing import Progress

__all__ = ["PACKED", "chunks", "coded", "safe"]

PACKED = 20_000  # rows of a chunk, and rows from which on they are packed


def coded(column: Sequence[str | None]) -> dict[str, list[Any]]:
    """A column as its different texts and, row by row, which of them."""
    places: dict[str, int] = {}
    at = [places.setdefault(t or "", len(places)) for t in column]
    return {"d": list(places), "i": at}


def safe(data: Any) -> str:
    """JSON that ends no script element and holds no character a page takes for anything but text."""
    text = json.dumps(data, ensure_ascii=True, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def packed(data: Any) -> str:
    """The same, compressed, in letters; the same data give the same letters."""
    return base64.b64encode(gzip.compress(safe(data).encode(), 6, mtime=0)).decode()


def chunks(grid: Grid, most: int, progress: Progress) -> Iterator[str]:
    """The rows of a listing, some at a time, packed; at most `most` of them."""
    left = most
    for block in grid.blocks(PACKED):
        columns = [c[:left] for c in grid.texts(block, people)]
        if not left:
            return
        count = len(columns[0]) if columns else 0
        left -= count
        progress(count)
        yield packed({"n": count, "c": [coded(c) for c in columns]})
