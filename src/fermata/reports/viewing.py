"""Whose view of the data a run gives: what there is for a viewer, and what is refused because it cannot be narrowed."""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, TypeVar

from fermata.analysis.derive import Assembly, Link
from fermata.analysis.engine import Engine
from fermata.analysis.guarding import replaced, shortened, within
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema
from fermata.registers.directory import Directory, kind
from fermata.registers.register import EVER, Register
from fermata.registers.scope import Narrowed, Scope, links_replaced, pseudonym, without, without_columns
from fermata.registers.scope import replaced as register_replaced
from fermata.reports.model import Report
from fermata.reports.result import ALL, Page, Records, RunResult

__all__ = ["EVERYTHING", "View", "viewed"]

A = TypeVar("A", bound=RunResult | Records | Page)
ABOUT_ALL = ("logs", "cannot", "attention", "edits", "unresolved")  # questions to whole logs
FREE = ("period", "zone", "display", "chart", "sort")  # what may differ from a report that is allowed
ONE_VALUE = ("first", "last", "least", "most")


@dataclass(frozen=True)
class View:
    """What a viewer sees: `words` say whose view it is. Rows by `scope`; `hidden` fields (`cost`, `calls.other`, `people.rate`) do not exist;
    of `shortened` ones only the first characters stand, of those in `pseudonyms`, and of all names of the registers
    `named`, a pseudonym under `key`; figures of fewer than
    `smallest` people are left out. Only `reports` may be asked, where any are named. `person` is who the viewer is.
    """

    words: str = ALL
    person: str = ""
    scope: Scope | None = None
    hidden: frozenset[str] = frozenset()
    shortened: Mapping[str, int] = field(default_factory=dict)
    pseudonyms: frozenset[str] = frozenset()
    named: frozenset[str] = frozenset()
    key: bytes = field(default=b"", repr=False)
    smallest: int = 0
    reports: tuple[str, ...] = ()

    @property
    def everything(self) -> bool:
        """Whether nothing is kept back."""
        return not (self.scope or self.hidden or self.shortened or self.pseudonyms or self.smallest or self.reports)

    @property
    def digest(self) -> str:
        """SHA-256 of what is kept back, to 16 hex digits; "" for nothing."""
        if self.everything:
            return ""
        held = (self.scope, sorted(self.hidden), sorted(self.shortened.items()), sorted(self.pseudonyms), self.smallest)
        mark = pseudonym(self.key, "", "") if self.pseudonyms else ""
        return hashlib.sha256(repr((held, mark)).encode()).hexdigest()[:16]

    def refuse(self, what: str) -> None:
        """Raises RequestError for a viewer who does not see everything: `what` is about all, or changes something."""
        if not self.everything:
            raise RequestError(f"{what} is not for {self.words}: it cannot be narrowed to what they may see")

    def hides(self, holder: str, name: str) -> bool:
        """Whether a field of a log, or an attribute of a register, is hidden."""
        return name in self.hidden or f"{holder}.{name}" in self.hidden

    def barred(self, schema: LogSchema, registers: Directory) -> str:
        """Why the log cannot be narrowed to the scope; "" if it can."""
        if self.scope is None:
            return ""
        inputs = getattr(schema.derivation, "inputs", ())
        if inputs:
            return next((why for s in inputs if (why := self.barred(s, registers))), "")
        held = next((f for f in schema.fields if f.name == self.scope.base and f.type == "text"), None)
        if held is None:
            return f"{self.words}: the log {schema.name} has no {self.scope.base}, so it cannot be narrowed"
        if self.scope.attribute and registers.of(held) is None:
            return (
                f"{self.words}: no register tells {self.scope.field} in the log {schema.name}, so it cannot be narrowed"
            )
        return ""

    def schema(self, schema: LogSchema, registers: Directory) -> LogSchema:
        """The log with only the fields the viewer has."""
        if not self.hidden:
            return schema
        gone = self._gone(schema, registers)
        fields = tuple(f for f in schema.fields if f.name not in gone)
        return dataclasses.replace(
            schema, fields=fields, computed=tuple(c for c in schema.computed if c.field.name not in gone)
        )

    def _gone(self, schema: LogSchema, registers: Directory) -> set[str]:
        """The hidden fields of a log and all that is made of them."""
        gone = {f.name for f in schema.fields if self.hides(schema.name, f.name)}
        made = schema.derivation
        behind = [self._gone(s, registers) for s in getattr(made, "inputs", ())]
        gone |= {name for names in behind for name in names}
        if isinstance(made, Link):
            gone |= {new for new, old in made.take if old in behind[1]}
        if isinstance(made, Assembly) and any(p.amount in g for p, g in zip(made.parts, behind, strict=True)):
            gone |= set(made.made)
        for one in schema.computed:
            needs = {one.field.name, *one.needs}
            if needs & gone or any(self._hidden_attribute(schema, n, registers) for n in needs):
                gone.add(one.field.name)
            if self.hides(schema.name, one.field.name):
                gone.add(one.field.name)
        return gone

    def _hidden_attribute(self, schema: LogSchema, name: str, registers: Directory) -> bool:
        base, dot, attribute = name.partition(".")
        held = next((f for f in schema.fields if f.name == base), None)
        owner = registers.of(held) if dot and held else None
        return owner is not None and self.hides(owner.name, attribute)

    def directory(self, whole: Directory, schemas: Iterable[LogSchema]) -> Directory:
        """The registers as the viewer has them. `schemas` are the logs whose fields tell which registers the scope is about."""
        if not (self.scope or self.hidden or self.pseudonyms):
            return whole
        fields = [f for s in schemas for f in s.fields]
        ours = {whole.owners.get(kind(f)) for f in fields if self.scope and f.name == self.scope.base} - {None}

        def change(register: Register) -> Register:
            if self.scope and register.name in ours:
                register = self.scope.narrowed(register)
            elif self.scope and register.table.links:
                for owner in ours:
                    register = self.scope.assigned(register, self.scope.narrowed(whole.register(str(owner))))
            register = without(register, lambda name: self.hides(register.name, name))
            if register.table.links:
                return links_replaced(register, lambda k: whole.owners.get(k) in self.named, self.key)
            return register_replaced(register, self.key) if register.name in self.named else register

        tables = {n: without_columns(t, lambda a, n=n: self.hides(n, a)) for n, t in whole.tables.items()}  # type: ignore[misc]
        return Narrowed(tables, whole.base, whole.zone, whole=whole, change=change)

    def events(
        self, engine: Engine, table: Any, schema: LogSchema, whole: Directory, start: datetime, end: datetime
    ) -> Any:
        """What the viewer has of a stored log's events in naive UTC [start, end). Raises RequestError for a log that cannot be narrowed."""
        if self.scope:
            if why := self.barred(schema, whole):
                raise RequestError(why)
            held = schema.field(self.scope.base)
            register = whole.of(held)
            first = EVER if schema.spans else start
            if register:
                rows = self.scope.rows(register, held, None if schema.spans else start, end)
                table = within(engine, table, held.stored, rows, first, end)
            else:
                table = table.filter(table[held.stored].isin(self.scope.values))
        if self.pseudonyms:
            told = {f.stored: kind(f) for f in schema.fields if f.type == "text" and self._named(f, whole)}
            table = replaced(engine, table, told, lambda names, text: pseudonym(self.key, names, text))
        cut = {f.stored: self.shortened[f.name] for f in schema.fields if f.type == "text" and f.name in self.shortened}
        return shortened(table, cut)

    def _named(self, held: Field, whole: Directory) -> bool:
        """Whether a field holds names that are replaced: named so itself, or of a kind whose register's names are."""
        return held.name in self.pseudonyms or whole.owners.get(kind(held)) in self.named

    def openly(self, what: str) -> None:
        """Raises RequestError for a viewer of figures or of certain reports alone: `what` shows single events or people."""
        if self.smallest or self.reports:
            seen = f"figures of {self.smallest} people or more" if self.smallest else ", ".join(self.reports)
            raise RequestError(f"{what} is not for {self.words}, who sees {seen}")

    def allows(self, report: Report, allowed: Callable[[str], Report]) -> None:
        """Raises RequestError for a report that is none of those the viewer may run."""
        if self.reports and not any(self._same(report, allowed(name)) for name in self.reports):
            names = ", ".join(self.reports)
            what = report.title or report.log or "this"
            raise RequestError(f"{what}: {self.words} may run only {names}, for any period and narrowed further")

    def narrows(self, report: Report) -> None:
        """Raises RequestError for a report that cannot be narrowed to what the viewer may see."""
        if self.scope and report.ask and report.ask.what in ABOUT_ALL:
            self.refuse(f"{report.title or report.ask.what}, a question to whole logs,")
        if self.smallest:
            self._figures_only(report)

    def _figures_only(self, report: Report) -> None:
        if report.listing or report.ask or report.register_name:
            what = report.title or "this report"
            raise RequestError(
                f"{what} shows single events or people; {self.words} sees figures of {self.smallest} people or more"
            )
        if report.compare or report.rows or report.top:
            key = "compare" if report.compare else "rows" if report.rows else "top"
            raise RequestError(f"{key} could tell of groups of fewer than {self.smallest} people; leave it out")
        for spec in report.columns:
            if spec.measure.partition(" ")[0] in ONE_VALUE:
                raise RequestError(
                    f"{spec.measure} is the value of a single event; {self.words} sees figures of groups"
                )

    @staticmethod
    def _same(report: Report, allowed: Report) -> bool:
        """Whether a report is the allowed one, but for its period, its look, and further filters."""
        changes: dict[str, Any] = {key: getattr(allowed, key) for key in FREE}
        if set(allowed.only) <= set(report.only) and set(allowed.without) <= set(report.without):
            changes |= {"only": allowed.only, "without": allowed.without}
        return report.changed(**changes) == allowed


EVERYTHING = View()


def viewed(answer: A, words: str) -> A:
    """The answer with whose view it is in its context, and in those of its parts."""
    if words == ALL:
        return answer
    head = dataclasses.replace(answer.context, view=words)
    if isinstance(answer, Page):
        parts = tuple(dataclasses.replace(p, item=viewed(p.item, words) if p.item else None) for p in answer.parts)
        return dataclasses.replace(answer, context=head, parts=parts)
    return dataclasses.replace(answer, context=head)
