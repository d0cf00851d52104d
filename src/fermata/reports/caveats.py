"""What a reader must know to trust the figures, gathered from the plan, the manifest and the events."""

from __future__ import annotations

import dataclasses
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING

from fermata.analysis.combine import Source
from fermata.analysis.computed import Classes, Rates
from fermata.analysis.derive import CUT, EVER, ORPHAN, UNFINISHED, Assembly, Collapse, Pairing
from fermata.analysis.explain import Step
from fermata.analysis.filters import Selection
from fermata.analysis.identify import opened
from fermata.analysis.measures import NEEDS_TIME
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside, naive, select
from fermata.analysis.table import Table
from fermata.archive import SourceFile
from fermata.fields import Field
from fermata.reports.gaps import gaps
from fermata.timeline.words import span, stamp

if TYPE_CHECKING:
    from fermata.reports.run import Workplace

MOST_GAPS = 3
MOST_WRONG = 3
SPANNED = {*NEEDS_TIME, "duration"}

__all__ = ["complete_to", "gathered", "known_beforehand", "of_table", "why_nothing"]


def complete_to(place: Workplace, plan: Plan, strand: int, extent: tuple[datetime, datetime]) -> datetime:
    """Up to when the strand's log is known to be complete: its last record, or what an import declared."""
    logs = [place.state(name) for name in plan.strands[strand].schema.stored_logs]
    declared = [datetime.fromisoformat(log.complete_to).replace(tzinfo=UTC) for log in logs if log.complete_to]
    return max([*declared, extent[1]])


def known_beforehand(plan: Plan, place: Workplace) -> list[str]:
    """The caveats that need no look at the events."""
    notes = list(plan.stretch.notes)
    if plan.known:
        notes.append(
            f"as it was known at {stamp(plan.known, plan.stretch.calendar.zone)}; what came in later is left out"
        )
    for number, strand in enumerate(plan.strands):
        if strand.stretch is None and not hasattr(strand.schema.derivation, "rows"):
            notes += _coverage(plan, place, number, strand)
        elif strand.stretch and strand.units:
            notes += [f"in the period compared with: {n}" for n in _coverage(plan.of(strand), place, number, strand)]
    for name in stored_logs(plan):
        if held := place.held(name):
            notes.append(held.told)
        elif not place.view.scope:  # the ledger counts the records of all
            notes += _from_ledger(plan, place, name)
    return notes


def stored_logs(plan: Plan) -> list[str]:
    """The logs of the archive that a plan's figures come from."""
    return list(dict.fromkeys(name for s in plan.strands for name in s.schema.stored_logs))


def gathered(plan: Plan, place: Workplace, source: Source) -> list[str]:
    """All caveats of a run."""
    notes = known_beforehand(plan, place)
    for name in stored_logs(plan) if place.view.everything else ():  # a log's silences are those of all
        notes += _in_place(plan, place, name) if place.held(name) else _gaps_inside(plan, place, name)
    for strand in (s for s in plan.strands if s.stretch is None):
        measured = {(m.base or m).of for _, m in strand.measures} | {(m.base or m).name for _, m in strand.measures}
        if isinstance(strand.schema.derivation, Pairing):
            notes += _pairing(plan, strand, source)
        elif strand.schema.spans and measured & SPANNED:
            last = f"{plan.stretch.end:%Y-%m}"
            parts, apart = place.state(strand.schema.name).parts, place.held(strand.schema.name)
            if strand.schema.derivation or apart or any(p.unfinished for p in parts if p.month <= last):
                notes += _open_spans(plan, strand, source)
        notes += _nothing_computed(plan, strand, source)
        if isinstance(strand.schema.derivation, Assembly) and strand.stretch is None:
            notes += _balances(plan, strand, source)
        if strand.dated:
            notes += _undated(strand, source)
    for strand in plan.strands:
        notes += _terms(strand)
    for name in dict.fromkeys(name for c in plan.columns for name, _ in c.factors):
        factor = place.terms.factors[name]
        notes.append(f"factor {name} = {factor.value} {factor.unit} ({factor.source})")
    if any(c.measure.base and c.measure.base.name in ("distinct", "present") for c in plan.columns):
        notes.append("shares of different values do not add up: one may count in several rows")
    if plan.set_dimension:
        notes.append(f"an event with several {plan.set_dimension.name} counts in each of them, and once in the total")
    if any(c.measure.name == "median" for c in plan.columns):
        notes.append("a median is a value that occurred: the smallest with at least half of the values at or below it")
    return notes


