"""The stages between source and select: derived logs are made, names become the people and things registers say they
are, and fields worked out from others are added.

A name is looked up by its own kind only, at the moment an event starts. What is in no register stays visible as
kind and text (`badge 1234`), so that badge 1234 and extension 1234 are never taken for one.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from fermata.analysis.derive import EVER, Reached
from fermata.analysis.plan import Strand
from fermata.engines.embedded import KINDS, Engine
from fermata.errors import DataError
from fermata.fields import LogSchema, stored_name
from fermata.timeline.periods import last_moment

__all__ = ["as_recorded", "opened"]


def opened(strand: Strand, source: Callable[[Strand], tuple[Engine, Any]]) -> tuple[Engine, Any]:
    """A strand's events with every name and computed field it asks about, on the engine they live on."""
    engine, table = derived(strand, source)
    if strand.schema.derivation is not None and strand.schema.derivation.inputs:
        table = engine.keep(table.select(strand.uses) if strand.uses else table, throughout=True)
    for lookup in strand.lookups:
        table = _identified(engine, table, lookup)
    for made in strand.computed:
        table = made.added(engine, table, strand.schema)
    return engine, _dated(table, strand.date_field) if strand.date_field else table


def _dated(table: Any, field: str) -> Any:
    """The events at another time of theirs than their start, as long as they were; names and rates stay those of the
    start.
    """
    length = table.finish_utc.delta(table.start_utc, unit="microsecond").cast("int64")
    at = table[stored_name(field)]
    moved = {"start_utc": at, "finish_utc": at + length.as_interval("us")}
    return table.mutate(began_utc_=table.start_utc, ended_utc_=table.finish_utc).mutate(**moved)


def as_recorded(table: Any, strand: Strand) -> Any:
    """The events with their own start and finish again, where the strand goes by another time."""
    if not strand.date_field:
        return table
    return table.mutate(start_utc=table.began_utc_, finish_utc=table.ended_utc_).drop("began_utc_", "ended_utc_")


def derived(strand: Strand, source: Callable[[Strand], tuple[Engine, Any]]) -> tuple[Engine, Any]:
    """A strand's events as they are stored, or as they are made from those of other logs. Raises DataError where these
    live apart.
    """
    return _made(strand.schema, EVER if strand.date_field else strand.reach, strand, source)


def _made(
    schema: LogSchema, reach: timedelta, strand: Strand, source: Callable[[Strand], tuple[Engine, Any]]
) -> tuple[Engine, Any]:
    derivation = schema.derivation
    if derivation is None or not derivation.inputs:
        return source(dataclasses.replace(strand, schema=schema, reach=reach, lookups=(), computed=()))
    wider = reach + derivation.reach
    opened = [
        _with_computed(inner, uses, *_made(inner, wider, strand, source))
        for inner, uses in zip(derivation.inputs, derivation.uses, strict=True)
    ]
    engine = opened[0][0]
    if any(other is not engine for other, _ in opened[1:]):
        raise DataError(f"the logs {schema.name} is made from live on different engines; import them into one place")
    assert strand.window
    start, end = (t.replace(tzinfo=None) for t in strand.window)
    until = last_moment(strand.covers[1]).replace(tzinfo=None) if strand.covers else None
    reached = Reached(_clamped(start, -wider), _clamped(end, wider), until)
    return engine, derivation.events([table for _, table in opened], reached)


def _with_computed(schema: LogSchema, uses: tuple[str, ...], engine: Engine, table: Any) -> tuple[Engine, Any]:
    """The input's events with those of its computed fields that the derivation uses."""
    needed = set(uses)
    for one in reversed(schema.computed):
        if one.field.name in needed:
            needed.update(one.needs)
    for one in schema.computed:
        if one.field.name in needed:
            table = one.added(engine, table, schema)
    return engine, table


def _clamped(at: Any, by: timedelta) -> Any:
    from datetime import datetime

    try:
        return at + by
    except OverflowError:
        return datetime(1900, 1, 1) if by < timedelta(0) else datetime(9000, 1, 1)


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

    return text + ibis.literal(f" ({kind})")


def _null(lookup: Any, attribute: str) -> Any:
    import ibis

    return ibis.null(KINDS[lookup.columns[attribute]][1])
