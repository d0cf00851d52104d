"""Names in events that are in no register at the time, with how much they carry."""

from __future__ import annotations

from datetime import UTC
from typing import Any

from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan
from fermata.analysis.stages import inside, select
from fermata.reports.result import ColumnDef

__all__ = ["UNRESOLVED", "unresolved"]

MOST_UNRESOLVED = 200
UNRESOLVED: list[ColumnDef] = [
    ColumnDef("field", "Field"),
    ColumnDef("names", "Kind of name"),
    ColumnDef("name", "Name"),
    ColumnDef("events", "Events", "number"),
    ColumnDef("time", "Time", "duration", "h:mm:ss"),
    ColumnDef("last", "Last", "time"),
]


def unresolved(plan: Plan, source: Any) -> tuple[list[ColumnDef], list[tuple[Any, ...]]]:
    """The same for the first strand of a plan that looks all of its fields up."""
    strand = plan.strands[0]
    engine, table = opened(strand, source)
    here = inside(select(table, strand), plan, strand, spans=False)
    rows = []
    for lookup in strand.lookups:
        stored = strand.schema.field(lookup.field).stored
        written = here[f"{stored}__written"]
        kept = here.filter(here[stored] == written + _literal(f" ({lookup.kind})"))
        total = kept.finish_utc.delta(kept.start_utc, unit="microsecond").sum().cast("int64")
        grouped = kept.group_by(name=kept[f"{stored}__written"]).aggregate(
            n=kept.count(), time=total, last=kept.start_utc.max()
        )
        for r in engine.run(grouped.order_by([grouped.n.desc(), grouped.name]).limit(MOST_UNRESOLVED)).to_pylist():
            rows.append((lookup.field, lookup.kind, r["name"], r["n"], r["time"], r["last"].replace(tzinfo=UTC)))
    return UNRESOLVED, rows


def _literal(text: str) -> Any:
    import ibis

    return ibis.literal(text)
