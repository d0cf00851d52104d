"""Which log of a workspace a report means that names only a kind of log, and what is missing where there is none."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from fermata.analysis.derive import Assembly, Collapse, Link, Pairing, States
from fermata.analysis.formula import Formula
from fermata.analysis.measures import NEEDS_TIME, Measure
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.reports.generated import Amounts, Entitled, RequiredTime
from fermata.reports.model import Report
from fermata.reports.spec import ColumnSpec, Sourced
from fermata.timeline.units import PARTS

if TYPE_CHECKING:
    from fermata.reports.resolve import Logs

__all__ = ["bound", "log_of", "shape"]

SHAPES: tuple[tuple[type, str], ...] = (
    (Pairing, "pairing"), (States, "states"), (Collapse, "collapse"), (Link, "link"), (Assembly, "assembly"),
    (RequiredTime, "required time"), (Amounts, "amounts"), (Entitled, "assignments"),
)  # fmt: skip
HOWS = {  # what a workspace would declare to have such a log
    "pairing: in": 'from = "{log}"\npairing = { opening = "in", closing = "out", by = ["user", "device"], reach = "12 hours" }',
    "pairing: held open": 'from = "{log}"\npairing = { opening = "held open", closing = "closed", by = "device", reach = "12 hours" }',
    "pairing: login": 'from = "{log}"\npairing = { opening = "login", closing = "logout", by = ["user", "device"], reach = "24 hours" }',
    "pairing: clock in": 'from = "{log}"\npairing = { opening = "clock in", closing = "clock out", by = "user", reach = "16 hours" }',
    "states": 'from = "{log}"\nstates = { by = "device" }',
    "collapse": 'from = "{log}"\ncollapse = { by = "case", within = "10 days", reach = "30 days", keep = "last" }',
    "link": 'from = "{log}"\nlink = { to = "OTHER LOG", on = "case", take = { result = "action" } }',
    "assembly": 'from = "{log}"\nby = "user"\nassembly = { {log} = { amount = "amount" } }',
    "required time": 'generate = "required time"\nregister = "people"\nbeside = "{log}"',
    "amounts": 'generate = "amounts"\nregister = "NAME"\namount = "ATTRIBUTE"\nper = "month"\nbeside = "{log}"',
    "assignments": 'generate = "assignments"\nregister = "NAME"\nbeside = "{log}"',
}


def shape(schema: LogSchema) -> str:
    """How a log's events are made, in a word; "" for one that is read."""
    return next((word for kind, word in SHAPES if isinstance(schema.derivation, kind)), "")


def bound(report: Report, logs: Logs, notes: list[str] | None = None) -> Report:
    """The report with a log of the workspace in the place of every kind. Raises RequestError naming all that is missing.

    Optional columns the workspace has nothing for are left out; `notes` says so, and which of several logs was taken.
    """
    told = [] if notes is None else notes
    if not (report.kind or any(c.kind for c in report.columns)):
        return report
    main = report
    if report.kind:
        own = [c for c in report.columns if not (c.log or c.kind)]
        name = log_of(report, logs, _of_report(report, own, logs), told, spans=_spans(own))
        main = report.changed(log=name, kind="", made="")
    columns, left = [], []
    for spec in main.columns:
        if not spec.kind:
            columns.append(spec)
            continue
        try:
            name = log_of(spec, logs, (*_shared(report, logs), *_of_column(spec)), told, spans=_spans([spec]))
        except RequestError as e:
            if not spec.optional:
                raise
            left.append(spec.heading)
            told.append(f"{spec.heading} is left out: {str(e).splitlines()[0]}")
            continue
        columns.append(spec.model_copy(update={"log": name, "kind": "", "made": ""}))
    columns = [c for c in columns if not (c.optional and c.formula and _names(c) & {n.lower() for n in left})]
    if not any(c.show for c in columns):
        raise RequestError(f"{report.title or 'this report'}: nothing is left of it; {'; '.join(told)}")
    return main.changed(columns=tuple(columns))


