"""The tables that people write: an unknown key is an error, and what was read never changes."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

__all__ = ["Strict"]


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)
