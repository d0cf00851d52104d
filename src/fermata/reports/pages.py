"""Pages: several reports under one title, one for each value of a field, and the verdict on what is expected of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from datetime import datetime
from typing import Any

from fermata.analysis.filters import Condition
from fermata.errors import RequestError
from fermata.reports.listing import totals
from fermata.reports.model import Part, Report
from fermata.reports.registers import context
from fermata.reports.result import Context, Page, PagePart, Records, RunResult
from fermata.reports.run import Workplace, run
from fermata.reports.spec import ColumnSpec
from fermata.timeline.periods import Period

__all__ = ["each", "page", "resolved", "whole"]

Answering = Callable[[Report, Workplace, datetime], Any]
MOST_PARTS = 500
EVERY = 10**12  # a listing that is taken apart is not cut, and not called too long


def resolved(report: Report, part: Part, place: Workplace) -> Report:
    """The report that a part of a page stands for: the one it names or its own keys, with the page's where it has none."""
    own = part.own
    if part.report:
        own = {**_given(place.definition(part.report)), **own}
    shared: dict[str, Any] = {}
    if report.period != "all" and "period" not in part.own:
        shared["period"] = report.period
    for key in ("zone", "known"):
        if getattr(report, key) and key not in part.own:
            shared[key] = getattr(report, key)
    if not ({"log", "kind", "register", "ask"} & own.keys()) or (
        own.get("ask") and not (own.get("log") or own.get("kind"))
    ):
        own = {**{k: getattr(report, k) for k in ("log", "kind", "made")}, **own}
    for key in ("only", "without", "any_of"):
        if getattr(report, key) and not own.get("register"):
            shared[key] = getattr(report, key) + tuple(own.get(key, ()))
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


def page(report: Report, place: Workplace, now: datetime, answering: Answering) -> Page:
    """The parts of a page, each answered on its own; one that this workspace cannot answer says why. Raises the error of the
    first part where none can be answered.
    """
    parts, wrong = [], []
    for number, part in enumerate(report.parts, 1):
        title = part.title or part.report or f"Part {number}"
        try:
            asked = resolved(report, part, place)
            if asked.parts:
                raise RequestError(f"{part.report or title} is a page itself; name the reports it holds")
            item = answering(asked, place, now)
        except RequestError as e:
            wrong.append(e)
            parts.append(PagePart(title, None, str(e), "could not be answered" if part.expect else None))
            continue
        if isinstance(item, Page):
            parts += list(item.parts)
            continue
        parts.append(
            PagePart(item.context.title, item, asked.about if part.report else part.about, judged(asked, item))
        )
    if len(wrong) == len(report.parts):
        raise wrong[0]
    head = _head(report, parts, place, now)
    return Page(head.title, head, tuple(parts), _verdict(parts))


def _head(report: Report, parts: list[PagePart], place: Workplace, now: datetime) -> Context:
    words = report.period
    if report.period != "all":
        words = Period.parse(report.period, place.calendar).resolve(now).words
    found = [p.item.context for p in parts if p.item is not None]
    same = {c.period for c in found}
    title = report.title or "Page"
    return context(report.zone or place.calendar.zone_name, now, title, words if len(same) != 1 else found[0].period)


def judged(report: Report, item: RunResult | Records) -> str | None:
    """What is wrong with a part by what is expected of it; "" for nothing, None where nothing is expected."""
    if report.expect == "no rows":
        rows = item.total if isinstance(item, Records) else len(item.table.body)
        return f"{rows:,} found" if rows else ""
    if report.expect == "within limits":
        notes = item.notes if isinstance(item, Records) else item.caveats
        marked = [n for n in notes if n.startswith(("LIMIT", "DOES NOT HOLD", "RECORDED BALANCE"))]
        return "; ".join(n.partition(":")[0] for n in marked)
    return None


