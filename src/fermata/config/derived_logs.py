"""Derived and generated logs as `fermata.toml` declares them: `[logs.NAME]` tables with `from` or `generate`.

[logs.presence]
from    = "doors"
pairing = { opening = "in", closing = "out", by = "user", reach = "16 hours", unfinished = "at most 12 hours" }

[logs.uptime]
from   = "states"
states = { by = "device" }

[logs.cases]
from     = "calls"
merge = { by = "call", within = "1 day", keep = "last", total = "pages" }

[logs.pages-used]
from    = "meter"
counter = ["pages"]              # each reading becomes the pages since the one before, per device

[logs.results]
from = "changes"
link = { to = "tickets", on = { case = "case" }, take = { result = "action" }, only = { action = ["solved", "refused"] }
}

[logs.accounts]
from     = ["credit", "prints"]
combine = { credit = { amount = "amount" }, prints = { amount = "-cost", only = { action = "printed" } } }

[logs.required]
generate = "required time"
register = "people"
pattern  = "pattern"             # the attribute that names somebody's working pattern
up_to    = "timesheets"             # the log it is compared with: it is required up to the end of what that holds
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal, Self

from pydantic import Field, field_validator, model_validator

from fermata.analysis.combined_logs import Combine, Part
from fermata.analysis.counters import Counter
from fermata.analysis.derive import Link, Merge, Pairing, States
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema, checked_field
from fermata.kinds import KINDS
from fermata.reports.compile.generated_logs import Amounts, Entitled, RequiredTime
from fermata.reports.definition.parts import Chosen
from fermata.strict import Strict, listed, several
from fermata.timeline.lengths import exact

__all__ = ["DerivedMap", "derived_schemas"]

AT_MOST = "at most "
WAYS = ("pairing", "states", "merge", "counter", "link", "combine")
GENERATED = {  # what is generated -> the keys it goes by, besides the register and `up_to`
    "required time": ("pattern", "absences"),
    "amounts": ("amount", "unit", "scale", "per", "spread"),
    "assignments": (),
}


class Keyed(Strict):
    """What belongs together has the same values of `by`."""

    by: tuple[str, ...] = Field(min_length=1)

    _by = listed("by")


class PairingMap(Keyed, Chosen):
    """Opening and closing actions as spans, of the events chosen."""

    opening: tuple[str, ...] = Field(min_length=1)
    closing: tuple[str, ...] = Field(min_length=1)
    reach: str
    unfinished: str = "open"

    _lists = listed("opening", "closing")

    @field_validator("reach")
    @classmethod
    def _length(cls, text: str) -> str:
        exact(text)
        return text

    @field_validator("unfinished")
    @classmethod
    def _policy(cls, text: str) -> str:
        if text.startswith(AT_MOST):
            exact(text.removeprefix(AT_MOST))
        elif text not in ("open", "until next", "day's end", "log's end"):
            raise ValueError(f"{text!r}: write open, until next, at most 8 hours, day's end or log's end")
        return text


class StatesMap(Keyed):
    """Each event lasts until the next of its key."""


class MergeMap(Keyed):
    """Several records of one thing as one event."""

    within: str
    keep: Literal["first", "last", "longest"] = "last"
    total: tuple[str, ...] = ()
    reach: str = "1 day"

    _total = listed("total")

    @field_validator("within", "reach")
    @classmethod
    def _length(cls, text: str) -> str:
        exact(text)
        return text


class CounterMap(Strict):
    """Readings that only grow, as what was used since the reading before; a list alone stands for `amounts`."""

    alone = ("amounts", ("string", "array"))
    amounts: tuple[str, ...] = Field(min_length=1)
    by: tuple[str, ...] = ("device",)
    put: Literal["reading", "days"] = "reading"
    longest: str = ""
    wraps: int | None = Field(default=None, gt=0)
    reach: str = "400 days"

    _lists = listed("amounts", "by")

    @model_validator(mode="after")
    def _lengths(self) -> Self:
        exact(self.reach)
        if self.longest:
            exact(self.longest)
            if self.put != "days":
                raise ValueError('longest goes with put = "days": a longer gap stays at its reading')
        return self


class LinkMap(Chosen):
    """Fields of another log's event of the same thing."""

    to: str
    on: dict[str, str] = Field(min_length=1)
    take: dict[str, str] = Field(default_factory=dict)
    which: Literal["first", "last"] = "last"
    during: bool = False
    reach: str = "365 days"

    @field_validator("on", mode="before", json_schema_input_type=str | tuple[str, ...] | dict[str, str])
    @classmethod
    def _same(cls, value: Any) -> Any:
        return {v: v for v in several(value)} if isinstance(value, str | list) else value


class PartMap(Chosen):
    """A log's part of what is combined; `-` in front of the amount turns its sign. `recorded` is the source's own
    balance.
    """

    amount: str
    recorded: str = ""


