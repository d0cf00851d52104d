"""Silences longer than a log's own rhythm allows.

A silence is judged by the others that begin in the same hour of the week: it is a gap when it lasts more than twice their
99.9th percentile (nearest rank, itself left out). The factor keeps the merely longest silence of an hour from being called
a gap. Hours with few silences are judged by the whole log; a log of less than four weeks, or of few events, by nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

__all__ = ["Gap", "find"]

HISTORY = timedelta(weeks=4)
SHORTEST = timedelta(minutes=5)  # shorter silences are never looked at
SHARE = 1000  # one silence in so many may be longer than the percentile
FACTOR = 2
FEW = 20


@dataclass(frozen=True, slots=True)
class Gap:
    """No event began between `start` and `end` (aware UTC), both being starts of events; `usual` is what the rhythm allows."""

    start: datetime
    end: datetime
    usual: timedelta

    @property
    def length(self) -> timedelta:
        """How long it lasted."""
        return self.end - self.start


def find(table: Any, run: Callable[[Any], Any], zone: ZoneInfo, declared: timedelta | None = None) -> list[Gap] | None:
    """The gaps between the events of `table`, in order; None where the history is too short to say.

    With `declared`, every silence longer than that is a gap, whatever the rhythm.
    """
    import ibis

    least = declared or SHORTEST
    ordered = table.select(table.start_utc, next=table.start_utc.lead().over(ibis.window(order_by=table.start_utc)))
    quiet = ordered.filter(
        ordered.next.delta(ordered.start_utc, unit="microsecond") > least // timedelta(microseconds=1)
    )
    found = [(a.replace(tzinfo=UTC), b.replace(tzinfo=UTC)) for a, b in _pairs(run(quiet.order_by("start_utc")))]
    if declared:
        return [Gap(a, b, declared) for a, b in found]
    hours = run(table.group_by(hour=table.start_utc.truncate("h")).aggregate(n=table.count()))
    counts: dict[int, int] = {}
    times = hours.column("hour").to_pylist()
    if not times or max(times) - min(times) < HISTORY:
        return None
    for at, n in zip(times, hours.column("n").to_pylist(), strict=True):
        hour = _hour_of_week(at.replace(tzinfo=UTC), zone)
        counts[hour] = counts.get(hour, 0) + n
    return _beyond(found, counts, zone)


def _pairs(rows: Any) -> list[tuple[datetime, datetime]]:
    return list(zip(rows.column("start_utc").to_pylist(), rows.column("next").to_pylist(), strict=True))


def _hour_of_week(at: datetime, zone: ZoneInfo) -> int:
    here = at.astimezone(zone)
    return here.weekday() * 24 + here.hour


def _beyond(found: list[tuple[datetime, datetime]], counts: dict[int, int], zone: ZoneInfo) -> list[Gap] | None:
    """Those silences that the others of their hour of the week, or of the whole log, do not explain."""
    every = sum(counts.values())
    if every < FEW:
        return None
    by_hour: dict[int, list[timedelta]] = {}
    for a, b in found:
        by_hour.setdefault(_hour_of_week(a, zone), []).append(b - a)
    for lengths in by_hour.values():
        lengths.sort(reverse=True)
    whole = sorted((b - a for a, b in found), reverse=True)
    gaps = []
    for a, b in found:
        hour = _hour_of_week(a, zone)
        usual = _usual(b - a, by_hour[hour], counts.get(hour, 0)) if counts.get(hour, 0) >= FEW else None
        overall = _usual(b - a, whole, every)
        limit = overall if usual is None else usual
        if b - a > FACTOR * limit:
            gaps.append(Gap(a, b, limit))
    return gaps


def _usual(one: timedelta, longest: list[timedelta], n: int) -> timedelta:
    """The 99.9th percentile of the other n - 1 silences, of which `longest` are known, longest first."""
    rank = (n - 1) // SHARE
    place = longest.index(one)
    if rank >= place:
        rank += 1
    return longest[rank] if rank < len(longest) else SHORTEST
