"""What a text that gives itself away by its shape is made of, and what its parts mean."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

__all__ = ["ABBREVIATED", "DATABASE_WORDS", "LOGIN", "STAMP", "Pairs", "Shape"]

LOGIN = {"names": "login"}
STAMP = r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?(?: ?(?:Z|[+-]\d\d:?\d\d))?"  # a time that begins a line
DATABASE_WORDS = {
    "^connection authorized": "login", "authentication failed": "failed", "^disconnection": "logout", "": "other",
}  # fmt: skip
ABBREVIATED = (
    "times carry a zone's abbreviation, which may mean several: they are read in the zone of the workspace, or zone = "
    "... here"
)


@dataclass(frozen=True)
class Pairs:
    """Which actions begin and end a span, and the fields that both have in common."""

    by: tuple[str, ...]
    opening: str = "login"
    closing: str = "logout"
    reach: str = "24 hours"


@dataclass(frozen=True)
class Shape:
    """What a text is called, its kind, how it is told (`sign`, a regular expression that most of its lines match),
    and how it is read: the format with its settings, the fields in TOML terms, doubts, and how spans are made of its
    events.
    """

    name: str
    kind: str
    sign: str
    fields: dict[str, dict[str, Any]]
    settings: dict[str, Any] = field(default_factory=dict)
    unsure: tuple[str, ...] = ()
    pairs: Pairs | None = None
