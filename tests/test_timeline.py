"""Periods, zones and units, against references that look at every minute of the zone's clock."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fermata.errors import RequestError, UnknownName
from fermata.timeline import Calendar, Cycle, Period, slots
from fermata.timeline.recurrence import recurrence
from fermata.timeline.zones import changes, classify, day_start, local, offset, to_utc, zone
from tests.reference import label

# around both clock changes, year ends, ISO week 53, +05:45, -03:30 with changes at one minute past midnight (2011),
# half-hour changes, and a zone that skipped 30 December 2011
PLACES = [
    ("Europe/Lisbon", "2025-10-25"), ("Europe/Lisbon", "2026-03-28"), ("Europe/Lisbon", "2026-12-29"),
    ("Asia/Kathmandu", "2026-01-01"), ("America/St_Johns", "2011-11-05"), ("America/St_Johns", "2011-03-12"),
    ("Australia/Lord_Howe", "2026-04-04"), ("Australia/Lord_Howe", "2026-10-03"), ("Pacific/Apia", "2011-12-28"),
    ("America/Sao_Paulo", "2018-11-02"), ("America/New_York", "2026-10-31"), ("Africa/Casablanca", "2026-02-14"),
]  # fmt: skip
NOW = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)
LISBON = Calendar(
    "Europe/Lisbon",
    fiscal_start=(4, 6),
    cycles=(
        Cycle("pay", (14,), (date(2026, 1, 5),)),
        Cycle("trade", (28, 28, 35), (date(2025, 12, 29), date(2027, 1, 4))),
    ),
)


@pytest.mark.parametrize(("name", "day"), PLACES)
def test_days_begin_when_the_clock_shows_them_for_good(name: str, day: str) -> None:
    """`day_start` is the first minute from which on no clock reading is of an earlier date."""
    tz, first = ZoneInfo(name), date.fromisoformat(day)
    begin = datetime(first.year, first.month, first.day, tzinfo=UTC) - timedelta(days=2)
    minutes = [begin + timedelta(minutes=m) for m in range(7 * 1440)]
    for n in range(4):
        wanted = first + timedelta(days=n)
        earlier = [m for m in minutes if m.astimezone(tz).date() < wanted]
        assert day_start(wanted, tz) == earlier[-1] + timedelta(minutes=1)


@pytest.mark.parametrize(("name", "day"), PLACES)
@pytest.mark.parametrize("unit", ["hour", "day", "week", "month"])
def test_units_touch_and_cover_and_say_what_the_clock_says(name: str, day: str, unit: str) -> None:
    """The units of a stretch tile it; each minute lies in the unit its clock names."""
    tz = ZoneInfo(name)
    stretch = Period.parse(f"{day}/P5D", Calendar(name)).resolve(NOW)
    found = slots(stretch, unit)
    assert (found[0].start, found[-1].end) == (stretch.start, stretch.end)
    assert all(a.end == b.start for a, b in pairwise(found))
    for slot in found:
        middle = slot.start + (slot.end - slot.start) // 2
        assert slot.label == label(middle.replace(second=0, microsecond=0), unit, tz)


@given(
    place=st.sampled_from(PLACES),
    minutes=st.integers(0, 6 * 1440),
    fold=st.booleans(),
)  # fmt: skip
def test_wall_clock_times_turn_back_into_themselves(place: tuple[str, str], minutes: int, fold: bool) -> None:
    """A local time that exists is shown at the instant it is turned into; one that never does is the change itself."""
    name, day = place
    wall = datetime.fromisoformat(day) + timedelta(minutes=minutes)
    tz = zone(name)
    at = to_utc(wall, tz, later=fold)
    kind = classify(wall, tz)
    if kind == "never":
        assert [c.at for c in changes(at - timedelta(hours=1), at + timedelta(hours=1), tz)] == [at]
    else:
        assert local(at, tz) == wall
        other = to_utc(wall, tz, later=not fold)
        assert (at != other) == (kind == "twice")


@given(st.sampled_from(PLACES), st.integers(0, 2000))
def test_changes_are_where_the_offset_differs(place: tuple[str, str], days: int) -> None:
    """Between two changes the offset is one; at each it is another."""
    tz = zone(place[0])
    start = datetime(2010, 1, 1, tzinfo=UTC) + timedelta(days=days)
    found = changes(start, start + timedelta(days=400), tz)
    for change in found:
        assert offset(change.at, tz) == change.after != change.before
        assert offset(change.at - timedelta(microseconds=1), tz) == change.before
    for a, b in pairwise([start, *(c.at for c in found)]):
        assert offset(a, tz) == offset(b - timedelta(microseconds=1), tz)


@pytest.mark.parametrize(
    ("text", "words", "exact"),
    [
        ("2026-03", "1 to 31 March 2026", "2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00"),
        ("2026-W14", "30 March to 5 April 2026", "2026-03-30 00:00 +01:00 to 2026-04-06 00:00 +01:00"),
        ("2026-W53", "28 December 2026 to 3 January 2027", "2026-12-28 00:00 +00:00 to 2027-01-04 00:00 +00:00"),
        ("2026-Q2", "1 April to 30 June 2026", "2026-04-01 00:00 +01:00 to 2026-07-01 00:00 +01:00"),
        ("2026-061", "2 March 2026", "2026-03-02 00:00 +00:00 to 2026-03-03 00:00 +00:00"),
        ("2026-03-01/15", "1 to 15 March 2026", "2026-03-01 00:00 +00:00 to 2026-03-16 00:00 +00:00"),
        ("2026-01/2026-03", "1 January to 31 March 2026", "2026-01-01 00:00 +00:00 to 2026-04-01 00:00 +01:00"),
        ("P1M/2026-03-15", "16 February to 15 March 2026", "2026-02-16 00:00 +00:00 to 2026-03-16 00:00 +00:00"),
        ("2026-03-02T08:00/PT12H", "2 March 2026 08:00 to 20:00", "2026-03-02 08:00 +00:00 to 2026-03-02 20:00 +00:00"),
        ("2026-03-02T08:00/18:30", "2 March 2026 08:00 to 18:30", "2026-03-02 08:00 +00:00 to 2026-03-02 18:30 +00:00"),
        ("2026-03-01T00:00/2026-03-31T23:59", "1 to 31 March 2026",
         "2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00"),
        ("2026-03-28T12:00Z/2026-03-29T12:00Z", "28 March 2026 12:00 to 29 March 2026 13:00",
         "2026-03-28 12:00 +00:00 to 2026-03-29 13:00 +01:00"),
        ("last month", "1 to 31 March 2026", "2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00"),
        ("this month", "1 April 2026 00:00 to 08:12", "2026-04-01 00:00 +01:00 to 2026-04-01 08:12 +01:00"),
        ("yesterday", "31 March 2026", "2026-03-31 00:00 +01:00 to 2026-04-01 00:00 +01:00"),
        ("last week", "23 to 29 March 2026", "2026-03-23 00:00 +00:00 to 2026-03-30 00:00 +01:00"),
        ("last 7 days", "25 to 31 March 2026", "2026-03-25 00:00 +00:00 to 2026-04-01 00:00 +01:00"),
        ("last 24 hours", "31 March 2026 08:12 to 1 April 2026 08:12",
         "2026-03-31 08:12 +01:00 to 2026-04-01 08:12 +01:00"),
        ("last 2 quarters", "1 October 2025 to 31 March 2026", "2025-10-01 00:00 +01:00 to 2026-04-01 00:00 +01:00"),
        ("last pay", "16 to 29 March 2026", "2026-03-16 00:00 +00:00 to 2026-03-30 00:00 +01:00"),
        ("trade 2026-12-30", "23 November 2026 to 3 January 2027",
         "2026-11-23 00:00 +00:00 to 2027-01-04 00:00 +00:00"),
        ("FY2026-Q2", "6 July to 5 October 2026", "2026-07-06 00:00 +01:00 to 2026-10-06 00:00 +01:00"),
        ("year to date", "1 January 2026 00:00 to 1 April 2026 08:12",
         "2026-01-01 00:00 +00:00 to 2026-04-01 08:12 +01:00"),
    ],
)  # fmt: skip
def test_written_periods(text: str, words: str, exact: str) -> None:
    """Each form means exactly this at 08:12 on 1 April 2026 in Lisbon."""
    stretch = Period.parse(text, LISBON).resolve(NOW)
    assert (stretch.words, stretch.exact) == (words, exact)


@pytest.mark.parametrize(
    ("text", "n", "stepped"),
    [
        ("2026-03", -1, "2026-02"), ("2026-01", -1, "2025-12"), ("2026-W01", -1, "2025-W52"), ("2026", 1, "2027"),
        ("2026-03-01/2026-03-15", 1, "2026-03-16/2026-03-30"), ("last month", -1, "2026-02"), ("FY2026", -1, "FY2025"),
        ("last pay", -1, "2026-03-02/2026-03-15"), ("last 7 days", -1, "2026-03-18/2026-03-24"),
        ("2026-03-02T08:00/PT12H", 2, "2026-03-03T08:00:00Z/2026-03-03T20:00:00Z"),
    ],
)  # fmt: skip
def test_stepping(text: str, n: int, stepped: str) -> None:
    """A calendar unit steps to the calendar unit; anything else by its own length."""
    assert Period.parse(text, LISBON).step(n, NOW).text == stepped


@pytest.mark.parametrize(
    "text",
    ["", "lastweek", "2026-13", "2026-02-30", "2026-W60", "2026-366", "last 0 days", "next month", "2026-03/2026-01",
     "../..", "P1D/P1D", "2026-03-01T25:00/PT1H", "this 3 days", "2026-3-1", "03/04/2026"],
)  # fmt: skip
def test_what_cannot_be_meant_is_refused(text: str) -> None:
    """Unreadable or impossible periods raise an error that names what was written."""
    with pytest.raises(RequestError) as error:
        Period.parse(text, LISBON).resolve(NOW)
    assert text.split("/")[0] in str(error.value)


def test_open_ends_come_from_the_records() -> None:
    """`all` runs from the first to the last moment of the data and says it exactly; without data it is refused."""
    extent = (datetime(2026, 1, 1, 10, tzinfo=UTC), datetime(2026, 3, 1, 12, 0, 0, 1, tzinfo=UTC))
    stretch = Period.parse("all", LISBON).resolve(NOW, extent)
    assert (stretch.start, stretch.end) == extent
    assert stretch.words == "1 January 2026 10:00 to 1 March 2026 12:00"
    assert Period.parse("2026-02-01/..", LISBON).resolve(NOW, extent).end == extent[1]
    with pytest.raises(RequestError, match="takes an end from the records"):
        Period.parse("all", LISBON).resolve(NOW)


def test_doubtful_ends_are_noted() -> None:
    """An end that happens twice takes the second, a start that never happens the moment of the change; both are said."""
    twice = Period.parse("2025-10-26T01:30/2025-10-26T01:30:30", LISBON).resolve(NOW)
    assert twice.length == timedelta(hours=1, seconds=30)
    assert len(twice.notes) == 2
    never = Period.parse("2026-03-29T01:30/2026-03-29T03:00", LISBON).resolve(NOW)
    assert never.length == timedelta(hours=1)


@given(st.dates(date(2020, 1, 1), date(2032, 1, 1)), st.integers(0, 6))
def test_units_of_dates_hold_their_dates(day: date, week_start: int) -> None:
    """Every unit contains the day it was asked for, begins where its predecessor ends, and its label is a period."""
    calendar = Calendar("Europe/Lisbon", week_start, (4, 6), True, LISBON.cycles)
    for unit in calendar.units:
        first = calendar.floor(day, unit)
        following = calendar.step(first, unit)
        assert first <= day < following
        assert calendar.floor(following - timedelta(days=1), unit) == first
        assert calendar.step(following, unit, -1) == first
        stretch = Period.parse(calendar.label(first, unit), calendar).resolve(NOW)
        assert stretch.days == (first, following)


def test_zones_are_named_in_full() -> None:
    """Abbreviations mean different things in different countries and are refused."""
    with pytest.raises(UnknownName, match=r"there is no time zone 'IST'.*Europe/Lisbon"):
        zone("IST")


def expected(clock: time, first: date, last: date, holds: Callable[[date], bool], tz: str) -> list[datetime]:
    """Every local day that `holds`, at the time of day, worked out day by day."""
    found, day = [], first
    while day <= last:
        if holds(day):
            found.append(to_utc(datetime.combine(day, clock), zone(tz)))
        day += timedelta(days=1)
    return found


PLAIN = {
    "daily": lambda d: True,
    "weekdays": lambda d: d.weekday() < 5,
    "weekly on Monday and Thursday": lambda d: d.weekday() in (0, 3),
    "two-weekly on Friday": lambda d: d.weekday() == 4 and (d - date(2026, 1, 2)).days % 14 == 0,
    "monthly on the 1st": lambda d: d.day == 1,
    "monthly on the 3rd and the 17th": lambda d: d.day in (3, 17),
    "monthly on the last day": lambda d: (d + timedelta(days=1)).day == 1,
    "monthly on the second Tuesday": lambda d: d.weekday() == 1 and 8 <= d.day <= 14,
    "monthly on the last Sunday": lambda d: d.weekday() == 6 and (d + timedelta(days=7)).month != d.month,
    "first working day": lambda d: d.weekday() < 5 and all((d.replace(day=n)).weekday() > 4 for n in range(1, d.day)),
    "quarterly on the last day": lambda d: d.month % 3 == 0 and (d + timedelta(days=1)).day == 1,
    "quarterly on the 1st": lambda d: d.month % 3 == 1 and d.day == 1,
    "on the 1st, 10th and 15th of the month": lambda d: d.day in (1, 10, 15),
    "last Friday of each month": lambda d: d.weekday() == 4 and (d + timedelta(days=7)).month != d.month,
    "Mon, Wednesdays and Thurs": lambda d: d.weekday() in (0, 2, 3),
    "Mon-Fri": lambda d: d.weekday() < 5,
    "every other Friday": lambda d: d.weekday() == 4 and (d - date(2026, 1, 2)).days % 14 == 0,
    "1st of April": lambda d: (d.month, d.day) == (4, 1),
    "yearly on 29 March": lambda d: (d.month, d.day) == (3, 29),
    "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1": lambda d: d.weekday() < 5 and all((d + timedelta(days=n)).weekday() > 4 or (d + timedelta(days=n)).month != d.month for n in range(1, 6)),
    "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR": lambda d: d.weekday() == 4 and (d - date(2026, 1, 2)).days % 14 == 0,
    "FREQ=DAILY;UNTIL=20260315T235959": lambda d: d <= date(2026, 3, 15),
}  # fmt: skip


@given(
    st.sampled_from(sorted(PLAIN)), st.sampled_from(["Europe/Lisbon", "America/New_York", "Australia/Lord_Howe",
    "Asia/Kolkata"]),
    st.times().map(lambda t: t.replace(second=0, microsecond=0, tzinfo=None)), st.integers(0, 500), st.integers(0, 120),
)  # fmt: skip
def test_recurrences_equal_a_walk_through_the_days(text: str, tz: str, clock: time, begins: int, days: int) -> None:
    """Plain forms and rules of RFC 5545 fire on the days one would tick in a calendar, at that time of the zone's
    clock; steps of `after` are those of `between`.
    """
    when = text if "FREQ" in text else f"{text} at {clock:%H:%M}"
    rule = recurrence(when, tz, first=date(2026, 1, 2), at=f"{clock:%H:%M}" if "FREQ" in text else "")
    start = datetime(2026, 1, 1, tzinfo=UTC) + timedelta(days=begins)
    end = start + timedelta(days=days)
    every = expected(clock, date(2026, 1, 2), end.date() + timedelta(days=2), PLAIN[text], tz)
    wanted = [at for at in every if start < at <= end]
    assert rule.between(start, end) == wanted
    at, steps = rule.after(start), []
    while at and at <= end:
        steps.append(at)
        at = rule.after(at)
    assert steps == wanted


def test_a_time_that_never_or_twice_happens_is_due_once() -> None:
    """On the nights clocks change: the moment they go forward, the first of the two times they show."""
    rule = recurrence("daily at 01:30", "Europe/Lisbon")
    spring = rule.between(datetime(2026, 3, 28, 12, tzinfo=UTC), datetime(2026, 3, 29, 12, tzinfo=UTC))
    autumn = rule.between(datetime(2026, 10, 24, 12, tzinfo=UTC), datetime(2026, 10, 25, 12, tzinfo=UTC))
    assert spring == [datetime(2026, 3, 29, 1, tzinfo=UTC)]
    assert autumn == [datetime(2026, 10, 25, 0, 30, tzinfo=UTC)]
    steps = recurrence("every 30 minutes", "Europe/Lisbon")
    assert len(steps.between(datetime(2026, 3, 29, 0, tzinfo=UTC), datetime(2026, 3, 30, 0, tzinfo=UTC))) >= 46


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("daily", "write daily at 07:00"),
        ("fortnightly at 07:00", "is no recurrence; write daily at 07:00"),
        ("weekly on Mondy at 07:00", "are no weekdays"),
        ("two-weekly on Monday at 07:00", "say which: from = 2026-01-05"),
        ("monthly on the 30th at 07:00", "not every month has that day"),
        ("daily at 25:00", "is no time of day"),
        ("every 7 minutes", "does not fit a day"),
        ("FREQ=WEEKLY;BYDAY=MO", 'add at = "07:00"'),
        ("FREQ=FORTNIGHTLY;BYHOUR=7", "is no recurrence rule of RFC 5545"),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30;BYHOUR=7", "never fires"),
        ("FREQ=DAILY;INTERVAL=3;BYHOUR=7", "counts from a day"),
        ("twice a day", "is no recurrence; write daily at 07:00"),
        ("0 7 * * 1", "is a line of cron; write it in words: daily at 07:00"),
    ],
)  # fmt: skip
def test_recurrences_that_make_no_sense(text: str, why: str) -> None:
    """What cannot be read, or never happens, is an error that says what would be right."""
    with pytest.raises(RequestError, match=re.escape(why)):
        recurrence(text, "Europe/Lisbon")


@pytest.mark.parametrize("text", ["daily at 07:00", "hourly", "FREQ=DAILY;BYHOUR=7"])
def test_a_time_beside_a_time_is_refused(text: str) -> None:
    """It would have no effect."""
    with pytest.raises(RequestError, match="tells the time itself; leave at out"):
        recurrence(text, "Europe/Lisbon", at="08:00")


@pytest.mark.parametrize(("text", "meant"), [
    ("March 2026", "2026-03"), ("01/03/2026", "2026-03-01 or 2026-01-03"), ("28.3.2026", "2026-03-28"), ("lastmonth", "last month"),
    ("3/2026", "2026-03"), ("March 12, 2026", "2026-03-12"), ("Q1 2026", "2026-Q1"), ("KW 9/2026", "2026-W09"),
    ("since 20 March 2026", "2026-03-20/.."), ("until 2026-03-15", "../2026-03-15"), ("past 7 days", "last 7 days"),
    ("1.3.2026-15.3.2026", "2026-03-01/2026-03-15"), ("2026-03 - 2026-04", "2026-03/2026-04"), ("ytd", "year to date"),
    ("01/03/2026 to 05/03/2026", "2026-03-01/2026-03-05 or 2026-01-03/2026-05-03"), ("Jan-Mar 2026", "2026-01/2026-03"),
    ("1 to 15 March 2026", "2026-03-01/2026-03-15"), ("2026-03-02 08:00 - 20:00", "2026-03-02T08:00/20:00"),
])  # fmt: skip
def test_a_period_as_people_write_it_is_answered_with_the_right_one(text: str, meant: str) -> None:
    """The message says how it is written here, in a form that is read."""
    assert all(Period.parse(one, LISBON) for one in meant.split(" or "))
    with pytest.raises(RequestError, match=re.escape(f"did you mean {meant}? Periods")):
        Period.parse(text, LISBON).resolve(NOW)
