"""Computed fields as `fermata.toml` declares them, `[computed.FIELD]` for one log or several.

[computed.reach]                             # a class from rules
logs  = "calls"
of    = "other"
rules = [{ is = "internal", prefix = ["2", "3"] }, { is = "none", only = { other = "" } }]

[computed.charge]                            # an amount from a register of rates, valid from dates
logs    = "calls"
rates   = "call-rates"                       # its links name fields; a cell * fits anything
unit    = "EUR"
each    = "Setup"                            # attributes of that register: per event ...
started = { "1 minute" = "Minute" }          # ... per started minute (hour = "Hour" for exact time)
amounts = { pages = "Page" }                 # ... per piece; { received = { price = "Gigabyte", of = 1000000000 } }
least   = "Least"

[computed.all_pages]
logs    = "prints"
formula = "pages * copies"
only    = { colour = true }
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from datetime import timedelta
from decimal import Decimal
from itertools import pairwise
from typing import Any, Self

from pydantic import Field, model_validator

from fermata.analysis.computed import ANY, Arithmetic, Classes, Price, Rates, Rule
from fermata.analysis.formula import Formula, known
from fermata.decimals import exact_number
from fermata.errors import ConfigError, RequestError, UnknownName
from fermata.fields import Field as EventField
from fermata.fields import LogSchema, checked_field
from fermata.registers.directory import Directory
from fermata.reports.compile.resolve import identities
from fermata.reports.definition.parts import Chosen
from fermata.strict import Strict, listed
from fermata.timeline.lengths import exact

__all__ = ["ComputedMap", "with_computed"]


class RuleMap(Chosen):
    """A class: its name, and what belongs to it, by prefixes or by conditions."""

    name: str = Field(alias="is")
    prefix: tuple[str, ...] = ()

    _prefix = listed("prefix")


class AmountMap(Strict):
    """The price of an amount: the attribute that holds it, for so many pieces."""

    alone = ("price", ("string",))
    price: str
    of: int = Field(default=1, ge=1)


class ComputedMap(Chosen):
    """One computed field: a class (`rules`), an amount from rates, or arithmetic (`formula`)."""

    logs: tuple[str, ...] = Field(min_length=1)
    of: str = ""
    rules: tuple[RuleMap, ...] = ()
    rates: str = ""
    unit: str = ""
    scale: int = Field(default=2, ge=0, le=6)
    each: str = ""
    hour: str = ""
    started: dict[str, str] = Field(default_factory=dict)
    amounts: dict[str, AmountMap] = Field(default_factory=dict)
    least: str = ""
    formula: str = ""

    _logs = listed("logs")

    @model_validator(mode="after")
    def _sense(self) -> Self:
        ways = [bool(self.rules), bool(self.rates), bool(self.formula)]
        if sum(ways) != 1:
            raise ValueError("a computed field has one of rules, rates or formula")
        if any(r.prefix for r in self.rules) and not self.of:
            raise ValueError("rules with a prefix need of: the field whose text begins with it")
        if any(not r.prefix and not r.selection.conditions for r in self.rules):
            raise ValueError("each rule needs a prefix, or a filter: only, without or any_of")
        if self.rates and not (self.each or self.hour or self.started or self.amounts):
            raise ValueError("rates need a price: each, hour, started or amounts")
        if len(self.started) > 1 or (self.started and self.hour):
            raise ValueError('time has one price: hour = ..., or started = { "1 minute" = ... }')
        for text in self.started:
            exact(text)
        return self

    def made(self, name: str, schema: LogSchema, registers: Directory) -> Any:
        """The field for a log. Raises RequestError, UnknownName."""
        if self.rules:
            chosen = [identities(r.selection.checked(schema), schema, registers) for r in self.rules]
            rules = tuple(Rule(r.name, r.prefix, only) for r, only in zip(self.rules, chosen, strict=True))
            made: Any = Classes(EventField(name), self.of, rules)
        elif self.rates:
            made = self._rates(name, schema, registers)
        else:
            formula = Formula.parse(self.formula)
            known(formula, schema.by_name, "field")
            first = schema.field(formula.names[0])
            only = identities(self.selection.checked(schema), schema, registers)
            arithmetic = Arithmetic(EventField(name), formula, only)
            scale = arithmetic.scale_in(schema)
            kind: Any = first.type if first.type in ("money", "duration") else "decimal" if scale else "number"
            made = replace(arithmetic, field=EventField(name, kind, self.unit or first.unit, scale))
        for need in made.needs:
            schema.field(need)
        return made

    def _rates(self, name: str, schema: LogSchema, registers: Directory) -> Rates:
        register = registers.register(self.rates)
        if not register.table.links:
            raise RequestError(f"rates: {self.rates} has no links, which say what its rows are for")
        links = register.table.links
        match = tuple(links)

        def meant(field: str, text: str) -> str:
            """What a cell stands for in events: the person or thing its name means."""
            if text == ANY or "." in field or schema.field(field).type != "text":
                return text
            return registers.identity(schema, field, text, links[field].names)

        prices, finest = [], self.scale
        columns = [
            self.each,
            self.hour or next(iter(self.started.values()), ""),
            *(a.price for a in self.amounts.values()),
            self.least,
        ]
        for column in filter(None, columns):
            if column not in register.table.attributes:
                raise UnknownName.of("attribute", column, register.table.attributes, where=f"of {self.rates}")
        read = []
        for a in register.assignments:
            numbers = [_number(a.attributes[c] if c else None, f"{a.place} of {self.rates}: {c}") for c in columns]
            finest = max(finest, *(-int(n.as_tuple().exponent) for n in numbers))
            read.append((a, numbers))
        for a, numbers in read:
            each, time, *amounts, least = (int(n.scaleb(finest)) for n in numbers)
            values = tuple(meant(m, a.links[m]) for m in match)
            prices.append(Price(values, a.since, a.until, each, time, tuple(amounts), least))
        kind: Any = "money" if len(self.unit) == 3 and self.unit.isupper() else "decimal"
        field = EventField(name, kind, self.unit, self.scale)
        of = tuple(a.of for a in self.amounts.values())
        started = next((exact(t) // timedelta(microseconds=1) for t in self.started), 0)
        made = Rates(field, match, tuple(self.amounts), of, started, finest, tuple(prices), self.rates)
        _consistent(made, [(p, a.place) for p, (a, _) in zip(prices, read, strict=True)])
        return made


def _number(text: Any, where: str) -> Decimal:
    try:
        return exact_number(text) if text else Decimal(0)
    except ValueError:
        raise RequestError(f"{where} {text!r} is not a number; write 0.12") from None


def _consistent(rates: Rates, placed: list[tuple[Price, str]]) -> None:
    """Raises RequestError where two rows are valid at once, or where exact time would meet a gap between rows."""
    groups: dict[tuple[str, ...], list[tuple[Price, str]]] = {}
    for price, place in sorted(placed, key=lambda p: p[0].since):
        groups.setdefault(price.values, []).append((price, place))
    spans = set()
    for values, found in groups.items():
        for (one, a), (two, b) in pairwise(found):
            if two.since < one.until:
                raise RequestError(
                    f"{a} and {b} of {rates.table}: both are valid for {', '.join(values)} on {two.since:%Y-%m-%d}"
                )
            if rates.timed and not rates.started and two.since > one.until:
                raise RequestError(
                    f"{rates.table}: between {a} and {b} no row is valid for {', '.join(values)}; add one, since time "
                    "needs a price at every moment"
                )
        spans.add((found[0][0].since, found[-1][0].until))
    if rates.timed and not rates.started and len(spans) > 1:
        raise RequestError(
            f"{rates.table}: where time has a price, all rows for one thing must begin and end with those for the "
            "others"
        )


def with_computed(
    schemas: Mapping[str, LogSchema],
    computed: Mapping[str, ComputedMap],
    registers: Directory,
    others: Collection[str] = (),
) -> dict[str, LogSchema]:
    """The schemas with their computed fields; `others` are dealt with apart. Raises ConfigError with every problem."""
    found, problems = dict(schemas), []
    for name, table in computed.items():
        for log in table.logs:
            if log in others:
                continue
            try:
                checked_field(name)
                if log not in found:
                    raise UnknownName.of("log", log, found)
                if name in found[log].by_name:
                    raise RequestError(f"{log} has a field {name} already")
                made = table.made(name, registers.widened(found[log]), registers)
                found[log] = replace(found[log], computed=(*found[log].computed, made))
            except RequestError as e:
                problems.append(f"computed.{name}: {e}")
    if problems:
        raise ConfigError("fermata.toml", problems)
    return found
