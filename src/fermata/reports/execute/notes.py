"""What a reader must know to trust the figures, gathered from the plan, the manifest and the events."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from fermata.analysis.combine import Source
from fermata.analysis.combined_logs import Combine
from fermata.analysis.counters import Counter
from fermata.analysis.derive import Merge, Pairing
from fermata.analysis.explain import Step
from fermata.analysis.filters import Selection
from fermata.analysis.identify import opened
from fermata.analysis.measures import NEEDS_TIME
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import naive, select
from fermata.analysis.table import Table
from fermata.archive import SourceFile
from fermata.errors import counted
from fermata.notes import Note
from fermata.reports.compile.filter_values import outside_validity
from fermata.reports.compile.generated_logs import RequiredTime
from fermata.reports.compile.resolve import lookups
from fermata.reports.execute.event_notes import (
    balances,
    clipped_beside_whole,
    counters,
    nothing_computed,
    open_spans,
    pairing,
    terms,
    undated,
)
from fermata.reports.execute.gaps import gaps
from fermata.timeline.words import span, stamp
from fermata.timeline.zones import changes, day_start, local, zone

if TYPE_CHECKING:
    from fermata.reports.compile.workplace import Workplace

DAY = timedelta(days=1)
MOST_GAPS = 3
SPANNED = {*NEEDS_TIME, "duration"}

__all__ = ["complete_to", "gathered", "known_beforehand", "of_table", "why_nothing"]


def complete_to(place: Workplace, plan: Plan, strand: int, extent: tuple[datetime, datetime]) -> datetime:
    """Up to when the strand's log is known to be complete: its last record, or what an import declared."""
    logs = [place.state(name) for name in plan.strands[strand].schema.stored_logs]
    declared = [datetime.fromisoformat(log.complete_to).replace(tzinfo=UTC) for log in logs if log.complete_to]
    return max([*declared, extent[1]])


def known_beforehand(plan: Plan, place: Workplace) -> list[Note]:
    """The notes that need no look at the events."""
    notes = [Note(n, "method") for n in plan.stretch.notes]
    if plan.known:
        notes.append(
            Note(
                f"as it was known at {stamp(plan.known, plan.stretch.calendar.zone)}; what came in later is left out",
                "as known",
            )
        )
    for number, strand in enumerate(plan.strands):
        if strand.date_field:
            continue  # what a log covers is told by starts
        if strand.stretch is None and not hasattr(strand.schema.derivation, "rows"):
            notes += _coverage(plan, place, number, strand)
        elif strand.stretch and strand.units:
            notes += [n.about("in the period compared with") for n in _coverage(plan.of(strand), place, number, strand)]
    for name in stored_logs(plan):
        if held := place.held(name):
            notes.append(Note(held.told, "setting"))
        elif not (place.view.scope or place.view.smallest):  # the ledger counts the records of all
            notes += _from_ledger(plan, place, name)
    return notes


def stored_logs(plan: Plan) -> list[str]:
    """The logs of the archive that a plan's figures come from."""
    return list(dict.fromkeys(name for s in plan.strands for name in s.schema.stored_logs))


