"""Periods: what people write, and the half-open stretch of time it means on a given day.

>>> from datetime import datetime, UTC
>>> lisbon = Calendar("Europe/Lisbon")
>>> Period.parse("2026-03", lisbon).resolve(datetime(2026, 4, 1, tzinfo=UTC)).exact
'2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00'
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from fermata.digest import apart
from fermata.errors import RequestError
from fermata.timeline import forms, otherwise, words
from fermata.timeline.cycles import Calendar
from fermata.timeline.zones import classify, day_start, local, to_utc, within_dates

__all__ = ["Period", "Stretch", "last_moment"]

EXAMPLES = (
    "2026-03, 2026-W14, 2026-Q2, 2026-03-02, 2026-03-01/2026-03-15, 2026-03-02T08:00/PT12H, "
    "yesterday, last week, last 7 days, last 24 hours, month to date, all"
)
LAST_MINUTE = (time(23, 59), time(23, 59, 59))
CLOCK_UNITS = {"hour": timedelta(hours=1), "minute": timedelta(minutes=1)}


@dataclass(frozen=True, slots=True)
class Stretch:
    """A half-open stretch of time [start, end): aware UTC instants, read on the calendar's zone.

    `text` is the period as asked for, `days` the local days [first, last) where the stretch is made of whole
    days (None otherwise), `relative` whether it moves with the clock, `notes` what a reader should know.
    """

    start: datetime
    end: datetime
    calendar: Calendar
    text: str = field(metadata=apart("how it was asked for"))
    relative: bool = field(default=False, metadata=apart("how it was asked for"))
    days: tuple[date, date] | None = field(default=None, metadata=apart("the same instants as days"))
    notes: tuple[str, ...] = field(default=(), metadata=apart("words"))

    @property
    def words(self) -> str:
        """The period in words: `1 to 31 March 2026`."""
        if self.days:
            return words.of_days(*self.days)
        zone = self.calendar.zone
        return words.of_times(local(self.start, zone), local(self._shown_end, zone))

    @property
    def exact(self) -> str:
        """Both edges with their offsets; the second is excluded."""
        zone = self.calendar.zone
        return f"{words.stamp(self.start, zone)} to {words.stamp(self._shown_end, zone)}"

    @property
    def _shown_end(self) -> datetime:
        """The end, without the microsecond that lets an open end include the last record."""
        return last_moment(self.end)

    @property
    def length(self) -> timedelta:
        """The exact time between the edges: a day of a clock change is 23 or 25 hours."""
        return self.end - self.start


def last_moment(end: datetime) -> datetime:
    """An end without the microsecond that lets it include the last record of a log."""
    return end - timedelta(microseconds=1) if end.microsecond == 1 else end


@dataclass(frozen=True, slots=True)
class Period:
    """A period as written, checked to be readable. Relative ones stay relative until resolved.

    `parse` refuses what it cannot read, with examples of what it can.
    """

    text: str
    calendar: Calendar
    form: object

    @classmethod
    def parse(cls, text: str, calendar: Calendar) -> Period:
        """The period `text` writes. Raises RequestError naming the forms that exist.

        >>> march = Period.parse("2026-03", Calendar("Europe/Lisbon"))
        >>> march.resolve(datetime(2026, 4, 1, tzinfo=UTC)).exact
        '2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00'
        """
        clean = " ".join(str(text).split())
        with within_dates(f"the period {clean!r}"):
            return cls(clean, calendar, _read(clean, calendar))

    @property
    def relative(self) -> bool:
        """Whether the period moves with the clock.

        >>> [Period.parse(text, Calendar("UTC")).relative for text in ("last month", "2026-03")]
        [True, False]
        """
        return isinstance(self.form, forms.Relative)

    def resolve(self, now: datetime, extent: tuple[datetime, datetime] | None = None) -> Stretch:
        """The stretch this period means at the instant `now`.

        `extent` is the first and the last moment of the data (the second excluded); `all` and open ends need it.
        A date-only end includes that day, an end with a clock time is excluded.

        >>> Period.parse("yesterday", Calendar("UTC")).resolve(datetime(2026, 4, 1, tzinfo=UTC)).words
        '31 March 2026'
        """
        with within_dates(f"the period {self.text!r}") as check:
            if isinstance(self.form, _Interval):
                return self._interval(_ends(self.form, self.calendar, check), extent)
            if isinstance(self.form, forms.Relative):
                found = self._relative(self.form, now)
            else:
                assert isinstance(self.form, forms.Unit)
                found = self._days(self.form.first, _after(self.form, self.calendar))
            check(found.start, found.end)
            return found

    def step(self, n: int, now: datetime, extent: tuple[datetime, datetime] | None = None) -> Period:
        """The period `n` lengths later (earlier if negative), as a fixed period.

        A calendar unit gives the calendar unit that many after; anything else moves by its own length,
        whole days by days, the rest by exact time.

        >>> april = datetime(2026, 4, 1, tzinfo=UTC)
        >>> Period.parse("2026-03", Calendar("UTC")).step(-1, april).resolve(april).words
        '1 to 28 February 2026'
        """
        with within_dates(f"the period {self.text!r}, moved by {n},"):
            return self._stepped(n, self.resolve(now, extent))

    def _stepped(self, n: int, stretch: Stretch) -> Period:
        unit = self.form if isinstance(self.form, forms.Unit) else None
        if isinstance(self.form, forms.Relative) and self.form.count == 1 and self.form.unit not in CLOCK_UNITS:
            first = self.calendar.floor(local(stretch.start, self.calendar.zone).date(), self.form.unit)
            unit = forms.Unit(self.form.unit, first)
        if unit:
            name = "week" if unit.name == "iso week" else unit.name
            first = self.calendar.step(unit.first, name, n)
            label = self.calendar.label(first, name)
            if unit.name == "iso week":
                label = Calendar(self.calendar.zone_name).label(first, "week")
            return Period.parse(label, self.calendar)
        if stretch.days:
            first, end = stretch.days
            shift = (end - first) * n
            last = end + shift - timedelta(days=1)
            return Period.parse(f"{(first + shift).isoformat()}/{last.isoformat()}", self.calendar)
        start, end_at = stretch.start + n * stretch.length, stretch.end + n * stretch.length
        return Period.parse(f"{_iso(start)}/{_iso(end_at)}", self.calendar)

    def _days(self, first: date, end: date, *notes: str) -> Stretch:
        zone = self.calendar.zone
        start, stop = day_start(first, zone), day_start(end, zone)
        return _checked(Stretch(start, stop, self.calendar, self.text, self.relative, (first, end), notes))

    def _relative(self, form: forms.Relative, now: datetime) -> Stretch:
        zone = self.calendar.zone
        if form.unit in CLOCK_UNITS:
            length = CLOCK_UNITS[form.unit] * form.count
            start = now - length if form.which == "last" else _hour_floor(now, zone)
            return _checked(Stretch(start, now, self.calendar, self.text, True))
        today = local(now, zone).date()
        this = self.calendar.floor(today, form.unit)
        if form.which == "last":
            return self._days(self.calendar.step(this, form.unit, -form.count), this)
        note = f"{self.text} ends now, at {words.stamp(now, zone)}"
        return _checked(Stretch(day_start(this, zone), now, self.calendar, self.text, True, None, (note,)))

    def _interval(self, ends: _Ends, extent: tuple[datetime, datetime] | None) -> Stretch:
        start, end, notes, first, last = ends
        if start is None or end is None:
            if extent is None:
                raise RequestError(f"period {self.text!r} takes an end from the records, and there are none")
            start = start if start is not None else extent[0]
            end = end if end is not None else max(extent[1], start + timedelta(microseconds=1))
        days = (first, last) if first and last else None
        return _checked(Stretch(start, end, self.calendar, self.text, False, days, tuple(notes)))


@dataclass(frozen=True, slots=True)
class _Interval:
    """Two ends as read; None is open. A duration stands in for one of them."""

    start: forms.Edge | forms.Duration | None
    end: forms.Edge | forms.Duration | None


def _read(text: str, calendar: Calendar, *, helped: bool = True) -> object:
    if text.lower() == "all":
        return _Interval(None, None)
    if unit := forms.read_unit(text, calendar):
        return unit
    if relative := forms.read_relative(text, calendar):
        return relative
    for cycle in calendar.cycles:
        if text.startswith(cycle.name + " ") and (u := forms.read_unit(text[len(cycle.name) + 1 :], calendar)):
            return forms.Unit(cycle.name, cycle.floor(u.first))
    left, slash, right = text.partition("/")
    if slash:
        ends = [
            _read_end(left.strip(), calendar),
            _read_end(forms.complete_end(left, right.strip()), calendar),
        ]
        if False not in ends and not all(isinstance(e, forms.Duration) for e in ends) and ends != [None, None]:
            return _Interval(*ends)  # type: ignore[arg-type]  # False is ruled out above
    meant = otherwise.meant(text, lambda other: _reads(other, calendar)) if helped else ""
    year = "; a month stands with its year, as 2026-03" if otherwise.month(text) else ""
    hint = f"; did you mean {meant}? Periods" if meant else f"{year}; periods"
    raise RequestError(f"cannot read the period {text!r}{hint} are written like {EXAMPLES}")


def _reads(text: str, calendar: Calendar) -> bool:
    """Whether a period may be written like this."""
    try:
        _read(text, calendar, helped=False)
    except (RequestError, ValueError):
        return False
    return True


def _read_end(text: str, calendar: Calendar) -> forms.Edge | forms.Duration | bool | None:
    if text in ("..", ""):
        return None
    return forms.read_edge(text, calendar) or forms.read_duration(text) or False


def _after(unit: forms.Unit, calendar: Calendar) -> date:
    return calendar.step(unit.first, "week" if unit.name == "iso week" else unit.name)


_Ends = tuple[datetime | None, datetime | None, list[str], date | None, date | None]


def _ends(form: _Interval, calendar: Calendar, check: Callable[..., None]) -> _Ends:
    """Start, end, notes, and the whole days they are made of (None where they are not)."""
    notes: list[str] = []
    start, first = _edge(form.start, calendar, notes, is_end=False)
    end, last = _edge(form.end, calendar, notes, is_end=True)
    if isinstance(form.end, forms.Duration) and start is not None:
        end, last = _moved(start, first, form.end, calendar, 1)
    if isinstance(form.start, forms.Duration) and end is not None:
        start, first = _moved(end, last, form.start, calendar, -1)
    check(start, end)
    return start, end, notes, first, last


def _edge(
    edge: forms.Edge | forms.Duration | None, calendar: Calendar, notes: list[str], *, is_end: bool
) -> tuple[datetime | None, date | None]:
    if not isinstance(edge, forms.Edge):
        return None, None
    if edge.unit:
        day = _after(edge.unit, calendar) if is_end else edge.unit.first
        return day_start(day, calendar.zone), day
    assert edge.at is not None
    if edge.at.tzinfo:
        return edge.at, None
    wall = edge.at
    if is_end and wall.time() in LAST_MINUTE:
        day = wall.date() + timedelta(days=1)
        notes.append(f"the end {wall:%H:%M:%S} is taken as the end of that day")
        return day_start(day, calendar.zone), day
    kind = classify(wall, calendar.zone)
    if kind == "twice":
        notes.append(f"{wall:%Y-%m-%d %H:%M} happens twice; the {'second' if is_end else 'first'} is taken")
    if kind == "never":
        notes.append(f"{wall:%Y-%m-%d %H:%M} does not exist; the moment of the clock change is taken")
    whole = wall.date() if wall.time() == time() and kind == "once" else None
    return to_utc(wall, calendar.zone, later=is_end), whole


def _moved(
    at: datetime, day: date | None, by: forms.Duration, calendar: Calendar, sign: int
) -> tuple[datetime, date | None]:
    if day and not by.exact:
        moved = by.moved(datetime.combine(day, time()), sign).date()
        return day_start(moved, calendar.zone), moved
    wall = by.moved(local(at, calendar.zone), sign)
    base = to_utc(wall, calendar.zone) if by.months or by.days else at
    return base + sign * by.exact, None


def _hour_floor(now: datetime, zone: ZoneInfo) -> datetime:
    wall = local(now, zone)
    return now - timedelta(minutes=wall.minute, seconds=wall.second, microseconds=wall.microsecond)


def _iso(at: datetime) -> str:
    return at.astimezone(UTC).replace(tzinfo=None).isoformat() + "Z"


def _checked(stretch: Stretch) -> Stretch:
    if stretch.end <= stretch.start:
        raise RequestError(f"period {stretch.text!r} ends before it begins ({stretch.exact})")
    return stretch
