"""What a period is here that is written as people do: `15.3.2026`, `since 1 March 2026`, `Q1 2026`, `past week`."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from datetime import datetime

__all__ = ["hours", "meant", "month"]

FORMS = (  # of dates, and how they are written here
    ("%d/%m/%Y", "%Y-%m-%d"), ("%m/%d/%Y", "%Y-%m-%d"), ("%d.%m.%Y", "%Y-%m-%d"), ("%Y/%m/%d", "%Y-%m-%d"),
    ("%d %B %Y", "%Y-%m-%d"), ("%d %b %Y", "%Y-%m-%d"), ("%B %d %Y", "%Y-%m-%d"), ("%b %d %Y", "%Y-%m-%d"),
    ("%B %Y", "%Y-%m"), ("%b %Y", "%Y-%m"), ("%m/%Y", "%Y-%m"), ("%m.%Y", "%Y-%m"),
    ("%Y%m%d", "%Y-%m-%d"), ("%Y/%m", "%Y-%m"),
)  # fmt: skip
ALREADY = ("%Y-%m-%d", "%Y-%m", "%Y")  # in a range both ends are of one form
LONGEST = 80  # a text that may be meant as a period
USUAL = ("today", "yesterday", "this week", "last week", "this month", "last month", "this year", "last year")
WORDS = (  # what is said otherwise, in small letters
    (r"q([1-4])[ /-]?(\d{4})", r"\2-Q\1"), (r"(\d{4})[ /]?q([1-4])", r"\1-Q\2"),
    (r"(?:calendar |iso )?(?:week|w|cw|kw) ?(\d\d)[ /-]+(\d{4})", r"\2-W\1"),
    (r"(?:calendar |iso )?(?:week|w|cw|kw) ?(\d)[ /-]+(\d{4})", r"\2-W0\1"), (r"(\d{4})[ /]?w(\d\d)", r"\1-W\2"),
    (r"(?:the )?(?:past|previous|prior) (.+)", r"last \1"), (r"(?:the )?current (.+)", r"this \1"),
    (r"the (.+)", r"\1"), (r"ytd", "year to date"), (r"mtd", "month to date"), (r"wtd", "week to date"),
    (r"(?:everything|whole|any|always|all time|ever)", "all"), (r"(\d+) (days|weeks|months|hours)", r"last \1 \2"),
)  # fmt: skip
CLOCK = r"(\d{1,2})(?:[:.h]?(\d\d))? ?(am|pm)?"
HOURS = re.compile(rf"(?:from |between )?{CLOCK} ?(?:-|–|to|until|till|and) ?{CLOCK}", re.I)
SINCE = re.compile(r"(?:since|from|starting) (.+?)(?: on)?", re.I)
UNTIL = re.compile(r"(?:until|till|up to) (.+)", re.I)
BETWEEN = re.compile(r"\s*(?:-|–|—|\.\.\.?|\b(?:to|until|till|through|and)\b)\s*", re.I)


def meant(text: str, reads: Callable[[str], bool]) -> str:
    """What the text would be here, of what `reads` takes for a period; "" where that cannot be told.

    >>> meant("15.3.2026", lambda text: True)
    '2026-03-15'
    """
    return " or ".join(dict.fromkeys(found for found in _found(text) if reads(found))) if len(text) < LONGEST else ""


def month(text: str) -> bool:
    """Whether the text is a month without its year.

    >>> month("March"), month("March 2026")
    (True, False)
    """
    for form in ("%B", "%b"):
        with contextlib.suppress(ValueError):
            return bool(datetime.strptime(text.strip(), form))
    return False


def hours(text: str) -> str:
    """The hours of a day that are written as people do, as they are written here; "" where they are not.

    >>> hours("9-17"), hours("from 10pm to 6am")
    ('09:00-17:00', '22:00-06:00')
    """
    m = HOURS.fullmatch(text.strip())
    found = []
    for hour, minute, half in (m.group(1, 2, 3), m.group(4, 5, 6)) if m else ():
        late = int(hour) % 12 + (12 if half.lower() == "pm" else 0) if half else int(hour)
        found.append(f"{late:02}:{minute or '00'}")
    return "-".join(found) if found and max(found) <= "24:00" else ""


def _found(text: str) -> Iterator[str]:
    yield from _dates(text)
    joined = re.sub(r"\s+", "", text.lower())
    yield from (words for words in USUAL if words.replace(" ", "") == joined)
    for pattern, here in WORDS:
        if m := re.fullmatch(pattern, text.lower()):
            yield m.expand(here)
    for open_end, here in ((SINCE, "{}/.."), (UNTIL, "../{}")):
        if m := open_end.fullmatch(text):
            yield from (here.format(day) for day in (*_dates(m[1]), _clock(m[1])))
    yield from _ranges(re.sub(r"^(?:from|between)\s+", "", text, flags=re.I))


def _dates(text: str, forms: tuple[tuple[str, str], ...] = FORMS) -> Iterator[str]:
    """The date in the text by each form that it may have."""
    for form, written in forms:
        with contextlib.suppress(ValueError):
            yield datetime.strptime(text.replace(",", " ").replace("  ", " ").strip(), form).strftime(written)


def _ranges(text: str) -> Iterator[str]:
    """The two ends around each word or sign that may stand between two; the first may lack what the second names."""
    for m in BETWEEN.finditer(text):
        first, last = text[: m.start()], text[m.end() :]
        rest = last.split()
        for begin in (first, *(" ".join((first, *rest[n:])) for n in range(1, len(rest)))):
            for form in (*FORMS, *((f, f) for f in ALREADY)):
                ends = [*_dates(begin, (form,)), *_dates(last, (form,))]
                if len(ends) == 2:
                    yield "/".join(ends)
        if ":" in last:
            yield f"{_clock(first)}/{_clock(last)}"


def _clock(text: str) -> str:
    return re.sub(r"(\d{4}-\d\d-\d\d) +(\d)", r"\1T\2", text)
