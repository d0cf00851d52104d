"""Objects in JSON: the ways to their values, and whether the line of a file holds records or is one."""

from __future__ import annotations

import contextlib
import json
import re
from pathlib import Path
from typing import Any

from fermata.errors import FermataError

__all__ = ["WITHIN", "is_document", "ways_of"]

KEYS = 5000  # objects looked at for the ways to their values
WITHIN = re.compile(r'"([^"]+)"\s*:\s*\{[^{}\[\]]*"([^"]+)"\s*:\s*\[\s*\{')  # an array of objects in an object


def is_document(line: str) -> bool:
    """Whether the one line of a file is an object that holds records, and no record itself."""
    if WITHIN.search(line):
        return True
    with contextlib.suppress(ValueError):
        held = json.loads(line)
        return len(held) > 1 and all(isinstance(v, dict) for v in held.values())
    return False


def ways_of(path: Path) -> dict[str, None]:
    """The ways to the values of the first objects of a JSON Lines text."""
    found: dict[str, None] = {}

    def walk(value: dict[str, Any], above: str) -> None:
        for key, held in value.items():
            if isinstance(held, dict):
                walk(held, f"{above}{key}.")
            else:
                found[above + key] = None

    with path.open(encoding="utf-8", errors="replace") as f:
        for _, line in zip(range(KEYS), f, strict=False):
            try:
                value = json.loads(line)
            except ValueError:
                continue
            if isinstance(value, dict):
                walk(value, "")
    if not found:
        raise FermataError(f"{path}: no objects found")
    return found