class DerivedMap(Strict):
    """A log made from others, or from a register and the calendar."""

    sources: tuple[str, ...] = Field(default=(), alias="from")
    generate: Literal["required time", "amounts", "assignments"] | None = None
    kind: str = ""
    title: str = ""
    pairing: PairingMap | None = None
    states: StatesMap | None = None
    merge: MergeMap | None = None
    counter: CounterMap | None = None
    link: LinkMap | None = None
    combine: dict[str, PartMap] | None = None
    by: tuple[str, ...] = ()
    register_name: str = Field(default="", alias="register")
    up_to: str = ""
    pattern: str = "pattern"
    absences: str = ""
    amount: str = "amount"
    unit: str = ""
    scale: int = Field(default=2, ge=0, le=6)
    per: str = "month"
    spread: Literal["start", "days", "workdays"] = "start"

    _sources = listed("sources", "by")

    @field_validator("kind")
    @classmethod
    def _known(cls, name: str) -> str:
        if name and name not in KINDS:
            raise ValueError(f"there is no kind of log {name!r}; there are {', '.join(KINDS)} (or leave it out)")
        return name

    @model_validator(mode="after")
    def _sense(self) -> Self:
        ways = [w for w in WAYS if getattr(self, w) is not None]
        if bool(self.sources) is (self.generate is not None):
            raise ValueError("a derived log has either from or generate")
        if self.sources and len(ways) != 1:
            raise ValueError(f"say how it is derived, by one of {', '.join(WAYS)}")
        if self.combine is not None:
            if set(self.combine) != set(self.sources):
                raise ValueError("combine has a part for each log of from, and for no other")
        elif len(self.sources) > 1:
            raise ValueError("only combine takes several logs; to look things up in another, use link")
        if self.generate and not (self.register_name and self.up_to):
            raise ValueError("what is generated needs a register, and up_to: the log it is compared with")
        self._refuse_unused()
        return self

    def _refuse_unused(self) -> None:
        """Raises ValueError for a key that has no effect on how this log is made."""
        fit = {"by": "combine", **dict.fromkeys(("register_name", "up_to"), "generate")}
        fit |= {key: f"generate = {what!r}" for what, keys in GENERATED.items() for key in keys}
        own: tuple[str, ...] = ("by",) if self.combine is not None else ()
        if self.generate:
            own = ("register_name", "up_to", *GENERATED[self.generate])
        for key, with_ in fit.items():
            if key in self.model_fields_set and key not in own:
                raise ValueError(f"{key.removesuffix('_name')} has no effect here; it has with {with_}")

    @property
    def needs(self) -> tuple[str, ...]:
        """The logs it is made from."""
        return (
            *self.sources,
            *([self.link.to] if self.link else []),
            *([self.up_to] if self.up_to else []),
            *([self.absences] if self.absences else []),
        )

    def schema_of(self, name: str, schemas: Mapping[str, LogSchema], zone: str, registers: Any) -> LogSchema:
        """What its events hold. Raises UnknownName, RequestError."""
        inputs = tuple(schemas[s] for s in self.sources)
        if self.generate:
            made: Any = self._generated(schemas[self.up_to].stored_logs, registers)
            return LogSchema(name, made.fields, made.spans, self.kind, schemas[self.up_to].zone, derivation=made)
        derivation: Any
        spans = inputs[0].spans
        if self.pairing:
            p = self.pairing
            limit = exact(p.unfinished.removeprefix(AT_MOST)) if p.unfinished.startswith(AT_MOST) else None
            policy: Any = "at most" if limit else p.unfinished
            chosen = p.selection.checked(inputs[0])
            derivation = Pairing(inputs, p.opening, p.closing, p.by, exact(p.reach), policy, limit, chosen)
            _check(inputs[0], ("action", *p.by))
            spans = True
        elif self.states:
            derivation, spans = States(inputs, self.states.by), True
            _check(inputs[0], self.states.by)
        elif self.merge:
            c = self.merge
            derivation = Merge(inputs, c.by, exact(c.within), c.keep, c.total, exact(c.reach))
            _check(inputs[0], (*c.by, *c.total))
            longest = c.keep == "longest" and not spans
            spans = True
            if odd := [t for t in c.total if inputs[0].field(t).type not in ("number", "money", "decimal", "duration")]:
                raise RequestError(f"total: {odd[0]} is a {inputs[0].field(odd[0]).type} and cannot be added up")
            if longest:
                raise RequestError(f"keep = 'longest': the log {inputs[0].name} has no finish and no duration")
        elif self.counter:
            derivation, spans = _counter(self.counter, inputs), False
        elif self.link:
            derivation = self._link(self.link, inputs[0], schemas[self.link.to])
        else:
            derivation = self._combined(inputs)
            spans = all(s.spans for s in inputs)
        names = [f.name for f in derivation.fields]
        if twice := next((n for n in names if names.count(n) > 1), ""):
            raise RequestError(f"{inputs[0].name} has a field {twice} already, which {name} would add; rename it there")
        return LogSchema(
            name, derivation.fields, spans, self.kind or inputs[0].kind, inputs[0].zone, derivation=derivation
        )

    def _link(self, link: LinkMap, one: LogSchema, other: LogSchema) -> Link:
        _check(one, link.on)
        _check(other, (*link.on.values(), *link.take.values()))
        for name in link.take:
            checked_field(name)
        if taken := [n for n in link.take if n in one.by_name]:
            raise RequestError(f"take: {one.name} has a field {taken[0]} already; give it another name")
        if link.during and not other.spans:
            raise RequestError(f"during: the events of {other.name} have no finish")
        only = link.selection.checked(other)
        return Link(
            (one, other),
            tuple(link.on.items()),
            tuple(link.take.items()),
            only,
            link.which,
            link.during,
            exact(link.reach),
        )

    def _combined(self, inputs: tuple[LogSchema, ...]) -> Combine:
        parts = []
        for schema in inputs:
            part = (self.combine or {})[schema.name]
            field = schema.field(part.amount.removeprefix("-"))
            if not field.addable or field.type == "duration":
                raise RequestError(
                    f"amount: {field.name} of {schema.name} is a {field.type}; it must be a number or money"
                )
            if part.recorded and schema.field(part.recorded).type != field.type:
                raise RequestError(
                    f"recorded: {part.recorded} is a {schema.field(part.recorded).type}, the amount a {field.type}"
                )
            sign = -1 if part.amount.startswith("-") else 1
            parts.append(Part(field.name, sign, part.selection.checked(schema), part.recorded))
        units = {s.field(p.amount).unit for s, p in zip(inputs, parts, strict=True)}
        if len(units) > 1:
            raise RequestError(f"amount: {' and '.join(sorted(u or 'no unit' for u in units))} cannot be added up")
        made = Combine(inputs, tuple(parts), self.by)
        if any(p.recorded for p in parts) and not self.by:
            raise RequestError("recorded: say whose balance it is, as in by = 'user'")
        shared = {f.name for f in made.fields}
        if odd := [name for name in self.by if name not in shared]:
            raise RequestError(f"by: {odd[0]} is no field that all of {', '.join(s.name for s in inputs)} have")
        return made

    def _generated(self, rests_on: tuple[str, ...], registers: Any) -> Any:
        if self.register_name not in registers.tables:
            raise UnknownName.of("register", self.register_name, registers.tables, where="to generate from")
        table = registers.tables[self.register_name]
        if self.generate == "required time":
            if self.pattern not in table.attributes:
                raise UnknownName.of("attribute", self.pattern, table.attributes, where=f"of {self.register_name}")
            return RequiredTime(self.register_name, self.pattern, self.up_to, rests_on, self.absences)
        links = tuple((k, m.names) for k, m in table.links.items())
        if not links:
            raise RequestError(f"{self.register_name} has no links; {self.generate} are generated from an assignment")
        if self.generate == "assignments":
            return Entitled(self.register_name, links, self.up_to, rests_on)
        if self.amount not in table.attributes:
            raise UnknownName.of("attribute", self.amount, table.attributes, where=f"of {self.register_name}")
        return Amounts(
            self.register_name, links, self.amount, self.unit, self.scale, self.per, self.spread, self.up_to, rests_on
        )


