"""A mark of a value that its fields decide: all of them, those within them too, unless a field says why it is left out.

A dataclass leaves a field out with `field(metadata=apart("why"))`, a model of pydantic with `Annotated[...,
Apart("why")]`. What is not made of fields and plain values has no mark and is an error, so that nothing is left out by
accident.
"""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

__all__ = ["Apart", "apart", "digest", "left_out"]

PLAIN = (str, int, float, bool, bytes, Decimal, Fraction, Path, type(None), type(...))
TIMES = (datetime, date, time)


@dataclass(frozen=True)
class Apart:
    """That a field does not decide figures, or is covered by another, and why."""

    why: str


def apart(why: str) -> dict[str, str]:
    """The metadata of a dataclass field that is left out of the digest."""
    return {"apart": why}


def digest(*values: Any) -> str:
    """SHA-256 of the values, to 16 hex digits. Raises TypeError for one that has no fields to go by."""
    told = hashlib.sha256()
    for part in _told(values):
        told.update(part.encode())
        told.update(b"\x1f")
    return told.hexdigest()[:16]


def left_out(kind: type) -> dict[str, str]:
    """The fields of a dataclass or model that its digest leaves out, and why."""
    if dataclasses.is_dataclass(kind):
        return {f.name: f.metadata["apart"] for f in dataclasses.fields(kind) if "apart" in f.metadata}
    fields: Mapping[str, Any] = getattr(kind, "model_fields", {})
    return {n: m.why for n, f in fields.items() for m in f.metadata if isinstance(m, Apart)}


def _told(value: Any) -> Iterator[str]:
    if isinstance(value, PLAIN):
        yield f"{type(value).__name__} {value!r}"
    elif isinstance(value, TIMES):
        yield f"{type(value).__name__} {value.isoformat()}"
    elif isinstance(value, timedelta):
        yield f"timedelta {value // timedelta(microseconds=1)}"
    elif isinstance(value, Mapping):
        yield f"map of {len(value)}"
        for key in sorted(value, key=repr):
            yield from _told(key)
            yield from _told(value[key])
    elif isinstance(value, Set):
        yield f"set of {len(value)}"
        yield from sorted("\x1e".join(_told(v)) for v in value)
    elif isinstance(value, Sequence):
        yield f"list of {len(value)}"
        for one in value:
            yield from _told(one)
    else:
        yield from _of_fields(value)


def _of_fields(value: Any) -> Iterator[str]:
    kind = type(value)
    names = (
        [f.name for f in dataclasses.fields(value)] if dataclasses.is_dataclass(value) else list(kind.model_fields)
        if hasattr(kind, "model_fields") else None
    )  # fmt: skip
    if names is None or isinstance(value, type):
        raise TypeError(f"{kind.__qualname__} has no fields that a digest could go by")
    skipped = left_out(kind)
    yield kind.__qualname__
    for name in names:
        if name not in skipped:
            yield name
            yield from _told(getattr(value, name))
