"""Derived logs: events made from those of other logs, before any period, filter or rounding.

Each kind is plain data with an `events` method, a stage like any other: tables in, table out. What it may look at is
bounded by its `reach`, and its rules depend on nothing further away, so that an event is the same whatever period asks.
Events of one key are taken in the order of their start, those of one instant as they were recorded. A key with an empty
part belongs to nobody: such events are never put together.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from fermata.analysis.buckets import Buckets
from fermata.analysis.filters import Selection, column
from fermata.fields import PROVENANCE, Field, LogSchema
from fermata.timeline import Calendar, Stretch, slots

__all__ = ["Link", "Merge", "Pairing", "Reached", "States", "in_order", "unpaired"]

EVERYTHING = Selection()
EVER = timedelta(days=40_000)  # more than any log goes back
Policy = Literal["open", "until next", "at most", "day's end", "log's end"]
CLOSED, CUT, UNFINISHED, ORPHAN = PAIRINGS = "closed", "cut", "unfinished", "no opening"


@dataclass(frozen=True, slots=True)
class Reached:
    """What a derivation was given: events of naive UTC [start, end), and `until`, the end of what the log holds."""

    start: datetime
    end: datetime
    until: datetime | None


def _micro(length: timedelta) -> int:
    return length // timedelta(microseconds=1)


def in_order(table: Any) -> list[Any]:
    """What events are ordered by: their start, then where they stood."""
    return [table.start_utc, *(table[p] for p in PROVENANCE)]


def _keys(table: Any, schema: LogSchema, by: Sequence[str]) -> tuple[list[Any], Any]:
    """The key columns, and whether none of them is empty."""
    import ibis

    keys = [table[schema.field(name).stored] for name in by]
    whole = ibis.literal(True)
    for key in keys:
        whole = whole & key.notnull()
    return keys, whole


def _columns(schema: LogSchema, extra: Sequence[str] = ()) -> list[str]:
    return ["start_utc", "finish_utc", *(f.stored for f in schema.fields), *extra, *PROVENANCE]


@dataclass(frozen=True)
class Pairing:
    """Spans from opening and closing events with the same values of `by`.

    An opening is closed by the very next event of its key if that is a closing no more than `reach` later; else it is
    unfinished; only events within `only` count. A closing whose key's last event is no opening within `reach` has no
    opening: it stays as an instant. So nested openings need a session in `by`. What becomes of the unfinished: `open`
    leaves them without a finish; `until next` ends them at the key's next opening within reach; `at most` after a
    length, `day's end` at the end of the local day, `log's end` with the last record (and after `reach` at the
    latest), each at the next opening if that comes first. The field `pairing` says which it was: closed, cut (ended
    by the policy), unfinished, no opening. `closing_record` is file:record of the closing event.
    """

    inputs: tuple[LogSchema, ...]
    opening: tuple[str, ...]
    closing: tuple[str, ...]
    by: tuple[str, ...]
    reach: timedelta
    unfinished: Policy = "open"
    at_most: timedelta | None = None
    only: Selection = EVERYTHING

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        return ((*self.by, "action", *(c.field for c in self.only.conditions)),)

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        return (*self.inputs[0].fields, Field("pairing"), Field("closing_record"))

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """Openings as spans, and closings without one."""
        import ibis

        schema = self.inputs[0]
        table = tables[0].filter(lambda t: t.action.isin((*self.opening, *self.closing)))
        tests = self.only.predicates(table, schema)
        table = table.filter(tests) if tests else table
        keys, whole = _keys(table, schema, self.by)
        opens = table.action.isin(self.opening)
        window = ibis.window(group_by=keys, order_by=in_order(table))
        table = table.mutate(
            opens_=opens, whole_=whole,
            next_opens_=opens.lead().over(window), next_start_=table.start_utc.lead().over(window),
            next_file_=table.file_id.lead().over(window), next_record_=table.record_no.lead().over(window),
            last_opens_=opens.lag().over(window), last_start_=table.start_utc.lag().over(window),
        )  # fmt: skip
        reach = _micro(self.reach)
        near = (table.next_start_.delta(table.start_utc, unit="microsecond") <= reach).fill_null(False) & table.whole_
        after = (table.start_utc.delta(table.last_start_, unit="microsecond") <= reach).fill_null(False) & table.whole_
        table = table.mutate(
            near_=near,
            closed_=table.opens_ & near & ~table.next_opens_.fill_null(True),
            orphan_=~table.opens_ & ~(after & table.last_opens_.fill_null(False)),
        ).filter(lambda t: t.opens_ | t.orphan_)
        stop = self._stop(table, reached)
        finish = ibis.cases((table.closed_, table.next_start_), (table.orphan_, table.start_utc), else_=stop)
        status = ibis.cases(
            (table.closed_, CLOSED), (table.orphan_, ORPHAN), (stop.notnull(), CUT), else_=ibis.literal(UNFINISHED)
        )
        by_record = table.next_file_.cast("string") + ":" + table.next_record_.cast("string")
        none = ibis.null("string")
        table = table.mutate(
            finish_utc=finish, pairing=status, closing_record=ibis.ifelse(table.closed_, by_record, none)
        )
        return table.select(_columns(schema, ("pairing", "closing_record")))

    def _stop(self, table: Any, reached: Reached) -> Any:
        """Where an unfinished span ends; null leaves it open."""
        import ibis

        none = ibis.null("timestamp(6)")
        following = ibis.ifelse(table.near_ & table.next_opens_.fill_null(False), table.next_start_, none)
        if self.unfinished == "open":
            return none
        if self.unfinished == "until next":
            return following
        if self.unfinished == "at most":
            assert self.at_most
            limit = table.start_utc + ibis.interval(microseconds=_micro(self.at_most))
        elif self.unfinished == "day's end":
            zone = Calendar(self.inputs[0].zone)
            more = timedelta(days=2)  # so that the last day ends at its own end
            ends = slots(Stretch(_aware(reached.start - more), _aware(reached.end + more), zone, ""), "day")
            limit = Buckets.of(ends).until(table.start_utc)
        else:
            limit = ibis.least(
                ibis.timestamp((reached.until or reached.end).isoformat()),
                table.start_utc + ibis.interval(microseconds=_micro(self.reach)),
            )
            limit = ibis.greatest(limit, table.start_utc)
        return ibis.ifelse(following.notnull(), ibis.least(limit, following), limit)


def unpaired(derivation: Any) -> tuple[str, ...]:
    """The values of `pairing` that stand for no span and count only where they are asked for."""
    return (ORPHAN,) if isinstance(derivation, Pairing) else ()


@dataclass(frozen=True)
class States:
    """Each event as a span until the next of its key: how long a thing was in each state. The last one lasts until the
    end of what the log holds, never longer."""

    inputs: tuple[LogSchema, ...]
    by: tuple[str, ...]
    reach: timedelta = EVER

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        return (self.by,)

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        return self.inputs[0].fields

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """The events with the start of the next as their finish."""
        import ibis

        schema, table = self.inputs[0], tables[0]
        keys, whole = _keys(table, schema, self.by)
        window = ibis.window(group_by=keys, order_by=in_order(table))
        until = ibis.timestamp((reached.until or reached.end).isoformat())
        last = ibis.greatest(until, table.start_utc)
        following = table.start_utc.lead().over(window).fill_null(last)
        finish = ibis.ifelse(whole, following, ibis.null("timestamp(6)"))
        return table.mutate(finish_utc=finish).select(_columns(schema))


@dataclass(frozen=True)
class Merge:
    """Several records of one thing as one event: those of one key of which each starts no more than `within` after the
    one before. It starts with the first, ends with the last to begin or finish, and is otherwise the `keep` one (first,
    last or longest); the fields of `total` are added up, `steps` counts its records. Things longer than `reach` are cut
    there.
    """

    inputs: tuple[LogSchema, ...]
    by: tuple[str, ...]
    within: timedelta
    keep: Literal["first", "last", "longest"]
    total: tuple[str, ...]
    reach: timedelta
    spread: bool = False

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        return ((*self.by, *self.total),)

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold. With `spread` the steps themselves, with `thing`, the file:record they count as."""
        more = Field("thing") if self.spread else Field("steps", "number", "records")
        return (*self.inputs[0].fields, more)

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """One event per thing."""
        import ibis

        schema, table = self.inputs[0], tables[0]
        keys, whole = _keys(table, schema, self.by)
        window = ibis.window(group_by=keys, order_by=in_order(table))
        since = table.start_utc.delta(table.start_utc.lag().over(window), unit="microsecond")
        table = table.mutate(begins_=~(since <= _micro(self.within)).fill_null(False) | ~whole)
        keys = _keys(table, schema, self.by)[0]
        running = ibis.window(group_by=keys, order_by=in_order(table), preceding=None, following=0)
        begun = ibis.ifelse(table.begins_, 1.0, 0.0).sum().over(running)  # exact, and faster than whole numbers
        table = table.mutate(number_=begun.cast("int64"))
        keys = [*_keys(table, schema, self.by)[0], table.number_]
        ordered = in_order(table)
        if self.keep == "last":
            ordered = [ibis.desc(o) for o in ordered]
        elif self.keep == "longest":
            length = table.finish_utc.delta(table.start_utc, unit="microsecond").fill_null(-1)
            ordered = [ibis.desc(length), *ordered]
        together = ibis.window(group_by=keys)
        best = ibis.window(group_by=keys, order_by=ordered)
        if self.spread:
            one = table.file_id.cast("string") + ":" + table.record_no.cast("string")
            return table.mutate(thing=one.first().over(best)).select(_columns(schema, ("thing",)))
        sums = {f.stored: table[f.stored].sum().over(together).cast("int64") for f in map(schema.field, self.total)}
        table = table.mutate(
            place_=ibis.row_number().over(best), steps=table.count().over(together),
            first_=table.start_utc.min().over(together), latest_=table.finish_utc.max().over(together),
            final_=table.start_utc.max().over(together), **sums,
        ).filter(lambda t: t.place_ == 0)  # fmt: skip
        latest = ibis.ifelse(table.latest_.isnull(), table.final_, ibis.greatest(table.latest_, table.final_))
        table = table.mutate(start_utc=table.first_, finish_utc=latest)
        return table.select(_columns(schema, ("steps",)))