def of_table(plan: Plan, table: Table) -> list[str]:
    """What the finished table itself tells: columns without anything, names no register knows, records put together."""
    notes = []
    body = table.body
    for i, column in enumerate(table.measures):
        if len(body) > 1 and column.across_total and all(r.cells[i] is None for r in body):
            notes.append(f"{column.label} is empty in every row")
    kinds = {lookup.field: lookup.kind for s in plan.strands for lookup in s.lookups}
    for i, dimension in enumerate(plan.by):
        if dimension.name in kinds:
            mark = f"{kinds[dimension.name]} "
            unknown = {r.keys[i] for r in body if isinstance(r.keys[i], str) and r.keys[i].startswith(mark)}
            if unknown:
                named = ", ".join(sorted(unknown)[:3]) + (" ..." if len(unknown) > 3 else "")
                notes.append(
                    f"{len(unknown):,} of {dimension.name} no register knows ({named}): fermata report names-not-known"
                )
    for strand in plan.strands:
        if isinstance(strand.schema.derivation, Collapse) and strand.stretch is None:
            name = strand.schema.name
            notes.append(
                f"several records of one thing count once in {name}; one by one: fermata records {name} --steps"
            )
    return notes


def _gaps_inside(plan: Plan, place: Workplace, name: str) -> list[str]:
    """The silences of the log that reach into the period and that its rhythm does not explain."""
    if not place.extent(name):
        return []
    zone = plan.stretch.calendar.zone
    found = [g for g in gaps(name, place) or () if g.start < plan.stretch.end and g.end > plan.stretch.start]
    shown = [
        f"no record of {name} for {span(g.length // timedelta(seconds=1) * 1_000_000)} from {stamp(g.start, zone)[:16]}"
        for g in sorted(found, key=lambda g: -g.length)[:MOST_GAPS]
    ]
    if len(found) > MOST_GAPS:
        more = len(found) - MOST_GAPS
        shown.append(f"and {more} shorter gap{'s' * (more != 1)}: fermata survey {name} --part gaps")
    return shown


def _in_place(plan: Plan, place: Workplace, name: str) -> list[str]:
    """What became of the records of the period of a log read where it is; its silences are for a survey to find, which reads it all."""
    held = place.held(name)
    assert held
    start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (plan.stretch.start, plan.stretch.end))
    refusals, twice, never = held.refusals(start, end)
    notes = []
    if refusals:
        why, most = max(refusals.items(), key=lambda r: r[1])
        notes.append(
            f"{_records(sum(refusals.values()))} of {name} of this period, or without a time, cannot be read as mapped and are left out "
            f"({why}{f': {most:,}' if len(refusals) > 1 else ''}): fermata survey {name} --part rejects"
        )
    for n, what in ((twice, "happened twice"), (never, "never happened")):
        if n:
            notes.append(f"{_records(n)} of {name} with a local time that {what}, settled by the log's policy")
    return notes


def _coverage(plan: Plan, place: Workplace, number: int, strand: Strand) -> list[str]:
    extent, zone, name = place.extent(strand.schema.name), plan.stretch.calendar.zone, strand.schema.name
    if extent is None:
        return []
    until = complete_to(place, plan, number, extent)
    if plan.stretch.start > until:
        return [f"the period lies after the last record of {name}, of {stamp(extent[1], zone)}"]
    if plan.stretch.end <= extent[0]:
        return [f"the period lies before the first record of {name}, of {stamp(extent[0], zone)}"]
    notes = []
    day = timedelta(days=1)  # a log that begins or ends on the period's first or last day is no gap
    if plan.stretch.start + day <= extent[0]:
        notes.append(f"{name} has no records before {stamp(extent[0], zone)}; the period begins earlier")
    if plan.stretch.end - day > until and plan.stretch.text != "all":
        notes.append(
            f"{name} has no records after {stamp(extent[1], zone)}; the period goes on to {stamp(plan.stretch.end, zone)}"
        )
    return notes


