"""From a definition to a request: who may ask is decided, kinds of log are bound, periods are made absolute, plans are
made.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from fermata.analysis.filters import Condition
from fermata.analysis.plan import Cell
from fermata.errors import RequestError
from fermata.notes import Note
from fermata.reports import requests
from fermata.reports.compile import cube
from fermata.reports.compile.binding import bound
from fermata.reports.compile.parts import not_narrowed, resolved
from fermata.reports.compile.resolve import no_events, resolve, stretch_over
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.parts import WHOLE, Listing
from fermata.reports.definition.report import Report
from fermata.reports.requests import Request
from fermata.reports.result import RunResult
from fermata.timeline import Stretch
from fermata.timeline.periods import Period
from fermata.timeline.zones import local, zone

__all__ = ["PLAIN", "Asking", "behind", "compiled", "listed"]

PLAIN = ("start", "finish", "duration", "inside", "file", "record")  # what every listing has
SHAPING = (
    "by", "across", "zero_rows", "no_others", "sort", "top", "hours", "rounding", "date_field", "compare",
    "full_period", "rows",
    "checks", "warn", "measures", "as_known",
    "only", "without", "any_of", "columns", "totals", "chart", "period", "zone",
)  # fmt: skip  # keys that decide what figures there are and how they are drawn
FILTERS = ("only", "without", "any_of")
DURING = ("period", "zone")
HONOURED: dict[str, tuple[str, ...]] = {  # what is asked -> those of them that it goes by
    "page": (*FILTERS, *DURING, "as_known"),
    "listing": (*FILTERS, *DURING, "hours", "rounding", "date_field", "as_known", "chart"),
    "register": (*FILTERS, "by", "zone"),
    "inside": (*FILTERS, *DURING, "hours", "as_known"),
    "contacts": (*FILTERS, *DURING, "hours", "as_known"),
    "unusual": (*FILTERS, *DURING, "by", "columns", "hours", "rounding", "date_field", "as_known"),
    "trail": (*FILTERS, *DURING, "as_known", "chart"),
    "edits": (*FILTERS, *DURING),
    "unresolved": (*FILTERS, *DURING),
    "attention": DURING,
    "logs": (),
    "cannot": (),
}
SHAPES = {"parts": "page", "register_name": "register", "listing": "listing"}  # where a report has that
WHAT = {"page": "a page", "listing": "a list of events", "register": "a register"}
OVER_LOGS = {  # questions to all logs, which need nothing but a period
    "attention": requests.Attention,
    "edits": requests.Edits,
    "unresolved": requests.Unresolved,
}
KINDS: dict[str, type[Request]] = {
    **OVER_LOGS, "inside": requests.Presence, "contacts": requests.Contacts, "unusual": requests.Unusual,
    "trail": requests.Trail,
    "logs": requests.Coverage, "cannot": requests.Limits,
}  # fmt: skip


@dataclass(frozen=True)
class Asking:
    """What a call says beside the definition: how many rows at most, how many to pass over, whether filters are to be
    explained, an instant for presence, and whom a trail follows, by what kind of name.
    """

    limit: int | None = None
    skip: int = 0
    explained: bool = False
    at: datetime | None = None
    name: str = ""
    field: str = ""


def compiled(
    report: Report, place: Workplace, now: datetime, asking: Asking | None = None, *, part: bool = False
) -> Request:
    """The request that the report is at the instant `now` (aware). A `part` of a page was allowed with its page.

    Raises RequestError for what the workspace's viewer may not ask, what cannot be answered, and keys without effect;
    UnknownName.
    """
    asking = asking or Asking()
    view = place.view
    asked = _own(report, place)
    if not asking.name:
        _chosen(asked)
    kind = _kind(asked)
    view.admit(kind.shows, asked, part=part)
    _unused(asked, part=part)
    if kind is requests.Page:
        return _page(asked, place, now)
    notes: list[Note] = []
    asked = bound(asked, place, notes)
    given: dict[str, Any] = {"notes": tuple(dict.fromkeys(notes)), "limit": asking.limit}
    if kind is requests.Each:
        return requests.Each(asked, now, view.digest, _stretch(asked, place, now), **given)
    if kind is requests.RegisterList:
        day = _day(asked.as_of) if asked.as_of else local(now, zone(asked.zone or place.calendar.zone_name)).date()
        rows = place.registers.register(asked.register_name).digest
        return requests.RegisterList(asked, now, view.digest, day, rows, **given)
    if kind is requests.Listing:
        return requests.Listing(asked, now, view.digest, listed(asked, place, now), **given, skip=asking.skip)
    if kind is requests.Figures:
        plan = resolve(asked, place, now)
        if view.smallest:
            cube.admit(asked, plan, place)
        return requests.Figures(asked, now, view.digest, plan, **given, explained=asking.explained)
    return _question(kind, asked, place, now, asking, given)


def behind(result: RunResult, cell: Cell, place: Workplace, limit: int | None = None) -> requests.Behind:
    """The request for the events behind a figure of a result. Raises RequestError."""
    place.view.admit("events behind a figure")
    return requests.Behind(result.report, result.context.made_at, place.view.digest, result.plan, cell, limit=limit)


def listed(report: Report, place: Workplace, now: datetime) -> Any:
    """The plan of a listing: names are resolved in all fields of the log and in those the listing names."""
    shown = report.listing or Listing()
    named = [*shown.fields, *shown.second, *(s.removeprefix("-") for s in shown.sort)]
    return resolve(report, place, now, listed=[n for n in named if n not in PLAIN])


def _kind(report: Report) -> type[Request]:
    """Which kind of request a report is."""
    if report.parts:
        return requests.Page
    if report.each:
        return requests.Each
    if report.ask:
        return KINDS[report.ask.what]
    if report.register_name:
        return requests.RegisterList
    return requests.Listing if report.listing else requests.Figures


def _own(report: Report, place: Workplace) -> Report:
    """The report with the viewer in the place of the user it asks for, where they see only their own and named
    nobody.
    """
    scope = place.view.scope
    if (
        "user" not in report.must_name
        or not scope
        or scope.field != "user"
        or any(c.field == "user" for c in report.only)
    ):
        return report
    return report.changed(only=(*report.only, Condition("user", "is", scope.values)))


def _chosen(report: Report) -> None:
    """Raises RequestError while a field the run must name is not named."""
    named = {c.field for c in (*report.only, *(c for group in report.any_of for c in group))}
    if missing := [n for n in report.must_name if n not in named]:
        what = " and ".join(missing)
        raise RequestError(
            f"{report.title or 'this report'}: say which {what}: --only {missing[0]}=NAME (candidates for part of a "
            "name: fermata register find PART)"
        )


def _unused(report: Report, *, part: bool) -> None:
    """Raises RequestError for a key that what is asked cannot go by: it would be without effect. A part has the period
    and zone of its page.
    """
    named = report.title or report.log or report.register_name or "this report"
    shape: str = report.ask.what if report.ask else ""
    shape = shape or next((s for k, s in SHAPES.items() if getattr(report, k)), "")
    if not shape:
        if report.full_period and not report.compare:
            raise RequestError(f"{named}: full_period has no effect without compare; leave it out")
        return
    fields = type(report).model_fields
    for key in SHAPING:
        if key in HONOURED[shape] or (part and key in DURING):
            continue
        if getattr(report, key) != fields[key].get_default(call_default_factory=True):
            what = WHAT.get(shape, "this question") + (", which looks at whole logs" if shape in WHOLE else "")
            raise RequestError(f"{named}: {key} has no effect on {what}; leave it out")
    if shape == "listing" and report.charted[0] not in ("", "none", "timeline"):
        raise RequestError(f"{named}: a list of events is drawn as a timeline, not as {report.charted[0]}")


def _question(
    kind: type[Request], report: Report, place: Workplace, now: datetime, asking: Asking, given: dict[str, Any]
) -> Request:
    """A question that is no table of figures."""
    seen = place.view.digest
    if kind is requests.Presence:
        at = asking.at or now
        if report.period != "all" and asking.at is None:
            at = min(now, Period.parse(report.period, place.calendar).resolve(now).end)
        return requests.Presence(report, now, seen, at, **given)
    if kind is requests.Contacts:
        person, others = (asking.name, report.only) if asking.name else _named(report, "user")
        report = report.changed(only=others)
        return requests.Contacts(report, now, seen, _stretch(report, place, now), person, **given)
    if kind is requests.Trail:
        name, field = asking.name, asking.field
        if not name:
            if not report.only or report.only[0].kind != "is" or len(report.only[0].values) != 1:
                raise RequestError(
                    "a trail needs the one it is to follow: --only user=NAME, device=NAME, place=NAME ..."
                )
            name, field = str(report.only[0].values[0]), report.only[0].field
            report = report.changed(only=report.only[1:])
        return requests.Trail(report, now, seen, stretch_over(report, place, place.logs, now), name, field, **given)
    if kind is requests.Unusual:
        return requests.Unusual(report, now, seen, _stretch(report, place, now), **given)
    if kind is requests.Edits and not any(m.key for m in place.logs.values()):
        raise RequestError(
            "no log has a key, so no version of an entry can be told from another; key = [...] in [logs.NAME]"
        )
    if kind in OVER_LOGS.values():
        made: Any = kind
        found: Request = made(report, now, seen, stretch_over(report, place, place.logs, now), **given)
        return found
    return kind(report, now, seen, **given)


def _stretch(report: Report, place: Workplace, now: datetime) -> Stretch:
    """The report's period over its own log."""
    extents = []
    if report.log:
        if not (extent := place.extent(report.log)):
            raise no_events(place.schemas[report.log].stored_logs)
        extents = [(extent[0], place.until(report.log))]
    calendar = place.calendar
    if report.zone:
        calendar = dataclasses.replace(calendar, zone_name=report.zone)
    return Period.parse(report.period, calendar).resolve(now, extents[0] if extents else None)


