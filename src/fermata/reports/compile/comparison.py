"""The other period of a comparison."""

from __future__ import annotations

import dataclasses
import re
from datetime import date, datetime, timedelta
from math import ceil

from dateutil.relativedelta import relativedelta

from fermata.errors import RequestError
from fermata.reports.definition.report import Report
from fermata.timeline import Period, Stretch
from fermata.timeline.zones import day_start, local, to_utc

__all__ = ["PART", "compared"]

PART = "equal part"
DAY = timedelta(days=1)
OTHERS = ("before", "year ago", "52 weeks ago", "weekdays before")  # the same length, earlier
MEANT = {  # how it is written here -> what others say, where that is no period
    "before": ("previous", "prior", "previous period", "prior period", "last period", "period before",
               "previous month", "previous week", "previous day", "month before", "week before", "day before"),
    "year ago": ("last year", "previous year", "prior year", "a year ago", "one year ago", "year before", "yoy",
                 "same period last year", "year over year"),
}  # fmt: skip


def compared(
    report: Report, stretch: Stretch, now: datetime, covers: tuple[datetime, datetime] | None
) -> Stretch | None:
    """The period that `compare` sets beside the report's; None if it compares nothing.

    Where this period is not over yet (it ends now, or the log ends within it), only the equal elapsed part, unless
    `whole` is asked for. Raises RequestError for a period that cannot be read.
    """
    if not report.compare:
        return None
    text = report.compare.strip().lower()
    if text == "before":
        step = Period.parse(report.period, stretch.calendar).step(-1, now, covers)
        other = step.resolve(now, covers)
    elif text in OTHERS:
        other = _shifted(stretch, text)
    else:
        try:
            return Period.parse(report.compare, stretch.calendar).resolve(now, covers)
        except RequestError as e:
            words = re.sub("[ _-]", "", text)
            every = {said.replace(" ", ""): here for here in OTHERS for said in (here, *MEANT.get(here, ()))}
            meant = every.get(words, "")
            if meant:
                raise RequestError(f"there is no comparison {text!r}; did you mean {meant!r}?") from None
            raise RequestError(f"{e}; or compare with one of: {', '.join(OTHERS)}") from None
    until = min(stretch.end, covers[1]) if covers and covers[1] > stretch.start else stretch.end
    unfinished = (stretch.relative and stretch.days is None) or until < stretch.end
    if report.full_period or not unfinished:
        return other
    zone = stretch.calendar.zone
    elapsed = local(until, zone) - local(stretch.start, zone)
    end = min(to_utc(local(other.start, zone) + elapsed, zone), other.end)
    if end <= other.start or end == other.end:
        return other
    return dataclasses.replace(other, end=end, days=None, text=f"{PART} of {other.text}")


def _shifted(stretch: Stretch, how: str) -> Stretch:
    """The stretch a year, or whole weeks, earlier on the same calendar."""
    zone = stretch.calendar.zone
    if how == "weekdays before":
        days = 7 * ceil((local(stretch.end, zone) - local(stretch.start, zone)) / (7 * DAY))
        back: relativedelta | timedelta = timedelta(days=days)
    else:
        back = relativedelta(years=1) if how == "year ago" else timedelta(weeks=52)
    plain = dataclasses.replace(stretch, text=how, relative=False, notes=())
    if stretch.days:
        first, last = (d - back for d in stretch.days)
        assert isinstance(first, date)
        assert isinstance(last, date)
        return dataclasses.replace(plain, start=day_start(first, zone), end=day_start(last, zone), days=(first, last))
    start, end = (to_utc(local(t, zone) - back, zone) for t in (stretch.start, stretch.end))
    return dataclasses.replace(plain, start=start, end=end)
