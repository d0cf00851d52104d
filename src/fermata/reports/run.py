"""Carrying out a report: the one way from a definition to figures."""

from __future__ import annotations

import contextlib
import dataclasses
import gc
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager
from datetime import datetime
from typing import Any, Protocol

from fermata._version import __version__
from fermata.analysis import explain
from fermata.analysis.combine import Source, gather, regrouped
from fermata.analysis.engine import DuckEngine
from fermata.analysis.filters import Condition
from fermata.analysis.finish import finish, outermost
from fermata.analysis.plan import Plan, Strand
from fermata.archive import LogState, Snapshot
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.kinds import KINDS
from fermata.registers.directory import kind
from fermata.reports import caveats, judging
from fermata.reports.model import Report
from fermata.reports.narrowing import broad
from fermata.reports.resolve import Logs, resolve
from fermata.reports.result import Context, RunResult
from fermata.reports.small import without_small
from fermata.timeline import Slot
from fermata.timeline.words import span, stamp

ALL_EVENTS = "all events"

__all__ = ["Workplace", "check_values", "context_of", "describe", "narrowed", "run"]


class Held(Protocol):
    """A log that is read where it is."""

    @property
    def told(self) -> str:
        """Where it is read, and what that means for a result."""

    def refusals(self, start: datetime, end: datetime) -> tuple[dict[str, int], int, int]:
        """Of naive UTC [start, end): refused records by reason, local times that happened twice, and those that never did."""


class Workplace(Logs, Protocol):
    """A workspace as the runner needs it: its logs, their state, and a way to open their events."""

    engine: DuckEngine
    snapshot: Snapshot
    mappings: Mapping[str, str]
    logs: Mapping[str, Any]

    def definition(self, name: str) -> Report:
        """The report kept, or ready, under a name. Raises UnknownName, ConfigError."""

    def own_reports(self) -> list[str]:
        """The names of the workspace's own reports."""

    def state(self, log: str) -> LogState:
        """What the archive holds of a log; of one read where it is, its table as if it were a file."""

    def counted(self, log: str) -> LogState:
        """The same with the numbers of records, which of a table takes reading all of it."""

    def held(self, log: str) -> Held | None:
        """The table of a log that is read where it is; None for logs of the archive."""

    def keeping(self) -> AbstractContextManager[None]:
        """While it lasts, all events are those of one moment."""

    def versions(self, log: str) -> tuple[list[dict[str, Any]], dict[tuple[int, int], dict[str, Any]]]:
        """The versions of the log's entries that were replaced or deleted, and by (file, record) those in their place."""

    def rejects(self, log: str) -> list[dict[str, Any]]:
        """The log's rejected records."""

    def source(self, plan: Plan) -> Source:
        """Opens a strand's events for the plan's period: the only way to events there is."""


def run(report: Report, place: Workplace, now: datetime, *, explained: bool = False) -> RunResult:
    """The report's result at the instant `now` (aware). Raises UnknownName, RequestError, DataError."""
    with _uncollected(), place.keeping():
        return _run(report, place, now, explained)


@contextlib.contextmanager
def _uncollected() -> Iterator[None]:
    """Without the garbage collector: a table is many small lasting objects that it would walk over and over."""
    on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()


def _run(report: Report, place: Workplace, now: datetime, explained: bool) -> RunResult:
    plan = resolve(report, place, now)
    source = place.source(plan)
    notes = check_values(plan, place, source)
    figures = gather(plan, source)
    if plan.top and plan.by:
        kept = outermost(plan, figures, plan.top)
        if len(kept) < len(figures[plan.by[:1]]):
            plan = dataclasses.replace(plan, kept=tuple(kept))
            figures = regrouped(plan, figures, source)

    def covered(strand: int, slot: Slot) -> bool:
        extent = place.extent(plan.strands[strand].schema.name)
        return (
            extent is not None
            and slot.end > extent[0]
            and slot.start <= caveats.complete_to(place, plan, strand, extent)
        )

    table = finish(plan, figures, covered)
    if place.view.smallest:
        table, left = without_small(plan, table, place, source)
        notes = [*left, *caveats.known_beforehand(plan, place), "notes that count single events are left out as well"]
        return RunResult(report, plan, table, context_of(plan, place, now), tuple(notes), (), place)
    notes += [*judging.compared_notes(plan, figures, report.whole), *judging.checked(plan, figures)]
    table, evidence = judging.with_verdicts(plan, table, source)
    notes += [*evidence, *judging.warned(table, report.warn), *caveats.of_table(plan, table)]
    notes += broad(plan, plan.strands[0], source, len(table.body), snapshot=place.snapshot)
    nothing = not any(figures[plan.levels[-1]].values()) or _all_zero(table)
    steps = (
        tuple((s.schema.name, tuple(explain.steps(plan, s, source))) for s in plan.strands)
        if explained or nothing
        else ()
    )
    notes = [*caveats.gathered(plan, place, source), *notes]
    table, chosen = judging.kept_rows(table, report.rows)
    notes = [*chosen, *notes]
    if nothing:
        notes = [*caveats.why_nothing(plan, place, steps), *notes]
    return RunResult(report, plan, table, context_of(plan, place, now), tuple(dict.fromkeys(notes)), steps, place)


