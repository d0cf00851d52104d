"""Many stretches of time, such as an hour of every day or the office hours of a year: whether a moment lies in one, and
what has gone by of them.

They are cut by days of 24 hours from the first start on; the expressions look up in lists what a moment's day holds. A
comparison with the edges of each stretch would take an engine seconds to plan.
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Sequence
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple

__all__ = ["Stretches", "begun", "ended", "gone_by", "pieces", "within"]

Stretches = tuple[tuple[datetime, datetime], ...]  # [start, end) in UTC, in order and apart from each other
DAY, MICROSECOND = timedelta(days=1), timedelta(microseconds=1)
NEVER = 1 << 62  # later than any moment of a day, in microseconds


class _Days(NamedTuple):
    """By days from `start` on: the pieces and the microseconds before, and the edges of the pieces of each day."""

    start: datetime
    first: list[int]
    before: list[int]
    edges: list[tuple[list[int], list[int]]]  # the first piece of each day, the second ...: starts, ends


@lru_cache(maxsize=64)
def pieces(stretches: Stretches) -> Stretches:
    """The stretches cut where a day of 24 hours since the first start ends."""
    found = []
    for start, end in stretches:
        while start < end:
            next_day = start + DAY - (start - stretches[0][0]) % DAY
            found.append((start, min(end, next_day)))
            start = next_day
    return tuple(found)


@lru_cache(maxsize=64)
def _by_day(stretches: Stretches) -> _Days:
    start, end = stretches[0][0], stretches[-1][1]
    held: list[list[tuple[int, int]]] = [[] for _ in range(-((start - end) // DAY))]
    for a, b in pieces(stretches):
        day = (a - start) // DAY
        held[day].append(((a - start - day * DAY) // MICROSECOND, (b - start - day * DAY) // MICROSECOND))
    first, before = [0], [0]
    for edges in held[:-1]:
        first.append(first[-1] + len(edges))
        before.append(before[-1] + sum(b - a for a, b in edges))
    most = max(map(len, held))
    full = [[*edges, *[(NEVER, NEVER)] * (most - len(edges))] for edges in held]
    return _Days(start, first, before, [([d[i][0] for d in full], [d[i][1] for d in full]) for i in range(most)])


def within(at: Any, stretches: Stretches) -> Any:
    """Whether a moment lies in a stretch; its start does, its end does not."""
    day, since, days = _placed(at, stretches)
    tests = [(since >= _of(day, starts)) & (since < _of(day, ends)) for starts, ends in days.edges]
    return functools.reduce(operator.or_, tests)


def gone_by(at: Any, stretches: Stretches) -> Any:
    """Microseconds of the stretches that have gone by at a moment."""
    import ibis

    if len(stretches) == 1:
        start, end = map(_literal, stretches[0])
        return ibis.least(ibis.greatest(at, start), end).delta(start, unit="microsecond")
    day, since, days = _placed(at, stretches)
    here = _of(day, days.before)
    for starts, ends in days.edges:
        start = _of(day, starts)
        here += ibis.least(ibis.greatest(since, start), _of(day, ends)) - start
    return here


def ended(at: Any, stretches: Stretches) -> Any:
    """How many pieces have ended at a moment: the number, from 0, of the one it lies in, or of the next."""
    import ibis

    day, since, days = _placed(at, stretches)
    return _of(day, days.first) + sum(ibis.ifelse(since >= _of(day, ends), 1, 0) for _, ends in days.edges)


def begun(at: Any, stretches: Stretches) -> Any:
    """How many pieces have begun before a moment; one that begins at it has not."""
    import ibis

    day, since, days = _placed(at, stretches)
    return _of(day, days.first) + sum(ibis.ifelse(since > _of(day, starts), 1, 0) for starts, _ in days.edges)


def _placed(at: Any, stretches: Stretches) -> tuple[Any, Any, _Days]:
    """The number of a moment's day, the first or the last one outside of all, the microseconds since it began, and what
    the days hold.
    """
    import ibis

    days, length = _by_day(stretches), DAY // MICROSECOND
    since = at.delta(_literal(days.start), unit="microsecond")
    if len(days.first) == 1:
        return ibis.literal(0, type="int64"), since, days
    day = ibis.least((ibis.greatest(since, 0) // length).cast("int64"), len(days.first) - 1)
    return day, since - day * length, days


def _of(day: Any, values: Sequence[int]) -> Any:
    """The value of a day."""
    import ibis

    if len(set(values)) == 1:
        return ibis.literal(values[0], type="int64")
    return ibis.literal(list(values), type="array<int64>")[day.cast("int32")]


def _literal(at: datetime) -> Any:
    import ibis

    return ibis.timestamp(at.replace(tzinfo=None).isoformat())
