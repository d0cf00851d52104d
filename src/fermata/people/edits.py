"""Edits: what was done to entries after the fact."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from fermata.analysis.identify import opened
from fermata.analysis.stages import select
from fermata.archive.duck import ident
from fermata.engines.embedded import TYPES
from fermata.fields import Field, LogSchema
from fermata.notes import Note
from fermata.reports.compile.filter_values import narrowable, narrowed_to
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.register_list import context
from fermata.reports.requests import Edits
from fermata.reports.result import ColumnDef, Records
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone

__all__ = ["edits"]


def edits(request: Edits, place: Workplace) -> Records:
    """The versions of entries that were replaced or deleted, by when that became known: who, which fields, before and
    after.

    Of the report's log, or of every log with a key; the period is that of the entry's start, `all` by default.
    """
    report, now, stretch = request.report, request.now, request.stretch
    tz = zone(report.zone or place.calendar.zone_name)
    logs = [report.log] if report.log else [n for n, m in place.logs.items() if m.key and place.extent(n)]
    columns: tuple[ColumnDef, ...] = (
        ColumnDef("since", "Known", "time"), ColumnDef("log", "Log"), ColumnDef("entry", "Entry"),
        ColumnDef("start", "Start", "time"), ColumnDef("how", "What"), ColumnDef("by", "By"),
        ColumnDef("field", "Field"), ColumnDef("old", "Before"), ColumnDef("new", "After"),
        ColumnDef("record", "Record"),
    )  # fmt: skip
    rows: list[tuple[Any, ...]] = []
    counts: dict[str, int] = {}
    logs, said = narrowable(report, place, now, logs)
    for log in logs:
        schema = place.schemas[log]
        old, new = place.versions(log)
        if report.selection.conditions:
            wanted = _kept_versions(report, place, now, log)
            old = [v for v in old if (v["file_id"], v["record_no"]) in wanted]
        for version in old:
            if not stretch.start <= version["start_utc"].replace(tzinfo=UTC) < stretch.end:
                continue
            after = new.get((version["by_file"], version["by_record"]))
            counts[version["how"]] = counts.get(version["how"], 0) + 1
            key = ", ".join(str(version[schema.field(k).stored]) for k in place.logs[log].key)
            head = (
                version["since"],
                log,
                key,
                version["start_utc"],
                version["how"],
                _editor(place, schema, after or version),
            )
            record = f"{version['file_id']}:{version['record_no']}"
            rows += [(*head, *change, record) for change in _changes(schema, version, after, tz)]
    told = [Note(f"{n:,} {how}", "count") for how, n in counts.items()]
    filters = str(report.selection) if report.selection.conditions else ""
    head_ = context(tz.key, now, report.title or "Entries edited after the fact", stretch.words, filters)
    notes = [
        *said,
        *(told or [Note("no entry was replaced or deleted", "nothing")]),
        Note(f"logs with a key, whose versions are kept: {', '.join(logs)}", "scope"),
    ]
    return Records(head_.title, head_, columns, tuple(rows), len(rows), notes=tuple(notes))


def _kept_versions(report: Report, place: Workplace, now: datetime, log: str) -> set[tuple[int, int]]:
    """File and record of the ended versions that the report's filters keep, names resolved as for any event."""
    strand = resolve(narrowed_to(report, log), place, now).strands[0]
    query, _ = place.snapshot.versions_sql(strand.schema)
    if not query:
        return set()
    columns = {c: TYPES[kind] for c, kind in strand.schema.columns.items()}
    whole = f"SELECT {', '.join(ident(c) for c in columns)} FROM ({query})"
    engine, table = opened(strand, lambda _: (place.engine, place.engine.view(whole, columns)))
    kept = select(table, strand)
    rows = engine.run(kept.select("file_id", "record_no")).to_pylist()
    return {(r["file_id"], r["record_no"]) for r in rows}


def _editor(place: Workplace, schema: LogSchema, version: dict[str, Any]) -> str | None:
    """Who made a version, where the log says so in a field `editor`."""
    field = schema.by_name.get("editor")
    text = version.get(field.stored) if field else None
    return place.registers.identity(schema, "editor", str(text), "") if field and text else None


def _changes(schema: LogSchema, old: dict[str, Any], new: dict[str, Any] | None, tz: Any) -> Iterator[tuple[Any, ...]]:
    """Field, before and after, for every field that differs; the whole entry once if it was deleted."""
    fields = [
        Field("start", "time"),
        *([Field("finish", "time")] if schema.spans else []),
        *(f for f in schema.fields if f.name != "editor"),
    ]
    if new is None:
        held = "; ".join(f"{f.name} {_said(old[f.stored], f, tz)}" for f in fields if old[f.stored] is not None)
        yield "all of it", held, None
        return
    differ = [f for f in fields if old[f.stored] != new[f.stored]]
    for field in differ or [Field("editor")]:
        yield (field.name, *(_said(v.get(field.stored), field, tz) for v in (old, new)))


def _said(held: Any, field: Field, tz: Any) -> str | None:
    from decimal import Decimal

    if held is None:
        return None
    if field.type == "time":
        return stamp(held.replace(tzinfo=UTC), tz)
    if field.type in ("money", "decimal"):
        return f"{Decimal(held).scaleb(-field.scale)}"
    if isinstance(held, list):
        return ", ".join(map(str, held))
    return {True: "yes", False: "no"}[held] if isinstance(held, bool) else str(held)