def log_of(asked: Sourced, logs: Logs, needs: Iterable[str], notes: list[str], *, spans: bool = False) -> str:
    """The first log of the kind, made the way asked for, that has all the fields. Raises RequestError saying what is missing."""
    made, _, opening = (p.strip() for p in asked.made.partition(":"))
    ofkind = [s for s in logs.schemas.values() if _kind(s, logs) == asked.kind]
    if not ofkind:
        raise RequestError(
            f"this needs a log of the kind {asked.kind!r}, and the workspace has none; propose a mapping with: fermata map FILE"
        )
    rightly = [s for s in ofkind if shape(s) == made and (not opening or opening in s.derivation.opening)]
    if not rightly:
        raise RequestError(_how(asked.made, next((s.name for s in ofkind if not shape(s)), ofkind[0].name)))
    needed = list(dict.fromkeys(needs))
    problems = []
    for schema in rightly:
        whole = logs.registers.widened(schema)
        missing = [n for n in needed if n not in whole.by_name]
        if spans and not schema.spans:
            missing.append("finish or duration")
        if missing:
            problems.append((schema, missing))
            continue
        others = [s.name for s in rightly if s.name != schema.name and s not in [p for p, _ in problems]]
        fit = [n for n in others if all(f in logs.registers.widened(logs.schemas[n]).by_name for f in needed)]
        how = ": --log NAME" if isinstance(asked, Report) else ""
        if fit:
            notes.append(f"of the logs of {asked.kind}, {schema.name} was taken; there is also {', '.join(fit)}{how}")
        return schema.name
    raise RequestError(_lacking(asked.kind, problems, logs))


def _kind(schema: LogSchema, logs: Logs) -> str:
    """The kind of a log, or of the log it stands beside."""
    beside = getattr(schema.derivation, "beside", "")
    return schema.kind or (_kind(logs.schemas[beside], logs) if beside in logs.schemas else "")


def _how(made: str, log: str) -> str:
    """What to declare to have a log made so."""
    shown = HOWS.get(made) or HOWS.get(made.partition(":")[0], "")
    text = shown.replace("{log}", log)
    return f"this needs a log made from {log} by {made}; declare one in fermata.toml:\n\n[logs.NAME]\n{text}\n"


def _lacking(kind: str, problems: list[tuple[LogSchema, list[str]]], logs: Logs) -> str:
    told = []
    for schema, missing in problems:
        attributes = [n for n in missing if "." in n]
        plain = [n for n in missing if "." not in n]
        if plain:
            told.append(
                f"{schema.name} has no {' and no '.join(plain)} (map it in [logs.{schema.name}.fields], or [computed.{plain[0].split()[0]}])"
            )
        if attributes:
            told.append(f"no register gives {schema.name} {' and '.join(attributes)} (attributes in [registers.NAME])")
    return f"this needs a log of the kind {kind!r} with more fields: {'; '.join(told)}"


def _shared(report: Report, logs: Logs) -> tuple[str, ...]:
    """The fields all strands of a report need: its groups and filters."""
    filters = [c.field for c in report.selection.conditions]
    named = [n for n in (*report.by, report.across, report.each) if n and _is_field(n, logs)]
    return tuple(n for n in (*named, *filters) if n not in ("start", "finish", "duration", "pairing"))


def _is_field(name: str, logs: Logs) -> bool:
    return name.strip().lower().replace("-", " ") not in ("hour", *PARTS, *logs.calendar.units)


def _of_report(report: Report, own: Iterable[ColumnSpec], logs: Logs) -> tuple[str, ...]:
    listed = report.listing
    fields = (*listed.fields, *listed.second, *(s.removeprefix("-") for s in listed.sort)) if listed else ()
    fields = tuple(f for f in fields if f not in ("start", "finish", "duration", "file", "record", "number", "pairing"))
    columns = () if listed or report.ask else tuple(n for c in own for n in _of_column(c))
    return (*_shared(report, logs), *fields, *columns, *report.asks_for)


def _of_column(spec: ColumnSpec) -> tuple[str, ...]:
    filters = tuple(c.field for c in spec.selection.conditions)
    measured = _measures(spec)
    fields = tuple((m.base or m).of for m in measured if (m.base or m).of)
    return tuple(n for n in (*filters, *fields) if n not in ("start", "finish", "duration", "pairing"))


def _measures(spec: ColumnSpec) -> list[Measure]:
    texts = [spec.measure] if spec.measure else list(_formula_names(spec))
    found = []
    for text in texts:
        try:
            found.append(Measure.parse(text))
        except (RequestError, UnknownName):
            continue  # the name of a column above, or a factor
    return found


def _formula_names(spec: ColumnSpec) -> tuple[str, ...]:
    return tuple(Formula.parse(spec.formula).names) if spec.formula else ()


def _names(spec: ColumnSpec) -> set[str]:
    return {n.lower() for n in _formula_names(spec)}


def _spans(columns: Iterable[ColumnSpec]) -> bool:
    """Whether a column asks for time, so that instants will not do."""
    measured: list[Any] = [(m.base or m) for c in columns for m in _measures(c)]
    return any(m.name in NEEDS_TIME or m.of == "duration" for m in measured)