@dataclass(frozen=True)
class Link:
    """The events of one log with fields of another's that belongs to the same thing: `on` are pairs of fields that must
    be equal, `take` the new field and the one it is read from. Of several the `which` one counts, within `only`; with
    `during`, those whose span holds the start of the event. `linked` says whether there was one.
    """

    inputs: tuple[LogSchema, ...]
    on: tuple[tuple[str, str], ...]
    take: tuple[tuple[str, str], ...]
    only: Selection
    which: Literal["first", "last"]
    during: bool
    reach: timedelta

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        other = [b for _, b in (*self.on, *self.take)] + [c.field for c in self.only.conditions]
        return (tuple(a for a, _ in self.on), tuple(other))

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        taken = tuple(dataclasses.replace(self.inputs[1].field(old), name=new) for new, old in self.take)
        return (*self.inputs[0].fields, *taken, Field("linked", "flag"))

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """The events of the first log, each once."""
        import ibis

        one, two = self.inputs
        table, other = tables
        tests = self.only.predicates(other, two)
        other = other.filter(tests) if tests else other
        other = other.filter(_keys(other, two, [b for _, b in self.on])[1])
        keys = [other[two.field(b).stored] for _, b in self.on]
        if self.during:
            keys = [*keys, other.start_utc]
        ordered = in_order(other) if self.which == "first" else [ibis.desc(o) for o in in_order(other)]
        place = ibis.row_number().over(ibis.window(group_by=keys, order_by=ordered))
        other = other.mutate(place_=place).filter(lambda t: t.place_ == 0)
        named = {f"on_{i}_": other[two.field(b).stored] for i, (_, b) in enumerate(self.on)}
        named |= {f"to_{i}_": column(other, two.field(b)) for i, (_, b) in enumerate(self.take)}
        other = other.select(**named, since_=other.start_utc, upto_=other.finish_utc, hit_=ibis.literal(True))
        joins = [table[one.field(a).stored] == other[f"on_{i}_"] for i, (a, _) in enumerate(self.on)]
        if self.during:
            joins += [table.start_utc >= other.since_, table.start_utc < other.upto_]
        joined = table.left_join(other, joins)
        new = {Field(n).stored: joined[f"to_{i}_"] for i, (n, _) in enumerate(self.take)}
        joined = joined.mutate(**new, linked=joined.hit_.fill_null(False))
        return joined.select(_columns(one, (*new, "linked")))


def _aware(at: datetime) -> datetime:
    from datetime import UTC

    return at.replace(tzinfo=UTC)
