"""Numbers as people and registers write them, exactly."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

__all__ = ["DIGITS", "exact_number"]

DIGITS = 18  # on either side of the point: what 64 bits hold


def exact_number(text: object) -> Decimal:
    """The number that a text writes, to its last digit.

    >>> exact_number(" 7.50")
    Decimal('7.50')

    Raises ValueError where it writes none (`nan`, `inf`), or more than `DIGITS` before or behind the point.
    """
    try:
        found = Decimal(str(text).strip())
    except InvalidOperation:
        raise ValueError(f"{text!r} is not a number") from None
    if not found.is_finite() or found.adjusted() >= DIGITS or -int(found.as_tuple().exponent) > DIGITS:
        raise ValueError(f"{text!r} is no number of at most {DIGITS} digits before and behind its point")
    return found
