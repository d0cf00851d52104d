"""Calendars (iCalendar, RFC 5545): every occurrence of every event, recurrences worked out, exceptions kept to.

Times come with their offset, so an entry over a clock change lasts what it lasts. Floating times and all-day entries
are written without offset and stand in the log's own zone. Recurrences without an end are followed to the log's `until`, or two
years past the last date the calendar itself names; the import says so.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import Any

from fermata.errors import SourceError
from fermata.intake.readers import Job, Records
from fermata.intake.readers.rows import from_dicts

__all__ = ["open"]

PLAIN = ("summary", "location", "status", "categories", "organizer", "attendee", "uid", "description", "class")
BEYOND = timedelta(days=731)


def open(job: Job) -> Records:
    """Opens a calendar. Columns: start, finish, all-day, and the properties of an event in small letters."""
    import icalendar

    try:
        calendar = icalendar.Calendar.from_ical(job.path.read_bytes())
    except (ValueError, IndexError, KeyError, TypeError) as e:
        raise SourceError(
            f"{job.shown}: is no calendar (RFC 5545): {str(e).splitlines()[0] if str(e) else e!r}"
        ) from None
    first, last, endless = _extent(calendar, job)
    found = from_dicts(job, _occurrences(calendar, first, last, job))
    inferred = f"recurrences without end followed to {last:%Y-%m-%d}" if endless else ""
    return dataclasses.replace(found, inferred=inferred)


def _extent(calendar: Any, job: Job) -> tuple[date, date, bool]:
    """The first and last date to look for occurrences, and whether some recurrence has no end."""
    dates, endless = [], False
    for event in calendar.walk("VEVENT"):
        for name in ("DTSTART", "DTEND", "RECURRENCE-ID"):
            if name in event:
                dates.append(_day(event.decoded(name)))
        rules = event.get("RRULE", [])
        for rule in rules if isinstance(rules, list) else [rules]:
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


def _occurrences(calendar: Any, first: date, last: date, job: Job) -> Iterator[dict[str, str | None]]:
    import recurring_ical_events

    try:
        found = recurring_ical_events.of(calendar, keep_recurrence_attributes=True).between(first, last)
    except Exception as e:  # the libraries of recurrences raise whatever a crooked rule leads to
        raise SourceError(f"{job.shown}: its recurrences cannot be worked out: {str(e) or type(e).__name__}") from None
    for event in sorted(found, key=lambda e: (str(_day(e.start)), str(e.start), str(e.get("UID", "")))):
        whole_day = not isinstance(event.start, datetime)
        record: dict[str, str | None] = {
            "start": event.start.isoformat(),
            "finish": event.end.isoformat(),
            "all-day": "yes" if whole_day else "no",
        }
        for name in PLAIN:
            record[name] = _text(event.get(name.upper()))
        for name, value in event.items():
            if name.startswith("X-"):
                record[name.lower()] = _text(value)
        yield record


def _text(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, list):
        return ",".join(filter(None, (_text(v) for v in value)))
    text = ",".join(str(c) for c in value.cats) if hasattr(value, "cats") else str(value)
    return text.removeprefix("mailto:").removeprefix("MAILTO:") or None
