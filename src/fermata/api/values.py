"""What a value of a result or of a filter can be."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from decimal import Decimal

__all__ = ["Row", "Value"]

Value = str | bool | int | float | Decimal | date | datetime | timedelta | tuple[str, ...] | None
Row = tuple[Value, ...]
