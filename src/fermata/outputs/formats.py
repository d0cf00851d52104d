"""One value, one text: how every output writes numbers, durations, times and shares."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from fermata.timeline.words import span

__all__ = ["clean", "data", "people"]

CONTROL = {c: None for c in range(0x20) if c not in (0x09, 0x0A)} | {0x7F: None, 0x09: " ", 0x0A: " "}
BIDI = dict.fromkeys([*range(0x202A, 0x202F), *range(0x2066, 0x206A), *range(0x80, 0xA0)])
SURROGATES = dict.fromkeys(range(0xD800, 0xE000), "\ufffd")
STRIP = CONTROL | BIDI | SURROGATES


def clean(text: str) -> str:
    """Log text without control characters, direction overrides and lone surrogates: it only ever shows."""
    return text if text.isascii() and text.isprintable() else unicodedata.normalize("NFC", text.translate(STRIP))


def people(value: Any, kind: str, scale: int, zone: ZoneInfo) -> str:
    """A value for reading: `1,234`, `2:05:09`, `2026-03-31 22:14:09`, `12.5 %`; empty where nothing is known.

    Means are shown to the second or to two decimals; the exact ones are in the data forms.
    """
    if value is None:
        return ""
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


def data(value: Any, kind: str, scale: int, zone: ZoneInfo) -> str:
    """A value for another program: the same figure without thousands signs, times with their offset."""
    if value is None:
        return ""
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


def local(at: datetime, zone: ZoneInfo) -> datetime:
    """An instant (naive ones are UTC) on the zone's clock."""
    return (at if at.tzinfo else at.replace(tzinfo=UTC)).astimezone(zone)


def _joined(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, Sequence) and not isinstance(value, str) else str(value)
