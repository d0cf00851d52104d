"""Notes: sentences beside a result that a reader must know, each with what it is about."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, Self

__all__ = ["FAILED", "Kind", "Note", "failed"]

Kind = Literal["", "limit", "check", "balance", "nothing", "filter", "validity", "examined", "group"]
FAILED: tuple[Kind, ...] = ("limit", "check", "balance")  # what a check, a hold or an alert takes for wrong


class Note(str):
    """A sentence, and its `kind`: `limit` is crossed, a `check` does not hold, a recorded `balance` disagrees,
    `nothing` was found, a `filter` could not be applied, names were read outside the `validity` of their row, nothing
    was `examined`, small groups (`group`) are left out; "" for all else.

    >>> Note("limit Refused > 20: in 2 rows", "limit").kind
    'limit'
    """

    kind: Kind

    def __new__(cls, text: str, kind: Kind = "") -> Self:
        made = super().__new__(cls, text)
        made.kind = kind
        return made

    def __reduce__(self) -> tuple[type[Self], tuple[str, Kind]]:
        return type(self), (str(self), self.kind)


def failed(notes: Iterable[str]) -> list[Note]:
    """Those of the notes that say something is wrong."""
    return [n for n in notes if isinstance(n, Note) and n.kind in FAILED]
