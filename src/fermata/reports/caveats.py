"""What a reader must know to trust the figures, gathered from the plan, the manifest and the events."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from fermata.analysis.combine import Source
from fermata.analysis.explain import Step
from fermata.analysis.filters import Selection
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import naive, select
from fermata.archive import SourceFile
from fermata.reports.gaps import gaps
from fermata.timeline.words import span, stamp

if TYPE_CHECKING:
    from fermata.reports.run import Workplace

MOST_GAPS = 3

__all__ = ["complete_to", "gathered", "known_beforehand", "why_nothing"]


def complete_to(place: Workplace, plan: Plan, strand: int, extent: tuple[datetime, datetime]) -> datetime:
    """Up to when the strand's log is known to be complete: its last record, or what an import declared."""
    declared = place.snapshot.manifest.log(plan.strands[strand].schema.name).complete_to
    until = datetime.fromisoformat(declared).replace(tzinfo=UTC) if declared else extent[1]
    return max(until, extent[1])


def known_beforehand(plan: Plan, place: Workplace) -> list[str]:
    """The caveats that need no look at the events."""
    notes = list(plan.stretch.notes)
    if plan.known:
        notes.append(
            f"as it was known at {stamp(plan.known, plan.stretch.calendar.zone)}; what came in later is left out"
        )
    for number, strand in enumerate(plan.strands):
        notes += _coverage(plan, place, number, strand)
        notes += _from_ledger(plan, place, strand)
    return notes


def gathered(plan: Plan, place: Workplace, source: Source) -> list[str]:
    """All caveats of a run."""
    notes = known_beforehand(plan, place)
    for name in dict.fromkeys(s.schema.name for s in plan.strands):
        notes += _gaps_inside(plan, place, name)
    for strand in plan.strands:
        measured = {(m.base or m).of for _, m in strand.measures} | {(m.base or m).name for _, m in strand.measures}
        if strand.schema.spans and measured & {"time", "duration", "present"}:
            last = f"{plan.stretch.end:%Y-%m}"
            parts = place.snapshot.manifest.log(strand.schema.name).parts
            if any(p.unfinished for p in parts if p.month <= last):
                notes += _open_spans(plan, strand, source)
    if any(c.measure.base and c.measure.base.name in ("distinct", "present") for c in plan.columns):
        notes.append("shares of different values do not add up: one may count in several rows")
    if plan.set_dimension:
        notes.append(f"an event with several {plan.set_dimension.name} counts in each of them, and once in the total")
    if any(c.measure.name == "median" for c in plan.columns):
        notes.append("a median is a value that occurred: the smallest with at least half of the values at or below it")
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


def _from_ledger(plan: Plan, place: Workplace, strand: Strand) -> list[str]:
    """What the imports of files that cover the period had to say."""
    name = strand.schema.name
    files = list(place.snapshot.manifest.log(name).files.values())
    near = [f for f in files if _overlaps(f, plan)]
    notes = []
    mended = place.snapshot.manifest.log(name).mended
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
    import dataclasses

    extent, zone = place.extent(strand.schema.name), plan.stretch.calendar.zone
    if extent is None:
        return []
    low, high = min(extent[0], plan.stretch.start), max(extent[1], plan.stretch.end)
    wide = dataclasses.replace(plan, stretch=dataclasses.replace(plan.stretch, start=low, end=high))
    engine, table = opened(strand, place.source(wide))
    kept = select(table, strand) if strand.selection != Selection() else table
    before = kept.start_utc.max(where=kept.start_utc < naive(plan.stretch.start))
    after = kept.start_utc.min(where=kept.start_utc >= naive(plan.stretch.end))
    row = engine.run(kept.aggregate(b=before, a=after))
    found = [row.column(i)[0].as_py() for i in range(2)]
    words = [stamp(t.replace(tzinfo=UTC), zone) if t else "none" for t in found]
    return [f"the last such event before the period: {words[0]}; the first after it: {words[1]}"]
