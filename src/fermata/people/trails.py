"""Trails: all that one person, device, place or shared id did in every log."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, cast

from fermata.analysis import drill
from fermata.analysis.cells import value
from fermata.analysis.combine import gather
from fermata.analysis.filters import Condition, Selection, count_of
from fermata.analysis.finish import shown
from fermata.analysis.identify import opened
from fermata.analysis.stages import select
from fermata.errors import RequestError
from fermata.fields import Field, LogSchema
from fermata.notes import Note
from fermata.reports.compile.filter_values import narrowable, narrowed_to, outside_validity
from fermata.reports.compile.request import listed as plan_of_listing
from fermata.reports.compile.resolve import identities, resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.cached_events import Once
from fermata.reports.execute.listed import Listed, Reading, laid_out
from fermata.reports.execute.register_list import candidates, context
from fermata.reports.requests import Trail
from fermata.reports.result import ColumnDef, Page, PagePart, Records
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone

__all__ = ["asked"]

MOST_SILENT = 6
SUMMARY: tuple[ColumnDef, ...] = (
    ColumnDef("log", "Log"), ColumnDef("as", "As"), ColumnDef("action", "Action"),
    ColumnDef("count", "Count", "number"), ColumnDef("time", "Time", "duration", "h:mm:ss"), ColumnDef("first",
    "First", "time"),
    ColumnDef("last", "Last", "time"), ColumnDef("covers", "Log covers the period"),
)  # fmt: skip
STEPS: tuple[ColumnDef, ...] = (
    ColumnDef("start", "Start", "time"), ColumnDef("duration", "Duration", "duration", "h:mm:ss"),
    ColumnDef("gap", "Gap", "duration", "h:mm:ss"), ColumnDef("log", "Log"), ColumnDef("as", "As"),
    ColumnDef("action", "Action"), ColumnDef("user", "User"), ColumnDef("device", "Device"),
    ColumnDef("place", "Place"), ColumnDef("other", "Other"), ColumnDef("record", "Record"),
)  # fmt: skip
NAMED = ("action", "user", "device", "place", "other")


@dataclass(frozen=True)
class Subject:
    """Whom a trail follows: the name as asked for, the register that knows it (""), and the fields of each log to look
    in.
    """

    name: str
    register: str
    labels: tuple[str, ...]
    fields: dict[str, tuple[Field, ...]]


def asked(request: Trail, place: Workplace) -> Page:
    """All that the request's name did, or was done with, in every log with events (`report.log`, if given, alone) in
    the report's period.

    A summary first (log by action: count, time, first, last, and whether the log covers the period), then the events in
    time order with the time since the one before. Raises RequestError naming the candidates if the name may mean
    several, or nobody.
    """
    subject = _subject(place, request.name, request.field, request.report.log)
    report, now, limit, stretch = request.report, request.now, request.limit, request.stretch
    logs, left = narrowable(report, place, now, list(subject.fields))
    subject = dataclasses.replace(subject, fields={n: subject.fields[n] for n in logs})
    once = cast("Workplace", Once(place, subject.name, subject.fields))
    summary: list[tuple[Any, ...]] = []
    seen: list[tuple[str, tuple[Field, ...]]] = []
    absent: list[str] = []
    for log, fields in subject.fields.items():
        found = [(f, rows) for f in fields if (rows := list(_by_action(once, now, report, subject, log, f)))]
        covers = _covers(place, log, stretch)
        if not found:
            absent.append(log)
            summary.append((log, ", ".join(f.name for f in fields), None, 0, None, None, None, covers))
        for f, rows in found:
            summary += [(log, f.name, *row, covers) for row in rows]
        if found:
            seen.append((log, tuple(f for f, _ in found)))
    tz = zone(report.zone or place.calendar.zone_name)
    who = subject.labels[0] if subject.labels else subject.name
    head = context(tz.key, now, f"Trail of {who}", stretch.words)
    filters = str(report.selection) if report.selection.conditions else ""
    head = dataclasses.replace(head, period_exact=stretch.exact, period_text=stretch.text, filters=filters)
    notes = [*left, *_looked_for(place, subject), *_outside(place, now, report, subject)]
    if not seen:
        notes.insert(0, Note(f"nothing found: no log has an event of {who} in this period", "nothing"))
    notes += _not_seen(place, now, report, subject, absent, stretch, at_all=bool(seen))
    first = Records("Summary", dataclasses.replace(head, title="Summary"), SUMMARY, tuple(summary), len(summary))
    parts = [PagePart("Summary", first)]
    events, total = _steps(once, now, report, subject, seen, limit)
    if total:
        columns, events = _without_same(STEPS, events, who)
        listed = Listed(lambda: iter([events]), events.num_rows)
        steps = Records("In time order", dataclasses.replace(head, title="In time order"), columns, listed, total)
        parts.append(PagePart("In time order", steps))
    return Page(head.title, head, tuple(parts), notes=tuple(notes))


def _subject(place: Workplace, name: str, field: str, log: str) -> Subject:
    """Whom the name means. Raises RequestError with the candidates where it may mean several, or nobody at all."""
    known: dict[str, set[str]] = {}
    by_log: dict[str, dict[str, list[Field]]] = {}
    asked = _register_of(place, field) if field else None
    for log_name in [log] if log else list(place.logs):
        if place.extent(log_name) is None:
            continue
        for f in place.schemas[log_name].fields:
            if f.type != "text":
                continue
            register = place.registers.of(f)
            owner = register.name if register else ""
            if field and f.name != field and not (asked and owner == asked):
                continue
            labels = register.meant(name, f.names or f.name) if register else []
            if labels:
                known.setdefault(owner, set()).update(labels)
            by_log.setdefault(owner if labels else "", {}).setdefault(log_name, []).append(f)
    meant = [(owner, label) for owner, labels in known.items() for label in sorted(labels)]
    if len(meant) > 1:
        raise RequestError(_several(place, name, meant))
    if meant:
        owner, label = meant[0]
        return Subject(name, owner, (label,), {n: tuple(fs) for n, fs in by_log[owner].items()})
    if field and not by_log:
        names = sorted({f.name for n in place.logs for f in place.schemas[n].fields if f.type == "text"})
        raise RequestError(f"no log has a text field {field!r}; there are {', '.join(names)}")
    kept = _written(place, name, by_log.get("", {}))
    if not kept:
        near = [f"{c.label} ({c.register})" for n in place.registers.tables for c in candidates(place, n, name)]
        raise RequestError(
            f"no person, device or place is called {name!r}"
            + (f"; names with this in them: {', '.join(near[:12])}{' ...' if len(near) > 12 else ''}" if near else "")
            + ("" if near else ", and no name has it as a part; candidates: fermata register find PART")
        )
    return Subject(name, "", (), kept)


def _register_of(place: Workplace, field: str) -> str | None:
    """The register behind a field of that name in some log."""
    for log in place.logs:
        found = place.schemas[log].by_name.get(field)
        register = place.registers.of(found) if found and found.type == "text" else None
        if register:
            return register.name
    return None


def _several(place: Workplace, name: str, meant: list[tuple[str, str]]) -> str:
    """That a name may mean several, each with what tells it apart."""
    told = []
    for owner, label in meant:
        found = next((c for c in candidates(place, owner, label) if c.label == label), None)
        told.append(f"  {label} ({owner}: {found.details if found else ''})")
    return f"{name!r} may mean {len(meant)}; say which, by its full name or as FIELD=NAME:\n" + "\n".join(told)


def _written(place: Workplace, name: str, fields: dict[str, list[Field]]) -> dict[str, tuple[Field, ...]]:
    """The fields that hold the very text in some event, whatever the period."""
    found: dict[str, tuple[Field, ...]] = {}
    for log, listed in fields.items():
        plan = resolve(Report(log=log), place, place.until(log), listed=())
        strand = plan.strands[0]
        engine, table = opened(strand, place.source(plan))
        wanted = [
            identities(Selection((Condition(f.name, "is", (name,)),)), strand.schema, place.registers) for f in listed
        ]
        each = [  # one event of each is enough: the engine stops where it finds it
            table.filter(w.predicates(table, strand.schema)[0]).select(i=_number(i)).limit(1)
            for i, w in enumerate(wanted)
        ]
        seen = engine.run(functools.reduce(lambda a, b: a.union(b), each)).column(0).to_pylist()
        here = [f for i, f in enumerate(listed) if i in seen]
        if here:
            found[log] = tuple(here)
    return found


def _number(n: int) -> Any:
    import ibis

    return ibis.literal(n, type="int64")


def _chosen(report: Report, subject: Subject, log: str, fields: tuple[Field, ...], **more: Any) -> Report:
    """The subject's events of a log, by any of the fields, in the report's period and by its filters."""
    group = tuple(Condition(f.name, "is", (subject.labels[0] if subject.labels else subject.name,)) for f in fields)
    return narrowed_to(report, log, **more).changed(any_of=(*report.any_of, group))


def _by_action(
    place: Workplace, now: datetime, report: Report, subject: Subject, log: str, field: Field
) -> Iterator[tuple[Any, ...]]:
    """Action, count, time, first and last of the subject's events by one field."""
    schema = place.schemas[log]
    by = ("action",) if "action" in schema.by_name else ()
    measures = ["count", "first", "last", *(["time"] if schema.spans else [])]
    plan = resolve(_chosen(report, subject, log, (field,)).changed(by=by, columns=measures, totals=False), place, now)
    for key, parts in sorted(gather(plan, place.source(plan))[plan.by].items(), key=lambda kv: str(kv[0])):
        count, first, last, *spent = (value(plan, c, parts, None) for c in plan.columns)
        if count or any(spent):
            action = shown(plan, plan.by[0], key[0]) if by else None
            yield action, count, (spent or [None])[0], first, last


