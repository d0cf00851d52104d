"""What lets a delivery go out or holds it back: verdicts of checks, conditions on a result, silence of a log."""

from __future__ import annotations

from datetime import datetime

from fermata.errors import RequestError
from fermata.notes import failed
from fermata.proof import fingerprint
from fermata.reports.definition.report import Report
from fermata.reports.execute import notes, verdicts
from fermata.reports.result import Page, Records, RunResult
from fermata.timeline.lengths import exact
from fermata.timeline.words import stamp
from fermata.workspace.base import Base

__all__ = ["met", "read", "silent", "wrong"]


def wrong(answer: RunResult | Records | Page) -> str:
    """What a check finds wrong; "" for nothing."""
    if isinstance(answer, Page):
        told = [answer.verdict] if not answer.in_order else []
        expected = [p for p in answer.parts if p.item is not None and p.verdict is None]
        return "; ".join([*told, *(why for p in expected if p.item and (why := wrong(p.item)))])
    notes = answer.notes
    return "; ".join([*failed(notes), *(n for n in notes if n.kind == "examined")])


def read(condition: str) -> tuple[str, str, str]:
    """A condition as column (small letters; `rows` for their number), sign and limit. Raises RequestError."""
    found = verdicts.LIMIT.fullmatch(condition.strip())
    if found is None:
        raise RequestError(f"only_if.condition: {condition!r} is no condition; write 'Refused > 20' or 'rows > 0'")
    name, sign, limit = found[1].strip().lower(), found[2], found[3].strip()
    if name == "rows" and not limit.isdigit():
        raise RequestError(f"only_if.condition: {condition!r}: {limit!r} is no number of rows; write 'rows > 0'")
    return name, sign, limit


def met(condition: str, answer: RunResult | Records | Page) -> tuple[bool, str]:
    """Whether a condition holds of a row of an answer (of any table of a page), or of the number of its rows; and in
    words.
    """
    items = [p.item for p in answer.parts if p.item is not None] if isinstance(answer, Page) else [answer]
    name, sign, limit = read(condition)
    if name == "rows":
        rows = sum(i.table.size if isinstance(i, RunResult) else i.total for i in items)
        return verdicts.SIGNS[sign](rows, int(limit)), f"{condition}: {rows:,} rows"
    if not any(isinstance(i, RunResult) for i in items):
        raise RequestError(f"{condition!r}: a listing has no figures to hold against it; write 'rows > 0'")
    said, unknown = [], None
    for item in items:
        if isinstance(item, RunResult):
            try:
                said += verdicts.warned(item.table, [condition], verdicts.Shown.of(item.report, item.plan))
            except RequestError as e:
                unknown = e
    if not said and unknown:
        raise unknown
    crossed = failed(said)
    return bool(crossed), "; ".join(crossed or said)


def silent(length: str, before: Base, report: Report, planned: datetime) -> tuple[bool, str]:
    """Whether a log of the report has had no record for that long."""
    place = before.place()
    quiet = []
    for name in sorted({n for p in fingerprint.plans_of(report, place, planned) for n in notes.stored_logs(p)}):
        extent = place.extent(name)
        if extent is None or extent[1] < planned - exact(length):
            quiet.append(f"{name}: no record since {stamp(extent[1], place.calendar.zone)[:16] if extent else 'ever'}")
    return bool(quiet), "; ".join(quiet) or f"every log had records within {length}"
