"""Which log of a workspace a report means that names only a kind of log, and what is missing where there is none."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from fermata.analysis.combined_logs import Combine
from fermata.analysis.counters import Counter
from fermata.analysis.derive import Link, Merge, Pairing, States
from fermata.analysis.formula import Formula
from fermata.analysis.measures import NEEDS_TIME
from fermata.errors import NeedsMore, RequestError, nearest
from fermata.fields import BY_TIME, COMMON, LogSchema
from fermata.kinds import KINDS
from fermata.notes import Note
from fermata.reports.compile.generated_logs import Amounts, Entitled, RequiredTime
from fermata.reports.compile.loosened import loosened, measures_of
from fermata.reports.definition.changes import mentions
from fermata.reports.definition.parts import ColumnSpec, Sourced
from fermata.reports.definition.report import Report
from fermata.timeline.units import PARTS

if TYPE_CHECKING:
    from fermata.reports.compile.resolve import Logs

__all__ = ["bound", "log_of", "shape"]

SHAPES: tuple[tuple[type, str], ...] = (
    (Pairing, "pairing"), (States, "states"), (Merge, "merge"), (Counter, "counter"), (Link, "link"),
    (Combine, "combine"), (RequiredTime, "required time"), (Amounts, "amounts"), (Entitled, "assignments"),
)  # fmt: skip
HOWS = {  # what a workspace would declare to have such a log
    "pairing: in": 'from = "{log}"\npairing = { opening = "in", closing = "out", by = ["user", "device"], reach = '
    '"12 hours" }',
    "pairing: held open": 'from = "{log}"\npairing = { opening = "held open", closing = "closed", by = "device", '
    'reach = "12 hours" }',
    "pairing: login": 'from = "{log}"\npairing = { opening = "login", closing = "logout", by = ["user", "device"], '
    'reach = "24 hours" }',
    "pairing: clock in": 'from = "{log}"\npairing = { opening = "clock in", closing = "clock out", by = "user", '
    'reach = "16 hours" }',
    "states": 'from = "{log}"\nstates = { by = "device" }',
    "merge": 'from = "{log}"\nmerge = { by = "case", within = "10 days", reach = "30 days", keep = "last" }',
    "counter": 'from = "{log}"\ncounter = ["pages"]',
    "link": 'from = "{log}"\nlink = { to = "OTHER LOG", on = "case", take = { result = "action" } }',
    "combine": 'from = "{log}"\nby = "user"\ncombine = { {log} = { amount = "amount" } }',
    "required time": 'generate = "required time"\nregister = "people"\nup_to = "{log}"',
    "amounts": 'generate = "amounts"\nregister = "NAME"\namount = "ATTRIBUTE"\nper = "month"\nup_to = "{log}"',
    "assignments": 'generate = "assignments"\nregister = "NAME"\nup_to = "{log}"',
}


def shape(schema: LogSchema) -> str:
    """How a log's events are made, in a word; "" for one that is read."""
    return next((word for kind, word in SHAPES if isinstance(schema.derivation, kind)), "")


def bound(report: Report, logs: Logs, notes: list[Note] | None = None) -> Report:
    """The report with a log of the workspace in the place of every kind. Raises RequestError naming all that is
    missing.

    Optional columns the workspace has nothing for are left out; `notes` says so, and which of several logs was taken.
    """
    told = [] if notes is None else notes
    report = _kinds_in_words(report, logs)
    if not (report.kind or any(c.kind for c in report.columns)):
        return report
    main = report
    if report.kind:
        own = [c for c in report.columns if not (c.log or c.kind)]
        needs, spans = _of_report(report, own, logs), _spans(own) or _asks_for_spans(report)
        try:
            name = log_of(report, logs, needs, told, spans=spans)
        except RequestError:
            fewer = _with_less(report, logs, needs, told, spans=spans)
            if fewer is None:
                raise
            name, report = fewer
        main = report.changed(log=name, kind="", made="")
    columns, left = [], dict[str, RequestError]()
    for spec in main.columns:
        if not spec.kind:
            columns.append(spec)
            continue
        try:
            name = log_of(spec, logs, (*_shared(report, logs), *_of_column(spec)), told, spans=_spans([spec]))
        except RequestError as e:
            if not spec.optional and (report.checks or report.expect or not _others(main, spec, logs)):
                raise
            left[spec.heading] = e
            told.append(Note(f"{spec.heading} is left out: {str(e).splitlines()[0]}", "left out"))
            continue
        columns.append(spec.model_copy(update={"log": name, "kind": "", "made": ""}))
    columns = _answerable(columns, left)
    gone = {c.heading for c in main.columns} - {c.heading for c in columns}
    if any(mentions(text, gone) for text in (*main.rows, *main.checks, *main.sort)):
        raise next(iter(left.values()))  # what the report is about
    if not any(c.show for c in columns):
        raise RequestError(f"{report.title or 'this report'}: nothing is left of it; {'; '.join(told)}")
    warn = tuple(w for w in main.warn if not mentions(w, gone))
    return main.changed(columns=tuple(columns), warn=warn, chart="" if mentions(main.chart, gone) else main.chart)


