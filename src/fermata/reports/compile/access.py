"""The gate: whose view of the data a run gives. Who may ask what is decided here, once, for every kind of request
(`View.admit`); what there is to see of rows, fields and names is what `View.events`, `View.schema` and `View.directory`
leave.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from typing import Any, TypeVar

from fermata.analysis.combined_logs import Combine
from fermata.analysis.derive import Link
from fermata.analysis.filters import Condition
from fermata.analysis.masking import masked, replaced, shortened, within
from fermata.digest import apart, digest
from fermata.engines.embedded import Engine
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema
from fermata.registers.directory import Directory, kind
from fermata.registers.register import EVER, Register
from fermata.registers.scope import Narrowed, Scope, links_replaced, pseudonym, without, without_columns
from fermata.registers.scope import replaced as register_replaced
from fermata.reports.definition.report import Report
from fermata.reports.result import ALL, Page, Records, RunResult

__all__ = ["EVERYTHING", "POLICIES", "Cube", "Policy", "View", "names_unseen", "viewed"]

A = TypeVar("A", bound=RunResult | Records | Page)
FREE = ("period", "zone", "display", "chart", "sort")  # what may differ from a report that is allowed


@dataclass(frozen=True)
class Policy:
    """Who may be shown something: who sees a part of the people or fields, or other names (`narrowed`), who sees
    figures of groups alone (`groups`), and who may run certain reports alone, as one of these (`reports`).
    """

    narrowed: bool
    groups: bool
    reports: bool


POLICIES = {  # what a request, or another way to look, shows -> who may see it
    "figures": Policy(True, True, True),
    "parts": Policy(True, True, True),
    "events": Policy(True, False, True),
    "events behind a figure": Policy(True, False, False),
    "a register": Policy(True, False, True),
    "who is inside": Policy(True, False, True),
    "who met whom": Policy(True, False, True),
    "what is unusual": Policy(True, False, True),
    "a trail": Policy(True, False, True),
    "whole logs": Policy(False, False, True),
    "names": Policy(True, False, False),
}


@dataclass(frozen=True)
class Cube:
    """What a viewer of groups may ask for: figures by these fields, filtered by these, over whole units of the
    `grain`.
    """

    by: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    grain: str = "month"

    @property
    def fields(self) -> tuple[str, ...]:
        """All fields that its cells are told apart by."""
        return tuple(dict.fromkeys((*self.by, *self.only)))


@dataclass(frozen=True)
class View:
    """What a viewer sees: `words` say whose view it is. Rows by `scope`; `hidden` fields (`cost`, `calls.other`,
    `people.rate`) do not exist; of `shortened` ones only the first characters stand, of those in `pseudonyms`, and of
    all names of the registers `named`, a pseudonym under `key`; figures of fewer than `smallest` people are not shown,
    and only those of the `cube`. Only `reports` may be asked, where there are any: by the name they were allowed under,
    as they were when the workspace was opened. `person` is who the viewer is.
    """

    words: str = field(default=ALL, metadata=apart("words"))
    person: str = ""
    scope: Scope | None = None
    hidden: frozenset[str] = frozenset()
    shortened: Mapping[str, int] = field(default_factory=dict)
    pseudonyms: frozenset[str] = frozenset()
    named: frozenset[str] = frozenset()
    key: bytes = field(default=b"", repr=False, metadata=apart("a secret; a pseudonym made with it stands for it"))
    smallest: int = 0
    cube: Cube = field(default_factory=Cube)
    reports: tuple[tuple[str, Report], ...] = field(
        default=(), metadata=apart("who may run what does not change a figure")
    )

    @property
    def everything(self) -> bool:
        """Whether nothing is kept back."""
        return not (self.scope or self.hidden or self.shortened or self.pseudonyms or self.smallest or self.reports)

    @property
    def digest(self) -> str:
        """SHA-256 of what is kept back, to 16 hex digits; "" for nothing."""
        return "" if self.everything else digest(self, pseudonym(self.key, "", "") if self.pseudonyms else "")

    @property
    def rewrites(self) -> bool:
        """Whether something else than what the source wrote stands in some fields."""
        return bool(self.shortened or self.pseudonyms)

    def admit(self, shows: str, report: Report | None = None, *, part: bool = False) -> None:
        """Raises RequestError unless the viewer may be shown it: one of POLICIES. A `part` of a page was allowed with
        its page.
        """
        policy = POLICIES[shows]
        what = (report.title if report else "") or shows
        if (self.scope or self.hidden or self.rewrites) and not policy.narrowed:
            raise RequestError(
                f"{what}, a question to whole logs, is not for {self.words}: it cannot be narrowed to what they may see"
            )
        if self.smallest and not policy.groups:
            raise RequestError(
                f"{what} shows single events or people; {self.words} sees figures of {self.smallest} people or more"
            )
        if self.reports and not part:
            same = policy.reports and report and any(_same(report, allowed) for _, allowed in self.reports)
            if not same:
                names = ", ".join(name for name, _ in self.reports)
                raise RequestError(
                    f"{what} is not for {self.words}, who may run only {names}, for any period and narrowed further"
                )

    def may(self, shows: str) -> bool:
        """Whether `admit` lets it be shown, by itself and not as one of certain reports."""
        try:
            self.admit(shows)
        except RequestError:
            return False
        return True

    def hides(self, holder: str, name: str) -> bool:
        """Whether a field of a log, or an attribute of a register, is hidden."""
        return name in self.hidden or f"{holder}.{name}" in self.hidden

    def hides_field(self, holder: str, held: Field) -> bool:
        """Whether a field of a log is hidden, by its own name or that of its origin."""
        return self.hides(holder, held.name) or self.hides(holder, held.source)

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
        gone = {f.name for f in schema.fields if self.hides_field(schema.name, f)}
        made = schema.derivation
        behind = [self._gone(s, registers) for s in getattr(made, "inputs", ())]
        gone |= {name for names in behind for name in names}
        if isinstance(made, Link):
            gone |= {new for new, old in made.take if old in behind[1]}
        if isinstance(made, Combine) and any(p.amount in g for p, g in zip(made.parts, behind, strict=True)):
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
        """The registers as the viewer has them. `schemas` are the logs whose fields tell which registers the scope is
        about.
        """
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

        tables = {n: without_columns(t, partial(self.hides, n)) for n, t in whole.tables.items()}
        return Narrowed(tables, whole.base, whole.zone, whole=whole, change=change)

    def events(
        self, engine: Engine, table: Any, schema: LogSchema, whole: Directory, start: datetime, end: datetime
    ) -> Any:
        """What the viewer has of a stored log's events in naive UTC [start, end). Raises RequestError for a log that
        cannot be narrowed.
        """
        if self.scope:
            if why := self.barred(schema, whole):
                raise RequestError(why)
            held = schema.field(self.scope.base)
            register = whole.of(held)
            first = EVER if schema.spans else start
            if register:
                rows = self.scope.rows(register, held, None if schema.spans else start, end)
                table = within(engine, table, held.stored, rows, first, end)
                for other in self._others(schema, held, whole):
                    rows = self.scope.rows(register, other, None if schema.spans else start, end)
                    twins = [f.stored for f in schema.fields if f.origin == other.name]
                    table = masked(engine, table, other.stored, rows, first, end, twins)
            else:
                table = table.filter(table[held.stored].isin(self.scope.values))
        if self.pseudonyms:
            sources = {f.name: f for f in schema.fields}
            told = {
                f.stored: kind(sources.get(f.source, f))
                for f in schema.fields
                if f.type == "text" and self._named(sources.get(f.source, f), whole)
            }
            table = replaced(engine, table, told, lambda names, text: pseudonym(self.key, names, text))
        texts = [f for f in schema.fields if f.type == "text"]
        cut = {f.stored: n for f in texts if (n := self.shortened.get(f.name, self.shortened.get(f.source, 0)))}
        return shortened(table, cut)

    @staticmethod
    def _others(schema: LogSchema, held: Field, whole: Directory) -> list[Field]:
        """The fields of a log, beside the one its scope goes by, that name people or things of the same register."""
        register = whole.of(held)
        texts = [f for f in schema.fields if f.type == "text" and f.name != held.name]
        return [f for f in texts if (of := whole.of(f)) and register and of.name == register.name]

    def _named(self, held: Field, whole: Directory) -> bool:
        """Whether a field holds names that are replaced: named so itself, or of a kind whose register's names are."""
        return held.name in self.pseudonyms or whole.owners.get(kind(held)) in self.named