def _verdict(parts: list[PagePart]) -> str:
    asked = [p for p in parts if p.verdict is not None]
    if not asked:
        return ""
    wrong = [p for p in asked if p.verdict]
    if not wrong:
        return f"in order: all {len(asked)} points are as they should be"
    named = "; ".join(f"{p.title} ({p.verdict})" for p in wrong)
    return f"NOT IN ORDER: {len(wrong)} of {len(asked)} points: {named}"


def each(report: Report, place: Workplace, now: datetime, answering: Answering) -> Page:
    """The report once for every value of a field in its period, the values in their order; events without one come last."""
    parts = (
        _listed(report, place, now, answering)
        if report.listing and not report.listing.most
        else _run(report, place, now, answering)
    )
    if not parts:
        raise RequestError(f"{report.title or report.log}: there is nothing for any {report.each} in this period")
    head = _head(report, parts, place, now)
    return Page(head.title, head, tuple(parts), _verdict(parts), breaks=True)


def _run(report: Report, place: Workplace, now: datetime, answering: Answering) -> list[PagePart]:
    """One run for each value."""
    asked = Report(
        log=report.log, period=report.period, zone=report.zone, known=report.known, only=report.only, without=report.without,
        any_of=report.any_of, by=(report.each,), columns=(ColumnSpec(measure="count"),), totals=False, hours=report.hours,
    )  # fmt: skip
    values = [row.keys[0] for row in run(asked, place, now).table.body]
    if len(values) > MOST_PARTS:
        raise RequestError(f"{len(values):,} parts, one for each {report.each}; narrow it to {MOST_PARTS} at most")
    parts = []
    for value in sorted(values, key=_last_if_none):
        own = Condition(report.each, "empty") if value is None else Condition(report.each, "is", (value,))
        by = tuple(d for d in report.by if d != report.each)
        changed = report.changed(each="", only=(*report.only, own), title=_titled(report, value), by=by)
        item = answering(changed, place, now)
        parts.append(PagePart(item.context.title, item, "", judged(changed, item)))
    return parts


def _listed(report: Report, place: Workplace, now: datetime, answering: Answering) -> list[PagePart]:
    """The parts of a listing, which is run once and taken apart."""
    listing = report.listing
    assert listing
    fields = (
        listing.fields
        if not listing.fields or report.each in (*listing.fields, *listing.second)
        else (*listing.fields, report.each)
    )
    whole = answering(
        report.changed(
            each="",
            listing=listing.model_copy(update={"fields": fields, "numbers": False, "totals": False, "most": EVERY}),
        ),
        place,
        now,
    )
    at = [c[0] for c in whole.columns].index(report.each)
    keep = [i for i, c in enumerate(whole.columns) if i != at or report.each in listing.fields]
    taken: dict[Any, list[Any]] = {}
    for row in whole.rows:
        taken.setdefault(row[at], []).append(tuple(row[i] for i in keep))
    columns = tuple(whole.columns[i] for i in keep)
    parts = []
    for value in sorted(taken, key=_last_if_none):
        rows = taken[value]
        told = [totals(columns, rows)] if listing.totals else []
        if listing.numbers:
            rows = [(n, *row) for n, row in enumerate(rows, 1)]
        own = f"only {Condition(report.each, 'is', (value,)) if value is not None else Condition(report.each, 'empty')}"
        filters = own if whole.context.filters == "all events" else f"{whole.context.filters}; {own}"
        head = dataclasses.replace(whole.context, title=_titled(report, value), filters=filters)
        heads = ((("number", "No.", "number", "", 0), *columns)) if listing.numbers else columns
        item = dataclasses.replace(
            whole,
            title=head.title,
            context=head,
            columns=heads,
            rows=tuple(rows),
            total=len(rows),
            notes=(*told, *whole.notes),
        )
        parts.append(PagePart(head.title, item, "", judged(report, item)))
    return parts


def _titled(report: Report, value: Any) -> str:
    return f"{report.title or report.log}: {value if value is not None else f'without {report.each}'}"


def _last_if_none(value: Any) -> tuple[bool, str]:
    return value is None, str(value)
