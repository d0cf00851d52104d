"""What lets a delivery go out or holds it back: verdicts of checks, conditions on a result, silence of a log."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from fermata.api import content
from fermata.errors import RequestError
from fermata.reports import caveats, judging
from fermata.reports.model import Report
from fermata.reports.result import Page, Records, RunResult
from fermata.timeline.lengths import exact
from fermata.timeline.words import stamp

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["met", "read", "silent", "wrong"]


def wrong(answer: RunResult | Records | Page) -> str:
    """What a check finds wrong; "" for nothing."""
    if isinstance(answer, Page):
        return answer.verdict if answer.verdict.startswith("NOT IN ORDER") else ""
    notes = answer.caveats if isinstance(answer, RunResult) else answer.notes
    return "; ".join(n for n in notes if n.startswith(("LIMIT", "DOES NOT HOLD")))


def read(condition: str) -> tuple[str, str, str]:
    """A condition as column (small letters; `rows` for their number), sign and limit. Raises RequestError."""
    found = judging.LIMIT.fullmatch(condition.strip())
    if found is None:
        raise RequestError(f"only_if.condition: {condition!r} is no condition; write 'Refused > 20' or 'rows > 0'")
    name, sign, limit = found[1].strip().lower(), found[2], found[3].strip()
    if name == "rows" and not limit.isdigit():
        raise RequestError(f"only_if.condition: {condition!r}: {limit!r} is no number of rows; write 'rows > 0'")
    return name, sign, limit


def met(condition: str, answer: RunResult | Records | Page) -> tuple[bool, str]:
    """Whether a condition holds of a row of an answer (of any table of a page), or of the number of its rows; and in words."""
    items = [p.item for p in answer.parts if p.item is not None] if isinstance(answer, Page) else [answer]
    name, sign, limit = read(condition)
    if name == "rows":
        rows = sum(len(i.table.body) if isinstance(i, RunResult) else i.total for i in items)
        return judging.SIGNS[sign](rows, int(limit)), f"{condition}: {rows:,} rows"
    if not any(isinstance(i, RunResult) for i in items):
        raise RequestError(f"{condition!r}: a listing has no figures to hold against it; write 'rows > 0'")
    said, unknown = [], None
    for item in items:
        if isinstance(item, RunResult):
            try:
                said += judging.warned(item.table, [condition])
            except RequestError as e:
                unknown = e
    if not said and unknown:
        raise unknown
    crossed = [s for s in said if s.startswith("LIMIT")]
    return bool(crossed), "; ".join(s.removeprefix("LIMIT ") for s in crossed or said)


def silent(length: str, before: Workspace, report: Report, planned: datetime) -> tuple[bool, str]:
    """Whether a log of the report has had no record for that long."""
    place = before.place()
    quiet = []
    for name in sorted({n for p in content.plans_of(report, place, planned) for n in caveats.stored_logs(p)}):
        extent = place.extent(name)
        if extent is None or extent[1] < planned - exact(length):
            quiet.append(f"{name}: no record since {stamp(extent[1], place.calendar.zone)[:16] if extent else 'ever'}")
    return bool(quiet), "; ".join(quiet) or f"every log had records within {length}"
