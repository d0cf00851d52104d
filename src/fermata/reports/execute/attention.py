"""What a reader should look at before the figures: unfinished, stale, changed, unusual, over a limit; and what no log
can tell.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

from fermata.analysis.cells import value
from fermata.analysis.combine import gather
from fermata.analysis.derive import Pairing
from fermata.analysis.identify import opened
from fermata.errors import RequestError
from fermata.kinds import KINDS
from fermata.notes import Note, failed
from fermata.reports.compile.filter_values import narrowable, narrowed_to
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute import survey as surveys
from fermata.reports.execute.answer import answer
from fermata.reports.execute.gaps import gaps
from fermata.reports.execute.register_list import context
from fermata.reports.execute.unresolved import unresolved as names_unresolved
from fermata.reports.execute.unusual import unusual
from fermata.reports.requests import Attention, Coverage, Limits, Unresolved
from fermata.reports.result import ColumnDef, Context, Records
from fermata.timeline import Stretch
from fermata.timeline.words import span, stamp

__all__ = ["attention", "cannot", "covered", "unresolved"]

QUIET = timedelta(days=1)
WATCHED = {  # kind of log -> what of it is held against everybody's own usual
    "door access": ("refused",),
    "logins": ("failed",),
}
RANKS = ("Limit", "Unusual", "Wrong file", "No data", "Changed", "Unfinished", "Rejected", "Gap")  # by consequence
Point = tuple[str, str, int | None, str, str]


def _head(report: Report, stretch: Stretch, now: datetime, title: str) -> Context:
    head = context(stretch.calendar.zone_name, now, report.title or title, stretch.words)
    return dataclasses.replace(head, period_exact=stretch.exact, period_text=stretch.text)


def attention(request: Attention, place: Workplace) -> Records:
    """What needs a look in the report's period, log by log: what, how many, in words, and the command that shows it."""
    report, now, stretch = request.report, request.now, request.stretch
    points: list[Point] = []
    for log in place.schemas:
        points += _unfinished(log, place, now, stretch)
    for log in place.logs:
        points += [
            *_stale(log, place, now, stretch),
            *_rejected(log, place),
            *_changed(log, place, now, stretch),
            *_unusual(log, place, now, stretch),
        ]
    points += _over_limits(place, now, stretch)
    points.sort(key=lambda p: (RANKS.index(p[0]), -(p[2] or 0), p[1]))
    rows = tuple(points)
    head = _head(report, stretch, now, "What needs attention")
    columns: tuple[ColumnDef, ...] = (
        ColumnDef("what", "What"), ColumnDef("log", "Where"), ColumnDef("count", "Count", "number"),
        ColumnDef("words", "In words"), ColumnDef("look", "To look at it", "command"),
    )  # fmt: skip
    notes = [
        Note(
            "looked for: unfinished spans, logs that went quiet, gaps, rejects, changes, one's own unusual "
            "days, limits "
            "of saved reports",
            "scope",
        )
    ]
    if not points:
        notes.insert(0, Note("nothing needs attention", "count"))
    return Records(head.title, head, columns, rows, len(rows), notes=tuple(notes), second=("look",))


def _of(n: int, one: str) -> str:
    """The word for one thing or for several."""
    return one if n == 1 else f"{one}s"


def _count(report: Report, place: Workplace, now: datetime) -> int:
    plan = resolve(report, place, now)
    return value(plan, plan.columns[0], gather(plan, place.source(plan))[()].get(()), None) or 0


def _period(stretch: Stretch) -> str:
    start, end = (t.astimezone(UTC).replace(tzinfo=None).isoformat() for t in (stretch.start, stretch.end))
    return f"{start}Z/{end}Z"


