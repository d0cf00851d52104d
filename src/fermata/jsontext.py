"""Objects in JSON texts that anybody may have written or changed."""

from __future__ import annotations

import json
from typing import Any

__all__ = ["json_object"]


def json_object(text: str | bytes) -> dict[str, Any] | None:
    """The object that a text is; None where it is no JSON, something else than an object, or nested without end.

    >>> json_object('{"user": "anna"}'), json_object("7"), json_object("[" * 100_000)
    ({'user': 'anna'}, None, None)
    """
    try:
        held = json.loads(text)
    except (ValueError, RecursionError):  # bytes that are no UTF-8 are a ValueError too
        return None
    return held if isinstance(held, dict) else None
