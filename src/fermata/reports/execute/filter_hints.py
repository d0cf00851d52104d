"""What would narrow a broad result most: the field that cuts its events into the smallest parts."""

from __future__ import annotations

import dataclasses
from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

from fermata.analysis.combine import Source
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside, naive, select
from fermata.archive import Snapshot
from fermata.notes import Note
from fermata.timeline.words import stamp

__all__ = ["BROAD", "broad"]

BROAD = 300  # rows of a table that nobody reads to the end
MOST_VALUES = 40
MANY = 5_000_000  # events that are not read once more for a hint
MOST_TOGETHER = 20_000  # different values of all fields beside each other that are counted in one reading
FIELDS = ("action", "outcome", "direction", "place", "device")


def broad(
    plan: Plan, strand: Strand, source: Source, rows: int, what: str = "rows", *, snapshot: Snapshot | None = None
) -> list[Note]:
    """For a result of more than `BROAD` rows the field, not filtered or grouped by yet, whose values would leave least
    of its events.

    A field is judged by the share of the events that one value is expected to leave; with more than forty values, or
    one, it is no choice to offer.
    """
    if rows <= BROAD:
        return []
    taken = {c.field for c in strand.selection.conditions} | {d.name for d in plan.dimensions}
    names = [
        n for n in FIELDS if n in strand.schema.by_name and strand.schema.by_name[n].type == "text" and n not in taken
    ]
    engine, table = opened(dataclasses.replace(strand, uses=()), source)
    here = inside(select(table, strand), plan, strand, spans=strand.needs_spans)
    since = _last_week(plan, strand, snapshot) if snapshot else None
    if since:
        here = here.filter(here.start_utc >= naive(since))
    best: tuple[float, str, list[tuple[str, int]], int] | None = None
    for name, counts in _counted(engine, here, {n: strand.schema.field(n).stored for n in names}).items():
        held = [(v, n) for v, n in counts if v is not None]
        every = sum(n for _, n in counts)
        if not 1 < len(held) <= MOST_VALUES or not every:
            continue
        expected = sum((n / every) ** 2 for _, n in counts)
        if best is None or expected < best[0]:
            best = (expected, name, held, every)
    if best is None:
        return []
    _, name, held, every = best
    offered = ", ".join(f"{v} ({100 * n / every:.0f} %)" for v, n in held[:4]) + (" ..." if len(held) > 4 else "")
    told = f"{rows:,} {what} are many; {name} would narrow them most: {offered} of the events"
    told += f" since {stamp(since, plan.stretch.calendar.zone)[:10]}" if since else ""
    return [Note(told, "hint", f"--only {name}=VALUE")]


def _last_week(plan: Plan, strand: Strand, snapshot: Snapshot) -> datetime | None:
    """Where the last week of very many events begins, which is then enough to choose by."""
    own = strand.stretch or plan.stretch
    parts = [p for log in strand.schema.stored_logs for p in snapshot.months(log, own.start, own.end)]
    if sum(p.rows for p in parts) <= MANY:
        return None
    return min(own.end, max(datetime.fromisoformat(p.last).replace(tzinfo=UTC) for p in parts)) - timedelta(days=7)


def _counted(engine: Any, here: Any, columns: dict[str, str]) -> dict[str, list[tuple[str | None, int]]]:
    """The commonest values of each field with their events, one more than is a choice to offer; from one reading of the
    events where the fields' values beside each other are few enough.
    """
    if not columns:
        return {}
    beside = here.group_by([here[c] for c in columns.values()]).aggregate(n=here.count()).limit(MOST_TOGETHER + 1)
    rows = engine.run(beside)
    if rows.num_rows <= MOST_TOGETHER:
        numbers = rows.column("n").to_pylist()
        found = {}
        for name, stored in columns.items():
            each: Counter[str | None] = Counter()
            for value, n in zip(rows.column(stored).to_pylist(), numbers, strict=True):
                each[value] += n
            found[name] = sorted(each.items(), key=lambda c: (-c[1], c[0] or ""))[: MOST_VALUES + 1]
        return found
    found = {}
    for name, stored in columns.items():
        grouped = here.group_by(v=here[stored]).aggregate(n=here.count())
        ordered = grouped.order_by([grouped.n.desc(), grouped.v]).limit(MOST_VALUES + 1)
        found[name] = [(r["v"], r["n"]) for r in engine.run(ordered).to_pylist()]
    return found
