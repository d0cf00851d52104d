"""The layout of a print spooler's page log: the usual one, or one of one's own with parts that a character sets apart.

A moment in brackets gives such a log away; what the other parts are is told by their values.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from fermata.intake.readers.pagelog import CODES, USUAL, expression_of

__all__ = ["layout_of"]

MOST = 0.8  # of the lines must fit
APART = "\t;|,"
DOUBT = "layout is the spooler's usual one; its own setting is PageLogFormat"
GUESSED = "layout is told by the values: of two columns of names the one with fewer of them was taken for the printer"


def layout_of(lines: Sequence[str]) -> tuple[str, str] | None:
    """The layout of the lines and what is unsure of it; None where they are no page log."""
    if _share(lines, expression_of(USUAL)[0]) > MOST:
        # a spooler of today writes a line a job: `total` in the place of the page, and behind it the number of pages
        whole = _share(lines, r".*\] total \d+ ") > MOST
        return (USUAL.replace("%P %C", "%P %{pages}") if whole else USUAL), DOUBT
    for apart in APART:
        rows = [line.split(apart) for line in lines]
        width = len(rows[0]) if rows else 0
        if width > 3 and sum(len(r) == width for r in rows) > MOST * len(rows):
            columns = list(zip(*(r for r in rows if len(r) == width), strict=True))
            if (codes := _codes(columns)) and _share(lines, expression_of(apart.join(codes))[0]) > MOST:
                return apart.join(codes), GUESSED
    return None


def _codes(columns: Sequence[Sequence[str]]) -> list[str]:
    """A code for each column, by its values; none where the moment, a user or a printer is missing."""
    codes = [_plain_code(texts) for texts in columns]
    moment = codes.index("%T") if "%T" in codes else -1
    names = sorted((i for i, c in enumerate(codes) if not c), key=lambda i: len(set(columns[i])))
    if moment < 0 or len(names) < 2:
        return []
    for code, at in zip(("%p", "%u", "%{job-name}"), names, strict=False):
        codes[at] = code
    numbers = [i for i, c in enumerate(codes) if c == "number"]
    if "%P" not in codes and (page := next((i for i in numbers if i > moment), None)) is not None:
        codes[page] = "%P"
    whole = "%P" in codes and set(columns[codes.index("%P")]) == {"total"}
    left = iter(["%{pages}" if whole else "%C"])
    job = max((i for i in numbers if codes[i] == "number"), key=lambda i: len(set(columns[i])), default=-1)
    for i in numbers:
        if codes[i] == "number":
            codes[i] = "%j" if i == job else next(left, f"%{{column-{i + 1}}}")
    return [c or f"%{{column-{i + 1}}}" for i, c in enumerate(codes)]


def _plain_code(texts: Sequence[str]) -> str:
    """The code of values that tell it by themselves, `number`, or nothing."""
    for code in "TP":
        if all(re.fullmatch(CODES[code][1], t) for t in texts) and not all(t.isdigit() for t in texts):
            return f"%{code}"
    return "number" if all(re.fullmatch(r"\d+|-", t) for t in texts) else ""


def _share(lines: Sequence[str], pattern: str) -> float:
    compiled = re.compile(pattern)
    return sum(bool(compiled.match(line)) for line in lines) / max(len(lines), 1)