def _from_ledger(plan: Plan, place: Workplace, name: str) -> list[str]:
    """What the imports of files that cover the period had to say."""
    files = list(place.state(name).files.values())
    near = [f for f in files if _overlaps(f, plan)]
    notes = []
    mended = place.state(name).mended
    if rejected := sum(f.rejected for f in near if str(f.import_no) not in mended):
        notes.append(
            f"{_records(rejected)} of files covering this period rejected: fermata survey {name} --part rejects"
        )
    if twice := sum(f.twice for f in near):
        notes.append(
            f"{_records(twice)} of files covering this period with a local time that happened twice, settled by the log's policy"
        )
    if never := sum(f.never for f in near):
        notes.append(
            f"{_records(never)} of files covering this period with a local time that never happened, settled by the log's policy"
        )
    if repeats := sum(f.possible_repeats for f in near):
        notes.append(
            f"{_records(repeats)} equal to one of another file without being part of an overlap, kept and counted"
        )
    older = [f for f in files if f.mapping != place.mappings[name]]
    if older:
        paths = ", ".join(f.path for f in older[:3]) + (" ..." if len(older) > 3 else "")
        notes.append(f"{len(older)} files were imported under an older mapping ({paths}): fermata import {name}")
    return notes


def _records(n: int) -> str:
    return f"{n:,} record{'' if n == 1 else 's'}"


def _overlaps(file: SourceFile, plan: Plan) -> bool:
    if not file.first or not file.last:
        return bool(file.rejected)
    first, last = (datetime.fromisoformat(t).replace(tzinfo=UTC) for t in (file.first, file.last))
    return first < plan.stretch.end and last >= plan.stretch.start


def _open_spans(plan: Plan, strand: Strand, source: Source) -> list[str]:
    """Spans without a finish that began before the period's end: they are in no total."""
    engine, table = opened(strand, source)
    kept = select(table, strand)
    kept = kept.filter(kept.finish_utc.isnull() & (kept.start_utc < naive(plan.stretch.end)))
    row = engine.run(
        kept.aggregate(n=kept.count(), inside=kept.count(where=kept.start_utc >= naive(plan.stretch.start)))
    )
    total, inside = (row.column(i)[0].as_py() for i in range(2))
    notes = []
    if inside:
        notes.append(f"{inside:,} of this period without a finish: counted, but in no time or duration")
    if total > inside:
        notes.append(f"{total - inside:,} from before this period without a finish: in no time")
    return notes


def _pairing(plan: Plan, strand: Strand, source: Source) -> list[str]:
    """What became of the openings and closings of the period that found no partner."""
    asked = tuple(c for c in strand.selection.without if c.field != "pairing")
    only = tuple(c for c in strand.selection.only if c.field != "pairing")
    strand = dataclasses.replace(strand, selection=dataclasses.replace(strand.selection, only=only, without=asked))
    engine, table = opened(strand, source)
    here = inside(select(table, strand), plan.of(strand), strand, spans=False)
    counts = {r["pairing"]: r["n"] for r in engine.run(here.group_by("pairing").aggregate(n=here.count())).to_pylist()}
    made, name = strand.schema.derivation, strand.schema.name
    notes = []
    if n := counts.get(UNFINISHED):
        notes.append(
            f"{n:,} of {name} of this period unfinished: no closing within {span(made.reach // timedelta(microseconds=1))}; counted, "
            f"but in no time or duration (fermata records {name} --only pairing=unfinished)"
        )
    if n := counts.get(CUT):
        limit = f" {span(made.at_most // timedelta(microseconds=1))}" if made.at_most else ""
        notes.append(
            f"{n:,} of {name} of this period without a closing, ended by the policy '{made.unfinished}{limit}'"
        )
    if n := counts.get(ORPHAN):
        notes.append(
            f"{n:,} closings of this period without an opening, left out (fermata records {name} --only pairing='no opening')"
        )
    return notes


def _balances(plan: Plan, strand: Strand, source: Source) -> list[str]:
    """Events of the period after which the source recorded another balance than the movements add up to."""
    made = strand.schema.derivation
    if not any(p.recorded for p in made.parts):
        return []
    engine, table = opened(
        dataclasses.replace(strand, uses=(), reach=EVER, lookups=(), computed=(), stretch=None), source
    )
    wrong = inside(made.disagreeing(table), plan, strand, spans=False)
    rows = engine.run(wrong.order_by(["start_utc", "file_id", "record_no"]).limit(MOST_WRONG + 1)).to_pylist()
    if not rows:
        return [f"the balances recorded in {strand.schema.name} agree with the movements of this period"]
    n = engine.run(wrong.aggregate(n=lambda t: t.count())).column(0)[0].as_py()
    scale = strand.schema.field("amount").scale
    zone = plan.stretch.calendar.zone
    told = [
        f"{', '.join(str(r[Field(b).stored]) for b in made.by)} {stamp(r['start_utc'].replace(tzinfo=UTC), zone)[:16]}: recorded "
        f"{_scaled(r['balance'], scale)}, by the movements {_scaled(r['sum'], scale)}"
        for r in rows[:MOST_WRONG]
    ]
    more = f"; and {n - MOST_WRONG:,} more" if n > MOST_WRONG else ""
    return [f"RECORDED BALANCE DISAGREES at {n:,} movements of {strand.schema.name}: {'; '.join(told)}{more}"]


