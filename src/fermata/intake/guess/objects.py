"""Objects in JSON: the ways to their values, and whether the line of a file holds records or is one."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from fermata.errors import SourceError
from fermata.jsontext import json_object

__all__ = ["WITHIN", "is_document", "ways_of"]

KEYS = 5000  # objects looked at for the ways to their values
WITHIN = re.compile(r'"([^"]+)"\s*:\s*\{[^{}\[\]]*"([^"]+)"\s*:\s*\[\s*\{')  # an array of objects in an object


def is_document(line: str) -> bool:
    """Whether the one line of a file is an object that holds records, and no record itself."""
    if WITHIN.search(line):
        return True
    held = json_object(line) or {}
    return len(held) > 1 and all(isinstance(v, dict) for v in held.values())


def ways_of(path: Path, shown: Path) -> dict[str, None]:
    """The ways to the values of the first objects of a JSON Lines text. Raises SourceError where there are none."""
    found: dict[str, None] = {}
    with path.open(encoding="utf-8", errors="replace") as f:
        for _, line in zip(range(KEYS), f, strict=False):
            found |= dict.fromkeys(_ways(json_object(line) or {}))
    if not found:
        raise SourceError(f"{shown}: holds no objects with values")
    return found


def _ways(held: dict[str, Any]) -> Iterator[str]:
    """The ways to the values of an object, in order, however deep they stand."""
    waiting = [("", iter(held.items()))]
    while waiting:
        above, values = waiting[-1]
        for key, value in values:
            if isinstance(value, dict):
                waiting.append((f"{above}{key}.", iter(value.items())))
                break
            yield above + key
        else:
            waiting.pop()