def _unfinished(log: str, place: Workplace, now: datetime, stretch: Stretch) -> Iterator[Point]:
    """Openings without a closing, and spans without a finish."""
    schema = place.schemas[log]
    if place.extent(log) is None:
        return
    period = _period(stretch)
    if isinstance(schema.derivation, Pairing):
        for which, said in (("unfinished", "without a closing"), ("no opening", "that only closed")):
            if n := _count(Report.of(log=log, period=period, only={"pairing": which}), place, now):
                yield (
                    "Unfinished",
                    log,
                    n,
                    said,
                    f"fermata events {log} --only pairing='{which}' --period '{stretch.text}'",
                )
    elif schema.spans and schema.derivation is None:
        plan = resolve(
            Report(log=log, period=period, columns=Report.of(log=log, columns=["count"]).columns), place, now
        )
        engine, table = opened(plan.strands[0], place.source(plan))
        start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (stretch.start, stretch.end))
        here = table.filter((table.start_utc >= start) & (table.start_utc < end) & table.finish_utc.isnull())
        if n := engine.run(here.aggregate(n=here.count())).column(0)[0].as_py():
            yield (
                "Unfinished",
                log,
                n,
                "without a finish, in no total of time",
                f"fermata events {log} --only finish= --period '{stretch.text}'",
            )


def _stale(log: str, place: Workplace, now: datetime, stretch: Stretch) -> Iterator[Point]:
    """A log whose last record lies longer ago than it was ever silent, and gaps in the period."""
    extent = place.extent(log)
    if extent is None:
        yield "No data", log, None, "holds nothing yet", f"fermata import {log}"
        return
    quiet = now - extent[1]
    if quiet > QUIET and stretch.end > extent[1] and quiet > (longest := _longest(log, place)):
        tz = stretch.calendar.zone
        said = (
            f"last record {stamp(extent[1], tz)[:16]}, never before silent for more than "
            f"{span(longest // timedelta(seconds=1) * 1_000_000)}"
        )
        yield "No data", log, None, said, f"fermata import {log}"
    found = [g for g in gaps(log, place) or () if g.start < stretch.end and g.end > stretch.start]
    if found:
        most = max(found, key=lambda g: g.length)
        said = (
            f"{_of(len(found), 'gap')}, the longest from {stamp(most.start, stretch.calendar.zone)[:16]}, "
            f"{span(most.length // timedelta(seconds=1) * 1_000_000)}"
        )
        yield "Gap", log, len(found), said, f"fermata survey {log} --part gaps"


def _longest(log: str, place: Workplace) -> timedelta:
    """The longest time between two starts of a log."""
    import ibis

    plan = resolve(Report(log=log), place, place.until(log))
    engine, table = opened(plan.strands[0], place.source(plan))
    following = table.start_utc.lead().over(ibis.window(order_by=table.start_utc))
    apart = table.select(us=following.delta(table.start_utc, unit="microsecond"))
    return timedelta(microseconds=engine.run(apart.aggregate(us=apart.us.max())).column(0)[0].as_py() or 0)


def _rejected(log: str, place: Workplace) -> Iterator[Point]:
    state = place.counted(log)
    if n := sum(f.rejected for f in state.files.values() if str(f.import_no) not in state.corrected):
        yield (
            "Rejected",
            log,
            n,
            f"{_of(n, 'record')} could not be read as mapped",
            f"fermata survey {log} --part rejects",
        )


def _changed(log: str, place: Workplace, now: datetime, stretch: Stretch) -> Iterator[Point]:
    """Administrators' changes of the period, and versions of entries that were replaced or deleted."""
    schema = place.schemas[log]
    if schema.kind == "changes" and place.extent(log):
        if n := _count(Report(log=log, period=_period(stretch)), place, now):
            yield (
                "Changed",
                log,
                n,
                "changes made by administrators",
                f"fermata report change-trail --period '{stretch.text}'",
            )
    elif place.logs[log].key:
        old, _ = place.versions(log)
        here = [v for v in old if stretch.start <= v["start_utc"].replace(tzinfo=UTC) < stretch.end]
        if here:
            yield (
                "Changed",
                log,
                len(here),
                "replaced or deleted afterwards",
                f"fermata report edited-entries --period '{stretch.text}'",
            )


def _unusual(log: str, place: Workplace, now: datetime, stretch: Stretch) -> Iterator[Point]:
    """People with far more of what is watched than they ever usually have in a day."""
    schema = place.schemas[log]
    actions = WATCHED.get(schema.kind)
    if not actions or place.extent(log) is None or not {"user", "action"} <= schema.by_name.keys():
        return
    watched = Report.of(log=log, period=_period(stretch), only={"action": list(actions)})
    found = unusual(watched, stretch, place, now)
    if found.rows:
        worst = max(found.rows, key=lambda r: r[2])
        days = f"{_of(len(found.rows), 'day')} with far more {'/'.join(actions)} than one's own usual"
        words = f"{days}; the most: {worst[0]}, {worst[1]}: {worst[2]}"
        yield (
            "Unusual",
            log,
            len(found.rows),
            words,
            f"fermata people unusual {log} --only action={','.join(actions)} --period '{stretch.text}'",
        )


