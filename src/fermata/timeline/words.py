"""Times and periods as people read them."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

__all__ = ["clock", "of_days", "of_times", "span", "stamp"]


def of_days(first: date, end: date) -> str:
    """Whole local days [first, end) in words: `2 March 2026`, `1 to 31 March 2026`."""
    last = end - timedelta(days=1)
    if first == last:
        return _long(first)
    if (first.year, first.month) == (last.year, last.month):
        return f"{first.day} to {_long(last)}"
    if first.year == last.year:
        return f"{first.day} {first:%B} to {_long(last)}"
    return f"{_long(first)} to {_long(last)}"


def of_times(start: datetime, end: datetime) -> str:
    """Two local times in words; the day is said once where both share it."""
    if start.date() == end.date():
        return f"{_long(start.date())} {clock(start)} to {clock(end)}"
    return f"{_long(start.date())} {clock(start)} to {_long(end.date())} {clock(end)}"


def clock(at: datetime) -> str:
    """`08:00`, `08:00:05` or `08:00:05.25`: no more than the time needs."""
    if at.microsecond:
        return f"{at:%H:%M:%S.%f}".rstrip("0")
    return f"{at:%H:%M:%S}" if at.second else f"{at:%H:%M}"


def stamp(at: datetime, zone: ZoneInfo) -> str:
    """An instant on the zone's clock with its offset: `2026-03-01 00:00 +00:00`."""
    here = at.astimezone(zone)
    sign = here.strftime("%z")
    return f"{here:%Y-%m-%d} {clock(here)} {sign[:3]}:{sign[3:5]}"


def span(microseconds: int) -> str:
    """A length of time as h:mm:ss; fractions of a second only where there are any."""
    sign = "-" if microseconds < 0 else ""
    seconds, fraction = divmod(abs(microseconds), 1_000_000)
    tail = f".{fraction:06d}".rstrip("0") if fraction else ""
    return f"{sign}{seconds // 3600}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{tail}"


def _long(day: date) -> str:
    return f"{day.day} {day:%B} {day.year}"