def _counter(asked: CounterMap, inputs: tuple[LogSchema, ...]) -> Counter:
    _check(inputs[0], (*asked.by, *asked.amounts))
    for name in asked.amounts:
        field = inputs[0].field(name)
        if field.type not in ("number", "decimal", "money", "duration"):
            raise RequestError(f"counter: {name} of {inputs[0].name} is a {field.type}; a counter is a number")
    if asked.wraps and any(inputs[0].field(n).type != "number" for n in asked.amounts):
        raise RequestError("counter: wraps goes with whole numbers")
    longest = exact(asked.longest) if asked.longest else None
    return Counter(inputs, asked.amounts, asked.by, asked.put, longest, asked.wraps, exact(asked.reach))


def _check(schema: LogSchema, names: Any) -> None:
    for name in names:
        schema.field(name)


def derived_schemas(
    derived: Mapping[str, DerivedMap], stored: Mapping[str, LogSchema], zone: str, registers: Any
) -> dict[str, LogSchema]:
    """All schemas, the derived ones after those they are made from. Raises ConfigError naming the table that is
    wrong.
    """
    from fermata.errors import ConfigError

    schemas = dict(stored)
    waiting = dict(derived)
    problems = []
    while waiting:
        ready = [n for n, d in waiting.items() if all(s in schemas for s in d.needs)]
        if not ready:
            for name, table in waiting.items():
                missing = next(s for s in table.needs if s not in schemas)
                known = missing in waiting
                problems.append(
                    f"logs.{name}: made from {missing}, which is made from it in turn" if known
                    else f"logs.{name}: {UnknownName.of('log', missing, [*stored, *derived])}"
                )  # fmt: skip
            break
        for name in ready:
            try:
                schemas[name] = waiting.pop(name).schema_of(name, schemas, zone, registers)
            except RequestError as e:
                problems.append(f"logs.{name}: {e}")
                schemas[name] = next(iter(stored.values()))
    if problems:
        raise ConfigError("fermata.toml", problems)
    return schemas