def _scaled(amount: int, scale: int) -> str:
    return str(Decimal(amount).scaleb(-scale))


def _undated(strand: Strand, source: Source) -> list[str]:
    """Events that have no date of the kind the period goes by."""
    engine, table = opened(strand, source)
    kept = select(table, strand)
    n = engine.run(kept.aggregate(n=kept.count(where=kept.start_utc.isnull()))).column(0)[0].as_py()
    words = f"the period goes by {strand.dated}, not by the start"
    return [f"{words}; {n:,} events without it are in no period" if n else words]


def _nothing_computed(plan: Plan, strand: Strand, source: Source) -> list[str]:
    """Events for which a field the report asks about could not be worked out: no rule fits, no rate is valid."""
    made = [c for c in strand.computed if isinstance(c, Classes | Rates)]
    if not made or strand.stretch is not None:
        return []
    engine, table = opened(strand, source)
    here = inside(select(table, strand), plan, strand, spans=False)
    named = {f"c{i}": here.count(where=here[c.field.stored].isnull()) for i, c in enumerate(made)}
    row = engine.run(here.aggregate(**named))
    notes = []
    for i, c in enumerate(made):
        if n := row.column(i)[0].as_py():
            why = "fit no rule" if isinstance(c, Classes) else "have no rate (or no finish), and are in no total"
            notes.append(f"{n:,} events of {strand.schema.name} {why} of {c.field.name}: --only {c.field.name}=")
    return notes


def _terms(strand: Strand) -> list[str]:
    """How money and rounded times came about."""
    notes = []
    if any(isinstance(c, Rates) and c.field.type == "money" for c in strand.computed):
        notes.append("amounts by rates are rounded half up for each event; totals add the rounded ones")
    if strand.rounding:
        r = strand.rounding
        notes.append(
            f"each entry's length is rounded {r.way} to whole {span(r.step)} before anything is added up; the records keep theirs"
        )
    return notes


def why_nothing(plan: Plan, place: Workplace, steps: tuple[tuple[str, tuple[Step, ...]], ...]) -> list[str]:
    """Why a result is empty: no events in the period, or which filter took the last ones; what lies around."""
    notes = []
    for strand, (name, counted) in zip(plan.strands, steps, strict=True):
        emptied = next((s for s in counted if s.left == 0), None)
        if emptied is None:
            continue
        if emptied is counted[0]:
            notes.append(f"nothing found: {name} has no events in this period")
        else:
            notes.append(
                f"nothing found: '{emptied.text}' took away the last {emptied.removed:,} of {counted[0].left:,} events"
            )
        notes += _around(plan, place, strand)
    return notes


def _around(plan: Plan, place: Workplace, strand: Strand) -> list[str]:
    """The last event before and the first after the period that the filters would keep."""
    extent, zone = place.extent(strand.schema.name), plan.stretch.calendar.zone
    if extent is None or hasattr(strand.schema.derivation, "rows"):
        return []
    low, high = min(extent[0], plan.stretch.start), max(extent[1], plan.stretch.end)
    wide = dataclasses.replace(plan, stretch=dataclasses.replace(plan.stretch, start=low, end=high))
    strand = dataclasses.replace(strand, window=(low, high), stretch=None)
    engine, table = opened(strand, place.source(wide))
    kept = select(table, strand) if strand.selection != Selection() else table
    before = kept.start_utc.max(where=kept.start_utc < naive(plan.stretch.start))
    after = kept.start_utc.min(where=kept.start_utc >= naive(plan.stretch.end))
    row = engine.run(kept.aggregate(b=before, a=after))
    found = [row.column(i)[0].as_py() for i in range(2)]
    words = [stamp(t.replace(tzinfo=UTC), zone) if t else "none" for t in found]
    return [f"the last such event before the period: {words[0]}; the first after it: {words[1]}"]
