"""The answer to any report: figures, events, a register, a question, or a page of several."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from datetime import datetime
from typing import Any

from fermata.analysis.filters import Condition
from fermata.errors import RequestError
from fermata.reports import looking, noticing, pages, trails
from fermata.reports.binding import bound
from fermata.reports.listing import Layout, listing
from fermata.reports.model import Report
from fermata.reports.registers import register_table
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.reports.run import Workplace, run
from fermata.timeline.periods import Period

__all__ = ["answer"]


def answer(
    report: Report, place: Workplace, now: datetime, *, explained: bool = False, limit: int | None = None
) -> Answer:
    """What the report asks for, at the instant `now` (aware). Raises UnknownName, RequestError, DataError.

    `limit` is the most events of a listing. Kinds of log are bound to logs of the workspace first.
    """
    report = _own(report, place)
    _chosen(report)
    if report.parts:
        return pages.page(report, place, now, _part)
    place.view.narrows(report)
    notes: list[str] = []
    report = bound(report, place, notes)
    notes = list(dict.fromkeys(notes))
    if report.each:
        return pages.each(report, place, now, _part)
    found: Answer = _asked(report, place, now, explained, limit)
    if not notes:
        return found
    if isinstance(found, RunResult):
        return dataclasses.replace(found, caveats=(*notes, *found.caveats))
    return dataclasses.replace(found, notes=(*notes, *found.notes))


def _part(report: Report, place: Workplace, now: datetime) -> Any:
    return answer(report, place, now)


def _own(report: Report, place: Workplace) -> Report:
    """The report with the viewer in the place of the user it asks for, where they see only their own and named nobody."""
    scope = place.view.scope
    if (
        "user" not in report.asks_for
        or not scope
        or scope.field != "user"
        or any(c.field == "user" for c in report.only)
    ):
        return report
    return report.changed(only=(*report.only, Condition("user", "is", scope.values)))


def _chosen(report: Report) -> None:
    """Raises RequestError while a field the run must name is not named."""
    named = {c.field for c in (*report.only, *(c for group in report.any_of for c in group))}
    if missing := [n for n in report.asks_for if n not in named]:
        what = " and ".join(missing)
        raise RequestError(
            f"{report.title or 'this report'}: say which {what}: --only {missing[0]}=NAME (candidates for part of a name: fermata find PART)"
        )


def _asked(report: Report, place: Workplace, now: datetime, explained: bool, limit: int | None) -> Any:
    if report.ask and report.ask.what == "trail":
        return _trail(report, place, now, limit)
    if report.ask:
        return ASKS[report.ask.what](report, place, now)
    if report.register_name:
        return register_table(report, place, now)
    if report.listing:
        shown = report.listing
        fields = (*shown.fields, *(f for f in shown.second if f not in shown.fields))
        wanted = fields if shown.fields else ()
        layout = Layout(wanted, shown.sort, 0, shown.numbers, shown.totals, shown.second, shown.most)
        return listing(report, place, now, limit, layout)
    return run(report, place, now, explained=explained)


def _inside(report: Report, place: Workplace, now: datetime) -> Records:
    ask, at = report.ask, now
    assert ask
    if report.period != "all":
        at = min(now, Period.parse(report.period, place.calendar).resolve(now).end)
    return looking.inside_now(report, place, now, at, opening=ask.opening, closing=ask.closing, back=ask.back)


def _contacts(report: Report, place: Workplace, now: datetime) -> Records:
    assert report.ask
    person, others = named(report, "user")
    return looking.contacts(report.changed(only=others), place, now, person, within=report.ask.within, at=report.ask.at)


def _unusual(report: Report, place: Workplace, now: datetime) -> Records:
    ask = report.ask
    assert ask
    return looking.unusual(report, place, now, unit=ask.unit, history=ask.history, factor=ask.factor)


def _trail(report: Report, place: Workplace, now: datetime, limit: int | None) -> Page:
    if not report.only or report.only[0].kind != "is":
        raise RequestError("a trail needs whom or what to follow: --only user=NAME, device=NAME, place=NAME ...")
    first = report.only[0]
    return trails.trace(place, now, str(first.values[0]), field=first.field, report=report, limit=limit)


def named(report: Report, field: str) -> tuple[str, tuple[Condition, ...]]:
    """The one value the filters give a field, and the other filters. Raises RequestError."""
    found = [c for c in report.only if c.field == field]
    if len(found) != 1 or found[0].kind != "is" or len(found[0].values) != 1:
        raise RequestError(f"{report.title or 'this question'}: name one {field} exactly: --only {field}=NAME")
    return str(found[0].values[0]), tuple(c for c in report.only if c is not found[0])


ASKS: dict[str, Callable[[Report, Workplace, datetime], Any]] = {
    "inside": _inside,
    "contacts": _contacts,
    "unusual": _unusual,
    "attention": noticing.attention,
    "edits": trails.edits,
    "logs": noticing.covered,
    "cannot": noticing.cannot,
    "unresolved": noticing.unresolved,
}
