"""Only certain hours: which events start in them, and the parts of spans that lie in them."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from fermata.analysis.plan import HoursOf, Strand
from fermata.analysis.recurring import Stretches, begun, ended, pieces, within
from fermata.engines.embedded import Engine
from fermata.timeline import Stretch

__all__ = ["chosen", "cut", "in_hours", "inside_length", "stretches_of"]

MICROSECOND = timedelta(microseconds=1)


@lru_cache(maxsize=64)
def _stretches(hours: Any, stretch: Stretch) -> Stretches:
    return tuple(hours.stretches(stretch))


def stretches_of(hours: HoursOf, stretch: Stretch, value: str | None = None) -> Stretches:
    """The stretches that count for a value of the field the hours go by; those of all others for None."""
    chosen = dict(hours.each).get(value, hours.others) if value is not None else hours.others
    return _stretches(chosen, stretch)


def chosen(table: Any, strand: Strand, stretch: Stretch, expr: Callable[[int, Stretches], Any]) -> Any:
    """`expr` of the number and the stretches of the variant of hours that an event's value asks for."""
    import ibis

    assert strand.hours
    found = None
    for number, (value, hours) in reversed(list(enumerate(strand.hours.variants))):
        one = expr(number, _stretches(hours, stretch))
        if found is None:
            found = one
        else:
            same = (table[strand.schema.field(strand.hours.by).stored] == value).fill_null(False)
            found = ibis.ifelse(same, one, found)
    return found


def in_hours(table: Any, stretch: Stretch, strand: Strand) -> Any:
    """Whether an event starts in the hours that count."""
    import ibis

    def test(_: int, edges: Stretches) -> Any:
        return within(table.start_utc, edges) if edges else ibis.literal(False)

    return chosen(table, strand, stretch, test)


def cut(engine: Engine, table: Any, stretch: Stretch, strand: Strand) -> Any:
    """Each row once for every stretch of the hours that it meets, with `s`, `x` and `began` cut to it."""
    import ibis

    assert strand.hours
    starts: list[int] = []
    rows: list[tuple[int, datetime, datetime]] = []
    for _, hours in strand.hours.variants:
        starts.append(len(rows))
        rows += [
            (len(rows) + i, a.replace(tzinfo=None), b.replace(tzinfo=None))
            for i, (a, b) in enumerate(pieces(_stretches(hours, stretch)))
        ]
    if not rows:
        return table.filter(ibis.literal(False))

    def number(of: Callable[[Stretches], Any]) -> Any:
        def here(variant: int, edges: Stretches) -> Any:
            return of(edges) + starts[variant] if edges else ibis.literal(-1, type="int64")

        return chosen(table, strand, stretch, here)

    moment = table.s_ + ibis.interval(microseconds=1)  # what has no length meets the stretch it lies in
    until = ibis.ifelse((table.x_ > table.s_).fill_null(False), table.x_, moment)
    first, after = number(lambda edges: ended(table.s_, edges)), number(lambda edges: begun(until, edges))
    table = table.mutate(h0_=first, h1_=after)
    table = table.filter((table.h1_ > table.h0_) & (table.h0_ >= 0))
    table = table.mutate(piece_=ibis.range(table.h0_, table.h1_).unnest())
    name = "hours_" + hashlib.sha256(repr(rows).encode()).hexdigest()[:16]
    known = engine.lookup(name, {"hour_piece_": "number", "hour_from_": "time", "hour_to_": "time"}, rows)
    joined = table.inner_join(known, table.piece_ == known.hour_piece_)
    return joined.mutate(
        began_=joined.began_
        & (joined.s_ >= joined.hour_from_)
        & (joined.s_ < joined.hour_to_)
        & (joined.s_ == joined.start_utc),
        s_=ibis.greatest(joined.s_, joined.hour_from_),
        x_=ibis.ifelse(joined.x_.isnull(), joined.x_, ibis.least(joined.x_, joined.hour_to_)),
    )


def inside_length(start: datetime, end: datetime, edges: Stretches) -> int:
    """Microseconds of [start, end) that lie in the stretches."""
    return sum(max((min(b, end) - max(a, start)) // MICROSECOND, 0) for a, b in edges if a < end and b > start)
