"""What a viewer of groups may ask: figures that add up, by the fields of the declared cube, filtered by them, over
whole units of its grain.

Whatever such a viewer sees is a sum of cells of that one cube, each of enough people. So no two answers, taken
together, tell of fewer.
"""

from __future__ import annotations

from datetime import datetime

from fermata.analysis.derive import unpaired
from fermata.analysis.measures import Measure
from fermata.analysis.plan import Plan, Strand
from fermata.errors import RequestError
from fermata.reports.compile.access import Cube
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.timeline import Stretch
from fermata.timeline.zones import day_start, local

__all__ = ["admit"]

UNITS = {  # grain -> the calendar units whose edges are edges of it
    "day": ("day", "week", "month", "quarter", "year", "fiscal quarter", "fiscal year", "weekday"),
    "week": ("week",),
    "month": ("month", "quarter", "year"),
    "quarter": ("quarter", "year"),
    "year": ("year",),
}
ADDED = ("count", "time", "total", "mean")  # measures whose parts add up, or that are worked out from such
LEFT_OUT = ("compare", "top", "zero_rows", "hours", "rounding", "date_field", "as_known")


def admit(report: Report, plan: Plan, place: Workplace) -> None:
    """Raises RequestError for a table of figures that is not made of cells of the viewer's cube."""
    view = place.view
    who = f"{view.words}, who sees figures of {view.smallest} people or more"
    for key in LEFT_OUT:
        if getattr(report, key) or any(c.hours for c in report.columns if key == "hours"):
            raise RequestError(f"{key} could tell of groups of fewer than {view.smallest} people; leave it out")
    if report.zone and report.zone != place.calendar.zone_name:
        raise RequestError(f"another zone than {place.calendar.zone_name} is not for {who}: its days are other groups")
    for dimension in plan.dimensions:
        known = UNITS[view.cube.grain] if dimension.calendar else view.cube.by
        if dimension.name not in known:
            raise RequestError(
                f"by {dimension.name} is not for {who}: by {_named(view.cube)}, in units of "
                f"{', '.join(UNITS[view.cube.grain])}"
            )
    for strand in plan.strands:
        _strand(strand, view.cube, who)
    _whole_units(plan.stretch, view.cube.grain, plan.strands[0].covers, who)


def _strand(strand: Strand, cube: Cube, who: str) -> None:
    schema = strand.schema
    if "user" not in schema.by_name:
        raise RequestError(f"{schema.name} does not tell whose its events are, so nothing of it is for {who}")
    for condition in strand.selection.conditions:
        by_itself = condition.field == "pairing" and condition.values == unpaired(schema.derivation)
        if condition.field not in cube.only and not (by_itself and condition in strand.selection.without):
            allowed = ", ".join(cube.only) or "nothing"
            raise RequestError(f"a filter on {condition.field} is not for {who}: they may filter by {allowed}")
    for name in cube.fields:
        if name in schema.by_name and schema.by_name[name].type == "tags":
            raise RequestError(f"{name} holds several values, so groups of it overlap; it cannot be part of a cube")
    for _, measure in strand.measures:
        _measure(measure, who)


def _measure(measure: Measure, who: str) -> None:
    inner = measure.base or measure
    if inner.name not in ADDED or measure.name not in (*ADDED, "share"):
        raise RequestError(f"{measure} is not for {who}: of groups there are {', '.join(ADDED)} and share")


def _whole_units(stretch: Stretch, grain: str, covers: tuple[datetime, datetime] | None, who: str) -> None:
    """Raises RequestError for a period that cuts a unit of the grain in which there are events."""
    calendar = stretch.calendar
    first, last = covers or (stretch.start, stretch.end)
    for edge, beyond in ((stretch.start, stretch.start <= first), (stretch.end, stretch.end >= last)):
        at = calendar.floor(local(edge, calendar.zone).date(), grain)
        if not beyond and day_start(at, calendar.zone) != edge:
            raise RequestError(f"a period that cuts a {grain} is not for {who}; ask for whole {grain}s")


def _named(cube: Cube) -> str:
    return ", ".join(cube.by) or "nothing"
