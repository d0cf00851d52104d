"""What the values of a column are: whole numbers, decimals, money, yes and no, or a text that only looks like one."""

from __future__ import annotations

import itertools
import re
from typing import Any

from fermata.intake.guess.headings import named, plain, says, words
from fermata.intake.guess.words import ALONE, COLOUR, COUNTERS, IDENTITY, NO, TOTAL, YES
from fermata.intake.texts import ISO_DURATION

__all__ = ["flag", "growing", "type_of"]

LENGTH = re.compile(r"\d+:[0-5]\d(:[0-5]\d)?")
ISO_LENGTH = re.compile(rf"(?=.*[0-9]){ISO_DURATION}")
NUMBER = re.compile(r"-?\d+$")
DECIMAL = re.compile(r"-?\d+([.,]\d+)$")
LEADING = re.compile(r"-?0\d")  # 0451 and 451 are two cards
SIGNS_OF_MONEY = {
    "€": "EUR", "£": "GBP", "¥": "JPY", "$": "", "eur": "EUR", "gbp": "GBP", "usd": "USD", "chf": "CHF",
}  # fmt: skip
PRICED = re.compile(r"(?P<before>[€£¥$]|[A-Z]{3})? ?(?P<number>-?\d[\d.,']*?) ?(?P<after>[€£¥$]|[A-Z]{3})?$")
BOTH = re.compile(r"-?\d{1,3}(?:(?P<group>[.,' ])\d{3})+(?P<point>[.,])\d+$")  # 1.204,50 tells which sign is which
GROUPED = re.compile(r"-?[1-9]\d{0,2}(?:(?P<sign>[.,' ])\d{3})+$")  # 18,342,000
RARE = 0.05  # of the steps of a counter go back: it began again, or is another one
MOST = 16  # digits that a whole number has room for


def type_of(heading: str, texts: list[str]) -> dict[str, Any]:
    """The type of a field in TOML terms. Digits that name something (a card, a telephone) are no number to add up, and
    those with a zero in front would not be what was written.
    """
    sample = texts[:: max(len(texts) // 400, 1)]
    if priced := _priced(sample):
        return priced
    if all(LENGTH.fullmatch(t) for t in sample) and any(says(heading, w) for w in TOTAL):
        return {"type": "duration", "form": "h:mm:ss" if any(t.count(":") > 1 for t in sample) else "h:mm"}
    if all(ISO_LENGTH.fullmatch(t) for t in sample):
        return {"type": "duration", "form": "iso"}
    if _is_identity(heading) or any(LEADING.match(t) for t in sample if not DECIMAL.fullmatch(t)):
        return {"type": "text"}
    if all(NUMBER.fullmatch(t) and len(t) < MOST for t in sample):
        return {"type": "number"}
    return _grouped(sample) or _fractions(sample) or {"type": "text"}


def _grouped(texts: list[str]) -> dict[str, Any]:
    """Whole numbers in groups of three digits, such as `1,204`; empty where they are none. A number that is not in
    groups has less than four digits; a point alone may begin a fraction.
    """
    signs = {m["sign"] for t in texts if (m := GROUPED.fullmatch(t))}
    short = (t.lstrip("-") for t in texts if not GROUPED.fullmatch(t))
    if len(signs) != 1 or not all(t.isdigit() and len(t) < 4 for t in short):
        return {}
    if signs == {"."} and not any(t.count(".") > 1 for t in texts):
        return {}
    return {"type": "number", "thousands": signs.pop()}


def _is_identity(heading: str) -> bool:
    """Whether a heading is that of a name written in digits; the number of something is none."""
    found = words(heading)
    if (len(found) == 1 and found[0] in ALONE) or any(w.endswith("nummer") for w in found):
        return True
    return "of" not in found and any(says(heading, w) for w in IDENTITY)


def _priced(texts: list[str]) -> dict[str, Any]:
    """An amount with its currency beside it, such as `1,20 €`; empty where it is none."""
    read = [m for t in texts if (m := PRICED.fullmatch(t))]
    signs = {(m["before"] or m["after"] or "").lower() for m in read}
    if len(read) < len(texts) or len(signs) != 1 or not signs <= SIGNS_OF_MONEY.keys():
        return {}
    numbers = [m["number"] for m in read]
    held = {"scale": 0} if all(NUMBER.fullmatch(n) for n in numbers) else _fractions(numbers)
    if not held or held.pop("scale") > 2:
        return {}
    unit = SIGNS_OF_MONEY[signs.pop()]
    return {"part": r"(-?[0-9][0-9.,']*)", **held, "type": "money", **({"unit": unit} if unit else {})}


def _fractions(texts: list[str]) -> dict[str, Any]:
    """Decimal numbers with the signs they are written with; empty where they are none."""
    told = next((m for t in texts if (m := BOTH.fullmatch(t))), None)
    group = told["group"] if told else ""
    point = told["point"] if told else "," if any("," in t for t in texts) else "."
    grouped = rf"\d{{1,3}}(?:{re.escape(group)}\d{{3}})+|" if group else ""
    number = re.compile(rf"-?(?:{grouped}\d+)(?:{re.escape(point)}(\d+))?")
    read = [m for t in texts if (m := number.fullmatch(t))]
    places = max((len(m[1] or "") for m in read), default=0)
    if len(read) < len(texts) or group == point or not (places or group):
        return {}
    signs = {**({"decimal": ","} if point == "," else {}), **({"thousands": group} if group else {})}
    return {"type": "decimal", "scale": min(places, 9), **signs}


def flag(heading: str, texts: list[str], colour: bool) -> dict[str, Any]:
    """A column of two answers as yes and no, of prints whether they are in colour; empty where it is none."""
    yes, no = (YES + COLOUR[0], NO + COLOUR[1]) if colour else (YES, NO)
    told = {t: plain(t) for t in dict.fromkeys(texts)}
    if not all(p in yes or p in no for p in told.values()):
        return {}
    found = {"true": [t for t, p in told.items() if p in yes], "false": [t for t, p in told.items() if p in no]}
    if colour and all(p in YES + NO for p in told.values()) and any(says(heading, w) for w in COLOUR[1]):
        found = {"true": found["false"], "false": found["true"]}  # "Grayscale: no"
    return {"type": "flag", **{k: v for k, v in found.items() if v}}


def growing(columns: dict[str, list[str]]) -> list[str]:
    """The columns that are counters: one of the headings says so, and their numbers hardly ever fall for the same
    device (or rise, where the file begins with the newest).
    """
    if not any(says(c, w) or says(c, w, True) for c in columns for w in COUNTERS):
        return []
    rows = max(map(len, columns.values()), default=0)
    whole = {c: t for c, t in columns.items() if len(t) == rows}
    numbers = [c for c, t in whole.items() if type_of(c, t).get("type") == "number"]
    own = [whole[c] for c in (named("device", list(whole)), named("serial", list(whole), ("serial",))) if c]
    if not own:
        return []
    whose = list(zip(*own, strict=True))
    found = []
    for column in numbers:
        of: dict[tuple[str, ...], list[int]] = {}
        for key, text in zip(whose, whole[column], strict=True):
            of.setdefault(key, []).append(int(text))
        steps = [b - a for values in of.values() for a, b in itertools.pairwise(values)]
        back = min(sum(s < 0 for s in steps), sum(s > 0 for s in steps))
        if any(steps) and back <= RARE * len(steps):
            found.append(column)
    return found
