"""One value, one text: how every output writes numbers, durations, times and shares."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import ROUND_HALF_UP, Decimal
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from fermata.timeline.words import span

__all__ = ["Show", "Typed", "clean", "data", "people"]

CONTROL = {c: None for c in range(0x20) if c not in (0x09, 0x0A)} | {0x7F: None, 0x09: " ", 0x0A: " "}
BIDI = dict.fromkeys([*range(0x202A, 0x202F), *range(0x2066, 0x206A), *range(0x80, 0xA0)])
SURROGATES = dict.fromkeys(range(0xD800, 0xE000), "\ufffd")
STRIP = CONTROL | BIDI | SURROGATES


SPENT = {
    "h": (3_600_000_000, 2),
    "min": (60_000_000, 1),
    "s": (1_000_000, 0),
    "days": (86_400_000_000, 2),
}  # of 24 hours
BYTES = {"KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}  # decimal prefixes (SI)


@dataclass(frozen=True, slots=True)
class Show:
    """How a column wants its figures shown: a unit, decimals (None: as usual), a width in characters (None: as needed)."""

    unit: str = ""
    decimals: int | None = None
    width: int | None = None


class Typed(NamedTuple):
    """A value that brings its own kind, where a column holds several (measures down the rows)."""

    value: Any
    kind: str
    scale: int
    show: Show | None = None


def clean(text: str) -> str:
    """Log text without control characters, direction overrides and lone surrogates: it only ever shows."""
    return text if text.isascii() and text.isprintable() else unicodedata.normalize("NFC", text.translate(STRIP))


def people(value: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None = None) -> str:
    """A value for reading: `1,234`, `2:05:09`, `2026-03-31 22:14:09`, `12.5 %`; empty where nothing is known.

    Means are shown to the second or to two decimals; the exact ones are in the data forms.
    """
    if value is None:
        return ""
    if kind == "mixed":
        return people(value.value, value.kind, value.scale, zone, value.show)
    if show and (shown := _as_asked(value, kind, scale, show, ",")) is not None:
        return shown
    if kind == "mean duration":
        return span((value + 500_000) // 1_000_000 * 1_000_000)
    if kind == "duration":
        return span(value)
    if kind == "time":
        return f"{local(value, zone):%Y-%m-%d %H:%M:%S}"
    if kind == "share":
        return f"{100 * value:.1f} %"
    if kind == "mean":
        return f"{value:,.2f}"
    if kind in ("decimal", "money"):
        return f"{Decimal(value).scaleb(-scale):,.{scale}f}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return f"{value:,}"
    return clean(_joined(value))


def data(value: Any, kind: str, scale: int, zone: ZoneInfo, show: Show | None = None) -> str:
    """A value for another program: the same figure without thousands signs, times with their offset."""
    if value is None:
        return ""
    if kind == "mixed":
        return data(value.value, value.kind, value.scale, zone, value.show)
    if show and show.unit and (shown := _as_asked(value, kind, scale, show, "")) is not None:
        return shown
    if kind == "time":
        return local(value, zone).isoformat()
    if kind == "share":
        return repr(value)
    if kind == "mean":
        return repr(value)
    if kind in ("decimal", "money"):
        return f"{Decimal(value).scaleb(-scale):f}"
    if kind in ("duration", "mean duration"):
        return span(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value) if isinstance(value, int) else _joined(value)


def _as_asked(value: Any, kind: str, scale: int, show: Show, comma: str) -> str | None:
    """The figure in the unit and with the decimals asked for, rounded half up; None where these say nothing about its kind."""
    exact: Decimal | None = None
    decimals = show.decimals
    if kind in ("duration", "mean duration"):
        if show.unit == "h:mm":
            return span((abs(value) + 30_000_000) // 60_000_000 * 60_000_000 * (1 if value >= 0 else -1))[:-3]
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
