"""A column in words: `Calls out: count of calls where direction is out`."""

from __future__ import annotations

import re
from typing import Any

from fermata.analysis.measures import Measure, begins_measure
from fermata.errors import RequestError

__all__ = ["column_of"]

QUOTED = r"'[^']*'|\"[^\"]*\""
LABELLED = re.compile(r"\s*([^:=<>'\"]+?)\s*:\s+(.+)", re.S)
WHERE = re.compile(rf"((?:{QUOTED}|.)*?)\s+where\s+(.+)", re.S | re.I)
DURING = re.compile(rf"((?:{QUOTED}|.)*?)\s+during\s+([^'\"]+?|{QUOTED})(\s+where\s.+)?", re.S | re.I)
CONDITION = re.compile(r"([\w.]+)\s*(?:(is\s+not|is|like|has|from)\s+|(=|~|:))\s*(.+)", re.S | re.I)


def column_of(text: str) -> dict[str, Any]:
    """A column as its words say it, in the keys of a report file: a measure, with `Label:` in front, `of LOG` (or of a
    kind of log), `during HOURS` and `where FIELD is VALUE` behind; or `Label = formula` over other columns.

    A condition is `FIELD is A or B`, `FIELD is not A`, `FIELD is empty`, `FIELD like 'Ann*'`, `FIELD from 10 to 50`, or
    `FIELD has 'some words'`; several are joined by `and`. A value that holds such a word stands in quotes. Raises
    RequestError.

    >>> column_of("Calls out: count of calls where direction is out")
    {'measure': 'count', 'log': 'calls', 'only': {'direction': ['out']}, 'label': 'Calls out'}
    >>> column_of("A day = time / days")
    {'label': 'A day', 'formula': 'time / days'}
    """
    if (named := LABELLED.fullmatch(text)) is not None:
        return {**_measured(named[2], text), "label": named[1]}
    label, equals, formula = text.partition("=")
    where = WHERE.fullmatch(text)
    if equals and not where:
        return {"label": label.strip(), "formula": formula.strip()}
    if where and "=" in where[1]:
        raise RequestError(
            f"column {text!r}: a formula has no selection of its own; did you mean "
            f"'{label.strip()}: {formula.strip()}'?"
        )
    return _measured(text, text)


def _measured(words: str, whole: str) -> dict[str, Any]:
    """The keys of a column without its label, in the order in which they are read; `whole` is for messages."""
    found: dict[str, Any] = {"measure": ""}
    if during := DURING.fullmatch(words):
        words, found["hours"] = during[1] + (during[3] or ""), _bare(during[2])
    conditions = ""
    if where := WHERE.fullmatch(words):
        words, conditions = where[1], where[2]
    found["measure"], log = _source(words.strip())
    found |= {"log": log} if log else {}
    for condition in _split(conditions, "and") if conditions else ():
        key, field, value = _condition(condition, whole)
        if field in found.setdefault(key, {}):
            raise RequestError(f"column {whole!r}: {field} is named twice; write {field} is A or B")
        found[key][field] = value
    return found


def _source(words: str) -> tuple[str, str]:
    """The measure and the log it is of; a measure may itself hold `of`."""
    if _is_measure(words):
        return words, ""
    head, of, tail = words.rpartition(" of ")
    return (head.strip(), tail.strip()) if of and _is_measure(head.strip()) else (words, "")


def _is_measure(text: str) -> bool:
    if not begins_measure(text):
        return False
    try:
        Measure.parse(text)
    except RequestError:
        return False
    return True


def _condition(text: str, whole: str) -> tuple[str, str, Any]:
    """One condition: `only` or `without`, its field, its value as a report file has it."""
    found = CONDITION.fullmatch(text.strip())
    if found is None:
        raise RequestError(
            f"column {whole!r}: {text.strip()!r} is no condition; write FIELD is VALUE, FIELD is not VALUE, "
            "FIELD like 'Ann*' or FIELD from 10 to 50"
        )
    field, said, value = found[1], re.sub(r"\s+", " ", (found[2] or found[3]).lower()), found[4].strip()
    key = "without" if said == "is not" else "only"
    if said in ("is", "is not", "="):
        if value.lower() == "empty":
            return key, field, {"empty": True}
        return key, field, [_bare(v) for v in _split(value, "or")]
    if said in ("like", "~"):
        return key, field, {"like": [_bare(v) for v in _split(value, "or")]}
    if said in ("has", ":"):
        return key, field, {"words": _bare(value)}
    low, _, high = re.sub(r"\s+to(\s+|$)", "..", value, count=1).partition("..")
    return key, field, {"from": low.strip() or None, "to": high.strip() or None}


def _split(text: str, word: str) -> list[str]:
    """The text at a word of its own that no quotes hold."""
    parts, last = [], 0
    for found in re.finditer(rf"{QUOTED}|\s+{word}\s+", text, re.I):
        if found[0][0] not in "'\"":
            parts.append(text[last : found.start()])
            last = found.end()
    return [p.strip() for p in (*parts, text[last:])]


def _bare(text: str) -> str:
    """A value without the quotes around it."""
    text = text.strip()
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] and text[0] in "'\"" else text
