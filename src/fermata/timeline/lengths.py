"""Lengths of time as people write them: `13 months`, `90 days`, `45 minutes`, `8 h`."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from dateutil.relativedelta import relativedelta

from fermata.errors import RequestError
from fermata.timeline.zones import day_start, local

__all__ = ["ago", "exact", "length"]

EXACT = {
    "minute": timedelta(minutes=1),
    "hour": timedelta(hours=1),
    "day": timedelta(days=1),
    "week": timedelta(weeks=1),
}


LONGEST = timedelta(days=366 * 200)
ABOUT = {**EXACT, "month": timedelta(days=31), "year": timedelta(days=366)}
SHORT = {"min": "minute", "h": "hour", "hr": "hour", "d": "day", "w": "week"}  # a lone m might be a month


def length(text: str) -> tuple[int, str]:
    """`13 months` as (13, "month"). Raises RequestError.

    >>> length("90 days")
    (90, 'day')
    """
    found = re.fullmatch(r"(\d+) *(minute|min|hour|hr|h|day|d|week|w|month|year)s?", text.strip().lower())
    if not found or not found[1].strip("0"):
        raise RequestError(f"{text!r} is no length of time; write 45 minutes, 6 hours, 90 days, 13 months or 2 years")
    unit = SHORT.get(found[2], found[2])
    if len(found[1]) > 9 or int(found[1]) > LONGEST // ABOUT[unit]:
        raise RequestError(f"{text.strip()[:40]!r} is longer than 200 years")
    return int(found[1]), unit


def exact(text: str) -> timedelta:
    """A length of minutes, hours, days (of 24 hours) or weeks. Raises RequestError for months and years."""
    n, unit = length(text)
    if unit not in EXACT:
        raise RequestError(f"{text!r}: a {unit} has no one length; write it in days")
    return n * EXACT[unit]


def ago(text: str, now: datetime, zone: ZoneInfo) -> datetime:
    """The instant that lies `text` before `now` (aware), as aware UTC; from days on, the start of that local day."""
    n, unit = length(text)
    if unit in ("minute", "hour"):
        return now - n * EXACT[unit]
    back = {"day": relativedelta(days=n), "week": relativedelta(weeks=n), "month": relativedelta(months=n)}
    return day_start(local(now, zone).date() - back.get(unit, relativedelta(years=n)), zone)
