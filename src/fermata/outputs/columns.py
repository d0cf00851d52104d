"""A column of values to a column of texts: each different value is written once."""

from __future__ import annotations

import functools
from datetime import UTC, datetime, timedelta, timezone
from typing import Any
from zoneinfo import ZoneInfo

from fermata.outputs.formats import Form, Show, clock, day, people, sheet
from fermata.reports.definition.display import Display
from fermata.reports.execute.listed import by_unique
from fermata.timeline.zones import changes, offset

__all__ = ["local_times", "strings", "texts"]

DAY, SECOND = 86_400_000_000, 1_000_000
MANY = 5_000  # times of one block from which on all seconds of a day are written once
NAIVE = datetime(1970, 1, 1)
EPOCH = NAIVE.replace(tzinfo=UTC)


def texts(
    column: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None, how: Display, form: Form, odd: str = ""
) -> list[str | None]:
    """The texts of a column, a list of values or an Arrow array; None where nothing is known."""
    if isinstance(column, list):
        return [None if v is None else form(v, kind, scale, zone, show, how) for v in column]
    found: list[str | None] = strings(column, kind, scale, zone, show, how, form, odd).to_pylist()
    return found


def strings(
    column: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None, how: Display, form: Form, odd: str = ""
) -> Any:
    """The same as an Arrow array. Texts in which nothing matches the expression `odd` stand as they are."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if isinstance(column, list):
        return pa.array(texts(column, kind, scale, zone, show, how, form), pa.string())
    if kind == "time":
        return _times(column, zone, how, form)
    whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    if odd and pa.types.is_string(whole.type) and not pc.any(pc.match_substring_regex(whole, odd)).as_py():
        return whole
    return by_unique(whole, lambda v: None if v is None else form(v, kind, scale, zone, show, how))


def local_times(column: Any, zone: ZoneInfo) -> tuple[Any, Any]:
    """The wall-clock times of an Arrow column of UTC times as NumPy microseconds since 1970, and the zone's offsets."""
    import numpy as np
    import pyarrow as pa

    whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    at = whole.cast(pa.timestamp("us")).cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    if not len(at):
        return at, at
    known = at[at != 0] if (at == 0).any() and (at != 0).any() else at
    first, last = (EPOCH + timedelta(microseconds=int(t)) for t in (known.min(), known.max()))
    turns = changes(first, last, zone)
    edges = np.array([(c.at - EPOCH) // timedelta(microseconds=1) for c in turns], dtype=np.int64)
    shifts = np.array([_micro(offset(first, zone)), *(_micro(c.after) for c in turns)], dtype=np.int64)
    shift = shifts[np.searchsorted(edges, at, side="right")]
    return at + shift, shift


def _times(column: Any, zone: ZoneInfo, how: Display, form: Form) -> Any:
    """Times as `form` writes them, from their days and their times of day."""
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute as pc

    wall, shift = local_times(column, zone)
    if not len(wall):
        return pa.array([], pa.string())
    days, rest = np.divmod(wall, DAY)
    exact = form not in (people, sheet)
    parts = [by_unique(pa.array(days), lambda d: _day(d, exact, how)), _clocks(rest, exact, how)]
    if exact:
        parts.append(
            by_unique(
                pa.array(shift),
                lambda east: f"{NAIVE.replace(tzinfo=timezone(timedelta(microseconds=east))).isoformat()[19:]}",
            )
        )
    joined = pc.binary_join_element_wise(*parts, "")
    empty = column.combine_chunks().is_null() if isinstance(column, pa.ChunkedArray) else column.is_null()
    return pc.if_else(empty, None, joined)


def _day(number: int, exact: bool, how: Display) -> str:
    """The day so many days after 1970-01-01, with the mark that stands before a time of day."""
    at = NAIVE + timedelta(days=number)
    return f"{at:%Y-%m-%dT}" if exact else f"{day(at, how)} "


def _clock(rest: int, exact: bool, how: Display) -> str:
    at = NAIVE + timedelta(microseconds=rest)
    return at.time().isoformat() if exact else clock(at, how)


@functools.lru_cache(4)
def _seconds(exact: bool, how: Display) -> Any:
    """The texts of all seconds of a day."""
    import pyarrow as pa

    return pa.array([_clock(n * SECOND, exact, how) for n in range(DAY // SECOND)])


def _clocks(rest: Any, exact: bool, how: Display) -> Any:
    """Times of day, given in microseconds; of many whole seconds the texts are made once for all."""
    import pyarrow as pa

    if len(rest) < MANY or (rest % SECOND).any():
        return by_unique(pa.array(rest), lambda r: _clock(r, exact, how))
    return _seconds(exact, how).take(pa.array(rest // SECOND))


def _micro(length: timedelta) -> int:
    return length // timedelta(microseconds=1)
