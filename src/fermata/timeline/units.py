"""A stretch cut into calendar units: the hours, days, weeks ... that a report groups by.

Units are real time: half-open, touching, covering the stretch exactly. A repeated autumn hour is two units;
the first and the last unit are cut at the stretch's edges.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass
from datetime import datetime, timedelta

from fermata.errors import RequestError
from fermata.timeline.periods import Stretch
from fermata.timeline.words import stamp
from fermata.timeline.zones import changes, day_start, local

__all__ = ["PARTS", "WEEKDAY_NAMES", "Slot", "base_unit", "slots"]

WEEKDAY_NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
PARTS = {"weekday": "day", "hour of day": "hour"}  # a recurring part -> the unit that decides it
MOST_UNITS = 200_000


@dataclass(frozen=True, slots=True)
class Slot:
    """One unit inside a stretch: aware UTC [start, end), its label, and the local time it begins at."""

    start: datetime
    end: datetime
    label: str
    begins: datetime


@functools.lru_cache(maxsize=64)
def slots(stretch: Stretch, unit: str) -> tuple[Slot, ...]:
    """The stretch cut into `unit`s of its calendar, in order; units no time falls in are left out.

    Raises UnknownName for a unit the calendar does not have.
    """
    found = _hours(stretch) if unit == "hour" else _dated(stretch, unit)
    return tuple(s for s in found if s.end > s.start)


def _dated(stretch: Stretch, unit: str) -> list[Slot]:
    calendar, zone = stretch.calendar, stretch.calendar.zone
    first = calendar.floor(local(stretch.start, zone).date(), unit)
    while day_start(first, zone) > stretch.start:  # the clock was set back over midnight
        first = calendar.step(first, unit, -1)
    found = []
    at = day_start(first, zone)
    while at < stretch.end:
        following = calendar.step(first, unit)
        until = day_start(following, zone)
        begins = datetime(first.year, first.month, first.day)
        label = calendar.label(first, unit)
        found.append(Slot(max(at, stretch.start), min(until, stretch.end), label, begins))
        first, at = following, until
        _bounded(len(found), unit)
    return found


def _hours(stretch: Stretch) -> list[Slot]:
    zone = stretch.calendar.zone
    day, hour = timedelta(days=1), timedelta(hours=1)
    near = changes(stretch.start - day, stretch.end + day, zone)
    repeated = [c.window for c in near if c.sets_back]
    breaks = [c.at for c in near if stretch.start < c.at < stretch.end]
    found: list[Slot] = []
    at = stretch.start
    while at < stretch.end:
        wall = local(at, zone)
        begins = wall.replace(minute=0, second=0, microsecond=0)
        until = min(at + (begins + hour - wall), stretch.end)
        while breaks and breaks[0] <= at:
            breaks.pop(0)
        until = min(until, breaks[0]) if breaks else until
        twice = any(low < begins + hour and begins < high for low, high in repeated)
        label = f"{begins:%Y-%m-%d %H}:00"
        found.append(Slot(at, until, f"{label} {stamp(at, zone)[-6:]}" if twice else label, begins))
        at = until
        _bounded(len(found), "hour")
    return found


def _bounded(n: int, unit: str) -> None:
    if n > MOST_UNITS:
        raise RequestError(f"the period holds more than {MOST_UNITS:,} {unit}s; take a longer unit or a shorter period")


def base_unit(units: list[str]) -> str:
    """The one unit all of `units` (parts included) can be told from: the finest, or `day` where weeks meet months."""
    plain = [PARTS.get(u, u) for u in units]
    distinct = set(plain)
    if len(distinct) <= 1:
        return plain[0] if plain else ""
    if "hour" in distinct:
        return "hour"
    nested = ("month", "quarter", "year")
    if distinct <= set(nested):
        return min(distinct, key=nested.index)
    return "day"