def _kinds_in_words(report: Report, logs: Logs) -> Report:
    """The report with the kind of log where a column's words name one instead of a log."""
    if not any(c.log in KINDS and c.log not in logs.schemas for c in report.columns):
        return report
    named = [
        c.model_copy(update={"log": "", "kind": c.log}) if c.log in KINDS and c.log not in logs.schemas else c
        for c in report.columns
    ]
    return report.changed(columns=tuple(named))


def _others(report: Report, spec: ColumnSpec, logs: Logs) -> bool:
    """Whether a column beside this one has a log that answers it."""
    for other in report.columns:
        if other is spec or other.formula or not other.show:
            continue
        if not other.kind:
            return True
        try:
            log_of(other, logs, (*_shared(report, logs), *_of_column(other)), [], spans=_spans([other]))
        except RequestError:
            continue
        return True
    return False


def _answerable(columns: list[ColumnSpec], left: Iterable[str]) -> list[ColumnSpec]:
    """The columns without formulas over columns that are left out."""
    gone = {n.lower() for n in left}
    kept = []
    for spec in columns:
        if spec.formula and _names(spec) & gone:
            gone.add(spec.heading.lower())
        else:
            kept.append(spec)
    return kept


def _with_less(
    report: Report, logs: Logs, needs: Iterable[str], notes: list[Note], *, spans: bool
) -> tuple[str, Report] | None:
    """The log of the kind that lacks least, and the report without what it lacks; None where it cannot do without."""
    found = []
    for schema in _made_so(report, _of_kind(report, logs), spans=spans):
        whole = logs.registers.widened(schema)
        missing = [n for n in dict.fromkeys(needs) if n not in whole.by_name]
        missing += ["finish or duration"] if spans and not schema.spans else []
        found.append((len(missing), _other_spans(schema, report), schema.name, whole, missing))
    for _, _, name, whole, missing in sorted(found, key=lambda f: f[:3])[:1]:
        if (fewer := loosened(report, whole, missing, notes)) is not None:
            return name, fewer
    return None


def log_of(asked: Sourced, logs: Logs, needs: Iterable[str], notes: list[Note], *, spans: bool = False) -> str:
    """The first log of the kind, made the way asked for, that has all the fields. Raises RequestError saying what is
    missing.
    """
    ofkind = _of_kind(asked, logs)
    if not ofkind:
        raise NeedsMore(
            f"this needs a log of the kind {asked.kind!r}, and the workspace has none; propose a mapping with: "
            "fermata map FILE",
            f"a log of {asked.kind}",
        )
    rightly = _made_so(asked, ofkind, spans=spans)
    rightly.sort(key=lambda s: _other_spans(s, asked))
    if not rightly:
        raise _how(asked.made, next((s.name for s in ofkind if not shape(s)), ofkind[0].name))
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
        how = "--log NAME" if isinstance(asked, Report) else ""
        if fit:
            notes.append(
                Note(
                    f"of the logs of {asked.kind}, {schema.name} was taken; there is also {', '.join(fit)}",
                    "choice",
                    how,
                )
            )
        return schema.name
    nearest_to_it = min(problems, key=lambda p: len(p[1]))
    raise NeedsMore(
        _lacking(asked.kind, problems, logs), f"fields of {nearest_to_it[0].name}", sorted(nearest_to_it[1])
    )


def _of_kind(asked: Sourced, logs: Logs) -> list[LogSchema]:
    return [s for s in logs.schemas.values() if _kind(s, logs) == asked.kind]


