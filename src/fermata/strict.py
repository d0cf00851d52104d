"""The tables that people write: an unknown key is an error, and what was read never changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar

from pydantic import BaseModel, ConfigDict, GetJsonSchemaHandler, field_validator, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

__all__ = ["Strict", "listed", "several", "split"]

JSON: dict[str, tuple[type, ...]] = {"string": (str,), "integer": (int,), "array": (list, tuple)}
MEMBERS = {"array": {"items": {"type": "string"}}}


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes. Where `alone` names a key, its value may
    stand instead of the table (`device = "Door"` for `device = { column = "Door" }`), and schemas for editors know it.
    """

    model_config = ConfigDict(defer_build=True, extra="forbid", frozen=True, arbitrary_types_allowed=True)
    alone: ClassVar[tuple[str, tuple[str, ...]]] = ("", ())  # the key, and the JSON types its value has

    @model_validator(mode="before")
    @classmethod
    def _alone(cls, data: Any) -> Any:
        key, kinds = cls.alone
        found = next((k for k, t in JSON.items() if isinstance(data, t) and not isinstance(data, bool)), "")
        return {key: data} if key and found in kinds else data

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        reference = handler(core)
        if kinds := cls.alone[1]:
            held = handler.resolve_ref_schema(reference)
            table = dict(held)
            held.clear()
            held["anyOf"] = [*({"type": k, **MEMBERS.get(k, {})} for k in kinds), table]
        return reference


def several(value: Any) -> Any:
    """One text where several may stand, as several."""
    return (value,) if isinstance(value, str) else value


def split(value: Any) -> Any:
    """Names separated by commas as several; anything else as it is."""
    return tuple(p.strip() for p in value.split(",") if p.strip()) if isinstance(value, str) else value


def listed(*fields: str, read: Callable[[Any], Any] = several) -> Any:
    """Lets these fields of a table be one text or a list of them, and the schema for editors know it."""
    return field_validator(*fields, mode="before", json_schema_input_type=str | tuple[str, ...])(read)
