"""Only certain hours: which events start in them, and the parts of spans that lie in them."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from fermata.analysis.buckets import Buckets
from fermata.analysis.plan import HoursOf, Strand
from fermata.engines.embedded import Engine
from fermata.timeline import Slot, Stretch

__all__ = ["chosen", "cut", "in_hours", "inside_length", "stretches_of"]

Edges = tuple[tuple[datetime, datetime], ...]
MICROSECOND = timedelta(microseconds=1)


@lru_cache(maxsize=64)
def _stretches(hours: Any, stretch: Stretch) -> Edges:
    return tuple(hours.stretches(stretch))


def stretches_of(hours: HoursOf, stretch: Stretch, value: str | None = None) -> Edges:
    """The stretches that count for a value of the field the hours go by; those of all others for None."""
    chosen = dict(hours.each).get(value, hours.others) if value is not None else hours.others
    return _stretches(chosen, stretch)


@lru_cache(maxsize=64)
def _pieces(edges: Edges, stretch: Stretch) -> tuple[tuple[Slot, ...], tuple[int, ...]]:
    """The stretch cut at the edges, and for each piece 1 if it counts."""
    found: list[tuple[datetime, datetime, int]] = []
    at = stretch.start
    for start, end in edges:
        if at < start:
            found.append((at, start, 0))
        found.append((start, end, 1))
        at = end
    if at < stretch.end or not found:
        found.append((at, stretch.end, 0))
    return tuple(Slot(a, b, "", a) for a, b, _ in found), tuple(n for _, _, n in found)


def chosen(table: Any, strand: Strand, stretch: Stretch, expr: Callable[[int, Edges], Any]) -> Any:
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

    def test(_: int, edges: Edges) -> Any:
        slots, counts = _pieces(edges, stretch)
        return Buckets.of(slots, counts).label(table.start_utc)

    return chosen(table, strand, stretch, test) == 1


def cut(engine: Engine, table: Any, stretch: Stretch, strand: Strand) -> Any:
    """Each row once for every stretch of the hours that it meets, with `s`, `x` and `began` cut to it."""
    import ibis

    assert strand.hours
    offset, starts, rows = 0, [], []
    for _, hours in strand.hours.variants:
        slots, counts = _pieces(_stretches(hours, stretch), stretch)
        starts.append(offset)
        rows += [
            (offset + i, s.start.replace(tzinfo=None), s.end.replace(tzinfo=None))
            for i, (s, n) in enumerate(zip(slots, counts, strict=True)) if n
        ]  # fmt: skip
        offset += len(slots)
    if not rows:
        return table.filter(ibis.literal(False))

    def piece(at: Any, upper: bool) -> Any:
        def label(number: int, edges: Edges) -> Any:
            return Buckets.of(_pieces(edges, stretch)[0]).label(at, upper=upper) + starts[number]

        return chosen(table, strand, stretch, label)

    lasts = (table.x > table.s).fill_null(False)
    first = piece(table.s, False)
    table = table.mutate(h0=first, h1=ibis.ifelse(lasts, piece(table.x, True), first))
    table = table.mutate(piece=ibis.range(table.h0, table.h1 + 1).unnest())
    name = "hours_" + hashlib.sha256(repr(rows).encode()).hexdigest()[:16]
    known = engine.lookup(name, {"hour_piece": "number", "hour_from": "time", "hour_to": "time"}, rows)
    joined = table.inner_join(known, table.piece == known.hour_piece)
    return joined.mutate(
        began=joined.began
        & (joined.s >= joined.hour_from)
        & (joined.s < joined.hour_to)
        & (joined.s == joined.start_utc),
        s=ibis.greatest(joined.s, joined.hour_from),
        x=ibis.ifelse(joined.x.isnull(), joined.x, ibis.least(joined.x, joined.hour_to)),
    )


def inside_length(start: datetime, end: datetime, edges: Edges) -> int:
    """Microseconds of [start, end) that lie in the stretches."""
    return sum(max((min(b, end) - max(a, start)) // MICROSECOND, 0) for a, b in edges if a < end and b > start)
