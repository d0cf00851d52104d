"""Rows of an engine's small table folded by key: what a level above the finest is made of."""

from __future__ import annotations

import operator
from collections.abc import Callable, Sequence
from typing import Any

__all__ = ["folded"]

FEW = 20_000  # rows that are folded here; Arrow's own way is faster for more, and takes a third of a second to load


def folded(rows: Any, keys: Sequence[str], wanted: Sequence[tuple[str, str]]) -> list[list[Any]]:
    """One row a key, as columns of Python values: the keys, then the sum, min or max of the `wanted` columns; of
    nothing but nulls, None.

    Without keys it is one row. Sums are exact integers.
    """
    if rows.num_rows > FEW:
        found = rows.group_by(list(keys)).aggregate(list(wanted)).select([*keys, *(f"{c}_{how}" for c, how in wanted)])
        return [c.to_pylist() for c in found.columns]
    ways: dict[str, Callable[[Any, Any], Any]] = {"sum": operator.add, "min": min, "max": max}
    columns = [rows.column(c).to_pylist() for c in keys]
    place: dict[tuple[Any, ...], int] = {} if keys else {(): 0}
    each = zip(*columns, strict=True) if keys else [()] * rows.num_rows
    at = [place.setdefault(key, len(place)) for key in each]
    cells = []
    for name, how in wanted:
        way, held = ways[how], [None] * len(place)
        for i, value in zip(at, rows.column(name).to_pylist(), strict=True):
            if value is not None:
                known: Any = held[i]
                held[i] = value if known is None else way(known, value)
        cells.append(held)
    return [*([key[i] for key in place] for i in range(len(keys))), *cells]
