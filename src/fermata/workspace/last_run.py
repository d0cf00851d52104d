"""The last run, kept so that one thing can be changed and run again, or saved as a report."""

from __future__ import annotations

import contextlib
from datetime import UTC, datetime
from pathlib import Path

from fermata import tomlfile
from fermata.errors import DataError, RequestError
from fermata.reports.compile.binding import bound
from fermata.reports.compile.resolve import stretch_over
from fermata.reports.definition import files
from fermata.reports.definition.report import Report
from fermata.timeline import Period
from fermata.workspace.place import Place

__all__ = ["LAST", "last", "period_words", "plain_words", "remember", "stepped"]

LAST = "last"
FILE = "last-run.toml"


def remember(workspace: Path, report: Report) -> None:
    """Keeps the report as the last run. A workspace one may only read is no reason to fail."""
    with contextlib.suppress(DataError):
        files.write(workspace / FILE, files.text_of(report))


def last(workspace: Path) -> Report:
    """The report of the last run. Raises RequestError if there was none."""
    path = workspace / FILE
    if not path.exists():
        raise RequestError("no report was run here yet; run one with: fermata report NAME")
    data, text = tomlfile.load(path)
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
