"""Rows for those without any event: everyone of a register, every action of a kind, every assignment."""

from __future__ import annotations

from datetime import UTC
from fnmatch import fnmatchcase
from typing import Any

from fermata.analysis.filters import Condition
from fermata.analysis.plan import Dimension
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.kinds import KINDS
from fermata.registers.directory import Directory
from fermata.registers.register import Version
from fermata.timeline import Stretch

__all__ = ["zero_rows"]

Zeros = tuple[tuple[Any, ...], ...]


def zero_rows(
    every: str,
    by: tuple[Dimension, ...],
    schema: LogSchema,
    registers: Directory,
    stretch: Stretch,
    only: tuple[Condition, ...],
) -> Zeros:
    """The groups of `by` that should appear with or without events. Archived people and things are left out, and so is
    what the conditions of `only` on the same field or its attributes do not keep.

    Raises UnknownName, RequestError where `by` holds what those without events have no value for.
    """
    names = tuple(d.name for d in by)
    if every in registers.tables and registers.tables[every].links:
        return _assigned(every, names, schema, registers, stretch, only)
    field = schema.by_name.get(every)
    if field is None or "." in every:
        links = [n for n, t in registers.tables.items() if t.links]
        raise UnknownName.of(
            "field or assignment", every, [*(f.name for f in schema.fields), *links], where="for zero_rows"
        )
    register = registers.of(field)
    if register:
        single = {f.name for f in register.fields(every) if f.type != "tags"}
        _only(every, names, {every, *single}, "and its attributes of one value ")
        valid = register.valid(*(t.astimezone(UTC).replace(tzinfo=None) for t in (stretch.start, stretch.end)))
        own = tuple(c for c in only if c.field.partition(".")[0] == every)

        def value(version: Version, name: str) -> Any:
            return register.labels[version.id] if name == every else register.value(version, name.partition(".")[2])

        kept = [v for v in valid if _keeps(own, {c.field: value(v, c.field) for c in own})]
        return tuple(tuple(value(v, n) for n in names) for v in kept)
    words = KINDS[schema.kind].values(every) if schema.kind in KINDS else {}
    if not words:
        raise RequestError(
            f"a {every} without events cannot be listed: no register has the kind of name that {schema.name} writes"
        )
    _only(every, names, {every}, "")
    own = tuple(c for c in only if c.field == every)
    return tuple((w,) for w in words if _keeps(own, {every: w}))


def _keeps(conditions: tuple[Condition, ...], values: dict[str, Any]) -> bool:
    """Whether values meet the conditions, of one field any, of several fields all."""
    by_field: dict[str, list[Condition]] = {}
    for condition in conditions:
        by_field.setdefault(condition.field, []).append(condition)
    return all(any(_meets(c, values[name]) for c in group) for name, group in by_field.items())


def _meets(condition: Condition, value: Any) -> bool:
    held = value if isinstance(value, list) else [] if value is None else [value]
    if condition.kind == "empty":
        return not held
    if condition.kind == "like":
        return any(fnmatchcase(v, p.replace("[", "[[]")) for v in held for p in condition.values)
    if condition.kind == "words":
        return any(all(str(w).lower() in v.lower() for w in condition.values) for v in held)
    return any(v in condition.values for v in held)


def _only(every: str, names: tuple[str, ...], allowed: set[str], more: str) -> None:
    if every not in names:
        raise RequestError(f"rows for every {every}: give by {every}, so that each has a row")
    if other := [n for n in names if n not in allowed]:
        raise RequestError(f"rows for every {every}: the groups (by) may be {every} {more}only, not {other[0]}")


def _assigned(
    name: str,
    names: tuple[str, ...],
    schema: LogSchema,
    registers: Directory,
    stretch: Stretch,
    only: tuple[Condition, ...],
) -> Zeros:
    """What an assignment links within the stretch, each side as the identity its name means."""
    register = registers.register(name)
    if other := [n for n in names if n not in register.table.links]:
        raise RequestError(
            f"rows for every {name}: the groups (by) may be {', '.join(register.table.links)} only, not {other[0]}"
        )
    start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (stretch.start, stretch.end))
    found = [
        tuple(registers.identity(schema, n, a.links[n], register.table.links[n].names) for n in names)
        for a in register.assignments
        if a.since < end and a.until > start
    ]
    own = tuple(c for c in only if c.field in names)
    return tuple(k for k in dict.fromkeys(found) if _keeps(own, dict(zip(names, k, strict=True))))