def _covers(place: Workplace, log: str, stretch: Any) -> str:
    """Whether the log holds the period, in words."""
    extent = place.extent(log)
    tz = stretch.calendar.zone
    day = timedelta(days=1)
    if extent is None or stretch.end <= extent[0]:
        return "no: it begins later"
    if stretch.start > extent[1]:
        return f"no: it ends {stamp(extent[1], tz)[:16]}"
    parts = [f"from {stamp(extent[0], tz)[:16]}"] if extent[0] >= stretch.start + day else []
    parts += [f"to {stamp(extent[1], tz)[:16]}"] if extent[1] < stretch.end - day else []
    return " ".join(parts) or "yes"


def _looked_for(place: Workplace, subject: Subject) -> list[Note]:
    if not subject.register:
        return [
            Note(
                f"{subject.name!r} is known to no register; looked for as written, in {', '.join(subject.fields)}",
                "names",
            )
        ]
    names = place.registers.register(subject.register).named(subject.labels)
    return [Note(f"looked for: {'; '.join(names)}", "scope")]


def _outside(place: Workplace, now: datetime, report: Report, subject: Subject) -> list[Note]:
    """What was read under the subject's names in the period while they were nobody's."""
    notes: list[Note] = []
    for log, fields in subject.fields.items() if subject.register else ():
        plan = resolve(_chosen(report, subject, log, fields), place, now)
        notes += [n.about(log) for n in outside_validity(plan, place, plan.strands[0], place.source(plan))]
    return notes