def _all_zero(table: Any) -> bool:
    return not any(cell for row in table.rows for cell in row.cells)


def context_of(plan: Plan, place: Workplace, now: datetime) -> Context:
    """What stands above and below the plan's result."""
    stretch = plan.stretch
    fresh = []
    for name in caveats.stored_logs(plan):
        if extent := place.extent(name):
            fresh.append((name, extent[1]))
    return Context(
        title=plan.title,
        period=stretch.words,
        period_exact=stretch.exact,
        period_text=stretch.text,
        zone=stretch.calendar.zone_name,
        filters=_filters(plan),
        fresh=tuple(fresh),
        made_at=now,
        version=__version__,
        plan=plan.digest,
        view=place.view.words,
    )


def _filters(plan: Plan) -> str:
    """What all strands keep, then what single columns keep beside that, by their heading."""
    said = list(dict.fromkeys(narrowed(s) for s in plan.strands))
    if len(said) == 1:
        return said[0]
    parts = [list(dict.fromkeys(n.split("; "))) for n in said]
    common = [p for p in parts[0] if all(p in other for other in parts) and p != ALL_EVENTS]
    own = []
    for number, strand in enumerate(plan.strands):
        rest = [p for p in narrowed(strand).split("; ") if p not in common and p != ALL_EVENTS]
        heads = [c.label for c in plan.columns if c.strand == number and not c.hidden and c.formula is None]
        if rest and heads:
            own.append(f"{', '.join(heads)}: {', '.join(rest)}")
    return "; ".join([*common, *dict.fromkeys(own)]) or ALL_EVENTS


def narrowed(strand: Strand) -> str:
    """What a strand counts, in words: its filters, hours, rounding, and another date it goes by."""
    more = []
    if strand.hours:
        name = strand.hours.others.name if not strand.hours.by else f"those of each {strand.hours.by}"
        more.append(f"{'outside' if strand.hours.others.outside else 'only'} hours {name}")
    if strand.rounding:
        more.append(f"lengths rounded {strand.rounding.way} to {span(strand.rounding.step)}")
    if strand.dated:
        more.append(f"dated by {strand.dated}")
    text = str(strand.selection)
    return "; ".join([text, *more] if text != ALL_EVENTS or not more else more)


def check_values(plan: Plan, place: Workplace, source: Source) -> list[str]:
    """Refuses exact values that no event of the log ever had; notes those that none in the period has."""
    notes = []
    for strand in (s for s in plan.strands if s.stretch is None):
        for condition in [c for group in (strand.selection.only, *strand.selection.any_of) for c in group]:
            field = strand.schema.field(condition.field)
            if condition.kind == "like":
                notes.append(_matched_note(plan, strand, condition.field, str(condition), source))
            if condition.kind != "is" or field.type != "text":
                continue
            here = explain.matched(plan, strand, field.name, source, values=condition.values)
            missing = [v for v in condition.values if v not in here]
            if condition.said and (here or condition.known):
                notes += [] if here else [_looked_for(place, strand.schema.name, field, condition)]
            elif missing:
                notes += _missing(plan, place, strand, field, missing)
    return notes


def _looked_for(place: Workplace, log: str, field: Field, condition: Condition) -> str:
    """That somebody or something a register knows has no event, with every name that was looked for."""
    register = place.registers.of(field)
    names = register.named(condition.values) if register else []
    return f"no event of {log} in this period fits '{condition}'; looked for: {'; '.join(names)}"


