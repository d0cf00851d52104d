"""One run for many: which parts there are, and to whom each goes."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from fermata.api import content
from fermata.delivery.model import ADDRESS, Split
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.registers.directory import kind
from fermata.registers.register import Register
from fermata.registers.scope import Scope
from fermata.reports.model import Report
from fermata.reports.run import run
from fermata.reports.spec import ColumnSpec

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["Part", "check", "parts"]


@dataclass(frozen=True)
class Part:
    """A part: its value, the scope that holds nothing else, and the addresses it goes to; `why` there are none."""

    value: str
    scope: Scope
    to: tuple[str, ...]
    why: str = ""


def check(house: Workspace, split: Split, report: Report) -> None:
    """Raises RequestError, UnknownName where the report cannot be taken apart so, or recipients cannot be told."""
    if house.view.scope:
        raise RequestError(f"split: {house.view.words} sees a part already, which is not taken apart further")
    found = [s for s in _schemas(house, report) if _has(s, split.by)]
    if not found:
        known = {f for s in _schemas(house, report) for f in s.by_name}
        raise UnknownName.of("field", split.by, known, where="to split by")
    field = found[0].field(split.by)
    if field.type != "text":
        raise RequestError(f"split: {split.by} is a {field.type}; parts are told apart by a text")
    if split.recipient:
        _register(house, split, field)


def _schemas(house: Workspace, report: Report) -> list[LogSchema]:
    """The logs a report's figures come from, with the attributes of registers."""
    names = dict.fromkeys(
        n for leaf in content.leaves(report, house.place()) for n in (leaf.log, *(c.log for c in leaf.columns)) if n
    )
    return [house.directory.widened(house.known(n)) for n in names]


def _has(schema: LogSchema, name: str) -> bool:
    return name in schema.by_name


def _register(house: Workspace, split: Split, field: Field) -> Register:
    """The register that knows the values and has the addresses. Raises RequestError, UnknownName."""
    register = house.whole_directory.of(field)
    if register is None:
        raise RequestError(
            f"split: no register knows the names in {split.by} ({kind(field)}), so {split.recipient} cannot be looked up; write [split.addresses]"
        )
    known = [*register.table.attributes, *register.table.names]
    if split.recipient not in known:
        raise UnknownName.of(
            "attribute", split.recipient, known, where=f"in the register {register.name} for split.recipient"
        )
    return register


def parts(house: Workspace, split: Split, report: Report) -> list[Part]:
    """The parts of a report now, by value; with `empty = "send"`, those of everybody with an address too. Raises RequestError."""
    check(house, split, report)
    place = house.place()
    values: set[str] = set()
    for leaf in content.leaves(report, place):
        for name in dict.fromkeys((leaf.log, *(c.log for c in leaf.columns))):
            if name and _has(house.directory.widened(house.known(name)), split.by):
                own = name == leaf.log
                column = ColumnSpec(measure="time" if house.known(name).spans else "count")
                asked = Report(
                    log=name, period=leaf.period, zone=leaf.zone, known=leaf.known, by=(split.by,), columns=(column,), totals=False,
                    only=leaf.only if own else (), without=leaf.without if own else (), any_of=leaf.any_of if own else (),
                )  # fmt: skip
                values |= {str(r.keys[0]) for r in run(asked, place, house.now()).table.body if r.keys[0] is not None}
    field = next(s for s in _schemas(house, report) if _has(s, split.by)).field(split.by)
    register = _register(house, split, field) if split.recipient else None
    if split.empty == "send":
        values |= set(split.addresses)
        at = _utc(house)
        there = register.valid(at, at + timedelta(microseconds=1)) if register else []
        values |= {register.labels[v.id] for v in there} if register else set()
    return [_part(house, split, field, register, value) for value in sorted(values)]


def _utc(house: Workspace) -> datetime:
    return house.now().astimezone(UTC).replace(tzinfo=None)


def _part(house: Workspace, split: Split, field: Field, register: Register | None, value: str) -> Part:
    scope = Scope(split.by, (value,), value)
    if value in split.addresses:
        return Part(value, scope, (split.addresses[value],))
    if register is None:
        return Part(value, scope, (), "not in [split.addresses]" if split.addresses else "")
    labels = register.meant(value, kind(field))
    if len(labels) != 1:
        why = f"may mean {' or '.join(labels)}" if labels else f"the register {register.name} does not know the name"
        return Part(value, scope, (), why)
    found: list[str] = []
    for version in sorted(register.versions, key=lambda v: v.since):
        if register.labels[version.id] == labels[0] and version.since <= _utc(house):
            found = list(version.names.get(split.recipient, ()))
            if split.recipient in register.table.attributes:
                held = register.value(version, split.recipient)
                found = [h for h in (held if isinstance(held, list) else [held]) if h]
    wrong = [a for a in found if not ADDRESS.fullmatch(a)]
    if not found or wrong:
        why = f"{wrong[0]!r} is no mail address" if wrong else f"no {split.recipient} in the register {register.name}"
        return Part(value, scope, (), why)
    return Part(value, scope, tuple(dict.fromkeys(found)))
