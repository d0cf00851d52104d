"""Slow, obviously right answers: every minute of every span looked at on the zone's clock, everything in Python."""

from __future__ import annotations

import fnmatch
import functools
import math
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo

MINUTE = timedelta(minutes=1)
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True)
class Event:
    """One event; times are aware UTC and whole minutes."""

    start: datetime
    finish: datetime | None = None
    user: str | None = None
    device: str | None = None
    action: str | None = None
    pages: int | None = None
    cost: int | None = None
    tags: tuple[str, ...] = ()


@functools.cache
def label(at: datetime, dimension: str, tz: ZoneInfo) -> str:
    """What the zone's clock and calendar say of an instant."""
    here = at.astimezone(tz)
    if dimension == "hour":
        offset = here.strftime("%z")
        wall = here.replace(minute=0, tzinfo=None)
        twice = any(_twice(wall + timedelta(minutes=m), tz) for m in (0, 15, 30, 45))
        return f"{wall:%Y-%m-%d %H}:00" + (f" {offset[:3]}:{offset[3:]}" if twice else "")
    year, week, _ = here.isocalendar()
    return {
        "day": f"{here:%Y-%m-%d}",
        "week": f"{year}-W{week:02d}",
        "month": f"{here:%Y-%m}",
        "quarter": f"{here.year}-Q{(here.month + 2) // 3}",
        "year": f"{here.year}",
        "weekday": DAYS[here.weekday()],
        "hour of day": f"{here.hour:02d}:00",
    }[dimension]


def _twice(wall: datetime, tz: ZoneInfo) -> bool:
    first, second = (wall.replace(tzinfo=tz, fold=f) for f in (0, 1))
    return first.utcoffset() != second.utcoffset() and second.astimezone(UTC) > first.astimezone(UTC)


CALENDAR = ("hour", "day", "week", "month", "quarter", "year", "weekday", "hour of day")


def keep(event: Event, only: dict[str, Any], without: dict[str, Any]) -> bool:
    """Whether the filters keep an event; values are exact texts, or patterns with `*`."""

    def holds(name: str, value: Any) -> bool:
        wanted = value if isinstance(value, list | tuple) else [value]
        here = getattr(event, name)
        if name == "tags":
            return any(w in here for w in wanted) or ("" in wanted and not here)
        if here is None:
            return "" in wanted
        return any(fnmatch.fnmatchcase(here, w) if isinstance(w, str) and "*" in w else here == w for w in wanted)

    return all(holds(n, v) for n, v in only.items()) and not any(holds(n, v) for n, v in without.items())


def answer(
    events: Iterable[Event],
    period: tuple[datetime, datetime],
    tz: ZoneInfo,
    dimensions: list[str],
    measures: list[str],
) -> dict[tuple[str, ...], list[Any]]:
    """Group labels (every prefix of `dimensions`) -> the measures. Times are microseconds."""
    start, end = period
    starts: dict[tuple[str, ...], list[Event]] = defaultdict(list)
    time: dict[tuple[str, ...], int] = defaultdict(int)
    present: dict[tuple[str, ...], set[str]] = defaultdict(set)

    def keys(event: Event, at: datetime) -> list[tuple[str, ...]]:
        whole = tuple(
            label(at, d, tz) if d in CALENDAR else ("(none)" if getattr(event, d) is None else str(getattr(event, d)))
            for d in dimensions
        )
        return [whole[:n] for n in range(len(whole) + 1)]

    for event in events:
        if start <= event.start < end:
            for key in keys(event, event.start):
                starts[key].append(event)
                if event.user is not None:
                    present[key].add(event.user)
        at = event.start
        while event.finish is not None and at < event.finish:
            if start <= at < end:
                for key in keys(event, at):
                    time[key] += 60_000_000
                    if event.user is not None:
                        present[key].add(event.user)
            at += MINUTE
    groups = {*starts, *(time if any("time" in m or "present" in m for m in measures) else ())}
    grand = measure_all(starts[()], time[()], present[()], measures, None)
    return {
        key: measure_all(starts.get(key, []), time.get(key, 0), present.get(key, set()), measures, grand)
        for key in groups
    }


def measure_all(
    events: list[Event], time: int, present: set[str], measures: list[str], grand: list[Any] | None
) -> list[Any]:
    """Each measure of one group."""
    return [_measure(events, time, present, m, grand[i] if grand else None) for i, m in enumerate(measures)]


def _measure(events: list[Event], time: int, present: set[str], measure: str, grand: Any) -> Any:
    name, *rest = measure.split()
    if name == "share":
        part = _measure(events, time, present, " ".join(rest) or "count", None)
        if grand is None:
            return part
        return part / grand if grand else None
    if name == "count":
        return len(events)
    if name == "time":
        return time
    if name == "present":
        return len(present)
    if name in ("first", "last"):
        times = [e.start.replace(tzinfo=None) for e in events]
        return (min if name == "first" else max)(times) if times else None
    values = sorted(v for e in events if (v := _value(e, rest[-1])) is not None)
    if name == "distinct":
        return len(set(values))
    if name == "total":
        return sum(values)
    if not values:
        return None
    if name in ("min", "max"):
        return values[0] if name == "min" else values[-1]
    if name == "mean":
        mean = Fraction(sum(values), len(values))
        return (
            math.floor(mean + Fraction(1, 2))
            if rest[-1] == "duration"
            else float(mean / (100 if rest[-1] == "cost" else 1))
        )
    share = Fraction(1, 2) if name == "median" else Fraction(rest[0]) / 100
    return values[max(math.ceil(share * len(values)), 1) - 1]


def _value(event: Event, name: str) -> Any:
    if name == "duration":
        return None if event.finish is None else (event.finish - event.start) // timedelta(microseconds=1)
    return getattr(event, name)