def _over_limits(place: Workplace, now: datetime, stretch: Stretch) -> Iterator[Point]:
    """Rows of the workspace's own reports that cross a limit the report declares, and equalities that do not hold."""
    for name in place.own_reports():
        try:
            report = place.definition(name)
        except RequestError as e:
            yield "Wrong file", name, None, str(e).splitlines()[0], "fermata archive check"
            continue
        if not (report.warn or report.checks) or report.parts or report.ask or report.listing or report.register_name:
            continue
        try:
            found = answer(report, place, now)
        except RequestError:
            continue  # the report says so itself when it is asked for
        for note in failed(found.notes):
            yield "Limit", name, None, note, f"fermata report {name}"


def covered(request: Coverage, place: Workplace) -> Records:
    """What each log holds: events, first and last record, gaps, rejects, files under an older mapping."""
    title = request.report.title or "What the logs cover"
    head = context(place.calendar.zone_name, request.now, title, "all they hold")
    return surveys.each(place, head)


def cannot(request: Limits, place: Workplace) -> Records:
    """What no answer can show: what sources of a kind do not write, words of the kind that never occurred, fields that
    are missing.
    """
    report, now = request.report, request.now
    columns: tuple[ColumnDef, ...] = (
        ColumnDef("log", "Log"), ColumnDef("kind", "Kind"), ColumnDef("never", "Not in any record"),
        ColumnDef("usually", "Such sources usually do not write"),
    )  # fmt: skip
    rows: list[tuple[Any, ...]] = []
    for log in place.logs:
        schema = place.schemas[log]
        kind = KINDS.get(schema.kind)
        if kind is None or place.extent(log) is None:
            rows.append(
                (
                    log,
                    schema.kind or None,
                    "no events" if kind else None,
                    "no kind is declared: nothing is known" if not kind else kind.cannot,
                )
            )
            continue
        missing = [f"no {f}" for f in kind.fields if f not in schema.by_name and not (f == "duration" and schema.spans)]
        plan = (
            resolve(Report.of(log=log, by=("action",), totals=False), place, now)
            if "action" in schema.by_name
            else None
        )
        seen = {k[0] for k in gather(plan, place.source(plan))[plan.by]} if plan else set()
        never = [f"action {a}" for a in kind.actions if a not in seen]
        rows.append((log, schema.kind, ", ".join([*missing, *never]) or "nothing is missing", kind.cannot or None))
    head = context(
        place.calendar.zone_name, now, report.title or "What cannot appear in an answer", "all the logs hold"
    )
    notes = [
        Note("who is recorded only in totals, or not at all, is in no report: an absence here is no proof", "scope")
    ]
    return Records(head.title, head, columns, tuple(rows), len(rows), notes=tuple(notes))


def unresolved(request: Unresolved, place: Workplace) -> Records:
    """The names in the logs that are in no register, in the report's period: how many events and how much time they
    carry.
    """
    report, now, stretch = request.report, request.now, request.stretch
    columns: list[ColumnDef] = [ColumnDef("log", "Log")]
    rows: list[tuple[Any, ...]] = []
    stored = [
        n for n in ([report.log] if report.log else place.logs) if place.extent(n) and not place.schemas[n].derivation
    ]
    logs, notes = narrowable(report, place, now, stored)
    for log in logs:
        plan = resolve(narrowed_to(report, log), place, now, listed=())
        more, found = names_unresolved(plan, place.source(plan))
        columns = [columns[0], *more]
        rows += [(log, *row) for row in found]
    head = _head(report, stretch, now, "Names not in any register")
    if report.selection.conditions:
        head = dataclasses.replace(head, filters=str(report.selection))
    return Records(head.title, head, tuple(columns), tuple(rows), len(rows), notes=tuple(notes))