def _made_so(asked: Sourced, ofkind: list[LogSchema], *, spans: bool) -> list[LogSchema]:
    """The logs that are made the way asked for. Where spans are needed and none that is read has them, those that
    openings and closings make have them.
    """
    made, _, opening = (p.strip() for p in asked.made.partition(":"))
    found = [s for s in ofkind if shape(s) == made and (not opening or opening in s.derivation.opening)]
    if spans and not made and not any(s.spans for s in found):
        found += [s for s in ofkind if shape(s) == "pairing"]
    return found


def _other_spans(schema: LogSchema, asked: Sourced) -> bool:
    """Whether spans are of a door each where the report is about the house, or of the house where it is about doors."""
    if not isinstance(schema.derivation, Pairing):
        return False
    by_door = bool({"device", "place"} & set(asked.by)) if isinstance(asked, Report) else False
    return by_door is not bool({"device", "place"} & set(schema.derivation.by))


def _kind(schema: LogSchema, logs: Logs) -> str:
    """The kind of a log, or of the log it stands beside."""
    beside = getattr(schema.derivation, "up_to", "")
    return schema.kind or (_kind(logs.schemas[beside], logs) if beside in logs.schemas else "")


def _how(made: str, log: str) -> NeedsMore:
    """What to declare to have a log made so."""
    shown = HOWS.get(made) or HOWS.get(made.partition(":")[0], "")
    text = shown.replace("{log}", log)
    told = f"this needs a log made from {log} by {made}; declare one in fermata.toml:\n\n[logs.NAME]\n{text}\n"
    return NeedsMore(told, f"a log made from {log} by {made}")


def _lacking(kind: str, problems: list[tuple[LogSchema, list[str]]], logs: Logs) -> str:
    told = []
    for schema, missing in problems:
        if by_time := next((n for n in missing if n in BY_TIME), ""):
            return f"there is no field {by_time!r} in the log {schema.name}{BY_TIME[by_time]}"
        attributes = [n for n in missing if "." in n]
        plain = [n for n in missing if "." not in n]
        known = [*logs.registers.widened(schema).by_name, "hour", *PARTS, *logs.calendar.units]
        slips = [n for n in missing if n not in (*COMMON, *KINDS[kind].fields, *KINDS[kind].further)]
        near = list(dict.fromkeys(repr(n) for name in slips for n in nearest(name, known)))
        meant = f"; did you mean {' or '.join(near)}?" if near else ""
        if plain:
            has = [n for n in schema.by_name if "." not in n]
            told.append(
                f"{schema.name} has no {' and no '.join(map(repr, plain))}{meant} (fields: {', '.join(sorted(has))}; "
                f"more are mapped in [logs.{schema.stored_logs[0]}.fields] or worked out in [computed.NAME])"
            )
        if attributes:
            told.append(
                f"no register gives {schema.name} {' and '.join(attributes)}{'' if plain else meant} (attributes in "
                "[registers.NAME]; a list becomes a register with: fermata map LIST --register NAME)"
            )
    return f"no log of the kind {kind!r} has all fields that this needs: {'; '.join(told)}"


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
    return (*_shared(report, logs), *fields, *columns, *report.must_name)


def _of_column(spec: ColumnSpec) -> tuple[str, ...]:
    filters = tuple(c.field for c in spec.selection.conditions)
    measured = measures_of(spec)
    fields = tuple((m.base or m).of for m in measured if (m.base or m).of)
    return tuple(n for n in (*filters, *fields) if n not in ("start", "finish", "duration", "pairing"))


def _formula_names(spec: ColumnSpec) -> tuple[str, ...]:
    return tuple(Formula.parse(spec.formula).names) if spec.formula else ()


def _names(spec: ColumnSpec) -> set[str]:
    return {n.lower() for n in _formula_names(spec)}


def _asks_for_spans(report: Report) -> bool:
    """Whether a report chooses, lists or sorts entries by how long they were or when they ended."""
    listed = report.listing
    named = {c.field for c in report.selection.conditions}
    if listed is not None:
        named |= {*listed.fields, *listed.second, *(s.removeprefix("-") for s in listed.sort)}
    return not named.isdisjoint(("finish", "duration"))


def _spans(columns: Iterable[ColumnSpec]) -> bool:
    """Whether a column asks for time, so that instants will not do."""
    measured: list[Any] = [(m.base or m) for c in columns for m in measures_of(c)]
    return any(m.name in NEEDS_TIME or m.of == "duration" for m in measured)
