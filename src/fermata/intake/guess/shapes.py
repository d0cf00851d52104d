"""Texts that programs write and that give themselves away by their shape: what their parts are, and what they mean.

A shape is data. Each was written from the program's own documentation and from files that it wrote.
"""

from __future__ import annotations

import dataclasses
import fnmatch
import re
from collections import Counter
from collections.abc import Collection, Sequence

from fermata.intake.guess.by_column import BY_COLUMN, JOURNAL
from fermata.intake.guess.by_line import BY_LINE, DATABASE_SERVER, LEASES
from fermata.intake.guess.by_message import BY_MESSAGE
from fermata.intake.guess.headings import named
from fermata.intake.guess.shape import Shape

__all__ = ["DATABASE_SERVER", "of_columns", "of_journal", "of_messages", "of_text", "with_pairs"]

MOST = 0.8  # of the lines must match
PAIR = re.compile(r"(?<![\w.])([A-Za-z_][\w.-]*)=(\"[^\"]*\"|\S+)")
TOLD = ("user", "action", "device", "place", "other", "outcome")  # fields that a pair in a line's text may tell


def of_text(lines: Sequence[str]) -> Shape | None:
    """The shape that most lines have."""
    if any(re.match(LEASES.sign, line) for line in lines):
        return LEASES
    for shape in (DATABASE_SERVER, *BY_LINE):
        sign = re.compile(shape.sign)
        if lines and sum(bool(sign.match(line)) for line in lines) / len(lines) > MOST:
            return shape
    return None


def with_pairs(shape: Shape, column: str, texts: Sequence[str]) -> Shape:
    """A log of lines with what the pairs in its text (`user=ann action=login`) say, where most lines have them."""
    held = Counter(key for text in texts for key in {k for k, _ in PAIR.findall(text)})
    keys = [key for key, n in held.items() if n > MOST * len(texts)]
    found = {f: {"column": column, "pair": key} for f in TOLD if (key := named(f, keys))}
    if not found:
        return shape
    level = {"level": shape.fields["action"]} if "action" in found else {}
    unsure = () if "user" in found else shape.unsure
    return dataclasses.replace(shape, fields={**shape.fields, **level, **found}, unsure=unsure)


def of_journal(columns: dict[str, list[str]]) -> Shape:
    """A journal of the system in JSON: what its programs tell, by the same messages as in a log of lines."""
    names = {
        "app": "SYSLOG_IDENTIFIER",
        "message": "MESSAGE",
        "host": "_HOSTNAME",
        "pid": "SYSLOG_PID" if "SYSLOG_PID" in columns else "_PID",
    }
    told = of_messages({line: columns.get(name, []) for line, name in names.items()})
    if told is None:
        return JOURNAL
    fields = {n: {**f, "column": names.get(f["column"], f["column"])} for n, f in told.fields.items()}
    keep = {names.get(c, c): patterns for c, patterns in told.settings["keep"].items()}
    start = {n: JOURNAL.fields[n] for n in ("start",) if n not in fields}
    return dataclasses.replace(told, fields={**start, **fields}, settings={"keep": keep})


def of_messages(columns: dict[str, list[str]]) -> Shape | None:
    """What a log of the system tells, by the messages that most of its lines are; other programs may write to it."""
    apps, messages = columns.get("app", []), columns.get("message", [])
    best, most = None, 0
    for shape in BY_MESSAGE:
        kept = [m.removeprefix("like:") for m in shape.settings["keep"]["message"]]
        ours = sum(any(fnmatch.fnmatchcase(m, k) for k in kept) for m in messages)
        if ours > most and (not shape.sign or any(re.match(shape.sign, a) for a in apps)):
            best, most = shape, ours
    return best


def of_columns(names: Collection[str]) -> Shape | None:
    """The shape of a table or of objects with these columns."""
    return next((s for s in BY_COLUMN if set(s.sign.split()) <= set(names)), None)
