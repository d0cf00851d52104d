"""Hours, holidays, working patterns and factors as `fermata.toml` declares them.

[holidays.house]
country = "PT"                                   # public holidays of a country, and of a `region`
files   = "registers/closed.ics"                 # all-day events of calendars
days    = ["2025-12-24"]

[hours.office]
days     = "monday to friday"
times    = ["09:00-13:00", "14:00-18:00"]
holidays = "house"
on_holidays = "closed"                           # or only, or as usual

[hours.by-wing]                                  # of each place its own
by     = "place.top"
each   = { "North wing" = "office" }
others = "stage"

[patterns.full-time]
hours    = { monday = 8, tuesday = 8, wednesday = 8, thursday = 8, friday = 6 }
holidays = "house"

[factors.sheet_weight]
value  = "5.0"
unit   = "g/sheets"
source = "ISO 216 and ISO 536: A4 at 80 g/m2"
"""

from __future__ import annotations

import glob
import hashlib
import importlib.metadata
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from fermata.analysis.plan import HoursOf
from fermata.decimals import DIGITS
from fermata.errors import ConfigError, RequestError, SourceError, UnknownName
from fermata.reports.compile.calendars import Factor, Terms
from fermata.reports.compile.generated_logs import Pattern
from fermata.strict import Strict, listed
from fermata.timeline.hours import Hours, week
from fermata.timeline.units import WEEKDAY_NAMES

__all__ = ["FactorMap", "HolidayMap", "HoursMap", "PatternMap", "TermMaps"]

REGIONS = ("subdivisions", "subdivisions_aliases", "_deprecated_subdivisions")  # names the library takes
YEARS = range(1990, 2061)
EVERY_DAY = "monday to sunday"


class HolidayMap(Strict):
    """Days on which things are different: of a country, of calendar files, one by one."""

    country: str = ""
    region: str = ""
    files: tuple[str, ...] = ()
    days: tuple[date, ...] = ()

    _files = listed("files")

    def told(self, base: Path) -> list[str]:
        """All that the dates come from, without working them out: what was made with the same is still right."""
        found = [self.country, self.region, *(d.isoformat() for d in self.days)]
        if self.country:
            found.append(importlib.metadata.version("holidays"))
        for pattern in self.files:
            paths = sorted(glob.glob(str(Path(glob.escape(str(base))) / pattern)))
            found += [hashlib.sha256(Path(p).read_bytes()).hexdigest() for p in paths] or [pattern]
        return found

    def dates(self, name: str, base: Path) -> tuple[date, ...]:
        """All of them, in order. Raises RequestError, SourceError."""
        found = set(self.days)
        if self.country:
            import holidays
            from holidays.registry import EntityLoader

            place = getattr(holidays, self.country, None)
            if not isinstance(place, EntityLoader):
                why = f"no holidays are known of the country {self.country!r}; write its two letters, such as PT"
                raise RequestError(f"holidays.{name}: {why}")
            regions: dict[str, tuple[str, ...]] = {sort: tuple(getattr(place, sort, ())) for sort in REGIONS}
            if self.region and not any(self.region in names for names in regions.values()):
                own = regions["subdivisions"]
                has = f"its regions: {', '.join(own)}" if own else "leave region out"
                why = f"no holidays are known of the region {self.region!r} of {self.country}; {has}"
                raise RequestError(f"holidays.{name}: {why}")
            found |= _of_country(self.country, self.region)
        for pattern in self.files:
            paths = sorted(glob.glob(str(Path(glob.escape(str(base))) / pattern)))
            if not paths:
                raise SourceError(f"holidays.{name}: no file matches {pattern}")
            for path in paths:
                found |= _all_day(Path(path))
        return tuple(sorted(found))


@cache
def _of_country(country: str, region: str) -> frozenset[date]:
    """The holidays of a place that the library knows; several workspaces and patterns ask for the same."""
    import holidays

    return frozenset(holidays.country_holidays(country, subdiv=region or None, years=YEARS))


