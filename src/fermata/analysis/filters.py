"""Which events are kept: conditions on fields, as plain data, as predicates and in words.

Values of one field: any of them; several fields: all of them; `without` with several fields drops on any;
`any_of` joins alternatives across fields. Empty equals nothing and stays under `without`.
"""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass
from typing import Any, Literal

from fermata.digest import apart
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema
from fermata.timeline.words import span

__all__ = ["Condition", "Selection", "between", "count_of", "empty", "holds", "like", "words", "written_otherwise"]

Kind = Literal["is", "like", "between", "empty", "words"]


@dataclass(frozen=True, slots=True)
class Condition:
    """One field and what its value must be.

    `is`: one of `values`, exactly. `like`: a pattern with * and ?. `between`: two bounds, both included, None for
    open. `words`: a text holding all of the words, whatever their case (A-Z). `empty`: no value. `said` is how it was
    asked for, where a register put other values in its place; `unknown` are those names, as written, that no register
    knows, each with the values that are looked for in its place.
    """

    field: str
    kind: Kind
    values: tuple[Any, ...] = ()
    said: str = dataclasses.field(default="", metadata=apart("how it was asked for"))
    unknown: tuple[tuple[str, tuple[str, ...]], ...] = dataclasses.field(
        default=(), metadata=apart("for notes; the values count")
    )

    def __str__(self) -> str:
        if self.said:
            return self.said
        if self.kind == "empty":
            return f"{self.field} is empty"
        if self.kind == "between":
            low, high = (_plain(v) for v in self.values)
            return (
                f"{self.field} from {low} to {high}"
                if low and high
                else (f"{self.field} at least {low}" if low else f"{self.field} at most {high}")
            )
        verb = {"is": "is", "like": "matches", "words": "contains"}[self.kind]
        joint = " and " if self.kind == "words" else " or "
        return f"{self.field} {verb} {joint.join(_plain(v) for v in self.values)}"


@dataclass(frozen=True, slots=True)
class _Value:
    """A value of `only=...` that is more than an exact one, until it meets its field."""

    kind: Kind
    values: tuple[Any, ...]


def like(*patterns: str) -> _Value:
    """Texts that match a pattern: `*` any characters, `?` one. Case counts.

    >>> doors = hall.log("doors").during("2026-03-02")
    >>> doors.only(device=fermata.like("*door*")).measure("count").figure()
    156
    """
    return _Value("like", patterns)


def between(least: object = None, most: object = None) -> _Value:
    """Numbers, durations (microseconds or timedelta) or times from `least` to `most`, both included.

    >>> prints = hall.log("prints").during("2026-03")
    >>> prints.only(pages=fermata.between(10, 20)).measure("count").figure()
    584
    """
    return _Value("between", (least, most))


def words(*terms: str) -> _Value:
    """Texts that hold each of the words.

    >>> timesheets = hall.log("timesheets").during("2026-03")
    >>> timesheets.only(remark=fermata.words("late")).measure("count").figure()
    212
    """
    return _Value("words", terms)


empty = _Value("empty", ())


def conditions(given: dict[str, Any]) -> tuple[Condition, ...]:
    """The conditions a mapping of field to value(s) writes."""
    found = []
    for name, value in given.items():
        for one in value if isinstance(value, list | tuple | set | frozenset) else (value,):
            if isinstance(one, _Value):
                found.append(Condition(name, one.kind, one.values))
            elif isinstance(one, Condition):
                found.append(one)
        plain = tuple(
            v
            for v in (value if isinstance(value, list | tuple | set | frozenset) else (value,))
            if not isinstance(v, _Value | Condition)
        )
        if plain:
            exact = tuple(v for v in plain if v not in ("", None))
            if exact:
                found.append(Condition(name, "is", exact))
            if len(exact) < len(plain):
                found.append(Condition(name, "empty"))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class Selection:
    """Which events count: all conditions of `only` (per field any), none of `without`, one of each `any_of`."""

    only: tuple[Condition, ...] = ()
    without: tuple[Condition, ...] = ()
    any_of: tuple[tuple[Condition, ...], ...] = ()

    def checked(self, schema: LogSchema) -> Selection:
        """The selection with every value in its field's type. Raises UnknownName, RequestError."""
        return Selection(
            tuple(_typed(c, schema) for c in self.only),
            tuple(_typed(c, schema) for c in self.without),
            tuple(tuple(_typed(c, schema) for c in group) for group in self.any_of),
        )

    @property
    def conditions(self) -> tuple[Condition, ...]:
        """All conditions, whatever they do."""
        return (*self.only, *self.without, *(c for group in self.any_of for c in group))

    def steps(self) -> list[tuple[str, list[list[Condition]], bool]]:
        """Each filter in order: its words, its alternatives, and whether matching events are dropped."""
        found: list[tuple[str, list[list[Condition]], bool]] = []
        by_field: dict[str, list[Condition]] = {}
        for c in self.only:
            by_field.setdefault(c.field, []).append(c)
        found += [("only " + " or ".join(map(str, cs)), [[c] for c in cs], False) for cs in by_field.values()]
        found += [("without " + str(c), [[c]], True) for c in self.without]
        for group in self.any_of:
            verb = "any of " if len({c.field for c in group}) > 1 else "only "
            found.append((verb + " or ".join(map(str, group)), [[c] for c in group], False))
        return found

    def predicates(self, table: Any, schema: LogSchema) -> list[Any]:
        """One engine condition per step, each true or false and never null."""
        found = []
        for _, alternatives, drops in self.steps():
            tests = [holds(table, c, schema.field(c.field)) for group in alternatives for c in group]
            joined = tests[0]
            for test in tests[1:]:
                joined = joined | test
            found.append(~joined if drops else joined)
        return found

    def __str__(self) -> str:
        return "; ".join(text for text, _, _ in self.steps()) or "all events"


