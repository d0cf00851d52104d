"""Pages: several reports under one title, one for each value of a field, and the verdict on
what is expected of them.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from datetime import datetime
from typing import Any

from fermata.analysis.explain import any_kept
from fermata.analysis.filters import Condition
from fermata.errors import RequestError
from fermata.notes import Note, failed
from fermata.reports import requests
from fermata.reports.compile.binding import bound
from fermata.reports.compile.parts import applies
from fermata.reports.compile.request import compiled
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report
from fermata.reports.execute.answer import execute
from fermata.reports.execute.listing import totals
from fermata.reports.execute.register_list import context
from fermata.reports.result import UNEXAMINED, ColumnDef, Context, Page, PagePart, Records, RunResult
from fermata.timeline.periods import Period

__all__ = ["each", "page"]

MOST_PARTS = 500
EVERY = 10**12  # a listing that is taken apart is not cut, and not called too long


def page(request: requests.Page, place: Workplace) -> Page:
    """The parts of a page, each answered on its own; one that this workspace cannot answer says why. Raises the error
    of the first part where none can be answered.
    """
    with place.engine.reading_once():
        return _page(request, place)


def _page(request: requests.Page, place: Workplace) -> Page:
    report = request.report
    parts: list[PagePart] = []
    wrong: list[RequestError] = []
    aside: list[set[str]] = []
    for given, part in zip(request.parts, report.parts, strict=True):
        if given.asked is None:
            wrong.append(RequestError(given.why))
            parts.append(PagePart(given.title, None, given.why, "could not be answered" if part.expect else None))
            continue
        try:
            item = execute(given.asked, place)
        except RequestError as e:
            wrong.append(e)
            parts.append(PagePart(given.title, None, str(e), "could not be answered" if part.expect else None))
            continue
        aside.append(set(given.left))
        left = [
            Note(f"not narrowed by '{w}', which this part cannot apply: it tells of all", "filter") for w in given.left
        ]
        if isinstance(item, Page):
            notes = (*left, *item.notes)
            parts += [dataclasses.replace(p, item=noted(p.item, notes) if p.item else None) for p in item.parts]
            continue
        item, asked = noted(item, left), given.asked.report
        verdict = judged(asked, item)
        if verdict is not None and not examined(report, asked, place, request.now):
            verdict = UNEXAMINED
        parts.append(PagePart(item.context.title, item, given.about, verdict))
    if len(wrong) == len(report.parts):
        raise wrong[0]
    if nowhere := set.intersection(*aside):
        raise RequestError(f"{report.title or 'this page'}: no part of it can be narrowed by '{min(nowhere)}'")
    head = _head(request, parts, place)
    return Page(head.title, head, tuple(parts), _verdict(parts), layout=report.layout)


def noted(item: RunResult | Records, notes: Iterable[Note]) -> RunResult | Records:
    """The answer with notes in front of its own."""
    return dataclasses.replace(item, notes=tuple(dict.fromkeys((*notes, *item.notes))))


def examined(report: Report, asked: Report, place: Workplace, now: datetime) -> bool:
    """Whether a check had anything to look at: an event in its period that the page's own filters keep, whatever those
    of the check.
    """
    if asked.register_name:
        return bool(place.registers.register(asked.register_name).versions)
    everywhere = asked.ask and not (asked.log or asked.kind)
    logs = [bound(asked, place).log] if not everywhere else [n for n in place.logs if place.extent(n)]
    for log in logs:
        chosen: dict[str, Any] = {
            key: tuple(c for c in getattr(report, key) if applies(key, c, Report(log=log), place))
            for key in ("only", "without", "any_of")
        }
        whole = Report(log=log, period=asked.period, zone=asked.zone, as_known=asked.as_known, **chosen)
        plan = resolve(whole, place, now)
        strand, source = plan.strands[0], place.source(plan)
        if any_kept(plan, strand, source):
            return True
    return False


def _head(request: requests.Page | requests.Each, parts: list[PagePart], place: Workplace) -> Context:
    report, words = request.report, request.report.period
    if report.period != "all":
        words = Period.parse(report.period, place.calendar).resolve(request.now).words
    found = [p.item.context for p in parts if p.item is not None]
    same = {c.period for c in found}
    title = report.title or "Page"
    zone_name = report.zone or place.calendar.zone_name
    head = context(zone_name, request.now, title, words if len(same) != 1 else found[0].period)
    return dataclasses.replace(head, plan=request.digest)


def judged(report: Report, item: RunResult | Records) -> str | None:
    """What is wrong with a part by what is expected of it; "" for nothing, None where nothing is expected."""
    if report.expect == "no rows":
        rows = item.total if isinstance(item, Records) else item.table.size
        return f"{rows:,} found" if rows else ""
    if report.expect == "within limits":
        notes = item.notes
        return "; ".join(n.partition(":")[0] for n in failed(notes))
    return None


def _verdict(parts: list[PagePart]) -> str:
    """What the checks of a page come to. One that examined nothing is never in order."""
    asked = [p for p in parts if p.verdict is not None]
    if not asked:
        return ""
    wrong = [p for p in asked if p.verdict and p.verdict != UNEXAMINED]
    empty = [p for p in asked if p.verdict == UNEXAMINED]
    told = []
    if wrong:
        named = "; ".join(f"{p.title} ({p.verdict})" for p in wrong)
        told.append(f"NOT IN ORDER: {len(wrong)} of {len(asked)} points: {named}")
    if empty:
        named = "; ".join(p.title for p in empty)
        told.append(f"NOTHING EXAMINED in {len(empty)} of {len(asked)} points: {named}")
    return ". ".join(told) or f"in order: all {len(asked)} points are as they should be"


def each(request: requests.Each, place: Workplace) -> Page:
    """The report once for every value of a field in its period, the values in their order; events without one come
    last.
    """
    report = request.report
    whole = report.listing and not report.listing.most
    parts = _listed(report, place, request.now) if whole else _run(report, place, request.now)
    if not parts:
        raise RequestError(f"{report.title or report.log}: there is nothing for any {report.each} in this period")
    head = _head(request, parts, place)
    return Page(head.title, head, tuple(parts), _verdict(parts), breaks=True)


def _run(report: Report, place: Workplace, now: datetime) -> list[PagePart]:
    """One run for each value."""
    asked = Report(
        log=report.log, period=report.period, zone=report.zone, as_known=report.as_known, only=report.only,
        without=report.without,
        any_of=report.any_of, by=(report.each,), columns=(ColumnSpec(measure="count"),), totals=False,
        hours=report.hours,
    )  # fmt: skip
    values = [row.keys[0] for row in _answered(asked, place, now).table.body]
    if len(values) > MOST_PARTS:
        raise RequestError(f"{len(values):,} parts, one for each {report.each}; narrow it to {MOST_PARTS} at most")
    parts = []
    for value in sorted(values, key=_last_if_none):
        own = Condition(report.each, "empty") if value is None else Condition(report.each, "is", (value,))
        by = tuple(d for d in report.by if d != report.each)
        changed = report.changed(each="", only=(*report.only, own), title=_titled(report, value), by=by)
        item = _answered(changed, place, now)
        parts.append(PagePart(item.context.title, item, "", judged(changed, item)))
    return parts


def _listed(report: Report, place: Workplace, now: datetime) -> list[PagePart]:
    """The parts of a listing, which is run once and taken apart."""
    listing = report.listing
    assert listing
    fields = (
        listing.fields
        if not listing.fields or report.each in (*listing.fields, *listing.second)
        else (*listing.fields, report.each)
    )
    whole = _answered(
        report.changed(
            each="",
            listing=listing.model_copy(update={"fields": fields, "numbers": False, "totals": False, "most": EVERY}),
        ),
        place,
        now,
    )
    at = [c.name for c in whole.columns].index(report.each)
    keep = [i for i, c in enumerate(whole.columns) if i != at or report.each in listing.fields]
    taken: dict[Any, list[Any]] = {}
    for row in whole.rows:
        taken.setdefault(row[at], []).append(tuple(row[i] for i in keep))
    columns = tuple(whole.columns[i] for i in keep)
    parts = []
    for value in sorted(taken, key=_last_if_none):
        rows = taken[value]
        told = [Note(totals(columns, rows), "count")] if listing.totals else []
        if listing.numbers:
            rows = [(n, *row) for n, row in enumerate(rows, 1)]
        own = f"only {Condition(report.each, 'is', (value,)) if value is not None else Condition(report.each, 'empty')}"
        filters = own if whole.context.filters == "all events" else f"{whole.context.filters}; {own}"
        head = dataclasses.replace(whole.context, title=_titled(report, value), filters=filters)
        heads = ((ColumnDef("number", "No.", "number"), *columns)) if listing.numbers else columns
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


def _answered(report: Report, place: Workplace, now: datetime) -> Any:
    """The answer to a part of what was allowed as a whole."""
    return execute(compiled(report, place, now, part=True), place)


def _titled(report: Report, value: Any) -> str:
    return f"{report.title or report.log}: {value if value is not None else f'without {report.each}'}"


def _last_if_none(value: Any) -> tuple[bool, str]:
    return value is None, str(value)
