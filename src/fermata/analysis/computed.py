"""Fields worked out from others, when they are asked for: classes from rules, amounts from rates, simple arithmetic.

Each is plain data with `added`, which gives a table the field's column, and `needs`, the fields it is made from;
`may_lack` says that it can find nothing for an event, so that a total of nothing is no zero.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from fractions import Fraction
from math import lcm
from typing import Any

from fermata.analysis.filters import Selection, column
from fermata.analysis.formula import Formula
from fermata.engines.embedded import Engine
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema

__all__ = ["Arithmetic", "Classes", "Price", "Rates", "Rule"]

HOUR = 3_600_000_000  # microseconds
ANY = "*"
EVERYTHING = Selection()


@dataclass(frozen=True, slots=True)
class Rule:
    """What is called `name`: a text that begins with one of `prefixes`, or whatever meets the selection."""

    name: str
    prefixes: tuple[str, ...] = ()
    only: Selection = EVERYTHING


@dataclass(frozen=True)
class Classes:
    """A class by rules: the first rule that fits, but among prefixes of `of` the longest. What fits none has no
    class.
    """

    field: Field
    of: str
    rules: tuple[Rule, ...]
    may_lack = True

    @property
    def needs(self) -> tuple[str, ...]:
        """The fields it is made from."""
        found = [c.field for r in self.rules for c in r.only.conditions]
        return tuple(dict.fromkeys([*([self.of] if self.of else []), *found]))

    def added(self, engine: Engine, table: Any, schema: LogSchema) -> Any:
        """The table with the class."""
        import ibis

        named = [(p, r.name, i) for i, r in enumerate(self.rules) for p in r.prefixes]
        by_prefix, place = None, None
        if named:
            table, by_prefix, place = self._longest(engine, table, schema, named)
        expr: Any = ibis.null("string")
        tests = [(i, r) for i, r in enumerate(self.rules) if not r.prefixes]
        for i, rule in reversed(tests):
            fits = ibis.literal(True)
            for test in rule.only.predicates(table, schema):
                fits = fits & test
            if place is not None:  # a prefix rule further up goes first
                fits = fits & (place.isnull() | (place > i))
            expr = ibis.ifelse(fits, ibis.literal(rule.name), expr)
        if by_prefix is not None:
            first = [i for i, _ in tests]
            expr = expr if first else ibis.null("string")
            expr = expr.coalesce(by_prefix)
        return table.mutate(**{self.field.stored: expr})

    def _longest(self, engine: Engine, table: Any, schema: LogSchema, named: list[tuple[str, str, int]]) -> Any:
        """The class and the rule's place of the longest prefix: one equality join for each length of prefix."""
        stored = schema.field(self.of).stored
        classes, places = [], []
        for length in sorted({len(p) for p, _, _ in named}, reverse=True):
            rows = [(p, n, i) for p, n, i in named if len(p) == length]
            mark = hashlib.sha256(repr(rows).encode()).hexdigest()[:12]
            names = [f"{c}_{self.field.name}_{length}" for c in ("prefix", "class", "place")]
            kinds = dict(zip(names, ("text", "text", "number"), strict=True))
            known = engine.lookup(f"prefixes_{mark}_{length}", kinds, rows)
            table = table.left_join(known, table[stored].substr(0, length) == known[names[0]]).drop(names[0])
            classes.append(names[1])
            places.append(names[2])
        import ibis

        found, at = (ibis.coalesce(*(table[n] for n in names)) for names in (classes, places))
        return table, found, at


@dataclass(frozen=True, slots=True)
class Price:
    """A row of a rate table: what it is for (`*` is anything), valid in naive UTC [since, until), and its numbers as
    whole units of the rate's scale: per event, for time per hour (or per started step), and for each amount; `least` is
    the smallest charge."""

    values: tuple[str, ...]
    since: datetime
    until: datetime
    each: int
    time: int
    amounts: tuple[int, ...]
    least: int


