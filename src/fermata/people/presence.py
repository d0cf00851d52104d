"""Questions about people that are no sums: who was inside at a time, who was near whom."""

from __future__ import annotations

import dataclasses
from datetime import UTC, timedelta

from fermata.analysis.filters import Condition
from fermata.analysis.identify import opened
from fermata.analysis.plan import Strand
from fermata.analysis.presence import Contacts as Near
from fermata.analysis.presence import inside_at
from fermata.analysis.stages import inside as within_period
from fermata.analysis.stages import select
from fermata.errors import RequestError, nearest
from fermata.kinds import headings
from fermata.notes import Note
from fermata.reports.compile.filter_values import check_values, outside_validity
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.execute.figures import context_by
from fermata.reports.execute.notes import known_beforehand
from fermata.reports.requests import Contacts, Presence
from fermata.reports.result import ColumnDef, Records
from fermata.timeline.lengths import exact
from fermata.timeline.words import stamp

__all__ = ["contacts", "inside"]

MICROSECOND = timedelta(microseconds=1)


def inside(request: Presence, place: Workplace) -> Records:
    """Who is inside at the request's instant: whose last reading in the `back` before it is an entry. By place, then
    name.
    """
    report, now, at, ask = request.report, request.now, request.at, request.report.ask
    assert ask
    opening, closing, back = ask.opening, ask.closing, ask.back
    start = (at - exact(back)).astimezone(UTC)
    period = f"{start.replace(tzinfo=None).isoformat()}Z/{at.astimezone(UTC).replace(tzinfo=None).isoformat()}Z"
    known = place.schemas[report.log].by_name
    different = ("distinct user", *(f"distinct {n}" for n in ("device", "place") if n in known))
    report = report.changed(ask=None, period=period, columns=different)
    plan = resolve(report, place, now)
    strand = plan.strands[0]
    if not {"user", "action"} <= strand.schema.by_name.keys():
        raise RequestError(f"the log {strand.schema.name} has no user or no action, so nobody goes in or out")
    checked = resolve(report.changed(only=(*report.only, Condition("action", "is", (*opening, *closing)))), place, now)
    said = check_values(checked, place, place.source(checked))
    engine, table = opened(dataclasses.replace(strand, uses=()), place.source(plan))
    here = within_period(select(table, strand), plan, strand, spans=False)
    last = inside_at(here, strand.schema, at.astimezone(UTC).replace(tzinfo=None), opening, closing)
    extra = [n for n in ("place", "device") if n in strand.schema.by_name]
    rows = engine.run(last.select("start_utc", "person", *extra, "file_id", "record_no")).to_pylist()
    rows.sort(key=lambda r: (*(str(r[n]) for n in extra[:1]), r["person"]))
    heads = headings(extra, strand.schema.kind)
    columns: list[ColumnDef] = [ColumnDef(n, h) for n, h in zip(extra, heads, strict=True)]
    columns += [
        ColumnDef("user", "User"),
        ColumnDef("since", "Read at", "time"),
        ColumnDef("for", "For", "duration", "h:mm:ss"),
        ColumnDef("record", "Record"),
    ]
    naive = at.astimezone(UTC).replace(tzinfo=None)
    listed = tuple(
        (
            *(r[n] for n in extra),
            r["person"],
            r["start_utc"],
            (naive - r["start_utc"]) // MICROSECOND,
            f"{r['file_id']}:{r['record_no']}",
        )
        for r in rows
    )
    zone = plan.stretch.calendar.zone
    title = f"Inside at {stamp(at, zone)[:16]}, by {strand.schema.name}"
    words = f"last readings of the {back} before {stamp(at, zone)}"
    head = dataclasses.replace(
        context_by(plan, place, now, request.digest), title=title, period=words, period_text=words
    )
    told = f"inside is whose last reading is {' or '.join(opening)}"
    notes = [Note(f"{told}; who has none in the {back} before is not looked for", "method")]
    notes += [*said, *known_beforehand(plan, place)]
    if extra:
        notes.insert(0, Note(f"{len({r['person'] for r in rows})} people inside", "count"))
    return Records(head.title, head, tuple(columns), listed, len(listed), notes=tuple(notes))


def contacts(request: Contacts, place: Workplace) -> Records:
    """Who was at the same place (the field `at`) as somebody, no more than `within` apart, in the report's period."""
    now, person, ask = request.now, request.person, request.report.ask
    assert ask
    within, at = ask.within, ask.at
    whole = request.report.changed(ask=None, columns=("distinct user", f"distinct {at}"))
    plan = resolve(whole, place, now)
    strand = plan.strands[0]
    wanted = resolve(whole.changed(only={"user": person}), place, now).strands[0].selection.only[0]
    source = place.source(plan)
    said = check_values(plan, place, source)
    own = dataclasses.replace(
        strand, selection=dataclasses.replace(strand.selection, only=(*strand.selection.only, wanted))
    )
    outside = outside_validity(plan, place, own, source)
    engine, table = opened(strand, source)
    here = within_period(select(table, strand), plan, strand, spans=strand.schema.spans)
    asked = Near(tuple(map(str, wanted.values)), at, exact(within) if within != "0" else timedelta(0))
    if (
        not engine.run(here.filter(here.person.isin(asked.person)).aggregate(n=lambda t: t.count()))
        .column(0)[0]
        .as_py()
    ):
        known = _unknown(place, strand, person) if wanted.unknown or not wanted.said else ""
        more = "".join(f"; {n}" for n in outside)
        raise RequestError(f"{strand.schema.name} has no event of {person!r} in {plan.stretch.words}{known}{more}")
    rows = engine.run(asked.by_person(here, strand.schema)).to_pylist()
    rows.sort(key=lambda r: (-r["times"], r["person"], str(r["where"])))
    spans = strand.schema.spans
    columns = {
        "person": ColumnDef("user", "User"), "where": ColumnDef(at, headings([at], strand.schema.kind)[0]),
        "times": ColumnDef("times", "Times", "number"),
        "first": ColumnDef("first", "First", "time"), "last": ColumnDef("last", "Last", "time"),
        "nearest": ColumnDef("nearest", "Nearest", "duration", "h:mm:ss"),
        **({"together": ColumnDef("together", "Together", "duration", "h:mm:ss")} if spans else {}),
    }  # fmt: skip
    listed = tuple(tuple(r[k] for k in columns) for r in rows)
    head = dataclasses.replace(
        context_by(plan, place, now, request.digest),
        title=f"Near {' or '.join(asked.person)}: same {at}, within {within}",
    )
    notes = [
        Note(
            "a time is a pair of stays, one of each, no further apart than that; nearest 0:00:00 is at once", "method"
        ),
        *outside,
        *said,
    ]
    if not spans:
        notes.append(
            Note(
                f"{strand.schema.name} has moments only, so nobody is together for a time; ask a log of visits "
                "for that",
                "method",
            )
        )
    notes += known_beforehand(plan, place)
    return Records(head.title, head, tuple(columns.values()), listed, len(listed), notes=tuple(notes))


def _unknown(place: Workplace, strand: Strand, person: str) -> str:
    """That no register has a name, and who may be meant."""
    register = place.registers.of(strand.schema.field("user"))
    near = nearest(person, register.labels.values()) if register else []
    return ", and the name is in no register" + (f"; did you mean {' or '.join(map(repr, near))}?" if near else "")
