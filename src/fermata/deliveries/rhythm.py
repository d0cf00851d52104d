"""Whether a delivery's period fits how often it goes out."""

from __future__ import annotations

import itertools
from datetime import datetime, timedelta

from fermata.deliveries import timetable
from fermata.deliveries.model import Delivery
from fermata.errors import FermataError
from fermata.proof.fingerprint import period_at
from fermata.reports.definition.report import Report
from fermata.timeline import Stretch
from fermata.workspace import last_run
from fermata.workspace.base import Base

__all__ = ["warnings"]

LOOKED_AT = 5  # runs that follow each other
FITTING = (  # up to this long between two runs -> the period that fits
    (timedelta(hours=30), "yesterday"), (timedelta(days=9), "last week"), (timedelta(days=32), "last month"),
    (timedelta(days=95), "last quarter"), (timedelta(days=370), "last year"),
)  # fmt: skip


def warnings(base: Base, delivery: Delivery) -> list[str]:
    """What will work and may not be meant: a period that does not move, runs that tell of the same period again, time
    between two runs that no run tells of.
    """
    report = timetable.report_of(base, delivery)
    if report.register_name:
        return []
    if not report.parts:
        relative, exact, _ = last_run.period_words(report, base.place(), base.now())
        if not relative:
            return [
                f"the period is always {exact}: it does not move, so every run tells of the same time; write "
                "'last month'"
            ]
    if report.period == "all" or report.parts:
        return []
    runs = _runs(base, delivery, report)
    if len(runs) < LOOKED_AT or delivery.only_if:
        return []
    apart = min(b[0] - a[0] for a, b in itertools.pairwise(runs))
    fitting = next((words for most, words in FITTING if apart <= most), "last year")
    same = sum(a[1].exact == b[1].exact for a, b in itertools.pairwise(runs))
    if same and fitting != report.period:
        return [
            f"{same + 1} of the next {LOOKED_AT} runs tell of the same period ({runs[0][1].words}); {fitting!r} fits"
        ]
    lost = [(a, b) for a, b in itertools.pairwise(runs) if b[1].start > a[1].end]
    if lost and fitting != report.period:
        day = timedelta(days=1)
        first = lost[0][0][1].end.date(), (lost[0][1][1].start - day).date()
        return [f"no run tells of {first[0]} to {first[1]}, nor of such times between later runs; {fitting!r} fits"]
    return []


def _runs(base: Base, delivery: Delivery, report: Report) -> list[tuple[datetime, Stretch]]:
    """The next runs, each with the period it tells of."""
    place = base.place()
    zone_name = report.zone or place.calendar.zone_name
    found: list[tuple[datetime, Stretch]] = []
    at = timetable.next_run(base, delivery, base.now())
    while at and len(found) < LOOKED_AT:
        try:
            found.append((at, period_at(report.period, zone_name, place, at)))
        except FermataError:
            return []
        at = timetable.next_run(base, delivery, at)
    return found