@dataclass(frozen=True)
class Rates:
    """What an event costs by a rate table: `match` are the fields its rows are for, `amounts` the fields priced, each
    by so many `of` its pieces. `started` are the microseconds of a step of time of which every started one counts (0:
    time is exact).

    The row with the most fields given goes before more general ones. Per event, started minutes and amounts go by the
    row valid at the start; time is priced exactly, by each row for its part of the span. The sum is rounded half up to
    the field's scale, once per event, and is never less than the row's least. Without a row, or without a finish where
    time is priced, there is no amount.
    """

    field: Field
    match: tuple[str, ...]
    amounts: tuple[str, ...]
    of: tuple[int, ...]
    started: int
    scale: int
    prices: tuple[Price, ...]
    table: str = ""
    may_lack = True

    @property
    def needs(self) -> tuple[str, ...]:
        """The fields it is made from."""
        return (*self.match, *self.amounts)

    @property
    def timed(self) -> bool:
        """Whether time has a price."""
        return any(p.time for p in self.prices)

    def added(self, engine: Engine, table: Any, schema: LogSchema) -> Any:
        """The table with the amount."""
        import ibis

        if self.timed and not schema.spans:
            raise RequestError(f"{self.field.name}: the log {schema.name} has no finish and no duration to price")
        before = list(table.columns)
        table = self._joined(engine, table, schema, table.start_utc, "a")
        if self.timed and not self.started:
            last = ibis.greatest(table.finish_utc - ibis.interval(microseconds=1), table.start_utc)
            table = self._joined(engine, table, schema, last, "b")
        amounts = [schema.field(name) for name in self.amounts]
        whole = [of * 10**f.scale for of, f in zip(self.of, amounts, strict=True)]
        exact = HOUR if self.timed and not self.started else 1
        common = lcm(exact, *whole)
        cost = table.each_a * common
        for i, (field, of) in enumerate(zip(amounts, whole, strict=True)):
            cost = cost + table[f"amount{i}_a"] * column(table, field).fill_null(0) * (common // of)
        if self.timed:
            length = table.finish_utc.delta(table.start_utc, unit="microsecond")
            if self.started:
                steps = ((length + self.started - 1) // self.started).cast("int64")
                cost = cost + table.time_a * steps * common
            else:
                cost = cost + self._time(table, length) * (common // HOUR)
        finer = 10 ** (self.scale - self.field.scale)
        rounded = ((2 * cost + common * finer) // (2 * common * finer)).floor().cast("int64")
        table = table.mutate(rounded_=rounded)
        least = ((table.least_a + finer - 1) // finer).floor().cast("int64")
        amount = ibis.ifelse(table.rounded_.isnull(), table.rounded_, ibis.greatest(table.rounded_, least))
        return table.mutate(**{self.field.stored: amount}).select([*before, self.field.stored])

    def _time(self, table: Any, length: Any) -> Any:
        """The price of a span's time: of one row, or of the rows its two ends fall into, edge by edge, and all between
        them.
        """
        import ibis

        one = table.time_a * length
        first = table.time_a * table.until_a.delta(table.start_utc, unit="microsecond")
        last = table.time_b * table.finish_utc.delta(table.since_b, unit="microsecond")
        between = (table.upto_b - table.through_a) * 1_000_000
        return ibis.ifelse(table.since_a == table.since_b, one, first + last + between)

    def _joined(self, engine: Engine, table: Any, schema: LogSchema, at: Any, end: str) -> Any:
        """The columns of the row valid at an instant: the most special one that fits."""
        import ibis

        names = [
            "since",
            "until",
            "each",
            "time",
            "least",
            "upto",
            "through",
            *(f"amount{i}" for i in range(len(self.amounts))),
        ]
        table = table.mutate(moment_=at, one_=ibis.literal(1, type="int64"))
        shapes = sorted({tuple(v != ANY for v in p.values) for p in self.prices}, key=lambda s: (-sum(s), s))
        for n, shape in enumerate(shapes):
            rows = self._rows([p for p in self.prices if tuple(v != ANY for v in p.values) == shape], shape)
            kinds = {f"{c}_{end}{n}": "time" if c in ("since", "until") else "number" for c in names}
            kinds |= {f"one_{end}{n}": "number", **{f"match{i}_{end}{n}": "text" for i, s in enumerate(shape) if s}}
            mark = hashlib.sha256(repr((rows, end, n)).encode()).hexdigest()[:16]
            known = engine.lookup(f"rates_{mark}", kinds, rows)
            tests = [table.one_ == known[f"one_{end}{n}"]]
            for i, name in enumerate(self.match):
                if shape[i]:
                    here = table[schema.field(name).stored]
                    here = (
                        here
                        if here.type().is_string()
                        else ibis.ifelse(here, "yes", "no")
                        if here.type().is_boolean()
                        else here.cast("string")
                    )
                    tests.append(here == known[f"match{i}_{end}{n}"])
            tests += [table.moment_ >= known[f"since_{end}{n}"], table.moment_ < known[f"until_{end}{n}"]]
            table = table.left_join(known, tests)
        found = {f"{c}_{end}": ibis.coalesce(*(table[f"{c}_{end}{n}"] for n in range(len(shapes)))) for c in names}
        return table.mutate(**found)

    def _rows(self, prices: list[Price], shape: tuple[bool, ...]) -> list[tuple[Any, ...]]:
        """Rows for a join, with the price of all time before each row and through its end, in units per hour times
        seconds.
        """
        rows = []
        totals: dict[tuple[str, ...], int] = {}
        for p in sorted(prices, key=lambda p: (p.values, p.since)):
            upto = totals.get(p.values, 0)
            bounded = p.until.year < 9999 and p.since.year > 1900
            seconds = int((p.until - p.since).total_seconds()) if bounded else 0
            totals[p.values] = through = upto + p.time * seconds
            match = [v for v, given in zip(p.values, shape, strict=True) if given]
            rows.append((p.since, p.until, p.each, p.time, p.least, upto, through, *p.amounts, 1, *match))
        return rows


@dataclass(frozen=True)
class Arithmetic:
    """Sums, differences and products of number fields: `pages * copies`. Where the selection does not hold it is 0."""

    field: Field
    formula: Formula
    only: Selection = EVERYTHING
    may_lack = False

    @property
    def needs(self) -> tuple[str, ...]:
        """The fields it is made from."""
        return tuple(dict.fromkeys([*self.formula.names, *(c.field for c in self.only.conditions)]))

    def scale_in(self, schema: LogSchema) -> int:
        """The decimals its values have. Raises RequestError for what cannot be reckoned exactly."""
        return int(self._fold(None, schema)[1])

    def _fold(self, table: Any, schema: LogSchema) -> tuple[Any, int]:
        def name(text: str) -> tuple[Any, int]:
            field = schema.field(text)
            if not field.addable:
                raise RequestError(f"formula {self.formula.text!r}: {text} is a {field.type}")
            return (None if table is None else column(table, field)), field.scale

        def number(value: Fraction) -> tuple[Any, int]:
            scale = -int(Decimal(str(float(value))).as_tuple().exponent) if value.denominator != 1 else 0
            return int(value * 10**scale), scale

        def apply(sign: str, a: tuple[Any, int], b: tuple[Any, int]) -> tuple[Any, int]:
            if sign == "/":
                raise RequestError(
                    f"formula {self.formula.text!r}: divide in a report's column, where nothing is rounded"
                )
            if sign == "*":
                return (None if table is None else a[0] * b[0]), a[1] + b[1]
            scale = max(a[1], b[1])
            if table is None:
                return None, scale
            x, y = (v * 10 ** (scale - s) for v, s in (a, b))
            return (x + y if sign == "+" else x - y), scale

        found: tuple[Any, int] = self.formula.fold(name, number, apply)
        return found

    def added(self, engine: Engine, table: Any, schema: LogSchema) -> Any:
        """The table with the amount."""
        import ibis

        value = self._fold(table, schema)[0].cast("int64")
        tests = self.only.predicates(table, schema)
        if tests:
            kept = tests[0]
            for test in tests[1:]:
                kept = kept & test
            value = ibis.ifelse(kept, value, 0)
        return table.mutate(**{self.field.stored: value})
