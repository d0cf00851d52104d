"""One value, one text: how every output writes numbers, durations, times and shares."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import ROUND_HALF_UP, Decimal
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from fermata.reports.definition.display import Display
from fermata.reports.definition.parts import BYTES, SPENT
from fermata.timeline.words import span

__all__ = [
    "ISO",
    "SWAPPED",
    "TEXTUAL",
    "UNCLEAN",
    "Form",
    "Show",
    "Typed",
    "clean",
    "clock",
    "data",
    "day",
    "guarded",
    "label",
    "local",
    "people",
    "sheet",
    "unit_of",
]

ISO = Display()
Form = Callable[[Any, str, int, ZoneInfo, "Show | None", Display], str]
TEXTUAL = ("text", "link", "tags", "flag", "time")  # kinds set to the left
FORMULA = ("=", "+", "-", "@", "\t", "\r")
DATES = {"year first": "%Y-%m-%d", "day first": "%d/%m/%Y", "month first": "%m/%d/%Y"}
UNIT = re.compile(r"(?:(\d{4}-\d\d-\d\d) ?)?(?:(\d\d):00)?( [+-]\d\d:\d\d)?")
SWAPPED = str.maketrans(",.", ".,")

UNCLEAN = r"[^\x20-\x7e]"  # what `clean` may change
CONTROL = {c: None for c in range(0x20) if c not in (0x09, 0x0A)} | {0x7F: None, 0x09: " ", 0x0A: " "}
BIDI = dict.fromkeys([*range(0x202A, 0x202F), *range(0x2066, 0x206A), *range(0x80, 0xA0)])
SURROGATES = dict.fromkeys(range(0xD800, 0xE000), "\ufffd")
STRIP = CONTROL | BIDI | SURROGATES


@dataclass(frozen=True, slots=True)
class Show:
    """How a column wants its figures shown: a unit, decimals (None: as usual), a width in characters (None: as
    needed); `minutes` says that all its lengths of time are whole minutes, so that people need no seconds.
    """

    unit: str = ""
    decimals: int | None = None
    width: int | None = None
    minutes: bool = False


class Typed(NamedTuple):
    """A value that brings its own kind, where a column holds several (measures down the rows)."""

    value: Any
    kind: str
    scale: int
    show: Show | None = None


def clean(text: str) -> str:
    """Log text without control characters, direction overrides and lone surrogates: it only ever shows."""
    return text if text.isascii() and text.isprintable() else unicodedata.normalize("NFC", text.translate(STRIP))


def people(value: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None = None, how: Display = ISO) -> str:
    """A value for reading: `1,234`, `2:05:09`, `2026-03-31 22:14:09`, `12.5 %`; empty where nothing is known.

    Means are shown to the second or to two decimals; the exact ones are in the data forms.
    """
    if value is None:
        return ""
    if kind == "mixed":
        return people(value.value, value.kind, value.scale, zone, value.show, how)
    if kind in ("duration", "mean duration"):
        return _length(value, kind, show, how)
    if kind == "time":
        here = local(value, zone)
        return f"{day(here, how)} {clock(here, how)}"
    if show and (shown := _as_asked(value, kind, scale, show, ",")) is not None:
        return _marked(shown, how)
    if kind == "share":
        return _marked(f"{100 * value:.1f} %", how)
    if kind == "mean":
        return _marked(f"{value:,.2f}", how)
    if kind in ("decimal", "money"):
        return _marked(f"{Decimal(value).scaleb(-scale):,.{scale}f}", how)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return _marked(f"{value:,}", how)
    return clean(_joined(value))


def sheet(value: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None = None, how: Display = ISO) -> str:
    """A value for a spreadsheet that opens a text file: as for people but without thousands signs; no text begins a
    formula.
    """
    text = people(value, kind, scale, zone, show, how)
    if kind in ("text", "link", "tags"):
        return guarded(text)
    return text.replace("." if how.decimal == "comma" else ",", "") if kind != "time" else text


def guarded(text: str) -> str:
    """A text that no spreadsheet takes for a formula."""
    return f"'{text}" if text.startswith(FORMULA) else text


def day(here: datetime, how: Display = ISO) -> str:
    """The date of a local time in the order chosen."""
    return f"{here:{DATES[how.dates]}}"


def clock(here: datetime, how: Display = ISO) -> str:
    """The time of day of a local time, of 24 or 12 hours, with seconds or without."""
    seconds = ":%S" if how.seconds else ""
    if how.clock == 24:
        return f"{here:%H:%M{seconds}}"
    return f"{here.hour % 12 or 12}{here:{f':%M{seconds}'}} {'am' if here.hour < 12 else 'pm'}"


def label(text: str, how: Display = ISO) -> str:
    """A calendar unit's name (`2026-03-02`, `2026-03-02 08:00`, `08:00`) with dates and clock as chosen; any other as
    it is.
    """
    found = UNIT.fullmatch(text)
    if not found or not text:
        return text
    date, hour, rest = found.groups()
    shown = [day(datetime.fromisoformat(date), how)] if date else []
    if hour:
        at = datetime(2000, 1, 1, int(hour))
        shown.append(f"{hour}:00" if how.clock == 24 else f"{at.hour % 12 or 12} {'am' if at.hour < 12 else 'pm'}")
    return " ".join(shown) + (rest or "")


def _length(value: int, kind: str, show: Show | None, how: Display) -> str:
    """A length of time: the column's own unit first, then the display's."""
    if show and (shown := _as_asked(value, kind, 0, show, ",")) is not None:
        return _marked(shown, how)
    if not (show and show.unit) and (unit := unit_of(how, show)):
        return _marked(_as_asked(value, kind, 0, Show(unit), ",") or "", how)
    whole = (value + 500_000) // 1_000_000 * 1_000_000 if kind == "mean duration" else value
    return _marked(_with_thousands(span(whole), ","), how)


def _with_thousands(text: str, comma: str) -> str:
    """Hours and minutes with the thousands of hours marked: `3,391:00`."""
    hours, _, rest = text.partition(":")
    return f"{int(hours):{comma}}:{rest}" if len(hours.lstrip("-")) > 3 else text


def unit_of(how: Display, show: Show | None = None) -> str:
    """The unit in which the lengths of time of a column are shown that has no unit of its own; "" for h:mm:ss."""
    if how.durations == "hours":
        return "h"
    minutes = how.durations == "as needed" and show is not None and show.minutes
    return "h:mm" if minutes or how.durations == "h:mm" or not how.seconds else ""


def _marked(text: str, how: Display) -> str:
    """A number with the marks chosen."""
    return text.translate(SWAPPED) if how.decimal == "comma" else text


def data(value: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None = None, how: Display = ISO) -> str:
    """A value for another program: the same figure without thousands signs, times with their offset."""
    if value is None:
        return ""
    if kind == "mixed":
        return data(value.value, value.kind, value.scale, zone, value.show)
    if show and show.unit and (shown := _as_asked(value, kind, scale, show, "")) is not None:
        return shown
    if kind == "time":
        return local(value, zone).isoformat()
    if kind in ("share", "mean"):
        return repr(value)
    if kind in ("decimal", "money"):
        return f"{Decimal(value).scaleb(-scale):f}"
    if kind in ("duration", "mean duration"):
        return span(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) if isinstance(value, int) else _joined(value)


def _as_asked(value: Any, kind: str, scale: int, show: Show, comma: str) -> str | None:
    """The figure in the unit and with the decimals asked for, rounded half up; None where these say nothing about its
    kind.
    """
    exact: Decimal | None = None
    decimals = show.decimals
    if kind in ("duration", "mean duration"):
        if show.unit == "h:mm":
            rounded = (abs(value) + 30_000_000) // 60_000_000 * 60_000_000 * (1 if value >= 0 else -1)
            return _with_thousands(span(rounded)[:-3], comma)
        if show.unit not in SPENT:
            return None
        per, usual = SPENT[show.unit]
        exact, decimals = Decimal(value) / per, usual if decimals is None else decimals
    elif show.unit in BYTES and kind in ("number", "mean"):
        exact, decimals = Decimal(value) / BYTES[show.unit], 1 if decimals is None else decimals
    elif decimals is not None and kind in ("number", "mean", "decimal", "money"):
        exact = Decimal(value).scaleb(-scale) if kind in ("decimal", "money") else Decimal(value)
    elif decimals is not None and kind == "share":
        return f"{_rounded(Decimal(value) * 100, decimals):{comma}f} %"
    return None if exact is None or decimals is None else f"{_rounded(exact, decimals):{comma}f}"


def _rounded(exact: Decimal, decimals: int) -> Decimal:
    return exact.quantize(Decimal(1).scaleb(-decimals), rounding=ROUND_HALF_UP)


def local(at: datetime, zone: ZoneInfo) -> datetime:
    """An instant (naive ones are UTC) on the zone's clock."""
    return (at if at.tzinfo else at.replace(tzinfo=UTC)).astimezone(zone)


def _joined(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, Sequence) and not isinstance(value, str) else str(value)