def _named(report: Report, field: str) -> tuple[str, tuple[Condition, ...]]:
    """The one value the filters give a field, and the other filters. Raises RequestError."""
    found = [c for c in report.only if c.field == field]
    if len(found) != 1 or found[0].kind != "is" or len(found[0].values) != 1:
        raise RequestError(f"{report.title or 'this question'}: name one {field} exactly: --only {field}=NAME")
    return str(found[0].values[0]), tuple(c for c in report.only if c is not found[0])


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise RequestError(f"as of {text!r} is not a date; write 2026-03-01") from None


def _title(name: str, place: Workplace) -> str:
    """The title of a report; "" where there is none."""
    try:
        return place.definition(name).title if name else ""
    except RequestError:
        return ""


def _page(report: Report, place: Workplace, now: datetime) -> requests.Page:
    """The parts of a page, each compiled on its own; one that this workspace cannot answer says why. Raises the error
    of the first part where none can be asked, and for a filter that no part can apply.
    """
    parts: list[requests.PagePart] = []
    wrong: list[RequestError] = []
    aside: list[set[str]] = []
    for number, part in enumerate(report.parts, 1):
        title = part.title or _title(part.report, place) or part.report or f"Part {number}"
        about = part.about
        try:
            asked = resolved(report, part, place)
            about = asked.about if part.report else part.about
            request = compiled(asked, place, now, part=True)
            left = tuple(not_narrowed(report, part, place))
        except RequestError as e:
            wrong.append(e)
            parts.append(requests.PagePart(title, None, str(e), about))
            continue
        aside.append(set(left))
        parts.append(requests.PagePart(title, request, "", about, left))
    if len(wrong) == len(report.parts):
        raise wrong[0]
    if nowhere := set.intersection(*aside):
        raise RequestError(f"{report.title or 'this page'}: no part of it can be narrowed by '{min(nowhere)}'")
    return requests.Page(report, now, place.view.digest, tuple(parts))
