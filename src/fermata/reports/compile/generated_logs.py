"""Generated logs: what is required, planned or allowed, as events made from registers and the calendar.

They are events like any others (somebody, a day, an amount), so that what was done and what should have been stand in
one report. Their names are those of the registers.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

from fermata.decimals import exact_number
from fermata.errors import DataError, UnknownName
from fermata.fields import Field
from fermata.registers.directory import Directory
from fermata.timeline import Stretch, slots
from fermata.timeline.hours import Hours
from fermata.timeline.zones import day_start, local, zone

__all__ = ["Amounts", "Entitled", "Given", "Pattern", "RequiredTime", "Targets"]

MICROSECOND = timedelta(microseconds=1)
Row = tuple[Any, ...]


@dataclass(frozen=True)
class Pattern:
    """A working pattern: minutes required on each weekday from Monday, none on the `holidays`, and the minutes of a day
    and of a week beyond which time is overtime (0: no limit)."""

    minutes: tuple[int, ...]
    holidays: tuple[date, ...] = ()

    def required(self, day: date) -> int:
        """Minutes required on a local day."""
        return 0 if day in self.holidays else self.minutes[day.weekday()]


@dataclass(frozen=True)
class Given:
    """What rows are made from: the registers, patterns by name, absences as (name, start, finish) and the workdays.

    `now` (aware) is the moment asked at, `until` (aware) the end of what the log beside holds; the zone is the
    workspace's.
    """

    registers: Directory
    patterns: Mapping[str, Pattern]
    now: datetime
    until: datetime | None
    zone: str
    workdays: Hours | None
    absences: tuple[tuple[str, datetime, datetime], ...] = ()


@dataclass(frozen=True)
class RequiredTime:
    """One event per person and local day with what their working pattern requires then.

    `required` counts for days that have ended, up to the end of what the log beside holds; `today` is what the day that
    has not ended requires, `whole` counts always. `excused` is the part of `required` that paid absences cover (an
    absence of part of the day covers no more than its length); `workday` is 1 where anything is required.
    """

    register: str
    pattern: str
    up_to: str
    rests_on: tuple[str, ...]  # the logs of the archive behind the log beside
    absences: str = ""
    inputs: tuple[Any, ...] = ()
    spans: bool = False

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        lengths = tuple(Field(n, "duration", "h:mm:ss") for n in ("required", "today", "whole", "excused"))
        return (Field("user", names=f"{self.register} id"), *lengths, Field("workday", "number", "days"))

    def rows(self, given: Given, stretch: Stretch) -> Iterator[Row]:
        """The events of the stretch: start, finish, then the fields."""
        register = given.registers.register(self.register)
        away = _away(given, self.register) if self.absences else {}
        own = Stretch(stretch.start, stretch.end, _calendar(stretch, given.zone), stretch.text)
        days = [(day_start(s.begins.date(), zone(given.zone)), s.begins.date()) for s in slots(own, "day")]
        days = [(at, day) for at, day in days if at >= stretch.start]
        for v in register.versions:
            name = v.attributes[self.pattern]
            if not name or v.archived:
                continue
            if name not in given.patterns:
                raise UnknownName.of(
                    "working pattern", str(name), given.patterns, where=f"({v.place} of {self.register})"
                )
            pattern = given.patterns[name]
            for at, day in days:
                naive = at.astimezone(UTC).replace(tzinfo=None)
                if not v.since <= naive < v.until:
                    continue
                due = pattern.required(day) * 60_000_000
                ended = day_start(day + timedelta(days=1), zone(given.zone)) <= given.now
                past = ended and given.until is not None and at < given.until
                today = due if at <= given.now and not ended else 0
                excused = min(due, _inside(away.get(v.id, []), day, given.zone)) if past else 0
                yield (naive, None, v.id, due if past else 0, today, due, excused, int(bool(due and past)))


def _away(given: Given, register: str) -> dict[str, list[tuple[datetime, datetime]]]:
    """Absences by the id of who was away."""
    known = given.registers.register(register)
    ids = {label: i for i, label in known.labels.items()}
    found: dict[str, list[tuple[datetime, datetime]]] = {}
    for label, start, finish in given.absences:
        if label in ids:
            found.setdefault(ids[label], []).append((start, finish))
    return found


def _inside(spans: list[tuple[datetime, datetime]], day: date, zone_name: str) -> int:
    """Microseconds of the local day that the spans cover; where they overlap, once."""
    start, end = day_start(day, zone(zone_name)), day_start(day + timedelta(days=1), zone(zone_name))
    total, at = 0, start
    for a, b in sorted(spans):
        a, b = max(a, at), min(b, end)
        if a < b:
            total += (b - a) // MICROSECOND
            at = b
    return total


@dataclass(frozen=True)
class Amounts:
    """The amounts of an assignment (targets, budgets, estimates), one for each calendar unit `per` that begins while
    its row is valid; with `once`, one for the row. `spread` puts it on the unit's start, or in whole parts on its days
    or workdays.
    """

    register: str
    links: tuple[tuple[str, str], ...]
    amount: str
    unit: str
    scale: int
    per: str
    spread: str
    up_to: str
    rests_on: tuple[str, ...]  # the logs of the archive behind the log beside
    inputs: tuple[Any, ...] = ()
    spans: bool = False

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        kind: Any = (
            "money" if self.unit.isupper() and len(self.unit) == 3 else "duration" if self.unit == "h" else "decimal"
        )
        amount = Field(
            self.amount, kind, "h:mm:ss" if kind == "duration" else self.unit, 0 if kind == "duration" else self.scale
        )
        return (*(Field(k, names=n) for k, n in self.links), amount)

    def rows(self, given: Given, stretch: Stretch) -> Iterator[Row]:
        """The events of the stretch: start, finish, then the fields."""
        register = given.registers.register(self.register)
        factor = 3_600_000_000 if self.fields[-1].type == "duration" else 10**self.scale
        for a in register.assignments:
            text = a.attributes[self.amount]
            try:
                amount = int((exact_number(text) * factor).to_integral_value())
            except ValueError:
                what = f"{text!r} is not a number" if text else "is empty; write a number, or leave the row out"
                raise DataError(f"{a.place} of {self.register}: {self.amount} {what}") from None
            links = tuple(a.links[k] for k, _ in self.links)
            for at, part in self._parts(amount, a, given, stretch):
                yield (at, None, *links, part)

    def _parts(self, amount: int, a: Any, given: Given, stretch: Stretch) -> Iterator[tuple[datetime, int]]:
        calendar = _calendar(stretch, given.zone)
        if self.per == "once":
            if stretch.start.replace(tzinfo=None) <= a.since < stretch.end.replace(tzinfo=None):
                yield a.since, amount
            return
        tz = calendar.zone
        first = calendar.floor(local(stretch.start, tz).date(), self.per)
        while day_start(first, tz) < stretch.end:
            following = calendar.step(first, self.per)
            at = day_start(first, tz).replace(tzinfo=None)
            if a.since <= at < a.until:
                days = [first + timedelta(days=i) for i in range((following - first).days)]
                if self.spread == "start":
                    days = days[:1]
                elif self.spread == "workdays" and given.workdays:
                    days = [d for d in days if given.workdays.minutes(d)] or days[:1]
                for i, day in enumerate(days):
                    start = day_start(day, tz)
                    if stretch.start <= start < stretch.end:
                        yield start.replace(tzinfo=None), amount * (i + 1) // len(days) - amount * i // len(days)
            first = following


@dataclass(frozen=True)
class Entitled:
    """One span per row of an assignment: who holds what, from when until when."""

    register: str
    links: tuple[tuple[str, str], ...]
    up_to: str
    rests_on: tuple[str, ...]  # the logs of the archive behind the log beside
    inputs: tuple[Any, ...] = ()
    spans: bool = True

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        return tuple(Field(k, names=n) for k, n in self.links)

    def rows(self, given: Given, stretch: Stretch) -> Iterator[Row]:
        """The spans: start, finish, then the fields."""
        for a in given.registers.register(self.register).assignments:
            yield (a.since, a.until, *(a.links[k] for k, _ in self.links))


@dataclass(frozen=True)
class Targets:
    """What is wanted of each: an amount per calendar unit, spread in whole parts over its days or workdays. A day
    counts when it has ended, up to the end of what the log holds that is counted towards it.
    """

    whose: Field
    wanted: Field
    register: str
    amount: int | None
    amounts: tuple[tuple[str, int], ...]
    who: tuple[tuple[str, tuple[str, ...]], ...]
    per: str
    starts: date | None
    working_days: bool
    up_to: str
    rests_on: tuple[str, ...]  # the logs of the archive behind the log counted
    inputs: tuple[Any, ...] = ()
    spans: bool = False

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold."""
        return (self.whose, self.wanted)

    def rows(self, given: Given, stretch: Stretch) -> Iterator[Row]:
        """The events of the stretch: start, finish, then the fields."""
        parts = {}
        for at, day, part, whole in self._days(given, stretch):
            for name, amount in self._whom(given, at):
                key = (name, day)
                parts[key] = at, amount * (part + 1) // whole - amount * part // whole
        for (name, _), (at, amount) in parts.items():
            yield (at, None, name, amount)

    def _whom(self, given: Given, at: datetime) -> Iterator[tuple[str, int]]:
        """The id or name of each of whom something is wanted at a moment, and how much."""
        own = dict(self.amounts)
        if not self.register:
            yield from own.items()
            return
        register = given.registers.register(self.register)
        for v in register.versions:
            if not v.since <= at < v.until or v.archived:
                continue
            if any(str(v.attributes.get(k)) not in values for k, values in self.who):
                continue
            amount = own.get(v.label, own.get(v.id, self.amount))
            if amount:
                yield v.id, amount

    def _days(self, given: Given, stretch: Stretch) -> Iterator[tuple[datetime, date, int, int]]:
        """The days of the stretch that have ended: their start (naive UTC), which part of how many of their unit."""
        calendar = _calendar(stretch, given.zone)
        tz = calendar.zone
        until = min(given.now, given.until) if given.until else given.now
        if self.per == "once":
            at = day_start(self.starts, tz) if self.starts else stretch.start
            if stretch.start <= at < stretch.end:
                yield at.astimezone(UTC).replace(tzinfo=None), at.date(), 0, 1
            return
        first = calendar.floor(local(stretch.start, tz).date(), self.per)
        while day_start(first, tz) < stretch.end:
            following = calendar.step(first, self.per)
            days = [first + timedelta(days=i) for i in range((following - first).days)]
            if self.working_days and given.workdays:
                days = [d for d in days if given.workdays.minutes(d)]
            for i, day in enumerate(days):
                start = day_start(day, tz)
                ended = day_start(day + timedelta(days=1), tz) <= given.now and start < until
                if stretch.start <= start < stretch.end and ended and (not self.starts or day >= self.starts):
                    yield start.astimezone(UTC).replace(tzinfo=None), day, i, len(days)
            first = following


def _calendar(stretch: Stretch, zone_name: str) -> Any:
    import dataclasses

    return dataclasses.replace(stretch.calendar, zone_name=zone_name)
