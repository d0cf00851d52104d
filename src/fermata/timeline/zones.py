"""Time zones: local wall-clock times to UTC and back, with nothing guessed.

Inside Fermata an instant is an aware `datetime` in UTC; a *local* time is naive and always travels
with its zone. The rules for local times that happen twice or never are those of PEP 495.
"""

from __future__ import annotations

import contextlib
import functools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from fermata.errors import FermataError, RequestError, UnknownName

__all__ = [
    "Change", "Kind", "Moment", "changes", "classify", "day_start", "instant", "local", "offset", "to_utc",
    "within_dates", "zone",
]  # fmt: skip

Kind = Literal["once", "twice", "never"]
Moment = datetime | date | str  # as people give an instant
YEARS = range(1900, 2201)  # that may be asked for; records lie within 1970 to 2099
MICROSECOND, DAY = timedelta(microseconds=1), timedelta(days=1)


@functools.cache
def zone(name: str) -> ZoneInfo:
    """The IANA zone called `name`; abbreviations such as `IST` are refused, since several countries use them."""
    try:
        if name in available_timezones():
            return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError):
        pass
    raise UnknownName.of("time zone", name, available_timezones(), where="(IANA names, as Europe/Lisbon)")


@contextlib.contextmanager
def within_dates(what: str) -> Iterator[Callable[..., None]]:
    """Refuses `what`, a period or a length, where reckoning with it leaves the dates there are, and gives what refuses
    instants beyond the `YEARS` that are looked at. Raises RequestError.
    """
    beyond = f"{what} reaches beyond the years {YEARS[0]} to {YEARS[-1]}"

    def check(*instants: datetime | None) -> None:
        if not all(at is None or at.year in YEARS for at in instants):
            raise RequestError(beyond)

    try:
        yield check
    except FermataError:
        raise
    except (OverflowError, ValueError):
        raise RequestError(beyond) from None


def offset(at: datetime, tz: ZoneInfo) -> timedelta:
    """What the zone's clock shows minus UTC at the instant `at`."""
    return at.astimezone(tz).utcoffset() or timedelta()


def local(at: datetime, tz: ZoneInfo) -> datetime:
    """What the zone's clock shows at the instant `at`, as a naive time."""
    return at.astimezone(tz).replace(tzinfo=None)


def classify(wall: datetime, tz: ZoneInfo) -> Kind:
    """Whether the wall-clock time happens once, twice (clock set back) or never (clock set forward)."""
    first, second = (wall.replace(tzinfo=tz, fold=f) for f in (0, 1))
    if first.utcoffset() == second.utcoffset():
        return "once"
    back = first.astimezone(UTC).astimezone(tz).replace(tzinfo=None, fold=0)
    return "twice" if back == wall else "never"


def to_utc(wall: datetime, tz: ZoneInfo, *, later: bool = False) -> datetime:
    """The instant at which the zone's clock shows `wall`.

    A time that happens twice is the first of the two, or the second if `later`. A time that never
    happens is the moment the clock was set forward.
    """
    kind = classify(wall, tz)
    if kind == "never":
        before, after = (wall.replace(tzinfo=tz, fold=f).astimezone(UTC) for f in (1, 0))
        return changes(before, after + MICROSECOND, tz)[0].at
    return wall.replace(tzinfo=tz, fold=int(later and kind == "twice")).astimezone(UTC)


def instant(said: Moment, tz: ZoneInfo, what: str = "now") -> datetime:
    """The instant that a time, a date (its beginning) or a text in ISO 8601 means; without an offset it is on the
    zone's clock. Raises RequestError, naming `what` it is.

    >>> instant("2026-07-01T09:00", ZoneInfo("Europe/Lisbon")).isoformat()
    '2026-07-01T08:00:00+00:00'
    """
    if isinstance(said, str):
        try:
            said = datetime.fromisoformat(said)
        except ValueError:
            raise RequestError(f"{what} {said!r} is not a time; write 2026-04-01T09:00") from None
    with within_dates(f"{what} {said!s}") as check:
        check(said if isinstance(said, datetime) else datetime.combine(said, time()))
        if isinstance(said, datetime):
            return said if said.tzinfo else to_utc(said, tz)
        return day_start(said, tz)


def day_start(day: date, tz: ZoneInfo) -> datetime:
    """The first instant from which the zone's clock shows `day` or a later date for good.

    Where midnight is skipped this is the moment of the change; where midnight happens twice (clocks set
    back at one minute past) it is the second, so that an hour shown with yesterday's date stays yesterday's.
    A day the zone skipped altogether starts where the next one does, and so is empty.
    """
    return to_utc(datetime.combine(day, time()), tz, later=True)


@dataclass(frozen=True, slots=True)
class Change:
    """A moment at which a zone's offset changes: `before` up to `at`, `after` from `at` on."""

    at: datetime
    before: timedelta
    after: timedelta

    @property
    def sets_back(self) -> bool:
        """True where wall-clock times happen twice, False where some never happen."""
        return self.after < self.before

    @property
    def window(self) -> tuple[datetime, datetime]:
        """The wall-clock times [from, to) that happen twice or never."""
        naive = self.at.replace(tzinfo=None)
        low, high = sorted((self.before, self.after))
        return naive + low, naive + high


def changes(start: datetime, end: datetime, tz: ZoneInfo) -> list[Change]:
    """Every change of the zone's offset at an instant in (start, end], in order.

    Looks at each day and halves the interval where the offset differs, so it finds what the zone data
    hold without depending on how they are stored. Two opposite changes within one day would be missed;
    no zone in use has had that.
    """
    found = []
    a, shown = start, offset(start, tz)
    while a < end:
        b = min(a + DAY, end)
        after = offset(b, tz)
        if shown != after:
            low, high = a, b
            while high - low > MICROSECOND:
                middle = low + (high - low) // 2
                low, high = (middle, high) if offset(middle, tz) == shown else (low, middle)
            found.append(Change(high, shown, after))
        a, shown = b, after
    return found
