"""Slow references for the measuring heart: events walked through one by one, minutes counted one by one."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo

from tests.reference import Event

MINUTE = timedelta(minutes=1)
Key = Callable[[Event], tuple[Any, ...]]


@dataclass(frozen=True)
class Pair:
    """A span made of an opening and what became of it, or a closing on its own."""

    opening: Event
    finish: datetime | None
    status: str

    @property
    def event(self) -> Event:
        return replace(self.opening, finish=self.finish)


def used(readings: list[tuple[datetime, int]], reach: timedelta, wraps: int | None) -> list[tuple[str, int | None]]:
    """What a counter counted since the reading before, reading by reading, and what each reading is."""
    found: list[tuple[str, int | None]] = []
    for i, (at, value) in enumerate(readings):
        before = readings[i - 1] if i else None
        if before is None or at - before[0] > reach:
            found.append(("first", None))
        elif value >= before[1]:
            found.append(("counted", value - before[1]))
        elif wraps and wraps // 2 < before[1] < wraps:
            found.append(("wrapped", value + wraps - before[1]))
        else:
            found.append(("began again", value))
    return found


def pairs(
    events: Iterable[Event],
    key: Key,
    reach: timedelta,
    policy: str,
    limit: timedelta | None,
    end: datetime,
    tz: ZoneInfo,
) -> list[Pair]:
    """Openings (`in`) and closings (`out`) of each key walked through in order; ties as they are given."""
    found: list[Pair] = []
    waiting: dict[Any, Event] = {}

    def give_up(event: Event, following: datetime | None) -> None:
        near = following if following is not None and following - event.start <= reach else None
        if policy == "open":
            stop = None
        elif policy == "until next":
            stop = near
        else:
            midnight = datetime.combine(
                event.start.astimezone(tz).date() + timedelta(days=1), datetime.min.time(), tz
            ).astimezone(UTC)
            stop = {"at most": event.start + (limit or timedelta(0)), "day's end": midnight,
                    "log's end": max(min(end, event.start + reach), event.start)}[policy]  # fmt: skip
            stop = min(stop, near) if near is not None else stop
        found.append(Pair(event, stop, "unfinished" if stop is None else "cut"))

    for event in sorted(events, key=lambda e: e.start):
        if event.action not in ("in", "out"):
            continue
        who = key(event)
        if None in who:
            found.append(Pair(event, event.start, "no opening")) if event.action == "out" else give_up(event, None)
            continue
        before = waiting.pop(who, None)
        if event.action == "in":
            if before:
                give_up(before, event.start)
            waiting[who] = event
        elif before and event.start - before.start <= reach:
            found.append(Pair(before, event.start, "closed"))
        else:
            if before:
                give_up(before, None)
            found.append(Pair(event, event.start, "no opening"))
    for event in waiting.values():
        give_up(event, None)
    return found


def states(events: Iterable[Event], key: Key, end: datetime) -> list[Event]:
    """Each event until the next of its key, the last until the end."""
    found: list[Event] = []
    last: dict[Any, Event] = {}
    for event in sorted(events, key=lambda e: e.start):
        who = key(event)
        if None in who:
            found.append(replace(event, finish=None))
            continue
        if who in last:
            found.append(replace(last[who], finish=event.start))
        last[who] = event
    return [*found, *(replace(e, finish=max(end, e.start)) for e in last.values())]


def things(events: Iterable[Event], key: Key, within: timedelta) -> list[list[Event]]:
    """The records of each thing, in order."""
    open_: dict[Any, list[Event]] = {}
    found: list[list[Event]] = []
    for event in sorted(events, key=lambda e: e.start):
        who = key(event)
        thing = open_.get(who)
        if thing is not None and None not in who and event.start - thing[-1].start <= within:
            thing.append(event)
        else:
            open_[who] = [event]
            found.append(open_[who])
    return found


def minutes(
    events: Iterable[Event], period: tuple[datetime, datetime], counts: Callable[[datetime], bool] = lambda _: True
) -> dict[datetime, int]:
    """How many spans last in each minute of the period that counts."""
    found: dict[datetime, int] = defaultdict(int)
    for event in events:
        at = max(event.start, period[0])
        while event.finish is not None and at < min(event.finish, period[1]):
            if counts(at):
                found[at] += 1
            at += MINUTE
    return found


def at_once(
    events: Iterable[Event],
    period: tuple[datetime, datetime],
    least: int,
    counts: Callable[[datetime], bool] = lambda _: True,
) -> dict[str, Any]:
    """Union, overlap, peak, its first minute and the time at `least`, minute by minute."""
    found = minutes(events, period, counts)
    micro = 60_000_000
    peak = max(found.values(), default=0)
    return {
        "union": micro * len(found),
        "overlap": micro * sum(n >= 2 for n in found.values()),
        "peak": peak,
        "peak time": min((at for at, n in found.items() if n == peak), default=None) if peak else None,
        f"at {least}": micro * sum(n >= least for n in found.values()),
        "time": micro * sum(found.values()),
    }


def rounded(event: Event, way: str, step: timedelta) -> Event:
    """The event with its length in whole steps."""
    if event.finish is None:
        return event
    steps, rest = divmod(event.finish - event.start, step)
    more = {"up": rest > timedelta(0), "down": False, "nearest": 2 * rest >= step}[way]
    return replace(event, finish=event.start + (steps + int(more)) * step)


def priced(event: Event, rows: list[tuple[str, datetime, datetime, Fraction, Fraction]], places: int = 2) -> int | None:
    """Per event and per hour by rows (device or *, since, until, each, hour); half up to so many places, each
    microsecond priced.
    """

    def row(at: datetime) -> Any:
        fits = [r for r in rows if r[0] in (event.device, "*") and r[1] <= at < r[2]]
        return max(fits, key=lambda r: r[0] != "*", default=None)

    first = row(event.start)
    if first is None or event.finish is None:
        return None
    total, at = first[3], event.start
    while at < event.finish:
        here = row(at)
        if here is None:
            return None
        stop = min(event.finish, here[2])
        total += here[4] * Fraction((stop - at) // timedelta(microseconds=1), 3_600_000_000)
        at = stop
    scaled = total * 10**places
    return int((2 * scaled.numerator + scaled.denominator) // (2 * scaled.denominator))


def in_hours(at: datetime, tz: ZoneInfo, weekdays: set[int], first: int, last: int, holidays: set[date]) -> bool:
    """Whether the zone's clock is between two minutes of a day that counts (`last` may lie beyond midnight)."""
    here = at.astimezone(tz)
    minute = here.hour * 60 + here.minute
    for day, low in ((here.date(), minute), (here.date() - timedelta(days=1), minute + 1440)):
        if day.weekday() in weekdays and day not in holidays and first <= low < last:
            return True
    return False


def contacts(events: list[Event], person: str, within: timedelta) -> dict[tuple[str, str], int]:
    """(other, device) -> pairs of stays no more than `within` apart."""
    found: dict[tuple[str, str], int] = defaultdict(int)
    stays = {(e.user, e.device, e.start, e.finish or e.start) for e in events if e.user and e.device}
    for who, where, start, finish in stays:
        for other, place, a, b in stays:
            if who == person and other != person and place == where and max(a - finish, start - b) <= within:
                found[(str(other), str(place))] += 1
    return dict(found)