def gathered(plan: Plan, place: Workplace, source: Source) -> list[Note]:
    """All notes of a run."""
    notes = known_beforehand(plan, place)
    for name in stored_logs(plan) if place.view.everything else ():  # a log's silences are those of all
        notes += _in_place(plan, place, name) if place.held(name) else _gaps_inside(plan, place, name)
    for strand in (s for s in plan.strands if s.stretch is None):
        measured = {(m.base or m).of for _, m in strand.measures} | {(m.base or m).name for _, m in strand.measures}
        if isinstance(strand.schema.derivation, Pairing):
            notes += pairing(plan, strand, source)
        elif isinstance(strand.schema.derivation, Counter):
            notes += counters(plan, strand, source)
        elif strand.schema.spans and measured & SPANNED:
            last = f"{plan.stretch.end:%Y-%m}"
            parts, apart = place.state(strand.schema.name).parts, place.held(strand.schema.name)
            if strand.schema.derivation or apart or any(p.unfinished for p in parts if p.month <= last):
                notes += open_spans(plan, strand, source)
        notes += nothing_computed(plan, strand, source)
        if isinstance(strand.schema.derivation, Combine) and strand.stretch is None:
            notes += balances(plan, strand, source)
    notes += undated(plan, source)
    notes += clipped_beside_whole(plan, source)
    if any(isinstance(s.schema.derivation, RequiredTime) for s in plan.strands):
        notes += _required_today(plan, place)
    for strand in plan.strands:
        notes += terms(strand)
    for name in dict.fromkeys(name for c in plan.columns for name, _ in c.factors):
        factor = place.terms.factors[name]
        notes.append(Note(f"factor {name} = {factor.value} {factor.unit} ({factor.source})", "method"))
    if any(c.measure.base and c.measure.base.name in ("distinct", "present") for c in plan.columns):
        notes.append(Note("shares of different values do not add up: one may count in several rows", "method"))
    if plan.set_dimension:
        notes.append(
            Note(
                f"an event with several {plan.set_dimension.name} counts in each of them, and once in the total",
                "method",
            )
        )
    if any(c.measure.name == "median" for c in plan.columns):
        notes.append(
            Note(
                "a median is a value that occurred: the smallest with at least half of the values at or below it",
                "method",
            )
        )
    return notes


def _required_today(plan: Plan, place: Workplace) -> list[Note]:
    """That the day asked on has not ended, and is not held against anybody yet."""
    tz = plan.stretch.calendar.zone
    if place.now < plan.stretch.start or plan.stretch.end <= day_start(local(place.now, tz).date(), tz):
        return []
    today = stamp(place.now, tz)[:10]
    return [
        Note(
            f"the hours required of {today} are counted when the day is over; until then the field today has them",
            "today",
        )
    ]


def of_table(plan: Plan, table: Table) -> list[Note]:
    """What the finished table itself tells: columns without anything, names not in any
    register, records put together.
    """
    notes = [Note(f"totals of {label} leave out the rows that have no {label}", "method") for label in table.partial]
    body = table.body
    for i, column in enumerate(table.measures):
        if len(body) > 1 and column.across_total and all(r.cells[i] is None for r in body):
            notes.append(Note(f"{column.label} is empty in every row", "empty"))
    notes += _free_throughout(plan)
    kinds = {lookup.field: lookup.kind for s in plan.strands for lookup in s.lookups}
    for i, dimension in enumerate(plan.by):
        if dimension.name in kinds:
            mark = f" ({kinds[dimension.name]})"
            unknown = {r.keys[i] for r in body if isinstance(r.keys[i], str) and r.keys[i].endswith(mark)}
            if unknown:
                named = ", ".join(sorted(unknown)[:3]) + (" ..." if len(unknown) > 3 else "")
                notes.append(
                    Note(
                        f"{counted(len(unknown), f'{dimension.name} name')} in no register ({named})",
                        "names",
                        "fermata report names-not-known",
                    )
                )
    for strand in plan.strands:
        if isinstance(strand.schema.derivation, Merge) and strand.stretch is None:
            name = strand.schema.name
            notes.append(
                Note(f"several records of one thing count once in {name}", "method", f"fermata events {name} --steps")
            )
    return notes


def _free_throughout(plan: Plan) -> list[Note]:
    """What has no row beside time without anything, since nothing happened there."""
    free = next((c.label for c in plan.columns if c.measure.name == "uncovered" and not c.hidden), "")
    fields = [d.name for d in plan.by if not d.calendar]
    if not free or not fields:
        return []
    units = [d.name for d in plan.by if d.calendar]
    notes = [Note(f"{free}: a {u} in which a {fields[0]} has no events has no row; --across {u} shows it", "rows")
             for u in units]  # fmt: skip
    if not plan.zeros and not units:
        told = f"{free}: a {fields[0]} without any events in this period has no row"
        notes.append(Note(f"{told}; --zero-rows {fields[0]} adds those known", "rows"))
    return notes