def column(table: Any, field: Field) -> Any:
    """The engine's column of a field; a span's `duration` is reckoned from its two ends, in microseconds."""
    if field.name == "duration" and field.stored not in table.columns:
        return table.finish_utc.delta(table.start_utc, unit="microsecond")
    return table[field.stored]


def count_of(what: Any, where: Any = None) -> Any:
    """How many rows a table has (filled cells a column), or those for which `where` holds: 0 on every engine where
    there are none.
    """
    return what.count() if where is None else what.count(where=where).coalesce(0)


def holds(table: Any, condition: Condition, field: Field) -> Any:
    """Whether an event meets a condition: true or false, never null."""
    here = column(table, field)
    if condition.kind == "empty":
        return (here.length() == 0).fill_null(True) if field.type == "tags" else here.isnull()
    if condition.kind == "between":
        low, high = condition.values
        if low is not None and high is not None:
            test = (here >= low) & (here <= high)
        else:
            test = here >= low if low is not None else here <= high
    elif condition.kind == "is" and field.type == "tags":
        test = here.contains(condition.values[0])
        for value in condition.values[1:]:
            test = test | here.contains(value)
    elif condition.kind == "is":
        test = here.isin(condition.values)
    elif condition.kind == "like":
        test = here.re_search(f"^({'|'.join(_pattern(v) for v in condition.values)})$")
    else:
        test = here.lower().contains(str(condition.values[0]).lower())
        for value in condition.values[1:]:
            test = test & here.lower().contains(str(value).lower())
    if field.type == "tags":
        return test.fill_null(False)
    return here.notnull() & test  # never null, and an engine can still skip what a file's statistics rule out


def _pattern(text: str) -> str:
    """A pattern with * and ? as a regular expression every engine reads alike; all else stands for itself."""
    plain = {"*": r"(.|\n)*", "?": r"(.|\n)"}
    return "".join(plain.get(c) or (c if c.isalnum() or not c.isascii() else f"\\{c}") for c in text)


def _typed(condition: Condition, schema: LogSchema) -> Condition:
    from fermata.analysis.values import read_value

    field = schema.field(condition.field)
    if condition.kind in ("like", "words") and field.type != "text":
        raise RequestError(f"{field.name} is a {field.type}, and only texts have patterns or words")
    if condition.kind == "between":
        if field.type in ("text", "tags", "flag"):
            raise RequestError(f"{field.name} is a {field.type}; ranges are for numbers, durations and times")
        low, high = condition.values
        if low is None and high is None:
            raise RequestError(f"the range for {field.name} has neither a least nor a most")
        said = condition.said or str(condition)
        return Condition(
            condition.field, "between", (read_value(low, field, schema), read_value(high, field, schema)), said
        )
    if condition.kind == "is" and field.type not in ("text", "tags"):
        _no_filter_inside(condition, schema)
    if condition.kind == "is" and field.type not in ("text", "tags", "flag"):
        ends = [str(v).partition("..") for v in condition.values]
        if any(dots for _, dots, _ in ends):
            if len(ends) > 1:
                raise RequestError(f"{field.name}: give one range, or single values, not both")
            low, _, high = ends[0]
            return _typed(Condition(condition.field, "between", (low or None, high or None)), schema)
    if condition.kind == "is":
        values = tuple(read_value(v, field, schema) for v in condition.values)
        exact = field.type in ("text", "tags", "flag", "number")
        return Condition(
            condition.field, "is", values, condition.said or ("" if exact else str(condition)), condition.unknown
        )
    return condition


def _no_filter_inside(condition: Condition, schema: LogSchema) -> None:
    for value in condition.values:
        if advice := written_otherwise(str(value), condition, schema):
            raise RequestError(advice)


def written_otherwise(value: str, condition: Condition, schema: LogSchema) -> str:
    """What to write instead where a value looks like a pattern (`Ann*`) or like a filter of its own
    (`action=printed,colour=yes`); "" where it does not.
    """
    if re.search(r"[*?]", value) and schema.field(condition.field).type in ("text", "tags"):
        return (
            f"{condition.field} {value!r} is looked for as it stands; for a pattern write '{condition.field}~{value}'"
        )
    if (m := re.fullmatch(r"(.+?)\s+(or|and)\s+([\w.]+)\s*=\s*(.+)", value)) and m[3] in schema.by_name:
        if m[2] == "or" and m[3] == condition.field:
            return f"one filter has several values, with commas between; write '{condition.field}={m[1]},{m[4]}'"
        told = f"{value!r} is not one value; write"
        if m[2] == "or":
            return f"{told} --any-of '{condition.field}={value}'"
        return f"{told} two filters: '{condition.field}={m[1]}' and '{m[3]}={m[4]}'"
    name, sign, rest = (p.strip() for p in value.partition("="))
    if not sign or name not in schema.by_name:
        return ""
    instead = {v: text for text, found in condition.unknown for v in found}  # as it was written
    values = list(dict.fromkeys(instead.get(v, str(v)) for v in condition.values))
    at = values.index(value)
    first, more = ",".join(values[:at]), ",".join([rest, *values[at + 1 :]])
    before = f"{condition.field}={first}" if first else ""
    both = " and ".join(f"'{text}'" for text in (before, f"{name}={more}") if text)
    return (
        f"{condition.field} {value!r} is a filter of its own, and a comma separates values of one field; write "
        f"two filters: {both}"
    )


def _plain(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if hasattr(value, "total_seconds"):
        return span(round(value.total_seconds() * 1_000_000))
    return f"{value}"
