"""What headings say: their words, and which column speaks for a field."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Sequence
from functools import cache

from fermata.intake.guess.words import ACTUAL, ELSEWHERE, GENERIC, HINTS, PLANNED

__all__ = ["happened", "hints", "named", "plain", "says", "words"]

LETTERED = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")  # where a word begins in DoorName, IPAddress
TAILS = ("s", "id", "name", "no", "nr")  # an identity of the thing itself: userid, username, cardno
COMPOUND = 4  # letters that a word needs to be found as a part of a longer one: zeit in startzeit


def plain(text: str) -> str:
    """A text in small letters without accents: `Tür` is `tur`, `Straße` is `strasse`."""
    bare = unicodedata.normalize("NFKD", text.casefold())
    return "".join(c for c in bare if not unicodedata.combining(c)).replace("ł", "l").replace("ø", "o")


@cache
def words(heading: str) -> tuple[str, ...]:
    """The words of a heading in small letters: `PrinterName` and `printer_name` are printer, name."""
    return tuple(re.findall(r"[^\W\d_]+|[#°]", plain(LETTERED.sub(" ", heading))))


def happened(columns: Iterable[str]) -> list[str]:
    """The headings without those of what was planned and stands beside what was: `Planned start`, `Actual start`."""
    rest = {c: tuple(w for w in words(c) if w not in (*PLANNED, *ACTUAL)) for c in columns}
    planned = {c for c in rest if any(w in PLANNED for w in words(c))}
    were = [rest[c] for c in rest if c not in planned]
    return [c for c in rest if not (c in planned and rest[c] in were)]


@cache
def hints(field: str) -> tuple[str, ...]:
    """The words of headings that speak for a field, the surest first."""
    return (*HINTS.get(field, ()), *ELSEWHERE.get(field, ()))


@cache
def says(heading: str, hint: str, compound: bool = False) -> bool:
    """Whether a heading has a word (or words one after the other), or with `compound` a word made with it."""
    found, wanted = words(heading), words(hint)
    if len(wanted) > 1:
        return any(found[i : i + len(wanted)] == wanted for i in range(len(found)))
    word = wanted[0]
    if compound:
        return len(word) >= COMPOUND and any(w.startswith(word) or w.endswith(word) for w in found)
    return any(w == word or (w.startswith(word) and w[len(word) :] in TAILS) for w in found)


def named(field: str, columns: Sequence[str], further: Iterable[str] = ()) -> str | None:
    """The column whose heading speaks for a field, by the surest word; a word that says little counts only where the
    heading speaks for no other field.
    """
    for compound in (False, True):
        for hint in (*hints(field), *further):
            for column in columns:
                if says(column, hint, compound) and not (hint in GENERIC and _elsewhere(field, column)):
                    return column
    return None


def _elsewhere(field: str, column: str) -> bool:
    others = (h for f in HINTS if f not in (field, "start", "finish", "duration") for h in hints(f))
    return any(h not in GENERIC and (says(column, h) or says(column, h, True)) for h in others)