def _gaps_inside(plan: Plan, place: Workplace, name: str) -> list[Note]:
    """The silences of the log that reach into the period and that its rhythm does not explain."""
    if not place.extent(name):
        return []
    zone = plan.stretch.calendar.zone
    found = [g for g in gaps(name, place) or () if g.start < plan.stretch.end and g.end > plan.stretch.start]
    shown = [
        Note(
            f"no record of {name} for {span(g.length // timedelta(seconds=1) * 1_000_000)} from "
            f"{stamp(g.start, zone)[:16]}",
            "gap",
        )
        for g in sorted(found, key=lambda g: -g.length)[:MOST_GAPS]
    ]
    if len(found) > MOST_GAPS:
        more = len(found) - MOST_GAPS
        shown.append(Note(f"and {counted(more, 'shorter gap')}", "gap", f"fermata survey {name} --part gaps"))
    return shown


def _in_place(plan: Plan, place: Workplace, name: str) -> list[Note]:
    """What became of the records of the period of a log read where it is; its silences are for a survey to find, which
    reads it all.
    """
    held = place.held(name)
    assert held
    start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (plan.stretch.start, plan.stretch.end))
    refusals, twice, never = held.refusals(start, end)
    notes = []
    if refusals:
        why, most = max(refusals.items(), key=lambda r: r[1])
        notes.append(
            Note(
                f"{counted(sum(refusals.values()), 'record')} of {name} of this period, or without a time, cannot be "
                "read as mapped and are left out "
                f"({why}{f': {most:,}' if len(refusals) > 1 else ''})",
                "rejected",
                f"fermata survey {name} --part rejects",
            )
        )
    for n, hour, key in ((twice, "repeated", "ambiguous"), (never, "skipped", "nonexistent")):
        if n:
            notes.append(
                Note(
                    f"{counted(n, 'record')} of {name} in the hour {hour} by the clock change; resolved by `{key}`",
                    "clock change",
                )
            )
    return notes


def _coverage(plan: Plan, place: Workplace, number: int, strand: Strand) -> list[Note]:
    extent, zone, name = place.extent(strand.schema.name), plan.stretch.calendar.zone, strand.schema.name
    if extent is None:
        return []
    until = complete_to(place, plan, number, extent)
    if plan.stretch.start > until:
        return [Note(f"the period lies after the last record of {name}, of {stamp(extent[1], zone)}", "coverage")]
    if plan.stretch.end <= extent[0]:
        return [Note(f"the period lies before the first record of {name}, of {stamp(extent[0], zone)}", "coverage")]
    notes = []
    day = timedelta(days=1)  # a log that begins or ends on the period's first or last day is no gap
    if plan.stretch.start + day <= extent[0]:
        notes.append(
            Note(f"{name} has no records before {stamp(extent[0], zone)}; the period begins earlier", "coverage")
        )
    if plan.stretch.end - day > until and plan.stretch.text != "all":
        notes.append(
            Note(
                f"{name} has no records after {stamp(extent[1], zone)}; the period goes on to "
                f"{stamp(plan.stretch.end, zone)}",
                "coverage",
            )
        )
    return notes


def _from_ledger(plan: Plan, place: Workplace, name: str) -> list[Note]:
    """What the imports of files that cover the period had to say."""
    files = list(place.state(name).files.values())
    near = [f for f in files if _overlaps(f, plan)]
    notes = []
    corrected = place.state(name).corrected
    if rejected := sum(f.rejected for f in near if str(f.import_no) not in corrected):
        notes.append(
            Note(
                f"{counted(rejected, 'record')} of files covering this period rejected",
                "rejected",
                f"fermata survey {name} --part rejects",
            )
        )
    back, forth = _clock_changes(plan, place, name)
    if (twice := sum(f.twice for f in near)) and back:
        notes.append(
            Note(
                f"in the files of this period, {counted(twice, 'record')} with a local time that happened twice (the "
                "clock was set back); the setting ambiguous of the log decides which of the two is meant",
                "clock change",
            )
        )
    if (never := sum(f.never for f in near)) and forth:
        notes.append(
            Note(
                f"in the files of this period, {counted(never, 'record')} with a local time that never happened (the "
                "clock was set forward); the setting nonexistent of the log decides which time is meant",
                "clock change",
            )
        )
    if repeats := sum(f.possible_repeats for f in near):
        notes.append(
            Note(
                f"{counted(repeats, 'record')} equal to one of another file without being part of an overlap, kept and "
                "counted",
                "repeats",
            )
        )
    older = [f for f in files if f.mapping != place.mappings[name]]
    if older:
        paths = ", ".join(f.path for f in older[:3]) + (" ..." if len(older) > 3 else "")
        notes.append(
            Note(
                f"{len(older)} files were imported under an older mapping ({paths})",
                "mapping",
                f"fermata import {name}",
            )
        )
    return notes


