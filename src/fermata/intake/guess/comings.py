"""A day's comings and goings in one row: clock times that are several events of a record."""

from __future__ import annotations

import re
import statistics

from fermata.intake.guess.headings import hints, says
from fermata.intake.guess.words import BREAK, COMES, GOES, TOTAL

__all__ = ["comings"]

CLOCK = re.compile(r"(\d{1,2}):(\d\d)(?::\d\d)?(?: ?([AaPp])[Mm])?$")


def comings(columns: dict[str, list[str]], clocks: list[str]) -> list[str]:
    """The columns of clock times in the order of a shift, of which the first is a coming, the next a going, and so on;
    empty where they are not, by their number or their headings. A break's start is a going.
    """
    found = [c for c in clocks if not any(says(c, w) for w in TOTAL)]
    if len(found) < 4 or len(found) % 2:
        return []
    ordered = found
    breaks = any(_is_break(c) for c in found)
    if breaks:  # which may stand behind the end of the day
        first = next((c for c in found if _comes(c) and not _is_break(c)), found[0])
        by_time = sorted(found, key=lambda c: statistics.median(_minutes(t) for t in columns[c]))
        at = by_time.index(first)  # a night's shift goes past midnight
        ordered = by_time[at:] + by_time[:at]
    told = [_comes(c) for c in ordered]  # without a break all must say it
    right = all(t == (i % 2 == 0) or (t is None and breaks) for i, t in enumerate(told))
    return ordered if right else []


def _comes(heading: str) -> bool | None:
    """Whether a heading says that somebody comes; None where it says neither. A break begins with a going; in and out
    of one may be either.
    """
    comes, goes = (any(says(heading, w) for w in words) for words in (COMES, GOES))
    if comes != goes:
        return None if _is_break(heading) else comes
    begins, ends = (any(says(heading, h) for h in hints(f)) for f in ("start", "finish"))
    return None if begins == ends else begins != _is_break(heading)


def _is_break(heading: str) -> bool:
    return any(says(heading, w) for w in BREAK)


def _minutes(text: str) -> int:
    m = CLOCK.match(text)
    if m is None:
        return 0
    hour = int(m[1]) if m[3] is None else int(m[1]) % 12 + 12 * (m[3] in "Pp")
    return hour * 60 + int(m[2])
