"""The tables that people write: an unknown key is an error, and what was read never changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import BaseModel, ConfigDict, field_validator

__all__ = ["Strict", "listed", "several", "split"]


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)


def several(value: Any) -> Any:
    """One text where several may stand, as several."""
    return (value,) if isinstance(value, str) else value


def split(value: Any) -> Any:
    """Names separated by commas as several; anything else as it is."""
    return tuple(p.strip() for p in value.split(",") if p.strip()) if isinstance(value, str) else value


def listed(*fields: str, read: Callable[[Any], Any] = several) -> Any:
    """Lets these fields of a table be one text or a list of them, and the schema for editors know it."""
    return field_validator(*fields, mode="before", json_schema_input_type=str | tuple[str, ...])(read)
