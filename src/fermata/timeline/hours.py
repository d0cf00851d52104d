"""Hours of the week: opening hours, nights, weekends, holidays; which stretches of a period they are.

>>> from datetime import date
>>> office = Hours("office", week("monday to friday", ("09:00-18:00",)), (date(2026, 4, 3),), "closed")
>>> len(office.week[0]), len(office.week[6])
(1, 0)
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from itertools import pairwise
from typing import Literal
from zoneinfo import ZoneInfo

from fermata.errors import RequestError
from fermata.timeline.periods import Stretch
from fermata.timeline.units import WEEKDAY_NAMES
from fermata.timeline.zones import day_start, local, to_utc

__all__ = ["Hours", "week", "written"]

DAY = 1440
TIMES = re.compile(r"([01]?\d|2[0-4]):([0-5]\d) *[-–] *([01]?\d|2[0-4]):([0-5]\d)")
SAID = {
    "weekend": "saturday, sunday", "weekends": "saturday, sunday", "weekdays": "monday to friday", "daily": "",
    "every day": "",
}  # fmt: skip
Windows = tuple[tuple[tuple[int, int], ...], ...]
Edges = list[tuple[datetime, datetime]]


@dataclass(frozen=True, slots=True)
class Hours:
    """Named hours: per weekday from Monday the windows of wall-clock minutes [from, to); beyond 1440 is the next day.

    `holidays` are local dates on which nothing opens (`closed`), nothing else does (`only`), or that change nothing
    (`as usual`). A window belongs to the day it begins on. `outside` turns everything round.
    """

    name: str
    week: Windows
    holidays: tuple[date, ...] = ()
    on_holidays: Literal["as usual", "closed", "only"] = "as usual"
    outside: bool = False

    def stretches(self, stretch: Stretch) -> Edges:
        """The parts of the stretch that lie in these hours: aware UTC [start, end), in order, none touching."""
        zone = stretch.calendar.zone
        day = local(stretch.start, zone).date() - timedelta(days=1)
        last = local(stretch.end, zone).date()
        closed = set(self.holidays)
        found: Edges = []
        while day <= last:
            holiday = day in closed
            if not (holiday and self.on_holidays == "closed") and (holiday or self.on_holidays != "only"):
                for a, b in self.week[day.weekday()]:
                    found.append((_at(day, a, zone, late=False), _at(day, b, zone, late=True)))
            day += timedelta(days=1)
        inside = _joined([(max(a, stretch.start), min(b, stretch.end)) for a, b in found])
        return _between(inside, stretch.start, stretch.end) if self.outside else inside

    def minutes(self, day: date) -> int:
        """The minutes of the wall clock that begin on a local day."""
        holiday = day in self.holidays
        if (holiday and self.on_holidays == "closed") or (not holiday and self.on_holidays == "only"):
            return 0
        return sum(b - a for a, b in self.week[day.weekday()])


def week(days: str, times: tuple[str, ...]) -> Windows:
    """The windows of a week: `monday to friday` or `saturday, sunday` and `09:00-18:00`; a window over midnight is one.

    Raises RequestError with what would be right.
    """
    windows = tuple(sorted(_window(t) for t in times)) if times else ((0, DAY),)
    for (_, end), (start, _) in pairwise(windows):
        if start < end:
            raise RequestError(f"times overlap: {', '.join(times)}")
    wanted = _days(days)
    return tuple(windows if i in wanted else () for i in range(7))


def written(text: str) -> Hours | None:
    """Hours that are written out instead of named: days, times, or both; None where the text is neither. They are
    called by the days they are, so that a heading says which a `weekend` has.

    >>> written("saturday, sunday 22:00-06:00").minutes(date(2026, 3, 7))
    480

    Raises RequestError where the days or the times are none.
    """
    first = TIMES.search(text)
    days, times = (text[: first.start()], text[first.start() :]) if first else (text, "")
    named = SAID.get(days.strip().lower(), days).strip(" ,")
    if not (first or any(name.lower() in named.lower() for name in WEEKDAY_NAMES)):
        return None
    return Hours(
        f"{named} {times}".strip(), week(named or "monday to sunday", tuple(times.split(",")) if times else ())
    )


def _window(text: str) -> tuple[int, int]:
    m = TIMES.fullmatch(text.strip())
    if not m:
        raise RequestError(f"{text!r} are no times; write 09:00-18:00, or 22:00-06:00 over midnight")
    a, b = int(m[1]) * 60 + int(m[2]), int(m[3]) * 60 + int(m[4])
    if max(a, b) > DAY:
        raise RequestError(f"{text!r}: a day ends at 24:00")
    if a == b:
        raise RequestError(f"{text!r} lasts no time; the whole day is 00:00-24:00")
    return (a, b) if b > a else (a, b + DAY)


def _days(text: str) -> set[int]:
    found: set[int] = set()
    names = [n.lower() for n in WEEKDAY_NAMES]
    for part in text.lower().split(","):
        ends = [names.index(w) if w in names else -1 for w in re.split(r" to |-", part.strip())]
        if -1 in ends or len(ends) > 2:
            raise RequestError(f"{text!r} are no days; write monday to friday, or saturday, sunday")
        at = ends[0]
        found.add(at)
        while at != ends[-1]:
            at = (at + 1) % 7
            found.add(at)
    return found


def _at(day: date, minute: int, zone: ZoneInfo, *, late: bool) -> datetime:
    """The instant of a minute of a local day; midnights are day starts, an end that happens twice is the second."""
    days, rest = divmod(minute, DAY)
    day += timedelta(days=days)
    if not rest:
        return day_start(day, zone)
    return to_utc(datetime.combine(day, time(rest // 60, rest % 60)), zone, later=late)


def _joined(found: Edges) -> Edges:
    joined: Edges = []
    for start, end in sorted(e for e in found if e[0] < e[1]):
        if joined and start <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(end, joined[-1][1]))
        else:
            joined.append((start, end))
    return joined


def _between(inside: Edges, start: datetime, end: datetime) -> Edges:
    edges = [start, *(t for pair in inside for t in pair), end]
    pairs = list(zip(edges[::2], edges[1::2], strict=True))
    return [(a, b) for a, b in pairs if a < b]
