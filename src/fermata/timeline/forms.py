"""The written forms of periods, read into parts; what they mean on a given day is `periods`' business.

ISO 8601 dates, weeks, ordinal days, intervals and durations; quarters (`2026-Q2`), fiscal years (`FY2026`,
`FY2026-Q1`) and plain relative words.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta

from fermata.errors import RequestError
from fermata.timeline.cycles import Calendar, add_months

__all__ = ["Duration", "Edge", "Relative", "Unit", "read_duration", "read_edge", "read_relative", "read_unit"]

DAY_PATTERN = r"(\d{4})-(\d\d)-(\d\d)"
TIME_PATTERN = r"(\d\d):(\d\d)(?::(\d\d)(?:[.,](\d{1,6}))?)?"
ZONE_PATTERN = r"(Z|[+-]\d\d(?::?\d\d)?)?"
WEEK = re.compile(r"(\d{4})-W(\d\d)")
ORDINAL = re.compile(r"(\d{4})-(\d{3})")
DAY = re.compile(DAY_PATTERN)
MONTH = re.compile(r"(\d{4})-(\d\d)")
QUARTER = re.compile(r"(\d{4})-Q([1-4])")
YEAR = re.compile(r"(\d{4})")
FISCAL = re.compile(r"FY(\d{4})(?:-Q([1-4]))?")
CLOCK = re.compile(rf"{DAY_PATTERN}[T ]{TIME_PATTERN}{ZONE_PATTERN}")
DURATION = re.compile(r"P(?=.)(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?=.)(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")
RELATIVE = re.compile(r"(this|last|next) (?:(\d+) )?([a-z][a-z0-9_ -]*?)")


@dataclass(frozen=True, slots=True)
class Unit:
    """One calendar unit: its name and its first local day."""

    name: str
    first: date


@dataclass(frozen=True, slots=True)
class Edge:
    """One end of an interval: a calendar unit, a local time, or an instant (aware)."""

    unit: Unit | None = None
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Duration:
    """Calendar months and days, and exact time."""

    months: int = 0
    days: int = 0
    exact: timedelta = timedelta()

    def moved(self, wall: datetime, sign: int) -> datetime:
        """`wall` moved by the calendar part; the exact part is for the caller, who knows the zone."""
        day = add_months(wall.date(), sign * self.months) + timedelta(days=sign * self.days)
        return datetime.combine(day, wall.time())


@dataclass(frozen=True, slots=True)
class Relative:
    """`this month`, `last 7 days`, `month to date`: which (this, last, to date), how many, of what."""

    which: str
    count: int
    unit: str


def read_unit(text: str, calendar: Calendar) -> Unit | None:
    """The calendar unit `text` writes, or None if it is no such form."""
    try:
        if m := WEEK.fullmatch(text):
            return Unit("iso week", date.fromisocalendar(int(m[1]), int(m[2]), 1))
        if m := ORDINAL.fullmatch(text):
            return Unit("day", _ordinal(int(m[1]), int(m[2])))
        if m := DAY.fullmatch(text):
            return Unit("day", date(int(m[1]), int(m[2]), int(m[3])))
        if m := MONTH.fullmatch(text):
            return Unit("month", date(int(m[1]), int(m[2]), 1))
        if m := QUARTER.fullmatch(text):
            return Unit("quarter", date(int(m[1]), 3 * int(m[2]) - 2, 1))
        if m := YEAR.fullmatch(text):
            return Unit("year", date(int(m[1]), 1, 1))
        if m := FISCAL.fullmatch(text):
            first = calendar.fiscal_year(int(m[1]))
            if not m[2]:
                return Unit("fiscal year", first)
            return Unit("fiscal quarter", add_months(first, 3 * int(m[2]) - 3))
    except ValueError as e:
        raise RequestError(f"period {text!r}: {e}") from None
    return None


def _ordinal(year: int, number: int) -> date:
    day = date(year, 1, 1) + timedelta(days=number - 1)
    if number < 1 or day.year != year:
        raise ValueError(f"{year} has no day number {number}")
    return day


def read_clock(text: str) -> datetime | None:
    """A date with a clock time, naive or with its offset; 24:00 is the next midnight."""
    m = CLOCK.fullmatch(text)
    if not m:
        return None
    try:
        day = date(int(m[1]), int(m[2]), int(m[3]))
        hour, minute, second = int(m[4]), int(m[5]), int(m[6] or 0)
        if (hour, minute, second) == (24, 0, 0):
            day, hour = day + timedelta(days=1), 0
        at = datetime.combine(day, time(hour, minute, second, int((m[7] or "0").ljust(6, "0"))))
    except ValueError as e:
        raise RequestError(f"period {text!r}: {e}") from None
    if m[8]:
        at = datetime.fromisoformat(at.isoformat() + (m[8] if m[8] != "Z" else "+00:00")).astimezone(UTC)
    return at


def read_edge(text: str, calendar: Calendar) -> Edge | None:
    """One end of an interval, or None if it is neither a unit nor a clock time."""
    if unit := read_unit(text, calendar):
        return Edge(unit=unit)
    if at := read_clock(text):
        return Edge(at=at)
    return None


def complete_end(start: str, end: str) -> str:
    """`end` with the leading parts it shares with `start` put back (ISO 8601: `2026-03-01/15`)."""
    if re.fullmatch(r"\d\d", end) and (m := re.match(r"\d{4}-\d\d-|\d{4}-(?=\d\d$)", start)):
        return m[0] + end
    if re.fullmatch(r"\d\d-\d\d", end) and DAY.match(start):
        return start[:5] + end
    if re.fullmatch(TIME_PATTERN + ZONE_PATTERN, end) and (m := DAY.match(start)):
        return f"{m[0]}T{end}"
    return f"{start[:5]}{end}" if re.fullmatch(r"[QW]\d+", end) else end


def read_duration(text: str) -> Duration | None:
    """An ISO 8601 duration in whole numbers, or None."""
    m = DURATION.fullmatch(text)
    if not m:
        return None
    years, months, weeks, days, hours, minutes, seconds = (int(g or 0) for g in m.groups())
    return Duration(12 * years + months, 7 * weeks + days, timedelta(hours=hours, minutes=minutes, seconds=seconds))


def read_relative(text: str, calendar: Calendar) -> Relative | None:
    """Plain words counted from now, or None."""
    words = " ".join(text.lower().split())
    if words in ("today", "yesterday"):
        return Relative("this" if words == "today" else "last", 1, "day")
    to_date = words.removesuffix(" to date")
    if to_date != words and to_date in calendar.units:
        return Relative("to date", 1, to_date)
    m = RELATIVE.fullmatch(words)
    if not m or m[1] == "next":
        return None
    unit = m[3] if m[3] in calendar.units or m[3] == "hour" else m[3].removesuffix("s")
    if unit == "minute" and m[2]:
        return Relative(m[1], int(m[2]), unit)
    if unit not in calendar.units and unit != "hour":
        return None
    if m[2] and (m[1] == "this" or int(m[2]) < 1):
        return None
    return Relative(m[1], int(m[2] or 1), unit)
