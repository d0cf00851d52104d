"""Amounts from counters: readings that only grow become what was used since the reading before.

    reading of    0       120       300      40              0 = the first: nothing is known before it
    amount        -       120       180      40              40 < 300: the counter began again at nothing

An amount belongs to the time between two readings. It is put where it was read, or on the local days between, in
proportion to their time and in whole parts that add up to it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from fermata.analysis.buckets import Buckets
from fermata.analysis.derive import Reached, in_order
from fermata.fields import PROVENANCE, Field, LogSchema
from fermata.timeline import Calendar, Stretch, slots

__all__ = ["COUNTED", "FIRST", "RESET", "WRAPPED", "Counter"]

COUNTED, FIRST, RESET, WRAPPED = "counted", "first", "began again", "wrapped"
DAY = timedelta(days=1)
MICROSECOND = timedelta(microseconds=1)


@dataclass(frozen=True)
class Counter:
    """What counters counted since the reading before, by the fields of `by` (a device; with its serial number, a
    replaced one is a counter of its own).

    The first reading has no amount. A smaller one than before is a counter that began again: its amount is what it
    shows, the least that was used; where it holds at most `wraps` and the reading before was above half of that, it
    ran over, and the amount is exact. `put` says where an amount is: at its `reading`, or on the `days` since the
    one before; a gap of more than `longest` is never spread. Readings further apart than `reach` are strangers.

    The field `reading` says which it was: counted, first, began again, wrapped; `since` is the reading before.
    """

    inputs: tuple[LogSchema, ...]
    amounts: tuple[str, ...]
    by: tuple[str, ...]
    put: Literal["reading", "days"] = "reading"
    longest: timedelta | None = None
    wraps: int | None = None
    reach: timedelta = timedelta(days=400)

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        return ((*self.by, *self.amounts),)

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        return (*self.inputs[0].fields, Field("reading"), Field("since", "time"))

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """A reading each, with what was used; where it is spread, one for each day."""
        import ibis

        schema, table = self.inputs[0], tables[0]
        keys = [table[schema.field(name).stored] for name in self.by]
        window = ibis.window(group_by=keys, order_by=in_order(table))
        near = table.start_utc.lag().over(window)
        near = (table.start_utc.delta(near, unit="microsecond") <= self.reach // MICROSECOND).fill_null(False)
        for key in keys:
            near = near & key.notnull()
        stored = [schema.field(name).stored for name in self.amounts]
        earlier = {f"earlier_{i}_": table[n].lag().over(window) for i, n in enumerate(stored)}
        table = table.mutate(**earlier, since_=table.start_utc.lag().over(window), near_=near)
        used, status = {}, []
        for i, name in enumerate(stored):
            used[name], one = self._used(table, table[name], table[f"earlier_{i}_"])
            status.append(one)
        said = ibis.literal(COUNTED)
        for word in (WRAPPED, RESET, FIRST):
            met = ibis.literal(False)
            for one in status:
                met = met | (one == word)
            said = ibis.ifelse(met, word, said)
        since = ibis.ifelse(table.near_, table.since_, ibis.null("timestamp(6)"))
        table = table.mutate(**used, reading=said, since=since, since_=since)
        if self.put == "days":
            table = self._spread(table, stored, reached)
        return table.select(
            ["start_utc", "finish_utc", *(f.stored for f in schema.fields), "reading", "since", *PROVENANCE]
        )

    def _used(self, table: Any, now: Any, before: Any) -> tuple[Any, Any]:
        """The amount of one counter, and what its reading is."""
        import ibis

        fell = (now < before).fill_null(False)
        over = ibis.literal(False)
        more = now
        if self.wraps:
            over = fell & (before > self.wraps // 2) & (before < self.wraps)
            more = now + self.wraps
        first = ~table.near_ | before.isnull() | now.isnull()
        amount = ibis.cases((first, ibis.null("int64")), (over, more - before), (fell, now), else_=now - before).cast(
            "int64"
        )
        status = ibis.cases((first, FIRST), (over, WRAPPED), (fell, RESET), else_=ibis.literal(COUNTED))
        return amount, status

    def _spread(self, table: Any, stored: Sequence[str], reached: Reached) -> Any:
        """The amounts on the local days since the reading before, the parts of each adding up to it."""
        import ibis

        calendar = Calendar(self.inputs[0].zone)
        end = max(min(reached.end, (reached.until or reached.end) + DAY), reached.start + DAY)
        days = slots(Stretch(_aware(reached.start - 2 * DAY), _aware(end + 2 * DAY), calendar, ""), "day")
        found = Buckets.of(days)
        length = table.start_utc.delta(table.since_, unit="microsecond")
        apart = table.since_.notnull() & (length > 0)
        if self.longest:
            apart = apart & (length <= self.longest // MICROSECOND)
        first = ibis.ifelse(apart, found.label(table.since_), 0)
        last = ibis.ifelse(apart, found.label(table.start_utc, upper=True), 0)
        table = table.mutate(apart_=apart, first_=first, length_=length)
        table = table.mutate(day_=ibis.range(first.cast("int64"), last.cast("int64") + 1).unnest())
        begin = ibis.greatest(found.start(table.day_), table.since_)
        finish = ibis.least(found.start(table.day_ + 1), table.start_utc)
        share = {}
        for name in stored:
            upto, before = (
                (table[name].cast("float64") * at.delta(table.since_, unit="microsecond") / table.length_).floor()
                for at in (finish, begin)
            )
            share[name] = ibis.ifelse(table.apart_, (upto - before).cast("int64"), table[name])
        number = (table.event_no + table.day_ - table.first_).cast(table.event_no.type())
        start = ibis.ifelse(table.apart_, begin, table.start_utc)
        return table.mutate(**share, start_utc=start, event_no=number)


def _aware(at: datetime) -> datetime:
    return at.replace(tzinfo=UTC)
