"""Calendars (iCalendar, RFC 5545): every occurrence of every event, recurrences worked out, exceptions kept to.

Times come with their offset, so an entry over a clock change lasts what it lasts. Floating times and all-day entries
are written without offset and stand in the log's own zone. Recurrences without an end are followed to the log's
`until`, or two years past the last date the calendar itself names, and no entry further than its first 10,000
occurrences; the import says so.
"""

from __future__ import annotations

import contextlib
import dataclasses
import re
from collections import Counter
from datetime import UTC, date, datetime, timedelta
from typing import Any

from fermata.errors import SourceError
from fermata.garbage import uncollected
from fermata.intake.readers import Job, Records
from fermata.intake.readers.recurring import calendar_of, occurrences, rules, understood
from fermata.intake.readers.rows import from_dicts

__all__ = ["open"]

PLAIN = ("summary", "location", "status", "categories", "organizer", "attendee", "uid", "description", "class")
REPEATS = ("RRULE", "RDATE", "EXDATE", "RECURRENCE-ID")
UNUSED = re.compile(  # properties that no column shows: to parse them takes a third of the time
    rb"(?m)^(?:DTSTAMP|CREATED|LAST-MODIFIED|TRANSP|PRIORITY)[;:][^\r\n]*\r?\n(?:[ \t][^\r\n]*\r?\n)*"
)
Timed = tuple[Any, Any, Any]  # an event, its start and its end
BEYOND = timedelta(days=731)


def open(job: Job) -> Records:
    """Opens a calendar. Columns: start, finish, all-day, and the properties of an event in small letters."""
    data = UNUSED.sub(b"", job.path.read_bytes())
    with uncollected():
        calendar, told = calendar_of(data, job.shown)
    with understood(job.shown):
        first, last, endless = _extent(calendar, job)
        once = _once(calendar)
        others = [(e, e.start, e.end) for e in occurrences(calendar, first, last, job.shown)]
        found = from_dicts(job, (_record(*e) for e in sorted([*once, *others], key=_order)))
    told += [f"recurrences without end followed to {last:%Y-%m-%d}"] if endless else []
    return dataclasses.replace(found, inferred=", ".join(told))


def _extent(calendar: Any, job: Job) -> tuple[date, date, bool]:
    """The first and last date to look for occurrences, and whether some recurrence has no end."""
    dates, endless = [], False
    for event in calendar.walk("VEVENT"):
        for name in ("DTSTART", "DTEND", "RECURRENCE-ID"):
            if name in event:
                dates.append(_day(event.decoded(name)))
        for rule in rules(event):
            dates += [_day(t) for t in rule.get("UNTIL", [])]
            endless |= "UNTIL" not in rule and "COUNT" not in rule
            if "COUNT" in rule:
                dates.append(dates[0] + timedelta(days=366 * min(int(rule["COUNT"][0]), 50)))
    if not dates:
        raise SourceError(f"{job.shown}: holds no events")
    end = max(dates) + timedelta(days=2)
    return min(dates) - timedelta(days=2), (job.log.until or end + BEYOND) if endless else end, endless


def _day(at: Any) -> date:
    return at.date() if isinstance(at, datetime) else at


def _once(calendar: Any) -> list[Timed]:
    """Takes the events out of the calendar that happen once: no rule, no exception, no other version."""
    import icalendar

    times = Counter(str(e.get("UID", "")) for e in calendar.walk("VEVENT"))
    taken = []
    for event in calendar.subcomponents:
        if event.name == "VEVENT" and "UID" in event and times[str(event["UID"])] == 1:
            with contextlib.suppress(icalendar.InvalidCalendar, icalendar.IncompleteComponent):
                if not any(n in event for n in REPEATS) and (start := event.start) and (end := event.end):
                    taken.append((event, start, end))
    kept = {id(event) for event, _, _ in taken}
    calendar.subcomponents[:] = [c for c in calendar.subcomponents if id(c) not in kept]
    return taken


def _order(timed: Timed) -> tuple[str, str, str]:
    event, start, _ = timed
    return str(_day(start)), str(start), str(event.get("UID", ""))


def _record(event: Any, start: Any, end: Any) -> dict[str, str | None]:
    record: dict[str, str | None] = {
        "start": start.isoformat(),
        "finish": _finish(event, start, end).isoformat(),
        "all-day": "no" if isinstance(start, datetime) else "yes",
    }
    for name in PLAIN:
        record[name] = _text(event.get(name.upper()))
    for name, value in event.items():
        if name.startswith("X-"):
            record[name.lower()] = _text(value)
    return record


def _finish(event: Any, start: Any, end: Any) -> Any:
    """The end of an event; a length in hours is that of a clock that does not change (RFC 5545, 3.3.6)."""
    length = event["DURATION"].dt if "DURATION" in event and "DTEND" not in event else None
    if length and isinstance(start, datetime) and start.tzinfo and length % timedelta(days=1):
        return (start.astimezone(UTC) + length).astimezone(start.tzinfo)
    return end


def _text(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, list):
        return ",".join(filter(None, (_text(v) for v in value)))
    text = ",".join(str(c) for c in value.cats) if hasattr(value, "cats") else str(value)
    return text.removeprefix("mailto:").removeprefix("MAILTO:") or None