def _all_day(path: Path) -> set[date]:
    """The local days of all-day events of a calendar, recurring ones included."""
    from fermata.intake.readers.recurring import calendar_of, occurrences

    try:
        data = path.read_bytes()
    except OSError as e:
        raise SourceError(f"{path}: cannot be read as a calendar: {e.strerror}") from None
    calendar, _ = calendar_of(data, path)  # what repeats within a day is no day
    events = occurrences(calendar, date(YEARS[0], 1, 1), date(YEARS[-1], 1, 1), path)
    found: set[date] = set()
    for event in events:
        start = event["DTSTART"].dt
        if isinstance(start, datetime):
            continue
        end = event["DTEND"].dt if "DTEND" in event else start + timedelta(days=1)
        while start < end:
            found.add(start)
            start += timedelta(days=1)
    return found


class HoursMap(Strict):
    """Hours of the week, or (with `by`) which hours go for which value of a field."""

    days: str = EVERY_DAY
    times: tuple[str, ...] = ()
    holidays: str = ""
    on_holidays: Literal["as usual", "closed", "only"] = "closed"
    by: str = ""
    each: dict[str, str] = Field(default_factory=dict)
    others: str = ""

    _times = listed("times")


class PatternMap(Strict):
    """Hours required on each weekday, none on the holidays."""

    hours: dict[
        Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"],
        Annotated[Decimal, Field(ge=0, le=24)],
    ]
    holidays: str = ""


class FactorMap(Strict):
    """A stated number with its unit and where it is from."""

    value: Decimal = Field(max_digits=2 * DIGITS, decimal_places=DIGITS)
    unit: str
    source: str = Field(min_length=1)


class TermMaps(Strict):
    """All tables of this kind together."""

    holidays: dict[str, HolidayMap] = Field(default_factory=dict)
    hours: dict[str, HoursMap] = Field(default_factory=dict)
    patterns: dict[str, PatternMap] = Field(default_factory=dict)
    factors: dict[str, FactorMap] = Field(default_factory=dict)

    def terms(self, base: Path, workdays: str) -> Terms:
        """What reports use of them. Raises ConfigError."""
        try:
            plain = {n: self._hours(n, h, base) for n, h in self.hours.items() if not h.by}
            hours = {n: HoursOf(h) for n, h in plain.items()}
            for name, table in self.hours.items():
                if table.by:
                    hours[name] = self._by(name, table, plain)
            if workdays and workdays not in plain:
                raise UnknownName.of("set of hours", workdays, plain, where="for workdays")
        except RequestError as e:
            raise ConfigError("fermata.toml", [str(e)]) from None
        factors = {n: Factor(f.value, f.unit, f.source) for n, f in self.factors.items()}
        return Terms(hours, plain.get(workdays), factors)

    def working_patterns(self, base: Path) -> dict[str, Pattern]:
        """The working patterns by name. Raises UnknownName."""
        found = {}
        for name, table in self.patterns.items():
            daily = {day.capitalize(): int(hours * 60) for day, hours in table.hours.items()}
            minutes = tuple(daily.get(day, 0) for day in WEEKDAY_NAMES)
            found[name] = Pattern(minutes, self.days(table.holidays, f"patterns.{name}", base))
        return found

    def days(self, name: str, where: str, base: Path) -> tuple[date, ...]:
        """The days of a set of holidays. Raises UnknownName."""
        if not name:
            return ()
        if name not in self.holidays:
            raise UnknownName.of("set of holidays", name, self.holidays, where=f"({where})")
        return self.holidays[name].dates(name, base)

    def told(self, name: str, base: Path) -> list[str]:
        """What the days of a set of holidays come from; nothing where none is named."""
        return self.holidays[name].told(base) if name in self.holidays else []

    def _hours(self, name: str, table: HoursMap, base: Path) -> Hours:
        try:
            windows = week(table.days, table.times)
        except RequestError as e:
            raise RequestError(f"hours.{name}: {e}") from None
        return Hours(name, windows, self.days(table.holidays, f"hours.{name}", base), table.on_holidays)

    def _by(self, name: str, table: HoursMap, plain: dict[str, Hours]) -> HoursOf:
        for wanted in (*table.each.values(), table.others):
            if wanted not in plain:
                raise UnknownName.of("set of hours", wanted, plain, where=f"(hours.{name})")
        return HoursOf(plain[table.others], table.by, tuple((v, plain[h]) for v, h in table.each.items()))
