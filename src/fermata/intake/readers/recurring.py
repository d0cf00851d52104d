"""Calendar files (RFC 5545) as the libraries read them: in zones that are known, with recurrences that come to an end.
What no entry of a calendar does is left out by name, long recurrences are cut.
"""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Iterator
from datetime import date, datetime
from pathlib import Path
from typing import Any

from fermata.errors import FermataError, SourceError

__all__ = ["MOST", "bounded", "calendar_of", "occurrences", "rules", "understood"]

MOST = 10_000  # occurrences of one entry that are followed
FAR = 50  # years; an end further away than that is none
TOO_OFTEN = ("SECONDLY", "MINUTELY")
TIMES = {"DTSTART", "DTEND", "DURATION", "RRULE", "RDATE", "EXDATE", "RECURRENCE-ID"}
CHOOSING = ("BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY", "BYHOUR", "BYMINUTE", "BYSECOND", "BYSETPOS")


@contextlib.contextmanager
def understood(shown: Path) -> Iterator[None]:
    """The libraries raise whatever a crooked file leads to; this says which file it was. Raises SourceError."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a zone with its maker's name before it is the zone
            yield
    except FermataError:
        raise
    except OSError:
        raise SourceError(f"{shown}: is no calendar (RFC 5545): a time zone that it names is none") from None
    except Exception as e:
        why = str(e).splitlines()[0][:200] if str(e).strip() else repr(e)
        raise SourceError(f"{shown}: is no calendar (RFC 5545): {why}") from None


def calendar_of(data: bytes, shown: Path) -> tuple[Any, list[str]]:
    """The calendar in the bytes of a file, and what was left out of it or cut, in words. Raises SourceError."""
    import icalendar

    with understood(shown):
        calendar = icalendar.Calendar.from_ical(data)
        told = bounded(calendar)
        for event in calendar.walk("VEVENT"):
            for name, value in event.property_items(recursive=False):
                if name in TIMES and (zone := _unknown_zone(value)):
                    raise SourceError(
                        f"{shown}: the time zone {zone[:80]!r} of {name} is not known and not described in the file; "
                        "write an IANA name in its place, such as Europe/Lisbon"
                    )
    return calendar, told


def occurrences(calendar: Any, first: date, last: date, shown: Path) -> list[Any]:
    """All occurrences of a calendar's events from one date to another. Raises SourceError."""
    if not calendar.walk("VEVENT"):
        return []
    import recurring_ical_events

    try:
        return list(recurring_ical_events.of(calendar, keep_recurrence_attributes=True).between(first, last))
    except Exception as e:  # the libraries of recurrences raise whatever a crooked rule leads to
        raise SourceError(f"{shown}: its recurrences cannot be worked out: {str(e) or type(e).__name__}") from None


def _unknown_zone(value: Any) -> str:
    """The zone that a time names, where the library left the time without any: it would stand in another zone."""
    zone = str(getattr(value, "params", {}).get("TZID", ""))
    times = [t.dt[0] if isinstance(t.dt, tuple) else t.dt for t in getattr(value, "dts", ())] if zone else []
    return zone if any(isinstance(t, datetime) and t.tzinfo is None for t in times) else ""


def rules(event: Any) -> list[Any]:
    """The recurrence rules of an entry."""
    found = event.get("RRULE", [])
    return found if isinstance(found, list) else [found]


def bounded(calendar: Any) -> list[str]:
    """Cuts the calendar's recurrences to `MOST` occurrences each and takes entries out that repeat within the hour;
    says which, in words.
    """
    told = []
    for event in list(calendar.walk("VEVENT")):
        name = str(event.get("SUMMARY") or event.get("UID") or "an entry")
        if wrong := sorted({str(prop) for prop, _ in event.errors} & TIMES):
            told.append(f"{name!r} was left out: its {wrong[0]} cannot be read")
            calendar.subcomponents.remove(event)
            continue
        for rule in rules(event):
            often = str(rule.get("FREQ", [""])[0]).upper()
            within = often in TOO_OFTEN or any(len(rule.get(k, [])) > 1 for k in ("BYMINUTE", "BYSECOND"))
            if within or (often == "HOURLY" and any(k in rule for k in CHOOSING)):
                told.append(f"{name!r} repeats more often than every hour and was left out")
                calendar.subcomponents.remove(event)
                break
            told += _cut(event, rule, often, name)
    return told


def _cut(event: Any, rule: Any, often: str, name: str) -> list[str]:
    count, until = rule.get("COUNT"), rule.get("UNTIL")
    if until and "DTSTART" in event and _year(until[0]) - _year(event.decoded("DTSTART")) > FAR:
        del rule["UNTIL"]  # an end that stands for none
    if (count and int(count[0]) > MOST) or (often == "HOURLY" and not count):
        rule.pop("UNTIL", None)
        rule["COUNT"] = [MOST]
        return [f"of {name!r} the first {MOST:,} occurrences were taken"]
    return []


def _year(at: date | datetime) -> int:
    return at.year
