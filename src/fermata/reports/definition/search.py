"""Finding a report by words: over name, title, purpose, columns and kinds of log, with words that mean the same."""

from __future__ import annotations

import difflib
import functools
import re
from collections.abc import Iterable, Sequence

from fermata.reports.definition.catalogue import Entry

__all__ = ["SAME", "ranked"]

SAME = (  # words that mean the same; a report that has one is found by each of them
    ("place", "location", "site", "room", "building", "area"),
    ("footprint", "environment", "environmental", "carbon", "co2", "trees", "sustainability"),
    ("licence", "license", "seat", "subscription", "entitlement"),
    ("timesheet", "hours", "worked", "working time", "working hours", "hours worked", "attendance"),
    ("badge", "card", "fob", "key card", "credential"),
    ("refused", "denied", "rejected", "turned away", "no access"),
    ("person", "people", "user", "employee", "staff", "somebody"),
    ("department", "team", "group", "cost centre", "division"),
    ("computer", "workstation", "pc", "machine", "desktop"),
    ("login", "logon", "sign in", "log on", "authentication"),
    ("line", "extension", "telephone", "phone"),
    ("queue", "group number", "hunt group", "ring group", "call group"),
    ("missed", "unanswered", "abandoned", "no answer"),
    ("talked", "talk time", "length of calls"),
    ("unused", "not used", "take back", "reclaim", "idle licence", "never used"),
    ("pay", "payroll", "wage", "salary", "gross"),
    ("required", "contracted", "target", "expected"),
    ("overtime", "beyond", "extra hours"),
    ("absence", "holiday", "leave", "vacation", "sick"),
    ("client", "customer"),
    ("project", "production", "job", "matter"),
    ("statement", "invoice", "billing", "bill"),
    ("cost", "charge", "price", "expense", "amount"),
    ("budget", "estimate", "allowance", "planned"),
    ("credit", "balance", "account"),
    ("colour", "color"),
    ("paper", "sheets", "duplex"),
    ("printer", "printing", "print", "prints"),
    ("network", "wireless", "wifi", "wlan", "vpn"),
    ("traffic", "bandwidth", "bytes", "volume", "data"),
    ("change", "audit", "edited", "modification", "admin"),
    ("inside", "present", "presence", "occupancy", "on site", "headcount", "in the building", "in the house"),
    ("first", "arrival", "late", "latecomer", "punctual", "punctuality", "came in"),
    ("visit", "stay", "dwell"),
    ("at once", "simultaneous", "concurrent", "peak"),
    ("unusual", "anomaly", "outlier", "suspicious"),
    ("outside", "out of hours", "after hours", "night", "weekend"),
    ("compared", "trend", "against", "month before"),
    ("availability", "uptime", "downtime", "outage"),
    ("overview", "dashboard", "summary"),
    ("own", "self-service", "my", "me"),
)
LITTLE = {
    "a", "all", "an", "and", "are", "at", "by", "did", "each", "for", "how", "in", "is", "last", "list", "many",
    "month", "much", "of", "on", "per", "report", "reports", "the", "this", "to", "was", "week", "were", "what",
    "when", "which", "who", "with", "year",
}  # fmt: skip
WORDS = re.compile(r"[^\w]+")
WEIGHTS = (8.0, 3.0, 2.0, 1.0)  # name and title, columns, purpose, category and kinds
MEANT, FIRST = 0.6, 0.7  # what a word that means the same weighs of the word itself; the first of them, as we call it
SLIP = 0.5
ALIKE = 0.78  # a word this much like one of the catalogue's is a slip of it


def ranked(entries: Iterable[Entry], words: str) -> list[Entry]:
    """The reports that have each of the words, the best first; where none has all, those with most of them.

    A word is found at the beginning of another, in any number, with a slip, and by the words that mean the same.
    Hyphens are blanks.
    """
    listed = list(entries)
    asked = _asked(words)
    if not asked:
        return listed
    texts = [_texts(e) for e in listed]
    known = {w for columns in texts for text in columns for w in text.split()}
    forms = [_forms(word, known) for word in asked]
    scores = [[_score(text, form) for form in forms] for text in texts]
    most = max((sum(s > 0 for s in one) for one in scores), default=0)
    if not most:
        return []
    held = [(n, sum(one)) for n, one in enumerate(scores) if sum(s > 0 for s in one) == most]
    return [listed[n] for n, _ in sorted(held, key=lambda h: -h[1])]


def _asked(words: str) -> list[str]:
    """The words of a search, those that mean one thing together as one."""
    text = _plain(words)
    found = []
    for phrase in sorted((w for same in SAME for w in same if " " in w), key=len, reverse=True):
        if f" {phrase} " in text:
            found.append(phrase)
            text = text.replace(f" {phrase} ", " ")
    rest = [w for w in text.split() if w not in LITTLE]
    return [*found, *rest] or text.split()


def _texts(entry: Entry) -> tuple[str, ...]:
    """What an entry says, by weight, in small letters and without hyphens."""
    labels = [str(c.get("label", "")) for c in entry.data.get("columns", ()) if isinstance(c, dict)]
    said = (
        f"{entry.name} {entry.title}",
        " ".join([*labels, *map(str, entry.data.get("by", ()))]),
        entry.about,
        " ".join((entry.category, *entry.needs)),
    )
    return tuple(_plain(text) for text in said)


def _plain(text: str) -> str:
    """Words in small letters between blanks."""
    return f" {WORDS.sub(' ', text.lower())} "


def _forms(word: str, known: set[str]) -> list[tuple[str, float]]:
    """What to look for instead of a word, and how much each weighs."""
    found = [(_stem(word), 1.0)]
    alike = [same for same in SAME if any(_same(word, w) for w in same)]
    found += [(_stem(w), FIRST if w == same[0] else MEANT) for same in alike for w in same if w != word]
    if not any(_begins(k, found[0][0]) for k in known) and len(found) == 1:
        everything = [*known, *_words_of_same()]
        near = difflib.get_close_matches(word, sorted(set(everything)), 1, ALIKE)
        if near:
            found += [(form, weight * SLIP) for form, weight in _forms(near[0], known)]
    return found


@functools.cache
def _words_of_same() -> tuple[str, ...]:
    return tuple(w for same in SAME for w in same if " " not in w)


def _same(word: str, other: str) -> bool:
    return _stem(word) == _stem(other)


def _begins(word: str, stem: str) -> bool:
    return word.startswith(stem)


def _score(texts: Sequence[str], forms: list[tuple[str, float]]) -> float:
    """How well an entry fits one word: the best of its forms, where it weighs most."""
    best = 0.0
    for form, share in forms:
        for text, weight in zip(texts, WEIGHTS, strict=True):
            if f" {form}" in text:
                best = max(best, share * weight)
    return best


def _stem(word: str) -> str:
    """A word without the ending of a plural.

    >>> _stem("categories"), _stem("visits"), _stem("access")
    ('categor', 'visit', 'access')
    """
    if len(word) > 4 and word.endswith("ies"):
        return word[:-3]
    if len(word) > 4 and word.endswith("y"):
        return word[:-1]
    return word[:-1] if len(word) > 3 and word.endswith("s") and not word.endswith("ss") else word
