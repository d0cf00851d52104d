"""The days of the sample organisation, how lively each is, and how plain files are written."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any
from zoneinfo import ZoneInfo

__all__ = ["END", "FIRST_DAY", "ZONE", "at_hour", "busy", "csv_file", "days", "paid_on"]

ZONE = ZoneInfo("Europe/London")
FIRST_DAY = date(2025, 10, 1)
END = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)  # 08:12 in London: the moment the last logs were fetched


def days() -> Iterator[date]:
    """The local days of the sample, the last one unfinished."""
    day = FIRST_DAY
    while day <= END.date():
        yield day
        day += timedelta(days=1)


def at_hour(day: date, hours: float) -> datetime:
    """An instant `hours` of real time after the day's local midnight."""
    return datetime(day.year, day.month, day.day, tzinfo=ZONE).astimezone(UTC) + timedelta(seconds=round(hours * 3600))


def busy(day: date, random: Random) -> float:
    """How lively a day is: concerts at weekends, quiet Mondays, a closed week at the turn of the year."""
    if date(2025, 12, 24) <= day <= date(2026, 1, 1):
        return 0.08
    return (0.55, 0.95, 1.0, 1.05, 1.2, 1.35, 0.8)[day.weekday()] * random.uniform(0.85, 1.15)


def csv_file(path: Path, head: list[str], rows: list[list[Any]]) -> None:
    """A plain file of comma-separated values with a header."""
    with path.open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(head)
        writer.writerows(rows)


def paid_on(day: str) -> str:
    """When work of the day is paid: on the 28th; after the 20th it is next month's. Empty where that is yet to come."""
    worked = date.fromisoformat(day)
    later = (worked.replace(day=1) + timedelta(days=32)).replace(day=28)
    paid = worked.replace(day=28) if worked.day <= 20 else later
    return paid.isoformat() if paid < END.date() else ""