def _same(report: Report, allowed: Report) -> bool:
    """Whether a report is the allowed one, but for its period, its look, and further filters."""
    changes: dict[str, Any] = {key: getattr(allowed, key) for key in FREE}
    if set(allowed.only) <= set(report.only) and set(allowed.without) <= set(report.without):
        changes |= {"only": allowed.only, "without": allowed.without}
    return report.changed(**changes) == allowed


def names_unseen(
    report: Report, view: View, schemas: Mapping[str, LogSchema], whole: Directory, seen: Directory
) -> bool:
    """Whether filters of a definition, those of its columns and parts too, name what the viewer may not see: values of
    hidden fields or of those that are shown otherwise, and people outside the scope. `whole` and `seen` are the
    registers as they are and as the viewer has them.
    """

    def unseen(condition: Condition) -> bool:
        name, _, attribute = condition.field.partition(".")
        held = [(n, f) for n, s in schemas.items() for f in s.fields if f.name == name]
        if any(view.hides_field(log, f) or {f.name, f.source} & {*view.pseudonyms, *view.shortened} for log, f in held):
            return True
        owners = {o for _, f in held if (o := whole.owners.get(kind(f)))}
        if attribute not in ("", "written"):
            return any(view.hides(o, attribute) for o in owners)
        if not (view.scope and owners):
            return False
        return not all(any(seen.meant(f, str(v))[1] for _, f in held) for v in condition.values)

    own = (*report.selection.conditions, *(c for spec in report.columns for c in spec.selection.conditions))
    return any(map(unseen, own)) or any(names_unseen(p, view, schemas, whole, seen) for p in report.parts)


EVERYTHING = View()


def viewed(answer: A, words: str, clock: str = "") -> A:
    """The answer with whose view it is in its context and in those of its parts; at the top, where its clock stands."""
    if words == ALL and answer.context.clock == clock:
        return answer
    head = dataclasses.replace(answer.context, view=words, clock=clock)
    if isinstance(answer, Page):
        parts = tuple(dataclasses.replace(p, item=viewed(p.item, words) if p.item else None) for p in answer.parts)
        return dataclasses.replace(answer, context=head, parts=parts)
    return dataclasses.replace(answer, context=head)