def _missing(plan: Plan, place: Workplace, strand: Strand, field: Field, missing: list[Any]) -> list[str]:
    everything = _whole(plan, place, strand.schema, field)
    ever = explain.matched(everything, everything.strands[0], field.name, place.source(everything))
    for value in missing:
        if value not in ever and value in _vocabulary(strand.schema, field):
            return [_never_written(strand.schema, field, value, ever)]
        if value not in ever and place.view.scope and field.name.partition(".")[0] != place.view.scope.base:
            return [f"no event that {place.view.words} may see ever had {field.name} {value!r}"]
        if value not in ever:
            raise UnknownName.of(
                field.name, str(value), [*ever, *_texts(place, field)], where=f"in the log {strand.schema.name}"
            )
    return [
        f"no event in this period has {field.name} {', '.join(repr(v) for v in missing)}, though the log knows the name"
    ]


def _texts(place: Workplace, field: Field) -> list[str]:
    """The names by which a register knows what the field holds."""
    register = place.registers.of(field) if "." not in field.name else None
    return [t for v in register.versions for t in v.names.get(kind(field), ())] if register else []


def _vocabulary(schema: LogSchema, field: Field) -> dict[str, str]:
    return KINDS[schema.kind].values(field.name) if schema.kind in KINDS else {}


def _never_written(schema: LogSchema, field: Field, value: str, ever: list[str]) -> str:
    """That no event ever had a word of the kind. Raises RequestError while the log holds words of its own."""
    others = [v for v in ever if v not in _vocabulary(schema, field)]
    if others:
        listed = ", ".join(repr(v) for v in others[:5]) + (f" and {len(others) - 5} more" if len(others) > 5 else "")
        raise RequestError(
            f"no event of {schema.name} has {field.name} {value!r}, but some have {listed}, which the kind {schema.kind!r} does "
            f"not know; if one of them means {value}, say so in [logs.{schema.name}.fields]: "
            f'{field.name} = {{ column = "...", values = {{ "{others[0]}" = "{value}" }} }}'
        )
    return f"no event of the whole log has {field.name} {value!r}"


def _whole(plan: Plan, place: Workplace, schema: LogSchema, field: Field) -> Plan:
    """A plan over everything the log holds, in which the names of a field are resolved."""
    report = Report(log=schema.name, period="all", zone=plan.stretch.calendar.zone_name)
    return resolve(report, place, plan.stretch.end, listed=[field.name])


def _matched_note(plan: Plan, strand: Strand, field: str, text: str, source: Source) -> str:
    found = explain.matched(plan, strand, field, source)
    shown = ", ".join(found[:10]) + (f" and {len(found) - 10} more" if len(found) > 10 else "")
    return f"{text}: {len(found)} matched" + (f" ({shown})" if found else "")


def describe(report: Report, place: Workplace, now: datetime) -> list[tuple[str, str]]:
    """What a run would do, in words, without running it: period, zone, filters, coverage, expected size."""
    plan = resolve(report, place, now)
    stretch = plan.stretch
    lines = [
        ("Report", plan.title),
        ("Period", f"{stretch.words} ({stretch.text}{', moves with the clock' if stretch.relative else ''})"),
        ("Exactly", f"{stretch.exact}, the end excluded; {stretch.calendar.zone_name}"),
    ]
    for strand in plan.strands:
        name = strand.schema.name
        extent = place.extent(name)
        if extent is None:
            lines.append(("Log", f"{name}: no events yet"))
            continue
        own = strand.stretch or stretch
        held = [place.held(log) for log in strand.schema.stored_logs]
        parts = [p for log in strand.schema.stored_logs for p in place.snapshot.months(log, own.start, own.end)]
        lines += [
            ("Log", f"{name}: {narrowed(strand)}"),
            (
                "Covered",
                f"{stamp(extent[0], stretch.calendar.zone)} to {stamp(extent[1], stretch.calendar.zone)}",
            ),
        ]
        if not place.view.scope:  # how many events others have is not theirs to know
            size = sum(p.size for p in parts) / 1e6
            many = (
                "; ".join(h.told for h in held if h)
                or f"at most {sum(p.rows for p in parts):,} events in {len(parts)} file{'' if len(parts) == 1 else 's'}"
            )
            lines.append(("To read", many if any(held) else f"{many}, {size:,.1f} MB"))
    lines.append(("Grouped by", ", ".join(d.name for d in plan.by) or "nothing: one row"))
    if plan.across:
        lines.append(("Across", plan.across.name))
    lines += [("Columns", ", ".join(f"{c.label} ({c.measure})" for c in plan.columns)), ("Plan", plan.digest)]
    return lines + [("Note", n) for n in caveats.known_beforehand(plan, place)]
