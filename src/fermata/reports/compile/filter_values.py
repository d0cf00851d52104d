"""What the filters of a question name: values that exist nowhere are refused, those without effect are said, and so are
readings of a name outside the time it belongs to somebody.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from fermata.analysis import explain
from fermata.analysis.combine import Figures, Source
from fermata.analysis.derive import PAIRINGS, Pairing
from fermata.analysis.filters import Condition, Selection, written_otherwise
from fermata.analysis.plan import Plan, Strand
from fermata.errors import RequestError, UnknownName, nearest
from fermata.fields import Field, LogSchema
from fermata.kinds import KINDS
from fermata.notes import Note
from fermata.registers.directory import kind
from fermata.registers.register import EVER, NEVER, Register
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.timeline.zones import local

if TYPE_CHECKING:
    from fermata.reports.compile.workplace import Workplace

__all__ = ["check_values", "narrowable", "narrowed_to", "outside_validity"]

MOST_NAMED = 10
OF_EVENTS = ("count", "time", "total", "filled", "distinct", "present")  # parts of figures that only events make
EXACT = ("text", "tags")  # types of fields whose values are names, each of which must exist


def check_values(plan: Plan, place: Workplace, source: Source, figures: Figures | None = None) -> list[Note]:
    """Refuses exact values that no event of the log ever had, no register holds and no kind of log has a word for,
    wherever a filter names them; says which filters have no effect in the period, what a pattern matched, and which
    readings belong to nobody. What the `figures` of the plan show to occur is not looked for.

    Raises UnknownName, RequestError.
    """
    notes: list[Note] = []
    for number, strand in ((n, s) for n, s in enumerate(plan.strands) if s.stretch is None):
        _declared_words(plan, place, strand.schema)
        chosen = strand.selection
        found = _has_events(figures, number)
        for group in (*((c,) for c in chosen.only), *chosen.any_of):
            if not (found and len(group) == 1 and _as_one(group[0], chosen)):
                notes += _exact(plan, place, strand, source, group, drops=False)
        for condition in chosen.without:
            notes += _exact(plan, place, strand, source, (condition,), drops=True)
        notes += _patterns(plan, strand, source)
        notes += _without_effect(plan, strand, source)
        notes += outside_validity(plan, place, strand, source)
    return list(dict.fromkeys(notes))


def _has_events(figures: Figures | None, strand: int) -> bool:
    """Whether the figures of a strand are those of any event."""
    groups = (g for level in (figures or {}).values() for g in level.values())
    return any(v and n == strand and name.split()[0] in OF_EVENTS for g in groups for (n, name), v in g.items())


def _as_one(condition: Condition, chosen: Selection) -> bool:
    """Whether an event that is kept shows that all a condition names occurs: one value, or what a register knows of a
    name, and no other condition on its field, of which meeting either is enough.
    """
    if sum(other.field == condition.field for other in chosen.only) > 1:
        return False
    return not condition.unknown if condition.said else len(condition.values) == 1


def _exact(
    plan: Plan, place: Workplace, strand: Strand, source: Source, group: Sequence[Condition], *, drops: bool
) -> list[Note]:
    """The same for alternatives. A value that stands in several fields (a number as caller or called) need exist in one
    of them only.
    """
    notes: list[Note] = []
    unseen: dict[str, list[tuple[Condition, tuple[Any, ...]]]] = {}
    known: set[str] = set()
    for condition in group:
        field = strand.schema.field(condition.field)
        if condition.kind != "is" or field.type not in EXACT or _is_pairing(strand.schema, condition):
            continue
        here = set(explain.matched(plan, strand, field.name, source, values=condition.values))
        sought = condition.unknown if condition.said else tuple((str(v), (v,)) for v in condition.values)
        missing = [(text, values) for text, values in sought if not here.intersection(map(str, values))]
        known.update(text for text, _ in sought if (text, _) not in missing)
        for text, values in missing:
            unseen.setdefault(text, []).append((condition, values))
        if condition.said and not here and not missing:
            notes.append(_looked_for(place, strand.schema.name, field, condition, drops))
    for text, where in unseen.items():
        if text not in known:
            found = _missing(plan, place, strand, text, where, drops)
            words = _vocabulary(strand.schema, strand.schema.field(where[0][0].field))
            notes += found if not (known and text in words) else []  # one of several words for the same is enough
    return notes


def _is_pairing(schema: LogSchema, condition: Condition) -> bool:
    """Whether a condition is about how spans were paired, whose words are always the same. Raises UnknownName for any
    other word.
    """
    if condition.field != "pairing" or not isinstance(schema.derivation, Pairing):
        return False
    for value in condition.values:
        if value not in PAIRINGS:
            raise UnknownName.of("pairing", str(value), PAIRINGS, where=f"in the log {schema.name}")
    return True


def _missing(
    plan: Plan,
    place: Workplace,
    strand: Strand,
    text: str,
    where: Sequence[tuple[Condition, tuple[Any, ...]]],
    drops: bool,
) -> list[Note]:
    """What to say of a value that no event of the period has in any of the fields it is named for. Raises UnknownName,
    RequestError.
    """
    notes = []
    for condition, values in where:
        field = strand.schema.field(condition.field)
        if _occurs(plan, place, strand.schema, field, values) or _registered(place, strand.schema, field, text):
            effect = ", so leaving it out changes nothing" if drops else ""
            return [
                Note(
                    f"no event in this period has {field.name} {text!r}, although it occurs at other times{effect}",
                    "filter",
                )
            ]
        if text in _vocabulary(strand.schema, field):
            notes.append(_never_written(plan, place, strand.schema, field, text))
        elif place.view.scope and field.name.partition(".")[0] != place.view.scope.base:
            notes.append(Note(f"no event that {place.view.words} may see ever had {field.name} {text!r}", "filter"))
    if notes:
        return notes[:1]
    condition, _ = where[0]
    field = strand.schema.field(condition.field)
    if advice := written_otherwise(text, condition, strand.schema):
        raise RequestError(advice)
    ever = _ever(plan, place, strand.schema, field)
    raise UnknownName.of(field.name, text, [*ever, *_texts(place, field)], where=f"in the log {strand.schema.name}")


def _looked_for(place: Workplace, log: str, field: Field, condition: Condition, drops: bool) -> Note:
    """That somebody or something a register knows has no event, with every name that was looked for."""
    register = place.registers.of(field)
    names = register.named(condition.values) if register else []
    effect = ", so leaving it out changes nothing" if drops else ""
    said = f"no event of {log} in this period fits '{condition}'{effect}; looked for: {'; '.join(names)}"
    return Note(said, "filter")


def _whole(plan: Plan, place: Workplace, log: str, field: str) -> Plan:
    """A plan over everything the log holds, in which the names of a field are resolved."""
    report = Report(log=log, period="all", zone=plan.stretch.calendar.zone_name)
    return resolve(report, place, plan.stretch.end, listed=[field])


def _occurs(plan: Plan, place: Workplace, schema: LogSchema, field: Field, values: tuple[Any, ...]) -> bool:
    whole = _whole(plan, place, schema.name, field.name)
    return bool(explain.matched(whole, whole.strands[0], field.name, place.source(whole), values=values))


def _ever(plan: Plan, place: Workplace, schema: LogSchema, field: Field) -> list[str]:
    """Every value the field ever had."""
    whole = _whole(plan, place, schema.name, field.name)
    return explain.matched(whole, whole.strands[0], field.name, place.source(whole))


def _registered(place: Workplace, schema: LogSchema, field: Field, text: str) -> bool:
    """Whether a register has a value as an attribute of somebody, though no event has it."""
    base, dot, attribute = field.name.partition(".")
    register = place.registers.of(schema.field(base)) if dot else None
    if register is None or attribute not in (*register.table.attributes, "id", "parent", "top"):
        return False
    for version in register.versions:
        held = register.value(version, attribute)
        if text in (held if isinstance(held, list) else [held]):
            return True
    return False


def _texts(place: Workplace, field: Field) -> list[str]:
    """The names by which a register knows what the field holds."""
    register = place.registers.of(field) if "." not in field.name else None
    return [t for v in register.versions for t in v.names.get(kind(field), ())] if register else []


def _vocabulary(schema: LogSchema, field: Field) -> dict[str, str]:
    return KINDS[schema.kind].values(field.name) if schema.kind in KINDS else {}


def _never_written(plan: Plan, place: Workplace, schema: LogSchema, field: Field, value: str) -> Note:
    """That no event ever had a word of the kind. Raises RequestError while the log holds words of its own."""
    words = _vocabulary(schema, field)
    noted, all_noted = _noted_at_import(place, schema, field.name)
    others = (
        [v for v in _ever(plan, place, schema, field) if v not in words] if noted - {*words} or not all_noted else []
    )
    if others:
        listed = ", ".join(repr(v) for v in others[:5]) + (f" and {len(others) - 5} more" if len(others) > 5 else "")
        raise RequestError(
            f"no event of {schema.name} has {field.name} {value!r}, but some have {listed}, which the kind "
            f"{schema.kind!r} does "
            f"not know; if one of them means {value}, say so in [logs.{schema.name}.fields]: "
            f'{field.name} = {{ column = "...", values = {{ "{others[0]}" = "{value}" }} }}'
        )
    return Note(f"no event of the whole log has {field.name} {value!r}", "filter")


def _patterns(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """What each pattern of the filters matched: among the events kept, or of one that drops, among those of the
    period.
    """
    chosen = strand.selection
    kept = [*chosen.only, *(c for group in chosen.any_of for c in group)]
    notes = []
    for condition, after in [*((c, True) for c in kept), *((c, False) for c in chosen.without)]:
        if condition.kind != "like":
            continue
        found = explain.matched(plan, strand, condition.field, source, fits=condition, kept=after)
        shown = ", ".join(found[:MOST_NAMED])
        more = f" and {len(found) - MOST_NAMED} more" if len(found) > MOST_NAMED else ""
        notes.append(Note(f"{condition}: {len(found)} matched" + (f" ({shown}{more})" if found else ""), "match"))
    return notes


def _without_effect(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """Filters that change nothing in this period: what would be dropped, or is one of several alternatives, and fits no
    event.
    """
    chosen = strand.selection
    same = [c for c in chosen.only if sum(o.field == c.field for o in chosen.only) > 1]
    alternatives = [*same, *(c for group in chosen.any_of for c in group)]
    asked = [(c, "without ") for c in chosen.without] + [(c, "") for c in alternatives]
    asked = [(c, w) for c, w in asked if c.kind != "is" or strand.schema.field(c.field).type not in EXACT]
    fits = explain.fits(plan, strand, [c for c, _ in asked], source) if asked else []
    return [
        Note(f"'{words}{condition}' has no effect: no event of this period fits it", "filter")
        for (condition, words), fit in zip(asked, fits, strict=True)
        if not fit
    ]


def _declared_words(plan: Plan, place: Workplace, schema: LogSchema) -> None:
    """Raises RequestError where a log is paired by an action that its source never writes and its kind has no word
    for.
    """
    made = schema.derivation
    for inner in getattr(made, "inputs", ()):
        _declared_words(plan, place, inner)
    if not isinstance(made, Pairing) or place.view.scope:
        return
    inner = made.inputs[0]
    action = inner.field("action")
    counted, _ = _noted_at_import(place, inner, "action")
    for key, words in (("opening", made.opening), ("closing", made.closing)):
        for word in words:
            if word in counted or word in _vocabulary(inner, action) or _occurs(plan, place, inner, action, (word,)):
                continue
            written = _ever(plan, place, inner, action)
            near = nearest(word, written)
            meant = f"; did you mean {' or '.join(map(repr, near))}?" if near else ""
            raise RequestError(
                f"[logs.{schema.name}] pairing.{key}: no record of {inner.name} ever had the action {word!r}{meant} "
                f"(actions: {', '.join(written) or 'none'})"
            )


def _noted_at_import(place: Workplace, schema: LogSchema, field: str) -> tuple[set[str], bool]:
    """The actions or outcomes that imports noted of a log, without reading it, and whether all its events are among
    them: those of logs with a kind are noted.
    """
    stored = [log for log in schema.stored_logs if not place.held(log)]
    files = [f for log in stored for f in place.state(log).files.values() if f.events]
    whole = schema.derivation is None and place.view.everything and bool(stored)
    return {v for f in files for v in f.values.get(field, {})}, whole and all(field in f.values for f in files)


# ---- questions to several logs


def narrowable(report: Report, place: Workplace, now: datetime, logs: Sequence[str]) -> tuple[list[str], list[Note]]:
    """Those of the logs that the report's filters can be applied to, and what has to be said of that: which are left
    out for having no such field or no such value, and which filters have no effect in the others. Raises the error of
    the first where none is left.
    """
    if not report.selection.conditions:
        return list(logs), []
    kept, notes, left, wrong = [], [], [], []
    for log in logs:
        try:
            plan = resolve(narrowed_to(report, log), place, now)
            notes += check_values(plan, place, place.source(plan))
            kept.append(log)
        except RequestError as e:
            wrong.append(e)
            left.append(f"{log} ({str(e).partition(' (')[0].partition('; did')[0]})")
    if wrong and not kept:
        raise wrong[0]
    told = [Note(f"left out, since the filters do not fit: {'; '.join(left)}", "filter")] if left else []
    return kept, [*told, *notes]


def narrowed_to(report: Report, log: str, **more: Any) -> Report:
    """A plain report of a log for the period and with the filters of another."""
    return Report(
        log=log, period=report.period, zone=report.zone, as_known=report.as_known, only=report.only,
        without=report.without,
        any_of=report.any_of,
        **more,
    )  # fmt: skip


# ---- names outside the time they belong to somebody


def outside_validity(plan: Plan, place: Workplace, strand: Strand, source: Source, where: str = "") -> list[Note]:
    """A note for each name of somebody the filters keep that was read in the plan's period (`where`, in words) when it
    was nobody's: after the end of its row in the register, before its beginning, or between two.
    """
    chosen = strand.selection
    notes: list[Note] = []
    for condition in (*chosen.only, *(c for group in chosen.any_of for c in group)):
        field = strand.schema.field(condition.field)
        register = place.registers.of(field) if condition.kind == "is" and "." not in field.name else None
        if register is None or not condition.said:
            continue
        texts = _bounded(register, kind(field), condition.values)
        if texts:
            notes += _read_outside(plan, strand, source, condition, register, texts, where)
    return notes


def _bounded(
    register: Register, names: str, labels: Iterable[Any]
) -> dict[str, tuple[str, list[tuple[datetime, datetime]]]]:
    """The names of a kind that those of the labels have for some of the time only: whose they are, and from when until
    when.
    """
    wanted = set(labels)
    found: dict[str, tuple[str, list[tuple[datetime, datetime]]]] = {}
    for version in sorted(register.versions, key=lambda v: v.since):
        label = register.labels[version.id]
        for text in register.texts(version, names) if label in wanted else ():
            spans = found.setdefault(text, (label, []))[1]
            if spans and spans[-1][1] == version.since:
                spans[-1] = (spans[-1][0], version.until)
            else:
                spans.append((version.since, version.until))
    return {t: (label, spans) for t, (label, spans) in found.items() if spans != [(EVER, NEVER)]}


def _read_outside(
    plan: Plan,
    strand: Strand,
    source: Source,
    condition: Condition,
    register: Register,
    texts: dict[str, tuple[str, list[tuple[datetime, datetime]]]],
    where: str,
) -> list[Note]:
    field = strand.schema.field(condition.field)
    nobody = {f"{text} ({kind(field)})": text for text in texts}
    instead = Condition(field.name, "is", tuple(nobody))
    chosen = strand.selection
    only = tuple(instead if c == condition else c for c in chosen.only)
    any_of = tuple((instead,) if condition in group else group for group in chosen.any_of)
    asked = dataclasses.replace(strand, selection=Selection(only, chosen.without, any_of), measures=())
    notes = []
    for value, count, first, last in explain.counted(plan, asked, field.name, source):
        label, spans = texts[nobody[value]]
        events, verb = ("event", "lies") if count == 1 else ("events", "lie")
        told = (
            f"{count:,} {events} of {value}{where} {verb} {_when(spans, first, last, plan)} in the register "
            f"{register.name}"
        )
        notes.append(Note(f"{told}, and {'is' if count == 1 else 'are'} not counted as {label}", "validity"))
    return notes


def _when(spans: list[tuple[datetime, datetime]], first: datetime, last: datetime, plan: Plan) -> str:
    """How events from `first` to `last` lie to the times a name is valid, in words."""
    zone = plan.stretch.calendar.zone
    end = max((until for _, until in spans), default=EVER)
    begin = min((since for since, _ in spans), default=NEVER)
    if first >= end:
        day = local((end - timedelta(microseconds=1)).replace(tzinfo=UTC), zone).date()
        return f"after its end on {day}"
    if last < begin:
        return f"before its beginning on {local(begin.replace(tzinfo=UTC), zone).date()}"
    return "outside the time it is valid"