def _not_seen(
    place: Workplace, now: datetime, report: Report, subject: Subject, absent: list[str], stretch: Any, *, at_all: bool
) -> list[Note]:
    """Of each log without the subject: the last such event before and the first after, and devices silent in the
    period. Where no log has the subject `at_all`, that is the answer.
    """
    notes = []
    tz = stretch.calendar.zone
    for log in absent:
        plan = resolve(_chosen(report, subject, log, subject.fields[log]).changed(period="all"), place, now)
        engine, table = opened(plan.strands[0], place.source(plan))
        kept = select(table, plan.strands[0])
        start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (stretch.start, stretch.end))
        before, after = (
            kept.start_utc.max(where=kept.start_utc < start),
            kept.start_utc.min(where=kept.start_utc >= end),
        )
        row = engine.run(kept.aggregate(before=before, after=after))
        found = [row.column(i)[0].as_py() for i in range(2)]
        said = [stamp(t.replace(tzinfo=UTC), tz) if t else "none" for t in found]
        notes.append(
            Note(
                f"not in {log}: last before {said[0]}, first after {said[1]}{_silent(place, now, log, start, end)}",
                "scope" if at_all or not any(found) else "nothing",
            )
        )
    return notes


def _silent(place: Workplace, now: datetime, log: str, start: datetime, end: datetime) -> str:
    """The devices of a log that have no record at all in naive UTC [start, end), though they have others."""
    if "device" not in place.schemas[log].by_name:
        return ""
    plan = resolve(Report(log=log, by=("device",)), place, now)
    engine, table = opened(plan.strands[0], place.source(plan))
    held = table.filter(table.device.notnull())
    counted = held.group_by("device").aggregate(n=count_of(held, (held.start_utc >= start) & (held.start_utc < end)))
    silent = sorted(r["device"] for r in engine.run(counted.filter(counted.n == 0)).to_pylist())
    more = f" and {len(silent) - MOST_SILENT} more" if len(silent) > MOST_SILENT else ""
    return f"; devices without any record in the period: {', '.join(silent[:MOST_SILENT])}{more}" if silent else ""


