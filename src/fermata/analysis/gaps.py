"""Silences longer than a log's own rhythm allows.

A silence is judged by the others that begin in the same hour of the week: it is a gap when it lasts more than twice
their
99.9th percentile (nearest rank, itself left out). The factor keeps the merely longest silence of an hour from being
called a gap. Hours with few silences are judged by the whole log; a log of less than four weeks, or of few events, by
nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from fermata.timeline.zones import day_start

__all__ = ["Gap", "find"]

HISTORY = timedelta(weeks=4)
SHORTEST = timedelta(minutes=5)  # shorter silences are never looked at
SHARE = 1000  # one silence in so many may be longer than the percentile
FACTOR = 2
EPOCH = "1970-01-01"
FEW = 20


@dataclass(frozen=True, slots=True)
class Gap:
    """No event began between `start` and `end` (aware UTC), both being starts of events; `usual` is what the rhythm
    allows.

    `of` is the device that was silent while the log as a whole went on; "" for the log.
    """

    start: datetime
    end: datetime
    usual: timedelta
    of: str = ""

    @property
    def length(self) -> timedelta:
        """How long it lasted."""
        return self.end - self.start


def find(
    table: Any,
    run: Callable[[Any], Any],
    zone: ZoneInfo,
    declared: timedelta | None = None,
    of: str = "",
    closed: Collection[date] = (),
) -> list[Gap] | None:
    """The gaps between the events of `table`, in order; None where the history is too short to say.

    With `declared`, every silence longer than that is a gap, whatever the rhythm. With `of`, a column, the gaps of each
    of its values: these must be long for their hour and for the value as a whole. Of a silence, only the time outside
    the `closed` local days counts.

    No silence begins and ends in one piece of half the least length, so that of each piece only the first and the last
    event are put in order.
    """
    import ibis

    least = declared or SHORTEST
    table = table.filter(table[of].notnull()) if of else table
    table = table.select(table.start_utc, of=table[of] if of else ibis.literal(""))
    micro = least // timedelta(microseconds=1)
    piece = table.start_utc.delta(ibis.timestamp(EPOCH), unit="microsecond") // max(micro // 2, 1)
    pieces = table.group_by(of=table.of, piece=piece).aggregate(begun=table.start_utc.min(), last=table.start_utc.max())
    following = pieces.begun.lead().over(ibis.window(group_by=pieces.of, order_by=pieces.begun))
    quiet = pieces.select(pieces.of, start_utc=pieces["last"], next=following)
    quiet = quiet.filter(quiet.next.delta(quiet.start_utc, unit="microsecond") > micro)
    silences: dict[str, list[tuple[datetime, datetime]]] = {}
    for row in run(quiet.order_by(["of", "start_utc"])).to_pylist():
        ends = row["start_utc"].replace(tzinfo=UTC), row["next"].replace(tzinfo=UTC)
        silences.setdefault(row["of"], []).append(ends)
    shut = [(day_start(day, zone), day_start(day + timedelta(days=1), zone)) for day in sorted(closed)]
    if declared:
        kept = [Gap(a, b, declared, name) for name, found in silences.items() for a, b in found]
        return [g for g in kept if not shut or _open(g.start, g.end, shut) > declared]
    hours = run(table.group_by(of=table.of, hour=table.start_utc.truncate("h")).aggregate(n=table.count())).to_pylist()
    times = [r["hour"] for r in hours]
    if not times or max(times) - min(times) < HISTORY or sum(r["n"] for r in hours) < FEW:
        return None
    counts: dict[str, dict[int, int]] = {}
    for row in hours:
        held = counts.setdefault(row["of"], {})
        hour = _hour_of_week(row["hour"].replace(tzinfo=UTC), zone)
        held[hour] = held.get(hour, 0) + row["n"]
    gaps = [g for name, found in silences.items() for g in _beyond(found, counts[name], zone, name)]
    return [g for g in gaps if not shut or _open(g.start, g.end, shut) > FACTOR * g.usual]


def _open(start: datetime, end: datetime, shut: Sequence[tuple[datetime, datetime]]) -> timedelta:
    """How long from `start` to `end` without the days that are closed."""
    return end - start - sum((max(min(end, b) - max(start, a), timedelta(0)) for a, b in shut), timedelta(0))


def _hour_of_week(at: datetime, zone: ZoneInfo) -> int:
    here = at.astimezone(zone)
    return here.weekday() * 24 + here.hour


def _beyond(found: list[tuple[datetime, datetime]], counts: dict[int, int], zone: ZoneInfo, name: str) -> list[Gap]:
    """Those silences that the others of their hour of the week, or of all the week, do not explain."""
    every = sum(counts.values())
    if every < FEW:
        return []
    by_hour: dict[int, list[timedelta]] = {}
    for a, b in found:
        by_hour.setdefault(_hour_of_week(a, zone), []).append(b - a)
    for lengths in by_hour.values():
        lengths.sort(reverse=True)
    whole = sorted((b - a for a, b in found), reverse=True)
    gaps = []
    for a, b in found:
        hour = _hour_of_week(a, zone)
        limit = _usual(b - a, whole, every)
        if counts.get(hour, 0) >= FEW:
            usual = _usual(b - a, by_hour[hour], counts[hour])
            limit = max(limit, usual) if name else usual
        if b - a > FACTOR * limit:
            gaps.append(Gap(a, b, limit, name))
    return gaps


def _usual(one: timedelta, longest: list[timedelta], n: int) -> timedelta:
    """The 99.9th percentile of the other n - 1 silences, of which `longest` are known, longest first."""
    rank = (n - 1) // SHARE
    if rank < len(longest) and one >= longest[rank]:  # it is among the first itself
        rank += 1
    return longest[rank] if rank < len(longest) else SHORTEST
