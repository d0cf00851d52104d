"""What must be known of the events behind a strand's figures: spans without an end, events without a rate, records that
do not agree.
"""

from __future__ import annotations

import dataclasses
from datetime import UTC, timedelta
from decimal import Decimal

from fermata.analysis.combine import Source
from fermata.analysis.computed import Classes, Rates
from fermata.analysis.counters import FIRST, RESET
from fermata.analysis.derive import CUT, EVER, ORPHAN, UNFINISHED
from fermata.analysis.filters import count_of
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside, naive, select
from fermata.errors import counted
from fermata.fields import Field
from fermata.notes import Note
from fermata.timeline.words import span, stamp

__all__ = [
    "balances",
    "clipped_beside_whole",
    "counters",
    "nothing_computed",
    "open_spans",
    "pairing",
    "terms",
    "undated",
]

MOST_WRONG = 3


def open_spans(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """Spans without a finish that began before the period's end: their time is not in any total."""
    engine, table = opened(strand.as_filtered, source)
    kept = select(table, strand)
    kept = kept.filter(kept.finish_utc.isnull() & (kept.start_utc < naive(plan.stretch.end)))
    row = engine.run(kept.aggregate(n=kept.count(), inside=count_of(kept, kept.start_utc >= naive(plan.stretch.start))))
    total, inside = (row.column(i)[0].as_py() for i in range(2))
    notes = []
    if inside:
        notes.append(
            Note(
                f"{counted(inside, 'event')} of this period without a finish: counted, but not added to any time",
                "unfinished",
            )
        )
    if total > inside and not strand.date_field:  # by another date nothing reaches into the period from before
        notes.append(
            Note(
                f"{counted(total - inside, 'event')} from before this period without a finish: not added to any time",
                "unfinished",
            )
        )
    return notes


def pairing(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """What became of the openings and closings of the period without a match."""
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
            Note(
                f"{n:,} of {name} of this period unfinished: no closing within "
                f"{span(made.reach // timedelta(microseconds=1))}; counted, "
                f"but not added to any time",
                "unfinished",
                f"fermata events {name} --only pairing=unfinished",
            )
        )
    if n := counts.get(CUT):
        limit = f" {span(made.at_most // timedelta(microseconds=1))}" if made.at_most else ""
        notes.append(
            Note(
                f"{n:,} of {name} of this period without a closing, ended by the policy '{made.unfinished}{limit}'",
                "unfinished",
            )
        )
    if n := counts.get(ORPHAN):
        notes.append(
            Note(
                f"{counted(n, 'closing')} of this period without an opening, left out",
                "unfinished",
                f"fermata events {name} --only pairing='no opening'",
            )
        )
    return notes


def counters(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """Readings of the period whose amount is not known, or only the least it can be."""
    engine, table = opened(dataclasses.replace(strand.as_filtered, uses=()), source)
    here = inside(select(table, strand), plan.of(strand), strand, spans=False)
    counts = {r["reading"]: r["n"] for r in engine.run(here.group_by("reading").aggregate(n=here.count())).to_pylist()}
    name, notes = strand.schema.name, []
    if n := counts.get(RESET):
        notes.append(
            Note(
                f"readings of {name} smaller than the one before: {n:,}; the counter began again there, and what it "
                f"shows is the least that was used",
                "counter",
                f"fermata events {name} --only 'reading={RESET}'",
            )
        )
    if n := counts.get(FIRST):
        notes.append(
            Note(
                f"first readings of {name}: {n:,}; they have no amount, as what was counted before is not known",
                "counter",
            )
        )
    return notes


def clipped_beside_whole(plan: Plan, source: Source) -> list[Note]:
    """Where time, which is cut at the edges of the period and its units, stands beside money, which belongs to the
    start: how much is apart.
    """
    inner = [(c, c.measure.base or c.measure) for c in plan.columns if c.formula is None]
    priced = {
        plan.strands[c.strand].schema.name for c, m in inner if c.kind[0] == "money" and m.name in ("total", "mean")
    }
    notes = []
    for number, strand in enumerate(plan.strands):
        timed = [c.label for c, m in inner if c.strand == number and m.name == "time"]
        if not timed or strand.stretch is not None or strand.schema.name not in priced:
            continue
        engine, table = opened(strand.as_filtered, source)
        here = inside(select(table, strand), plan, strand, spans=True)
        start, end = naive(plan.stretch.start), naive(plan.stretch.end)
        here = here.filter((here.start_utc < start) | (here.finish_utc > end))  # few, before anything is priced
        before, after = here.start_utc < start, here.finish_utc > end
        early = here.finish_utc.delta(start, unit="microsecond")
        late = here.finish_utc.delta(end, unit="microsecond")
        row = engine.run(
            here.aggregate(
                n0=count_of(here, before), t0=early.sum(where=before).cast("int64"),
                n1=count_of(here, after & ~before), t1=late.sum(where=after & ~before).cast("int64"),
            )
        ).to_pylist()[0]  # fmt: skip
        told = []
        if row["n0"]:
            told.append(f"{row['n0']:,} that began before the period bring {span(row['t0'])} of time here and no money")
        if row["n1"]:
            told.append(
                f"{row['n1']:,} that go on after it bring all of their money, but {span(row['t1'])} of their time "
                "lies outside"
            )
        if told:
            words = (
                f"{timed[0]} is cut at the edges of the period and money is not: {'; '.join(told)}; 'total "
                "duration' is whole, too"
            )
            notes.append(Note(words, "clipped"))
    return notes


def balances(plan: Plan, strand: Strand, source: Source) -> list[Note]:
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
        return [Note(f"the balances recorded in {strand.schema.name} agree with the movements of this period", "holds")]
    n = engine.run(wrong.aggregate(n=lambda t: t.count())).column(0)[0].as_py()
    scale = strand.schema.field("amount").scale
    zone = plan.stretch.calendar.zone
    told = [
        f"{', '.join(str(r[Field(b).stored]) for b in made.by)} "
        f"{stamp(r['start_utc'].replace(tzinfo=UTC), zone)[:16]}: recorded "
        f"{_scaled(r['balance'], scale)}, by the movements {_scaled(r['sum_'], scale)}"
        for r in rows[:MOST_WRONG]
    ]
    more = f"; and {n - MOST_WRONG:,} more" if n > MOST_WRONG else ""
    said = (
        f"{n:,} movements of {strand.schema.name} where the recorded balance differs from the sum: "
        f"{'; '.join(told)}{more}"
    )
    return [Note(said, "balance")]


def _scaled(amount: int, scale: int) -> str:
    return str(Decimal(amount).scaleb(-scale))


def undated(plan: Plan, source: Source) -> list[Note]:
    """Events that have no date of the kind the period goes by: of each log, for the column that takes in most."""
    missing: dict[tuple[str, str], int] = {}
    for strand in (s for s in plan.strands if s.date_field and s.stretch is None):
        engine, table = opened(strand.as_filtered, source)
        kept = select(table, strand)
        n = engine.run(kept.aggregate(n=count_of(kept, kept.start_utc.isnull()))).column(0)[0].as_py()
        of = strand.schema.name, strand.date_field or ""
        missing[of] = max(n, missing.get(of, 0))
    words = "the period goes by {}, not by the start"
    lost = "; {:,} events of {} without it are in no period"
    return [Note(words.format(by) + (lost.format(n, log) if n else ""), "undated") for (log, by), n in missing.items()]


def nothing_computed(plan: Plan, strand: Strand, source: Source) -> list[Note]:
    """Events for which a field the report asks about could not be worked out: no rule fits, no rate is valid."""
    made = [c for c in strand.computed if isinstance(c, Classes | Rates)]
    if not made or strand.stretch is not None:
        return []
    engine, table = opened(strand, source)
    here = inside(select(table, strand), plan, strand, spans=False)
    named = {f"c{i}": count_of(here, here[c.field.stored].isnull()) for i, c in enumerate(made)}
    row = engine.run(here.aggregate(**named))
    notes = []
    for i, c in enumerate(made):
        if n := row.column(i)[0].as_py():
            why = "fit no rule" if isinstance(c, Classes) else "have no rate (or no finish), and are in no total"
            notes.append(
                Note(f"{n:,} events of {strand.schema.name} {why} of {c.field.name}", "rate", f"--only {c.field.name}=")
            )
    return notes


def terms(strand: Strand) -> list[Note]:
    """How money and rounded times came about."""
    notes = []
    if any(isinstance(c, Rates) and c.field.type == "money" for c in strand.computed):
        notes.append(Note("amounts by rates are rounded half up for each event; totals add the rounded ones", "method"))
    if strand.rounding:
        r = strand.rounding
        notes.append(
            Note(
                f"each entry's length is rounded {r.way} to whole {span(r.step)} before anything is added up; the "
                "records keep theirs",
                "method",
            )
        )
    return notes
