"""The stage between source and select: names become the people and things registers say they are.

A name is looked up by its own kind only, at the moment an event starts. What no register knows stays visible as
kind and text (`badge 1234`), so that badge 1234 and extension 1234 are never taken for one.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fermata.analysis.engine import KINDS, Engine
from fermata.analysis.plan import Strand
from fermata.fields import stored_name

__all__ = ["opened"]


def opened(strand: Strand, source: Callable[[Strand], tuple[Engine, Any]]) -> tuple[Engine, Any]:
    """A strand's events with every name it asks about resolved, on the engine they live on."""
    engine, table = source(strand)
    for lookup in strand.lookups:
        table = _identified(engine, table, lookup)
    return engine, table


def _identified(engine: Engine, table: Any, lookup: Any) -> Any:
    """The table with the field as its identity, the text as written beside it, and the register's attributes."""
    here = stored_name(lookup.field)
    unresolved = _unresolved(table[here], lookup.kind)
    if not lookup.rows:
        empty = {f"{here}__{a}": _null(lookup, a) for a in lookup.attributes}
        return table.mutate(**{f"{here}__written": table[here], here: unresolved}, **empty)
    known = engine.lookup(lookup.name, {f"{here}__{c}": k for c, k in lookup.columns.items()}, lookup.rows)
    tests = [table[here] == known[f"{here}__text"]]
    if not lookup.whole:
        tests += [table.start_utc >= known[f"{here}__since"], table.start_utc < known[f"{here}__until"]]
    joined = table.left_join(known, tests)
    label = joined[f"{here}__label"].coalesce(_unresolved(joined[here], lookup.kind))
    named = joined.mutate(**{f"{here}__written": joined[here], here: label})
    return named.drop(*(f"{here}__{c}" for c in ("text", "since", "until", "label")))


def _unresolved(text: Any, kind: str) -> Any:
    import ibis

    return ibis.literal(f"{kind} ") + text


def _null(lookup: Any, attribute: str) -> Any:
    import ibis

    return ibis.null(KINDS[lookup.columns[attribute]][1])
