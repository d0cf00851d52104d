"""The parts of a page: the report each stands for, with what it has from its page."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from fermata.analysis.filters import Selection
from fermata.errors import RequestError
from fermata.reports.compile.binding import bound
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.parts import EVERYWHERE, WHOLE
from fermata.reports.definition.report import Part, Report

__all__ = ["applies", "not_narrowed", "resolved", "whole"]


def resolved(report: Report, part: Part, place: Workplace) -> Report:
    """The report that a part of a page stands for: the one it names or its own keys, with the page's where it has none.
    Of the page's filters it has those that it can apply (`not_narrowed` names the others).
    """
    bare = _bare(report, part, place)
    more = {
        key: tuple(c for c in getattr(report, key) if applies(key, c, bare, place)) + getattr(bare, key)
        for key in ("only", "without", "any_of")
    }
    return bare.changed(**more) if any(getattr(report, key) for key in more) else bare


def not_narrowed(report: Report, part: Part, place: Workplace) -> list[str]:
    """The filters of a page, in words, that a part of it cannot apply."""
    bare = _bare(report, part, place)
    chosen = [(key, c) for key in ("only", "without", "any_of") for c in getattr(report, key)]
    found = []
    for key, one in chosen:
        if not applies(key, one, bare, place):
            chosen_alone: dict[str, Any] = {key: (one,)}
            found.append(Selection(**chosen_alone).steps()[0][0])
    return found


def applies(key: str, one: Any, bare: Report, place: Workplace) -> bool:
    """Whether a part has what a filter of its page, a condition or several alternatives, is about."""
    wanted = [c.field for c in (one if key == "any_of" else (one,))]
    if bare.register_name:
        register = place.registers.tables[bare.register_name]
        return all(f in ("id", "label", *register.names, *register.links, *register.attributes) for f in wanted)
    if bare.ask and bare.ask.what in WHOLE:
        return False
    if bare.ask and bare.ask.what in EVERYWHERE and not (bare.log or bare.kind):
        return any(_has(place, log, wanted) for log in place.logs)
    try:
        found = bound(bare.changed(**{key: (*getattr(bare, key), one)}), place)
    except RequestError:
        return False
    return all(_has(place, log, wanted) for log in dict.fromkeys((found.log, *(c.log for c in found.columns))) if log)


def _has(place: Workplace, log: str, wanted: Iterable[str]) -> bool:
    """Whether a log has all fields; what every log has of itself included."""
    if log not in place.schemas:
        return True  # what is wrong is said where it is run
    schema = place.registers.widened(place.schemas[log])
    known = {*schema.by_name, "start", *(("finish", "duration") if schema.spans else ())}
    return all(f in known for f in wanted)


def _bare(report: Report, part: Part, place: Workplace) -> Report:
    """The report of a part without the page's filters."""
    own = part.own
    if part.report:
        named = place.definition(part.report)
        if named.parts:  # it could hold this page
            raise RequestError(f"{part.report} is a page itself; name the reports it holds")
        own = {**_given(named), **own}
    shared: dict[str, Any] = {}
    if report.period != "all" and "period" not in part.own:
        shared["period"] = report.period
    for key in ("zone", "as_known"):
        if getattr(report, key) and key not in part.own:
            shared[key] = getattr(report, key)
    if not ({"log", "kind", "register", "ask"} & own.keys()) or (
        own.get("ask") and not (own.get("log") or own.get("kind"))
    ):
        own = {**{k: getattr(report, k) for k in ("log", "kind", "made")}, **own}
    return Report.of(**{**own, **shared})


def whole(report: Report, place: Workplace) -> Report:
    """The same report with nothing in it that leads elsewhere: the parts of a page that are reports by name in full."""
    if not report.parts:
        return report
    parts = []
    for part in report.parts:
        try:
            found = resolved(report, part, place)
        except RequestError:  # as much an answer as any other: the page says why there is none
            parts.append(part)
            continue
        named = {"about": ""} if part.report else {}  # what a named report is about stands below its title
        parts.append(Part.of(**{**_given(found), **named, "title": part.title or found.title}))
    return report.changed(parts=tuple(parts), only=(), without=(), any_of=())


def _given(report: Report) -> dict[str, Any]:
    fields = type(report).model_fields
    return {f.alias or n: getattr(report, n) for n, f in fields.items() if n in report.model_fields_set}