def _clock_changes(plan: Plan, place: Workplace, name: str) -> tuple[bool, bool]:
    """Whether the clocks of a log's zone are set back in the plan's period, and whether they are set forward."""
    found = changes(plan.stretch.start - DAY, plan.stretch.end + DAY, zone(place.schemas[name].zone))
    return any(c.sets_back for c in found), any(not c.sets_back for c in found)


def _overlaps(file: SourceFile, plan: Plan) -> bool:
    if not file.first or not file.last:
        return bool(file.rejected)
    first, last = (datetime.fromisoformat(t).replace(tzinfo=UTC) for t in (file.first, file.last))
    return first < plan.stretch.end and last >= plan.stretch.start


def why_nothing(
    plan: Plan, place: Workplace, steps: tuple[tuple[str, tuple[Step, ...]], ...], said: Sequence[Note] = ()
) -> list[Note]:
    """Why a result is empty: no events in the period, or which filter took the last ones; what lies around, unless
    `said` already.
    """
    notes: list[Note] = []
    elsewhere = not any(n.kind == "validity" for n in said)
    for strand, (name, removed) in zip(plan.strands, steps, strict=True):
        emptied = next((s for s in removed if s.left == 0), None)
        if emptied is None:
            continue
        if emptied is removed[0]:
            notes.append(Note(f"nothing found: {name} has no events in this period", "nothing"))
        else:
            told = f"removed the last {emptied.removed:,} of {removed[0].left:,} events"
            told = f"removed all {emptied.removed:,} events" if emptied.removed == removed[0].left else told
            notes.append(Note(f"nothing found: '{emptied.text}' {told}", "nothing"))
        notes += _around(plan, place, strand, elsewhere)
    return notes


def _around(plan: Plan, place: Workplace, strand: Strand, elsewhere: bool) -> list[Note]:
    """The last event before and the first after the period that the filters would keep, by the names that are valid
    then; `elsewhere` adds what was read under these names while they were nobody's.
    """
    extent, zone = place.extent(strand.schema.name), plan.stretch.calendar.zone
    if extent is None or hasattr(strand.schema.derivation, "rows"):
        return []
    low, high = min(extent[0], plan.stretch.start), max(extent[1], plan.stretch.end)
    wide = dataclasses.replace(plan, stretch=dataclasses.replace(plan.stretch, start=low, end=high))
    asked = [
        n for lookup in strand.lookups for n in (lookup.field, *(f"{lookup.field}.{a}" for a in lookup.attributes))
    ]
    known = lookups(place.registers, strand.schema, asked, wide.stretch)
    strand = dataclasses.replace(strand, window=(low, high), stretch=None, lookups=known)
    source = place.source(wide)
    engine, table = opened(strand, source)
    kept = select(table, strand) if strand.selection != Selection() else table
    before = kept.start_utc.max(where=kept.start_utc < naive(plan.stretch.start))
    after = kept.start_utc.min(where=kept.start_utc >= naive(plan.stretch.end))
    row = engine.run(kept.aggregate(b=before, a=after))
    found = [row.column(i)[0].as_py() for i in range(2)]
    words = [stamp(t.replace(tzinfo=UTC), zone) if t else "none" for t in found]
    notes = [Note(f"the last such event before the period: {words[0]}; the first after it: {words[1]}", "nothing")]
    return [*notes, *(outside_validity(wide, place, strand, source, " in the whole log") if elsewhere else [])]
