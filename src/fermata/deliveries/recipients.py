"""One run for many: which parts there are, and to whom each goes."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from fermata.analysis.filters import Condition
from fermata.analysis.table import Table
from fermata.config.mail import ADDRESS
from fermata.deliveries.model import Split
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.proof import fingerprint
from fermata.registers.directory import kind
from fermata.registers.register import Register
from fermata.registers.scope import Scope
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report
from fermata.reports.execute.answer import answer
from fermata.reports.result import RunResult
from fermata.timeline.words import span
from fermata.workspace.base import Base

__all__ = ["Part", "check", "left_over", "parts"]


@dataclass(frozen=True)
class Part:
    """A part: its value, the scope that holds nothing else, and the addresses it goes to; `why` there are none."""

    value: str
    scope: Scope
    to: tuple[str, ...]
    why: str = ""


def check(base: Base, split: Split, report: Report) -> None:
    """Raises RequestError, UnknownName where the report cannot be taken apart so, or recipients cannot be told."""
    if base.view.scope:
        raise RequestError(f"split: {base.view.words} sees a part already, which is not taken apart further")
    found = [s for s in _schemas(base, report) if _has(s, split.by)]
    if not found:
        known = {f for s in _schemas(base, report) for f in s.by_name}
        raise UnknownName.of("field", split.by, known, where="to split by")
    field = found[0].field(split.by)
    if field.type != "text":
        raise RequestError(f"split: {split.by} is a {field.type}; parts are told apart by a text")
    if split.recipient:
        _register(base, split, field)


def _schemas(base: Base, report: Report) -> list[LogSchema]:
    """The logs a report's figures come from, with the attributes of registers."""
    names = dict.fromkeys(
        n for leaf in fingerprint.leaves(report, base.place()) for n in (leaf.log, *(c.log for c in leaf.columns)) if n
    )
    return [base.directory.widened(base.known(n)) for n in names]


def _has(schema: LogSchema, name: str) -> bool:
    return name in schema.by_name


def _register(base: Base, split: Split, field: Field) -> Register:
    """The register that knows the values and has the addresses. Raises RequestError, UnknownName."""
    register = base.whole_directory.of(field)
    if register is None:
        raise RequestError(
            f"split: no register holds the names in {split.by} ({kind(field)}), so {split.recipient} cannot be "
            "looked up; write [split.addresses]"
        )
    known = [*register.table.attributes, *register.table.names]
    if split.recipient not in known:
        raise UnknownName.of(
            "attribute", split.recipient, known, where=f"in the register {register.name} for split.recipient"
        )
    return register


def parts(base: Base, split: Split, report: Report) -> list[Part]:
    """The parts of a report now, by value; with `empty = "send"`, those of everybody with an address too. Raises
    RequestError.
    """
    check(base, split, report)
    place = base.place()
    values: set[str] = set()
    for leaf in fingerprint.leaves(report, place):
        for name in dict.fromkeys((leaf.log, *(c.log for c in leaf.columns))):
            if name and _has(base.directory.widened(base.known(name)), split.by):
                own = name == leaf.log
                column = ColumnSpec(measure="time" if base.known(name).spans else "count")
                asked = Report(
                    log=name, period=leaf.period, zone=leaf.zone, as_known=leaf.as_known, by=(split.by,),
                    columns=(column,),
                    totals=False,
                    only=leaf.only if own else (), without=leaf.without if own else (),
                    any_of=leaf.any_of if own else (),
                )  # fmt: skip
                values |= {str(r.keys[0]) for r in _table(asked, place, base.now()).body if r.keys[0] is not None}
    field = next(s for s in _schemas(base, report) if _has(s, split.by)).field(split.by)
    register = _register(base, split, field) if split.recipient else None
    if split.empty == "send":
        values |= set(split.addresses)
        at = _utc(base)
        there = register.valid(at, at + timedelta(microseconds=1)) if register else []
        values |= {register.labels[v.id] for v in there} if register else set()
    return [_part(base, split, field, register, value) for value in sorted(values)]


def left_over(base: Base, split: Split, report: Report) -> str:
    """What of a report is in no part, since its events have no value to tell parts by: names not in any register; ""
    for
    nothing.
    """
    place, told = base.place(), []
    for leaf in fingerprint.leaves(report, place):
        for name in dict.fromkeys((leaf.log, *(c.log for c in leaf.columns))):
            if not name or not _has(base.directory.widened(base.known(name)), split.by):
                continue
            own = name == leaf.log
            spans = base.known(name).spans
            columns = tuple(ColumnSpec(measure=m) for m in ("count", *(["time"] if spans else [])))
            empty = Condition(split.by, "empty")
            asked = Report(
                log=name, period=leaf.period, zone=leaf.zone, as_known=leaf.as_known, columns=columns,
                only=(*(leaf.only if own else ()), empty),
                without=leaf.without if own else (), any_of=leaf.any_of if own else (),
            )  # fmt: skip
            count, *spent = _table(asked, place, base.now()).rows[0].cells
            if count or any(spent):
                time = f" ({span(spent[0]).removesuffix(':00')} h)" if spent and spent[0] else ""
                told.append(f"{count:,} events of {name}{time} have no {split.by}")
    return "; ".join(dict.fromkeys(told))


def _utc(base: Base) -> datetime:
    return base.now().astimezone(UTC).replace(tzinfo=None)


def _part(base: Base, split: Split, field: Field, register: Register | None, value: str) -> Part:
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
        if register.labels[version.id] == labels[0] and version.since <= _utc(base):
            found = list(version.names.get(split.recipient, ()))
            if split.recipient in register.table.attributes:
                held = register.value(version, split.recipient)
                found = [h for h in (held if isinstance(held, list) else [held]) if h]
    wrong = [a for a in found if not ADDRESS.fullmatch(a)]
    if not found or wrong:
        why = f"{wrong[0]!r} is no mail address" if wrong else f"no {split.recipient} in the register {register.name}"
        return Part(value, scope, (), why)
    return Part(value, scope, tuple(dict.fromkeys(found)))


def _table(report: Report, place: Workplace, now: datetime) -> Table:
    """The table of a report that is one of figures."""
    found = answer(report, place, now)
    assert isinstance(found, RunResult)
    return found.table
