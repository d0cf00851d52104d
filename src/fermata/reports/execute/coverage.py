"""What the logs hold, what no answer can show, and names that are in no register."""

from __future__ import annotations

import dataclasses
from typing import Any

from fermata.analysis.combine import gather
from fermata.errors import none_declared
from fermata.kinds import KINDS
from fermata.notes import Note
from fermata.reports.compile.filter_values import narrowable, narrowed_to
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute import survey as surveys
from fermata.reports.execute.register_list import context, of_period
from fermata.reports.execute.unresolved import unresolved as names_unresolved
from fermata.reports.requests import Coverage, Limits, Unresolved
from fermata.reports.result import ColumnDef, Records

__all__ = ["cannot", "covered", "unresolved"]


def covered(request: Coverage, place: Workplace) -> Records:
    """What each log holds: events, first and last record, gaps, rejects, files under an older mapping."""
    title = request.report.title or "What the logs cover"
    head = context(place.calendar.zone_name, request.now, title, "all they hold")
    found = surveys.each(place, head)
    if place.logs:
        return found
    return dataclasses.replace(found, notes=(*found.notes, Note(str(none_declared("log")), "nothing")))


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
    head = of_period(report, stretch, now, "Names not in any register")
    if report.selection.conditions:
        head = dataclasses.replace(head, filters=str(report.selection))
    return Records(head.title, head, tuple(columns), tuple(rows), len(rows), notes=tuple(notes))