def _steps(
    place: Workplace,
    now: datetime,
    report: Report,
    subject: Subject,
    seen: list[tuple[str, tuple[Field, ...]]],
    limit: int | None,
) -> tuple[Any, int]:
    """The events of all logs in time order, at most `limit`, as an Arrow table, and how many there are."""
    import pyarrow as pa

    found = []
    total = 0
    for log, fields in seen:
        chosen = _chosen(report, subject, log, fields).changed(listing={"overlapping": True})
        plan = plan_of_listing(chosen, place, now)
        source = place.source(plan)
        events = drill.events_alone(plan, source, limit, reaching=True)
        tables = list(_as_steps(events, plan.strands[0].schema, fields, subject, recorded=not place.view.rewrites))
        count = sum(t.num_rows for t in tables)
        total += count if limit is None or count < limit else drill.events(plan, source, reaching=True)[1]
        found += tables
    if not total:
        return None, 0
    steps = pa.concat_tables(found).sort_by([(c, "ascending") for c in ("start", "log", "record")]).slice(0, limit)
    return steps.set_column(2, "gap", _gaps(steps)).drop_columns(["reach"]), total


def _as_steps(
    read: Reading, schema: LogSchema, fields: Sequence[Field], subject: Subject, *, recorded: bool
) -> Iterator[Any]:
    """A log's events as tables with the columns of steps, and `reach`, when each was over."""
    import pyarrow as pa
    import pyarrow.compute as pc

    mark = subject.labels[0] if subject.labels else subject.name
    held = [n for n in dict.fromkeys((*NAMED, *(f.name for f in fields))) if n in schema.by_name]
    names = ["start", *(["finish", "duration"] if schema.spans else []), *held, *(["record"] if recorded else [])]

    for piece in laid_out(read, schema, {}, names)():
        columns = dict(zip(names, piece.columns, strict=True))
        nothing = pa.nulls(piece.num_rows, pa.string())
        roles = [pc.if_else(pc.equal(columns[f.name], mark), f.name, None) for f in fields]
        role = pc.binary_join_element_wise(*roles, ", ", null_handling="skip")
        log = pa.repeat(schema.name, piece.num_rows)
        made = {
            "start": columns["start"],
            "duration": columns.get("duration", nothing.cast("int64")),
            "gap": nothing.cast("int64"),
            "log": log,
            "as": pc.if_else(pc.equal(role, ""), ", ".join(f.name for f in fields), role),
            **{n: columns.get(n, nothing) for n in NAMED},
            "record": pc.binary_join_element_wise(log, columns["record"], " ") if recorded else nothing,
            "reach": pc.coalesce(columns["finish"], columns["start"]) if schema.spans else columns["start"],
        }
        yield pa.table(made)


def _gaps(steps: Any) -> Any:
    """The microseconds between each step and the latest end of those before it, 0 where that is later; none of the
    first.
    """
    import numpy as np
    import pyarrow as pa

    start, reach = (np.asarray(steps.column(c).cast("int64")) for c in ("start", "reach"))
    return pa.array([None, *np.maximum(start[1:] - np.maximum.accumulate(reach)[:-1], 0).tolist()], pa.int64())


def _without_same(columns: tuple[ColumnDef, ...], steps: Any, who: str) -> tuple[tuple[ColumnDef, ...], Any]:
    """The listing without fields that are empty, or nothing but the one the trail is of, in every event."""
    kept = [
        c
        for c in columns
        if c.name not in NAMED[1:] or set(steps.column(c.name).unique().to_pylist()) - {None} not in (set(), {who})
    ]
    return tuple(kept), steps.select([c.name for c in kept])
