"""Recurrences of a calendar (RFC 5545, 3.3.10) that come to an end: what no entry of a calendar does is left out by
name, long ones are cut.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

__all__ = ["MOST", "bounded", "rules"]

MOST = 10_000  # occurrences of one entry that are followed
FAR = 50  # years; an end further away than that is none
TOO_OFTEN = ("SECONDLY", "MINUTELY")
TIMES = {"DTSTART", "DTEND", "DURATION", "RRULE", "RDATE", "EXDATE", "RECURRENCE-ID"}
CHOOSING = ("BYMONTH", "BYWEEKNO", "BYYEARDAY", "BYMONTHDAY", "BYDAY", "BYHOUR", "BYMINUTE", "BYSECOND", "BYSETPOS")


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
