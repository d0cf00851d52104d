"""The last run, kept so that one thing can be changed and run again, or saved as a report."""

from __future__ import annotations

import contextlib
import json
import re
from datetime import UTC, datetime
from pathlib import Path

from fermata import tomlfile
from fermata.errors import DataError, RequestError
from fermata.jsontext import json_object
from fermata.reports.compile.binding import bound
from fermata.reports.compile.resolve import stretch_over
from fermata.reports.definition import files
from fermata.reports.definition.report import Report
from fermata.timeline import Period
from fermata.workspace.place import Place

__all__ = ["EARLIER", "LAST", "earlier", "last", "period_words", "plain_words", "remember", "stepped"]

LAST = "last"
EARLIER = re.compile(r"last(?:-([2-9]|1\d|20))?")
KEPT = 20


def _file(workspace: Path, number: int) -> Path:
    return workspace / "recent" / f"{number}.json"


def remember(workspace: Path, report: Report) -> None:
    """Keeps the report as the last run, and those before it as `last-2` and so on. A workspace one may only read is no
    reason to fail.
    """
    text = json.dumps(files.held(report))
    with contextlib.suppress(DataError, OSError):
        if (newest := _file(workspace, 1)).exists():
            if newest.read_text(encoding="utf-8") == text:
                return
            for number in range(KEPT - 1, 0, -1):
                if (path := _file(workspace, number)).exists():
                    path.replace(_file(workspace, number + 1))
        files.write(newest, text)


def earlier(workspace: Path) -> list[tuple[str, Report]]:
    """The runs that are kept, the last one first: name and report."""
    names = [LAST, *(f"{LAST}-{n}" for n in range(2, KEPT + 1))]
    return [(n, last(workspace, n)) for i, n in enumerate(names, 1) if _file(workspace, i).exists()]


def last(workspace: Path, name: str = LAST) -> Report:
    """The report of the last run, or of the one before it (`last-2`) and so on. Raises RequestError if there was none,
    DataError for a file that is spoiled.
    """
    found = EARLIER.fullmatch(name)
    path = _file(workspace, int(found[1] or 1) if found else 1)
    if not path.exists():
        if name != LAST:
            raise RequestError(f"no run is kept as {name}; those that are: fermata reports --recent")
        raise RequestError("no report was run here yet; run one with: fermata report NAME")
    try:
        text = path.read_text(encoding="utf-8")
        data = json_object(text)
    except (OSError, ValueError):
        data = None
    if data is None:
        raise DataError(f"{path}: the kept run in it cannot be read; delete the file, and run a report again")
    return tomlfile.parse(Report, data, path, text)


def period_words(report: Report, place: Place, now: datetime) -> tuple[bool, str, str]:
    """Whether the period moves with the clock, its exact form for a file, and what it is today, in words."""
    log = bound(report, place).log if not report.parts else ""
    stretch = stretch_over(report, place, [log] if log else place.logs, now)
    if stretch.days:
        first, end = stretch.days
        exact = f"{first}/{end.fromordinal(end.toordinal() - 1)}"
    else:
        start, until = (t.astimezone(UTC).replace(tzinfo=None).isoformat() for t in (stretch.start, stretch.end))
        exact = f"{start}Z/{until}Z"
    return (
        stretch.relative or report.period == "all",
        exact if stretch.relative or report.period == "all" else report.period,
        stretch.words,
    )


def stepped(report: Report, place: Place, now: datetime, n: int) -> Report:
    """See `Catalogue.step`."""
    log = bound(report, place).log
    extent = place.extent(log) if log else None
    whole = (extent[0], place.until(log)) if extent else None
    return report.changed(period=Period.parse(report.period, place.calendar).step(n, now, whole).text)


def plain_words(report: Report) -> list[tuple[str, str]]:
    """What a report that is no table of figures would do, in words."""
    lines = [("Report", report.title or report.register_name)]
    if report.register_name:
        lines.append(("Register", f"{report.register_name}, as of {report.as_of or 'today'}"))
    else:
        lines += [
            ("Asks", report.ask.what if report.ask else ""),
            ("Period", report.period),
            ("Of", "every log of the workspace"),
        ]
    return lines
