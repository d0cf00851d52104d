"""What a viewer may see of a log's events, as expressions: whose events there are, and what stands in the place of
names and numbers.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Any

from fermata.engines.embedded import Engine

__all__ = ["masked", "replaced", "shortened", "within"]

CUT = "…"


def within(
    engine: Engine, table: Any, column: str, rows: Sequence[tuple[str, datetime, datetime]], start: datetime,
    end: datetime
) -> Any:  # fmt: skip
    """Only events whose `column` is one of the texts while it is valid: `rows` are (text, since, until), naive UTC.

    No text has two rows at a time. Where all cover [start, end), a plain test does, which the engine can use to skip
    files.
    """
    if not rows:
        return table.filter(table.start_utc.isnull() & table.start_utc.notnull())
    if all(since <= start and until >= end for _, since, until in rows):
        return table.filter(table[column].isin([text for text, _, _ in rows]))
    known = _lookup(engine, {"seen_text": "text", "seen_since": "time", "seen_until": "time"}, rows)
    at = table.start_utc
    tests = [table[column] == known.seen_text, at >= known.seen_since, at < known.seen_until]
    return table.join(known, tests).drop("seen_text", "seen_since", "seen_until")


def masked(
    engine: Engine, table: Any, column: str, rows: Sequence[tuple[str, datetime, datetime]], start: datetime,
    end: datetime,
    twins: Sequence[str] = (),
) -> Any:  # fmt: skip
    """The same events with `column` empty where it is none of the texts, or not while it is valid: other people's
    names. The `twins`, which say the same in other words, are empty where it is.
    """
    import ibis

    nobody = ibis.null("string")
    if not rows:
        return table.mutate(**dict.fromkeys((column, *twins), nobody))
    if all(since <= start and until >= end for _, since, until in rows):
        ours = table[column].isin([text for text, _, _ in rows])
        return table.mutate(**{c: ibis.ifelse(ours, table[c], nobody) for c in (column, *twins)})
    known = _lookup(engine, {"seen_text": "text", "seen_since": "time", "seen_until": "time"}, rows)
    at = table.start_utc
    tests = [table[column] == known.seen_text, at >= known.seen_since, at < known.seen_until]
    joined = table.left_join(known, tests)
    ours = joined.seen_text.notnull()
    told = {column: joined.seen_text, **{t: ibis.ifelse(ours, joined[t], nobody) for t in twins}}
    return joined.mutate(**told).drop("seen_text", "seen_since", "seen_until")


def replaced(engine: Engine, table: Any, columns: Mapping[str, str], make: Callable[[str, str], str]) -> Any:
    """The events with `make(kind, text)` in the place of every text of the `columns` (column -> kind of name)."""
    for column, names in columns.items():
        found = engine.run(table.select(told=table[column]).filter(lambda t: t.told.notnull()).distinct())
        rows = [(text, make(names, text)) for text in sorted(found.column(0).to_pylist())]
        if not rows:
            continue
        known = _lookup(engine, {"seen_text": "text", "seen_as": "text"}, rows)
        joined = table.left_join(known, table[column] == known.seen_text)
        table = joined.mutate(**{column: joined.seen_as}).drop("seen_text", "seen_as")
    return table


def shortened(table: Any, columns: Mapping[str, int]) -> Any:
    """The events with only the first characters of the `columns` (column -> how many), and a mark where something was
    cut.
    """
    import ibis

    changed = {}
    for column, length in columns.items():
        text = table[column]
        changed[column] = ibis.ifelse(text.length() > length, text.substr(0, length) + ibis.literal(CUT), text)
    return table.mutate(**changed) if changed else table


def _lookup(engine: Engine, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
    mark = hashlib.sha256(repr((columns, rows)).encode()).hexdigest()[:16]
    return engine.lookup(f"seen_{mark}", columns, rows)
