"""Values people write in filters, read into a field's exact type."""

from __future__ import annotations

import re
from datetime import UTC, date, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from fermata.decimals import DIGITS
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema
from fermata.timeline.zones import instant, zone

__all__ = ["read_value"]

CLOCK = re.compile(r"(\d+):([0-5]\d)(?::([0-5]\d))?")
AMOUNT = re.compile(r"(\d+(?:\.\d+)?)\s*(s|sec|m|min|h|d)")
MOST = 2**63
UNITS = {"s": 1, "sec": 1, "m": 60, "min": 60, "h": 3600, "d": 86_400}
YES, NO = ("true", "yes", "1"), ("false", "no", "0")


def read_value(value: Any, field: Field, schema: LogSchema) -> Any:
    """`value` as the archive holds it: texts as they are, numbers scaled, durations in microseconds, times in UTC.

    Raises RequestError with an example of what would be right.
    """
    if value is None:
        return None
    if field.type in ("text", "tags"):
        return str(value)
    if field.type == "flag":
        return _flag(value, field)
    if field.type == "time":
        said = value if isinstance(value, date) else str(value)
        return instant(said, zone(schema.zone), f"{field.name}:").astimezone(UTC).replace(tzinfo=None)
    exact = Decimal(_duration(value, field)) if field.type == "duration" else _number(value, field)
    if abs(exact) >= MOST:
        raise RequestError(f"{field.name}: {value} is more than there can be; a field holds whole numbers of 64 bits")
    return int(exact)


def _number(value: Any, field: Field) -> Decimal:
    try:
        given = Decimal(str(value))
        if given.is_infinite() or given.adjusted() > 2 * DIGITS:
            return Decimal(MOST)
        scaled = given.scaleb(field.scale)
        if scaled.is_nan() or (abs(scaled) < MOST and scaled != scaled.to_integral_value()):
            raise InvalidOperation
        return scaled
    except InvalidOperation:
        if between := re.fullmatch(r"(-?[\d.]+)\s*(?:-|to|–)\s*(-?[\d.]+)", str(value)):
            raise RequestError(
                f"{field.name}: {value} is not a range; write {field.name}={between[1]}..{between[2]}"
            ) from None
        places = f" with at most {field.scale} decimals" if field.scale else " without decimals"
        raise RequestError(f"{field.name}: {value!r} is not a number{places}") from None


def _flag(value: Any, field: Field) -> bool:
    text = str(value).lower()
    if text not in YES + NO:
        raise RequestError(f"{field.name}: {value!r} is neither yes nor no")
    return text in YES


def _duration(value: Any, field: Field) -> int:
    if isinstance(value, timedelta):
        return value // timedelta(microseconds=1)
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    text = str(value).strip()
    if m := CLOCK.fullmatch(text):
        return (int(m[1]) * 3600 + int(m[2]) * 60 + int(m[3] or 0)) * 1_000_000
    if m := AMOUNT.fullmatch(text):
        return int(Decimal(m[1]) * UNITS[m[2]] * 1_000_000)
    raise RequestError(f"{field.name}: {value!r} is not a duration; write 90s, 15min, 2h or 1:30:00")
