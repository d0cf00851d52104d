"""When something is due: recurrences in plain words, or as recurrence rules of RFC 5545, on the clock of a zone.

>>> from datetime import UTC, datetime
>>> due = recurrence("monthly on the 1st at 07:00", "Europe/Lisbon")
>>> due.after(datetime(2026, 3, 15, tzinfo=UTC)).isoformat()
'2026-04-01T06:00:00+00:00'
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

from fermata.errors import RequestError
from fermata.timeline.hours import Hours
from fermata.timeline.units import WEEKDAY_NAMES
from fermata.timeline.zones import local, to_utc, zone

__all__ = ["FORMS", "Recurrence", "recurrence"]

FORMS = (
    "daily at 07:00", "weekdays at 07:00", "working days at 07:00", "weekly on Monday at 07:00",
    "two-weekly on Monday at 07:00",
    "monthly on the 1st at 07:00", "monthly on the last day at 18:00", "monthly on the first Monday at 07:00",
    "quarterly on the 1st at 07:00", "first working day at 08:00", "last working day at 17:00",
    "yearly on 1 April at 07:00", "hourly", "every 15 minutes",
)  # fmt: skip
ANCHOR = date(2024, 1, 1)  # a Monday; where counting begins by default
HORIZON = timedelta(
    days=366 * 9
)  # a rule that does not fire within it never does: 29 February comes within eight years
NTH = ("first", "second", "third", "fourth", "last")
MONTHS = tuple(f"{date(2024, m, 1):%B}".lower() for m in range(1, 13))
RULE = re.compile(r"(?:RRULE:)?(FREQ=[A-Z]+(?:;[A-Z]+=[A-Za-z0-9,+-]+)*)")


@dataclass(frozen=True)
class Recurrence:
    """Times on a zone's clock: those of an RFC 5545 `rule` from the local day `first` on, at `times` of the day (none:
    as the rule says).

    With `working`, only days that have any of these hours count, and of each month only the `nth` of them (from 1, or
    -1 for the last; 0 for all). A time that never happens, because clocks go forward, is the moment they do; one that
    happens twice is the first.
    """

    text: str
    rule: str
    times: tuple[time, ...]
    zone_name: str
    first: date = ANCHOR
    working: Hours | None = None
    nth: int = 0

    def after(self, moment: datetime) -> datetime | None:
        """The first time after an aware moment, aware UTC; None if there is none within nine years."""
        return next(self._from(moment, moment + HORIZON), None)

    def between(self, start: datetime, end: datetime) -> list[datetime]:
        """All times after aware `start`, up to and including `end`, aware UTC, in order."""
        return list(self._from(start, end))

    def _from(self, start: datetime, end: datetime) -> Iterator[datetime]:
        tz = zone(self.zone_name)
        last = None
        for wall in self._walls(local(start, tz) - timedelta(days=1), local(end, tz) + timedelta(days=1)):
            at = to_utc(wall, tz)
            if start < at <= end and at != last:
                last = at
                yield at

    def _walls(self, start: datetime, end: datetime) -> Iterator[datetime]:
        """The local times from `start` to `end`, in order."""
        if self.nth:
            yield from self._working_days(start, end)
            return
        for wall in _expanded(self.rule, self.first, self.times, start, end):
            if self.working is None or self.working.minutes(wall.date()):
                yield wall

    def _working_days(self, start: datetime, end: datetime) -> Iterator[datetime]:
        assert self.working
        month = max(start.date(), self.first).replace(day=1)
        while month <= end.date():
            following = (month + timedelta(days=32)).replace(day=1)
            days = [month + timedelta(days=i) for i in range((following - month).days)]
            days = [d for d in days if self.working.minutes(d)]
            if len(days) >= abs(self.nth):
                day = days[self.nth - 1 if self.nth > 0 else self.nth]
                for t in self.times:
                    wall = datetime.combine(day, t)
                    if start <= wall <= end and day >= self.first:
                        yield wall
            month = following


def _expanded(rule: str, first: date, times: tuple[time, ...], start: datetime, end: datetime) -> Iterator[datetime]:
    import heapq

    from dateutil.rrule import rrulestr

    if not re.search("UNTIL|COUNT", rule):
        rule += f";UNTIL={end:%Y%m%dT%H%M%S}"  # else a rule that never fires is looked through to the year 9999

    def one(at: time) -> Any:
        begin = datetime.combine(first, at)
        if "FREQ=MINUTELY" in rule or "FREQ=HOURLY" in rule:  # of short steps that fit a day, only the days asked about
            begin = max(begin, datetime.combine(start.date(), at)) if "COUNT" not in rule else begin
        return rrulestr(f"RRULE:{rule}", dtstart=begin).xafter(start, inc=True)

    for wall in heapq.merge(*(one(t) for t in times or (time(0),))):
        if wall > end:
            return
        yield wall


def recurrence(
    text: str, zone_name: str, *, first: date | None = None, at: str = "", working: Hours | None = None
) -> Recurrence:
    """The recurrence that `text` means: one of `FORMS` in words, or an RFC 5545 rule (`FREQ=WEEKLY;BYDAY=MO`) at the
    time `at`.

    `first` is the local day it begins on; rules with an interval count from it. `working` are the hours that make a
    working day (Monday to Friday by default). Raises RequestError for what it cannot read and for rules that never
    fire.
    """
    zone(zone_name)
    rule = RULE.fullmatch(text.strip())
    found = _ruled(rule[1], text, zone_name, first, at) if rule else _plain(text, zone_name, first, at, working)
    start = to_utc(datetime.combine(found.first, time(0)), zone(zone_name)) - timedelta(seconds=1)
    try:
        fires = found.after(start)
    except ValueError as e:
        raise RequestError(f"{text!r} is no recurrence rule of RFC 5545: {e}") from None
    if fires is None:
        raise RequestError(f"{text!r} never fires; the next nine years were looked through")
    return found


def _ruled(rule: str, text: str, zone_name: str, first: date | None, at: str) -> Recurrence:
    parts = dict(p.split("=", 1) for p in rule.split(";"))
    if first is None and ("COUNT" in parts or parts.get("INTERVAL", "1") != "1"):
        raise RequestError(f"{text!r} counts from a day; say which: from = 2026-01-05 (--starts 2026-01-05)")
    if at and parts.keys() & {"BYHOUR", "BYMINUTE"}:
        raise RequestError(f"{text!r} tells the time itself; leave at out")
    if not at and "BYHOUR" not in parts and parts["FREQ"] not in ("HOURLY", "MINUTELY"):
        raise RequestError(f'{text!r} tells no time of day; add at = "07:00"')
    if parts["FREQ"] == "SECONDLY":
        raise RequestError(f"{text!r}: nothing is sent every second")
    rule = rule if "BYSECOND" in parts else f"{rule};BYSECOND=0"
    rule = re.sub(r"UNTIL=(\d{8}T\d{6})Z", lambda m: f"UNTIL={_here(m[1], zone_name)}", rule)
    from dateutil.rrule import rrulestr

    try:
        rrulestr(f"RRULE:{rule}", dtstart=datetime.combine(first or ANCHOR, time(0)))
    except (ValueError, KeyError, TypeError) as e:
        raise RequestError(f"{text!r} is no recurrence rule of RFC 5545: {e}") from None
    return Recurrence(text, rule, (_clock(at, text),) if at else (), zone_name, first or ANCHOR)


def _here(text: str, zone_name: str) -> str:
    """An end in UTC on the zone's clock, as the other times of a rule are."""
    at = datetime.strptime(text, "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
    return f"{local(at, zone(zone_name)):%Y%m%dT%H%M%S}"


CLOCK = re.compile(r"\b(?:at )?(\d{1,2})(?:[:.](\d\d))? ?([ap]m)?$")
DAY = r"(?:mon|tues|wednes|thurs|fri|satur|sun)day"
DATE = r"\d+(?:st|nd|rd|th)"
SAID = (  # as people also say it; each applies to what those before it left
    *((re.compile(rf"\b{n[:3].lower()}(?:s|r|rs|nes|ur)?(?:days|\b(?! ?day))"), n.lower()) for n in WEEKDAY_NAMES),
    (re.compile(r"(?:at )?\bnoon$"), "at 12:00"), (re.compile(r"(?:at )?\bmidnight$"), "at 00:00"),
    (re.compile(r"^(?:(?:every|each|on) )?(?:the )?(.+?) of (?:the|each|every|a) month\b"), r"\1"),
    (re.compile(r"^(?:on )?monday ?(?:to|-|until) ?friday\b"), "weekdays"),
    (re.compile(r"(?:every|each) day\b"), "daily"), (re.compile(r"(?:every|each) working day\b"), "working days"),
    (re.compile(r"(?:every|each) weekday\b"), "weekdays"), (re.compile(r"(?:every|each) hour\b"), "hourly"),
    (re.compile(r"(?:every|each) (?:2|two|second|other) weeks? on\b|fortnightly on\b"), "two-weekly on"),
    (re.compile(rf"(?:every|each) (?:second|other) (?={DAY})"), "two-weekly on "),
    (re.compile(r"\bfirst day\b"), "1st"),
    (re.compile(rf"^(?:on )?(?:the )?((?:{'|'.join(NTH)}) {DAY}|last day)(?= at|$)"),
        r"monthly on the \1"),
    (re.compile(rf"^(?:on )?(?:the )?({DATE})(?= at| and| ,|$)"), r"monthly on the \1"),
    (re.compile(rf"^(?:on )?(?:the )?(\d+)(?:st|nd|rd|th)?(?: of)? ({'|'.join(MONTHS)})\b"), r"yearly on \1 \2"),
    (re.compile(rf"(?:every|each) week on\b|(?:every|each) (?={DAY})"), "weekly on "),
    (re.compile(rf"^(?:on )?({DAY}(?: (?:,|and) {DAY})*)(?= at|$)"), r"weekly on \1"),
    (re.compile(r"(?:every|each) month\b"), "monthly"), (re.compile(r"^weekly(?= at|$)"), "weekly on monday"),
    (re.compile(r"(?:every|each) quarter\b"), "quarterly"),
    (re.compile(r"^(monthly|quarterly)(?= at|$)"), r"\1 on the 1st"), (re.compile(r"(?:every|each) year\b"), "yearly"),
)  # fmt: skip


def _as_read(text: str) -> str:
    """A recurrence as people say it in the words of FORMS, with its time as 07:00.

    >>> _as_read("every Monday at 7"), _as_read("monthly at 14:00"), _as_read("each working day 5 pm")
    ('weekly on monday at 07:00', 'monthly on the 1st at 14:00', 'working days at 17:00')
    """
    words = " ".join(text.lower().replace(",", " , ").split())
    if (clock := CLOCK.search(words)) and not re.fullmatch(r"every \d+ \w+", words) and clock.start():
        hour = int(clock[1]) % 12 + 12 * (clock[3] == "pm") if clock[3] else int(clock[1])
        before = words[: clock.start()].rstrip()
        if not before.endswith((",", "and")) and re.search(r"[a-z]$", before) and not before.endswith(" on the"):
            words = f"{before} at {hour:02d}:{clock[2] or '00'}"
    for found, instead in SAID:
        words = found.sub(instead, words, count=1)
    return " ".join(words.split())


def _plain(text: str, zone_name: str, first: date | None, at: str, working: Hours | None) -> Recurrence:
    words = _as_read(text)
    steps = re.fullmatch(r"(hourly)|every (\d+) (minutes|hours)", words)
    if at and (steps or re.search(r"\d:\d\d$", words)):
        raise RequestError(f"{text!r} tells the time itself; leave at out")
    if steps:
        return Recurrence(text, _steps(steps, text), (), zone_name, first or ANCHOR)
    m = re.fullmatch(r"(.+?)(?: at (\d{1,2}:\d\d(?: (?:,|and) \d{1,2}:\d\d)*))?", words)
    if not m:
        raise RequestError(f"{text!r} says nothing; write when it is to go out, such as 'daily at 07:00'")
    told = [_clock(t, text) for t in re.findall(r"\d{1,2}:\d\d", m[2] or at)]
    if not told and m[1] not in (*(f"{n} working day" for n in NTH), "working days"):
        _rule(m[1], text, first or ANCHOR)  # what is no recurrence with a time either is told as that
    if not told:
        raise RequestError(f"{text!r} tells no time of day; write {text.strip()} at 07:00")
    times, begins = tuple(sorted(told)), first or ANCHOR
    nth = re.fullmatch(rf"({'|'.join(NTH)}) working day", m[1])
    if nth or m[1] == "working days":
        which = 0 if not nth else -1 if nth[1] == "last" else NTH.index(nth[1]) + 1
        days = working or Hours("weekdays", (((0, 1440),),) * 5 + ((),) * 2)
        return Recurrence(text, "FREQ=DAILY", times, zone_name, begins, days, which)
    rule = _rule(m[1], text, first)
    return Recurrence(text, rule, times, zone_name, begins)


def _steps(m: re.Match[str], text: str) -> str:
    minutes = 60 if m[1] else int(m[2]) * (60 if m[3] == "hours" else 1)
    if not minutes or 1440 % minutes:
        raise RequestError(f"{text!r} does not fit a day; take a divisor of 60 minutes or of 24 hours")
    return f"FREQ=MINUTELY;INTERVAL={minutes};BYSECOND=0"


def _rule(words: str, text: str, first: date | None) -> str:
    """The rule of a plain form without its time. Raises RequestError."""
    if words == "daily":
        return "FREQ=DAILY"
    if words == "weekdays":
        return "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"
    if m := re.fullmatch(r"(two-)?weekly on (.+)", words):
        if m[1] and first is None:
            raise RequestError(f"{text!r} counts from a day; say which: from = 2026-01-05 (--starts 2026-01-05)")
        return f"FREQ=WEEKLY{';INTERVAL=2' if m[1] else ''};BYDAY={','.join(_days(m[2], text))}"
    months = ""
    if words.startswith("quarterly on the "):
        words = words.replace("quarterly", "monthly")
        months = f";BYMONTH={'3,6,9,12' if ' last ' in words else '1,4,7,10'}"
    if words == "monthly on the last day":
        return f"FREQ=MONTHLY{months};BYMONTHDAY=-1"
    if m := re.fullmatch(rf"monthly on the ({'|'.join(NTH)}) (\w+)", words):
        n = -1 if m[1] == "last" else NTH.index(m[1]) + 1
        return f"FREQ=MONTHLY{months};BYDAY={n}{_days(m[2], text)[0]}"
    if re.fullmatch(rf"monthly on (?:the )?{DATE}(?: (?:,|and) (?:the )?{DATE})*", words):
        days = [int(d) for d in re.findall(r"\d+", words)]
        if not all(1 <= d <= 28 for d in days):
            raise RequestError(
                f"{text!r}: not every month has that day; write monthly on the last day, or a rule of RFC 5545"
            )
        return f"FREQ=MONTHLY{months};BYMONTHDAY={','.join(map(str, days))}"
    if (m := re.fullmatch(r"yearly on (\d+) (\w+)", words)) and m[2] in MONTHS:
        return f"FREQ=YEARLY;BYMONTH={MONTHS.index(m[2]) + 1};BYMONTHDAY={int(m[1])}"
    if re.fullmatch(r"[\d*][\d*/,-]*(?: [\w*/,-]+){4}", text.strip()):
        raise RequestError(f"{text!r} is a line of cron; write it in words: {'; '.join(FORMS[:6])} ...")
    raise RequestError(
        f"{text!r} is no recurrence; write {'; '.join(FORMS)}; or a rule of RFC 5545 (FREQ=WEEKLY;BYDAY=MO)"
    )


def _days(text: str, whole: str) -> list[str]:
    names = {n.lower(): n[:2].upper() for n in WEEKDAY_NAMES}
    found = [names.get(w.strip(), "") for w in re.split(r" , | and ", text)]
    if "" in found:
        raise RequestError(f"{whole!r}: {text!r} are no weekdays; write Monday, or Monday and Thursday")
    return found


def _clock(text: str, whole: str) -> time:
    m = re.fullmatch(r"(\d{1,2}):(\d\d)", text.strip())
    if not m or int(m[1]) > 23 or int(m[2]) > 59:
        raise RequestError(f"{whole!r}: {text!r} is no time of day; write 07:00")
    return time(int(m[1]), int(m[2]))
