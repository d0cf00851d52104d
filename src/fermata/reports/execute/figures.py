"""Carrying out a report: the one way from a definition to figures."""

from __future__ import annotations

import dataclasses
from datetime import datetime
from typing import Any

from fermata._version import __version__
from fermata.analysis import explain
from fermata.analysis.combine import gather, regrouped
from fermata.analysis.derive import unpaired
from fermata.analysis.filters import Condition, Selection
from fermata.analysis.finish import finish
from fermata.analysis.order import outermost
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.window_measures import eventless
from fermata.errors import counted
from fermata.garbage import uncollected
from fermata.notes import Note
from fermata.reports.compile.filter_values import check_values
from fermata.reports.compile.workplace import Workplace
from fermata.reports.execute import verdicts
from fermata.reports.execute.cube import figures_of_groups
from fermata.reports.execute.filter_hints import broad
from fermata.reports.execute.notes import complete_to, gathered, known_beforehand, of_table, stored_logs, why_nothing
from fermata.reports.requests import Figures, Listing
from fermata.reports.result import Context, RunResult
from fermata.timeline import Slot
from fermata.timeline.words import span, stamp

ALL_EVENTS = "all events"

__all__ = ["context_by", "context_of", "describe", "figures", "narrowed"]


def figures(request: Figures, place: Workplace) -> RunResult:
    """The result of a table of figures. Raises UnknownName, RequestError, DataError."""
    with uncollected():
        if place.view.smallest:
            return _of_groups(request, place)
        return _run(request, place)


def _of_groups(request: Figures, place: Workplace) -> RunResult:
    """The result for a viewer of groups."""
    plan, least, cube = request.plan, place.view.smallest, place.view.cube
    source = place.source(plan)
    check_values(plan, place, source)
    shown = dataclasses.replace(plan, lacking=True)
    table = finish(shown, figures_of_groups(plan, place, source), lambda strand, slot: True)
    cells = ", ".join((*cube.fields, cube.grain))
    told = Note(f"what fewer than {least} people did (in any one {cells}) is in no figure, totals included", "group")
    table, chosen = verdicts.kept_rows(table, request.report.rows, verdicts.Shown.of(request.report, plan))
    notes = (told, *known_beforehand(plan, place), *chosen)
    return RunResult(request.report, plan, table, context_of(request, place), notes, (), place)


def _run(request: Figures, place: Workplace) -> RunResult:
    report, plan = request.report, request.plan
    source = place.source(plan)
    figures = gather(plan, source)
    notes = check_values(plan, place, source, figures)
    every = None
    if plan.top and plan.by:
        kept, top = outermost(plan, figures, plan.top), plan.top
        if len(kept) < len(figures[plan.by[:1]]):
            plan = dataclasses.replace(plan, kept=tuple(kept))
            figures, every = regrouped(plan, figures, source), figures
        if len(kept) > top:
            notes.append(Note(f"top {top} takes {len(kept)} groups: the last of them are equal", "rows"))

    def covered(strand: int, slot: Slot) -> bool:
        extent = place.extent(plan.strands[strand].schema.name)
        return extent is not None and slot.end > extent[0] and slot.start <= complete_to(place, plan, strand, extent)

    table = finish(plan, figures, covered, every)
    seen = verdicts.Shown.of(report, plan)
    empty = eventless(figures[plan.levels[-1]])
    notes += [
        *verdicts.compared_notes(plan, figures, report.full_period),
        *verdicts.checked(plan, figures, nothing=empty),
    ]
    table, evidence = verdicts.with_verdicts(plan, table, source)
    notes += [*evidence, *verdicts.warned(table, report.warn, seen, nothing=empty), *of_table(plan, table)]
    notes += broad(plan, plan.strands[0], source, table.size, snapshot=place.snapshot)
    nothing = empty or _all_zero(table)
    steps = (
        tuple((s.schema.name, tuple(explain.steps(plan, s, source))) for s in plan.strands)
        if request.explained or nothing
        else ()
    )
    notes = [*gathered(plan, place, source), *notes]
    if report.no_others:
        table, others = verdicts.without_others(table, plan.zeros, str(report.zero_rows))
        notes = [*others, *notes]
    table, chosen = verdicts.kept_rows(table, report.rows, seen, report.top)
    notes = [*chosen, *notes]
    if nothing:
        notes = [*why_nothing(plan, place, steps, notes), *notes]
    return RunResult(report, plan, table, context_of(request, place), tuple(dict.fromkeys(notes)), steps, place)


def _all_zero(table: Any) -> bool:
    return not any(cell for row in table.rows for cell in row.cells)


def context_of(request: Figures | Listing, place: Workplace) -> Context:
    """What stands above and below the result of a request with a plan."""
    return context_by(request.plan, place, request.now, request.digest)


def context_by(plan: Plan, place: Workplace, now: datetime, digest: str) -> Context:
    """The same of a plan and the digest of what it was made for."""
    stretch = plan.stretch
    fresh = []
    for name in stored_logs(plan):
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
        plan=digest,
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
    if strand.date_field:
        more.append(f"by the date in {strand.date_field}")
    text = str(_as_asked(strand))
    return "; ".join([text, *more] if text != ALL_EVENTS or not more else more)


def _as_asked(strand: Strand) -> Selection:
    """The filters without the one that every log of pairs has by itself: closings without an opening count only where
    they are asked for.
    """
    by_itself = Condition("pairing", "is", unpaired(strand.schema.derivation))
    chosen = strand.selection
    return dataclasses.replace(chosen, without=tuple(c for c in chosen.without if c != by_itself))


def describe(request: Figures | Listing, place: Workplace) -> list[tuple[str, str]]:
    """What a run would do, in words, without running it: period, zone, filters, coverage, expected size."""
    plan = request.plan
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
        if not (place.view.scope or place.view.smallest):  # how many events others have is not theirs to know
            size = sum(p.size for p in parts) / 1e6
            many = (
                "; ".join(h.told for h in held if h)
                or f"at most {sum(p.rows for p in parts):,} events in {counted(len(parts), 'file')}"
            )
            lines.append(("To read", many if any(held) else f"{many}, {size:,.1f} MB"))
    lines.append(("Grouped by", ", ".join(d.name for d in plan.by) or "nothing: one row"))
    if plan.across:
        lines.append(("Across", plan.across.name))
    lines += [("Columns", ", ".join(f"{c.label} ({c.measure})" for c in plan.columns)), ("Plan", request.digest)]
    return lines + [("Note", n) for n in known_beforehand(plan, place)]
