"""Calendar units: the days, weeks, months, quarters and years everybody has, and the cycles of one organisation.

Everything here is arithmetic on local dates. A unit is known by its name; `Calendar.floor` gives the first
day of the unit a date falls in, `Calendar.step` the first day of a later or earlier unit.
"""

from __future__ import annotations

import bisect
import itertools
from dataclasses import dataclass, field
from datetime import date, timedelta
from zoneinfo import ZoneInfo

from fermata.errors import RequestError, UnknownName
from fermata.timeline.zones import zone

__all__ = ["UNITS", "Calendar", "Cycle", "add_months"]

UNITS = ("day", "week", "month", "quarter", "year")
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = {"month": 1, "quarter": 3, "year": 12, "fiscal quarter": 3, "fiscal year": 12}


def add_months(day: date, months: int) -> date:
    """`day` moved by whole months; a day the month does not have becomes its last."""
    index = day.year * 12 + day.month - 1 + months
    year, month = divmod(index, 12)
    last = (date(year + month // 11, (month + 1) % 12 + 1, 1) - timedelta(days=1)).day
    return date(year, month + 1, min(day.day, last))


@dataclass(frozen=True, slots=True)
class Cycle:
    """A cycle of the organisation: a repeating pattern of weeks, or of days, from a date.

    `lengths` are days: `(14,)` is a two-weekly pay period, `(28, 28, 35)` a 4-4-5 quarter. With several
    `starts` the pattern begins afresh at each, and the piece before a start is stretched or cut to reach it
    (the 53rd week of a long year falls to the last piece).
    """

    name: str
    lengths: tuple[int, ...]
    starts: tuple[date, ...]

    def __post_init__(self) -> None:
        if not self.lengths or min(self.lengths) < 1:
            raise RequestError(f"cycle {self.name!r}: each length must be at least one day")
        if not self.starts or list(self.starts) != sorted(set(self.starts)):
            raise RequestError(f"cycle {self.name!r}: give the date it starts from, several in rising order")

    def floor(self, day: date) -> date:
        """The first day of the piece `day` falls in."""
        i = bisect.bisect_right(self.starts, day) - 1
        begin = self.starts[max(i, 0)]
        whole, left = divmod((day - begin).days, sum(self.lengths))
        first = begin + timedelta(days=whole * sum(self.lengths))
        for edge in itertools.accumulate(self.lengths):
            if left < edge:
                break
            first_of_next = begin + timedelta(days=whole * sum(self.lengths) + edge)
            first = first_of_next
        following = self.starts[i + 1] if 0 <= i < len(self.starts) - 1 else None
        if following and (following - first).days < min(self.lengths) and first > begin:
            return self.floor(first - timedelta(days=1))  # the odd week before a new start joins its forerunner
        return first

    def next(self, day: date) -> date:
        """The first day of the piece after the one `day` falls in."""
        first = self.floor(day)
        probe = first + timedelta(days=1)
        while self.floor(probe) == first:
            probe += timedelta(days=1)
        return probe


@dataclass(frozen=True, slots=True)
class Calendar:
    """A zone with the organisation's ways of cutting time: what "this week" or "last pay" means.

    `week_start` is 0 for Monday to 6 for Sunday. A fiscal year begins on `fiscal_start` (month, day) and is
    numbered by the year it starts in, or by the year it ends in if `fiscal_by_end`.
    """

    zone_name: str
    week_start: int = 0
    fiscal_start: tuple[int, int] = (1, 1)
    fiscal_by_end: bool = False
    cycles: tuple[Cycle, ...] = field(default=())

    @property
    def zone(self) -> ZoneInfo:
        """The zone itself.

        >>> Calendar("Europe/Lisbon").zone.key
        'Europe/Lisbon'
        """
        return zone(self.zone_name)

    @property
    def units(self) -> tuple[str, ...]:
        """Every unit a period or a dimension may name, hours apart.

        >>> Calendar("UTC").units[:4]
        ('day', 'week', 'month', 'quarter')
        """
        return (*UNITS, "fiscal quarter", "fiscal year", *(c.name for c in self.cycles))

    def cycle(self, name: str) -> Cycle:
        """The cycle called `name`.

        >>> hall.config.workspace.calendar.cycle("pay").name
        'pay'
        """
        for c in self.cycles:
            if c.name == name:
                return c
        raise UnknownName.of("calendar unit", name, self.units)

    def floor(self, day: date, unit: str) -> date:
        """The first day of the unit that `day` falls in.

        >>> Calendar("UTC").floor(date(2026, 3, 18), "month")
        datetime.date(2026, 3, 1)
        """
        if unit == "day":
            return day
        if unit == "week":
            return day - timedelta(days=(day.weekday() - self.week_start) % 7)
        if unit in MONTHS:
            start_month, start_day = self.fiscal_start if unit.startswith("fiscal") else (1, 1)
            shifted = day - timedelta(days=start_day - 1)  # the fiscal month's first day counts as the 1st
            back = (shifted.month - start_month) % MONTHS[unit]
            first = add_months(shifted.replace(day=1), -back)
            return first.replace(day=start_day)
        return self.cycle(unit).floor(day)

    def step(self, first: date, unit: str, n: int = 1) -> date:
        """The first day of the unit `n` units after (before, if negative) the one that starts on `first`.

        >>> Calendar("UTC").step(date(2026, 3, 1), "month", -1)
        datetime.date(2026, 2, 1)
        """
        if unit in ("day", "week"):
            return first + timedelta(days=n * (7 if unit == "week" else 1))
        if unit in MONTHS:
            return add_months(first, n * MONTHS[unit])
        cycle = self.cycle(unit)
        for _ in range(abs(n)):
            first = cycle.next(first) if n > 0 else cycle.floor(first - timedelta(days=1))
        return first

    def label(self, first: date, unit: str) -> str:
        """How the unit that starts on `first` is written; every label is also a period.

        >>> Calendar("UTC").label(date(2026, 3, 2), "week")
        '2026-W10'
        """
        if unit == "month":
            return f"{first:%Y-%m}"
        if unit == "quarter":
            return f"{first.year}-Q{(first.month - 1) // 3 + 1}"
        if unit == "year":
            return f"{first.year}"
        if unit == "week" and self.week_start == 0:
            year, week, _ = first.isocalendar()
            return f"{year}-W{week:02d}"
        if unit.startswith("fiscal"):
            return self._fiscal_label(first, unit)
        if unit == "day":
            return first.isoformat()
        last = self.step(first, unit) - timedelta(days=1)
        return f"{first.isoformat()}/{last.isoformat()}"

    def _fiscal_label(self, first: date, unit: str) -> str:
        begin = self.floor(first, "fiscal year")
        ends_later = add_months(begin, 12) - timedelta(days=1)
        year = ends_later.year if self.fiscal_by_end else begin.year
        if unit == "fiscal year":
            return f"FY{year}"
        months = (first.year - begin.year) * 12 + first.month - begin.month
        return f"FY{year}-Q{months // 3 + 1}"

    def fiscal_year(self, number: int) -> date:
        """The first day of the fiscal year with that number.

        >>> Calendar("UTC").fiscal_year(2026)
        datetime.date(2026, 1, 1)
        """
        month, day = self.fiscal_start
        begin = date(number, month, day)
        if self.fiscal_by_end and (month, day) != (1, 1):
            begin = date(number - 1, month, day)
        return begin
