"""Who was where at an instant, and who was near somebody: readings and spans, as engine expressions.

Inside at an instant is whose last reading before it is an entry: the latest event of each user among the opening and
closing ones, ties in the order they were recorded. Contacts are stays at the same place no further apart in time than
`within`; an event without a finish is an instant. Both ends of a stay are compared exactly; time is cut into buckets
only so that an engine joins by equality.
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from fermata.analysis.filters import Selection
from fermata.fields import PROVENANCE, LogSchema

__all__ = ["Contacts", "inside_at", "last_readings"]

EPOCH = datetime(2000, 1, 1)
SHORTEST_BUCKET = timedelta(hours=1)


def inside_at(table: Any, schema: LogSchema, at: datetime, opening: Sequence[str], closing: Sequence[str]) -> Any:
    """The last opening or closing event of each user before naive UTC `at`, of those for whom it is an opening.

    Only what `table` holds is looked at: somebody whose last reading is earlier is not found.
    """
    import ibis

    moment = ibis.timestamp(at.isoformat())
    table = table.filter((table.start_utc < moment) & table.person.notnull() & table.action.isin((*opening, *closing)))
    order = [ibis.desc(table.start_utc), *(ibis.desc(table[p]) for p in PROVENANCE)]
    window = ibis.window(group_by=table.person, order_by=order)
    last = table.mutate(line_=ibis.row_number().over(window)).filter(lambda t: t.line_ == 0)
    return last.filter(last.action.isin(tuple(opening))).drop("line_")


@dataclass(frozen=True)
class Contacts:
    """Who was at the same `place` (a field of the log) as `person`, no more than `within` apart."""

    person: tuple[str, ...]
    place: str
    within: timedelta

    def pairs(self, table: Any, schema: LogSchema) -> Any:
        """One row per pair of stays: other, place, from and to of both, and `apart`, microseconds between them (0 if at
        once).
        """
        import ibis

        where = schema.field(self.place).stored
        stays = table.filter(table.person.notnull() & table[where].notnull()).select(
            person=table.person, where=table[where], s=table.start_utc, x=table.finish_utc.coalesce(table.start_utc),
        )  # fmt: skip
        bucket = max(self.within, SHORTEST_BUCKET) // timedelta(microseconds=1)
        more = self.within // timedelta(microseconds=1)
        epoch = ibis.timestamp(EPOCH.isoformat())

        def number(at: Any, shift: int) -> Any:
            return ((at.delta(epoch, unit="microsecond") + shift) // bucket).floor().cast("int64")

        own = stays.filter(stays.person.isin(self.person))
        own = own.mutate(b=ibis.range(number(own.s, -more), number(own.x, more) + 1).unnest())
        own = own.select(here="where", b="b", own_from="s", own_to="x")
        others = stays.filter(~stays.person.isin(self.person))
        others = others.mutate(b=ibis.range(number(others.s, 0), number(others.x, 0) + 1).unnest())
        joined = others.inner_join(own, [others["where"] == own.here, others.b == own.b])
        apart = ibis.greatest(
            joined.s.delta(joined.own_to, unit="microsecond"), joined.own_from.delta(joined.x, unit="microsecond"), 0
        )
        near = joined.mutate(apart=apart).filter(lambda t: t.apart <= more)
        return near.select("person", "where", "s", "x", "own_from", "own_to", "apart").distinct()

    def by_person(self, table: Any, schema: LogSchema) -> Any:
        """One row per other person and place: how often, the first and last time, and the time together in
        microseconds.
        """
        import ibis

        pairs = self.pairs(table, schema)
        together = ibis.least(pairs.x, pairs.own_to).delta(ibis.greatest(pairs.s, pairs.own_from), unit="microsecond")
        return pairs.group_by(["person", "where"]).aggregate(
            times=pairs.count(), first=ibis.greatest(pairs.s, pairs.own_from).min(),
            last=ibis.greatest(pairs.s, pairs.own_from).max(), nearest=pairs.apart.min(),
            together=ibis.greatest(together, 0).sum().cast("int64"),
        )  # fmt: skip


def last_readings(
    table: Any,
    schema: LogSchema,
    began: datetime,
    opening: Sequence[str],
    closing: Sequence[str],
    outer: Selection,
    assembly: Selection,
) -> Any:
    """One row a person: their last reading up to `began` (naive UTC) as `any_...`, their last way in or out as
    `io_...`, and what came after it: the last way in (`in_after`) and out, the last reading that `assembly` keeps
    (nothing if it has no condition). A way out counts as one only where `outer` keeps it: leaving a room is not leaving
    the house.
    """
    import ibis

    named = {n: table[n] if n in schema.by_name else ibis.null("string") for n in ("place", "device")}

    def kept(selection: Selection, otherwise: bool) -> Any:
        tests = selection.predicates(table, schema)
        return functools.reduce(operator.and_, tests) if tests else ibis.literal(otherwise)

    marked = kept(assembly, False)
    ways_in, ways_out = table.action.isin(opening), table.action.isin(closing) & kept(outer, True)
    order = ibis.window(group_by=table.person, order_by=[table.start_utc, *(table[p] for p in PROVENANCE)])
    t = table.filter(table.person.notnull()).select(
        "person", "action", at=table.start_utc, line=ibis.row_number().over(order), ways_in=ways_in & ~marked,
        ways_out=ways_out & ~marked,
        marked=marked, **named,
    )  # fmt: skip
    early, late = t.at <= began, t.at > began

    def last(value: Any, where: Any) -> Any:
        return value.argmax(t.line, where=where)  # readings of one second in the order they were recorded

    io = early & (t.ways_in | t.ways_out)
    return t.group_by("person").aggregate(
        any_start=t.at.max(where=early), any_action=last(t.action, early), any_place=last(t.place, early),
        any_device=last(t.device, early), io_start=t.at.max(where=io), io_opening=last(t.ways_in, io),
        in_after=t.at.max(where=late & t.ways_in), in_place=last(t.place, late & t.ways_in), in_device=last(t.device,
        late & t.ways_in), out_after=t.at.max(where=late & t.ways_out),
        out_device=last(t.device, late & t.ways_out), assembly_after=t.at.max(where=late & t.marked),
        assembly_device=last(t.device, late & t.marked),
    )  # fmt: skip
