"""Registers themselves as the subject: who or what was there on a day, listed or counted by its attributes."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from typing import Any

from fermata._version import __version__
from fermata.analysis.filters import Selection, written_otherwise
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.notes import Note
from fermata.registers.register import EVER, NEVER, Register
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.requests import RegisterList
from fermata.reports.result import ColumnDef, Context, Records
from fermata.timeline import Stretch
from fermata.timeline.words import of_days
from fermata.timeline.zones import day_start, zone

__all__ = ["Found", "candidates", "context", "last_day", "register_list"]

ENDS = ("archived", "from", "until")  # columns of a register listed only where some row says something


def context(zone_name: str, now: datetime, title: str, words: str, filters: str = "") -> Context:
    """What stands above a listing that is no report over events."""
    return Context(
        title=title, period=words, period_exact=words, period_text=words, zone=zone_name, filters=filters, fresh=(),
        made_at=now, version=__version__, plan="",
    )  # fmt: skip


def of_period(report: Report, stretch: Stretch, now: datetime, title: str) -> Context:
    """What stands above a listing of whole logs in a period; `title` unless the report has one."""
    head = context(stretch.calendar.zone_name, now, report.title or title, stretch.words)
    return replace(head, period_exact=stretch.exact, period_text=stretch.text)


@dataclass(frozen=True)
class Found:
    """A candidate: what it is shown as, the register that knows it ("" for a name as written), what tells it apart, and
    when and in which log it was last seen (aware UTC).
    """

    label: str
    register: str
    details: str
    last: datetime | None = None
    log: str = ""


def candidates(place: Any, name: str, text: str) -> list[Found]:
    """Those of a register whose label, id or any name holds `text`, whatever its case."""
    register: Register = place.registers.register(name)
    part = text.casefold()
    found = {}
    for version in sorted(register.versions, key=lambda v: v.since):
        names = [f"{k} {t}" for k, texts in version.names.items() for t in texts]
        texts = (version.id, version.label, register.labels[version.id], *sum(version.names.values(), ()))
        if not any(part in t.casefold() for t in texts):
            continue
        own = [", ".join(v) if isinstance(v, tuple) else v for v in version.attributes.values()]
        until = [f"until {last_day(version.until):%Y-%m-%d}"] if version.until != NEVER else []
        archived = ["archived"] if version.archived else []
        details = ", ".join([*(o for o in own if o), *until, *archived, *names])
        label = register.labels[version.id]
        found[label] = Found(label, register.name, details)
    return list(found.values())


def register_list(request: RegisterList, place: Workplace) -> Records:
    """The register of a report as of the local day of the request: what was valid at the day's start and its filters
    keep.

    With `by`, how many there are of each; otherwise all columns, or those of its `listing`. Raises UnknownName,
    RequestError (a register without any row too), SourceError.
    """
    report, day, now = request.report, request.day, request.now
    name = report.register_name
    register = place.registers.register(name)
    tz = zone(report.zone or place.calendar.zone_name)
    at = day_start(day, tz).astimezone(UTC).replace(tzinfo=None)
    if not (register.versions or register.assignments):
        raise RequestError(f"the register {name} has no rows; its files are {_files(register)}")
    columns, rows = _columns_and_rows(register, at)
    several = {n for n, _ in columns if register.several(n)}
    schema = LogSchema(name, tuple(Field(n, "tags" if n in several else "text") for n, _ in columns), kind="register")
    selection = report.selection.checked(schema)
    _known_values(register, schema, selection)
    kept = _kept(place, rows, schema, selection) if rows else []
    words = f"as of {of_days(day, day + timedelta(days=1))}"
    title = report.title or register.table.title or name.capitalize()
    filters = str(selection) if selection.conditions else "all events"
    head = context(tz.key, now, title, words, filters)
    notes = [] if kept else [_nobody(register, rows, str(selection), day)]
    if report.by:
        return _counted(report, head, columns, kept, several, tuple(notes))
    wanted = report.listing.fields if report.listing else ()
    told = [i for i, (n, _) in enumerate(columns) if n not in ENDS or any(r[i] is not None for r in kept)]
    told = [_place(n, columns) for n in wanted] or told
    sort = report.listing.sort if report.listing else ()
    for key in reversed(sort):
        i = _place(key.removeprefix("-"), columns)
        kept.sort(key=lambda r: (r[i] is None, str(r[i])), reverse=key.startswith("-"))
    typed = tuple(ColumnDef(n, label, "tags" if n in several else "text") for n, label in (columns[i] for i in told))
    return Records(title, head, typed, tuple(tuple(r[i] for i in told) for r in kept), len(kept), notes=tuple(notes))


def _files(register: Register) -> str:
    return str(register.table.files or "those of its query")


def _nobody(register: Register, rows: list[Any], words: str, day: date) -> Note:
    """Why nothing is listed."""
    if rows:
        return Note(f"nothing found: of {len(rows):,} entries valid on {day}, none fits '{words}'", "nothing")
    held = [v.since for v in register.versions] + [a.since for a in register.assignments]
    starts = [since for since in held if since != EVER]
    first = f"; its first entry begins {(min(starts) + timedelta(hours=12)).date()}" if starts else ""
    return Note(f"nothing found: no entry of {register.name} is valid on {day}{first}", "nothing")


def _place(name: str, columns: Columns) -> int:
    names = [n for n, _ in columns]
    if name not in names:
        raise UnknownName.of("column", name, names, where="of the register")
    return names.index(name)


def _counted(
    report: Report, head: Context, columns: Columns, kept: list[Any], several: set[str], notes: tuple[Note, ...]
) -> Records:
    """How many entries each combination of the columns of `by` has; one with several groups counts in each."""
    places = [_place(n, columns) for n in report.by]
    counts: Counter[tuple[Any, ...]] = Counter()
    for row in kept:
        keys: list[tuple[Any, ...]] = [()]
        for i in places:
            values = (row[i] or [None]) if columns[i][0] in several else [row[i]]
            keys = [(*k, v) for k in keys for v in values]
        counts.update(keys)
    rows = sorted(counts.items(), key=lambda kv: tuple((v is None, str(v)) for v in kv[0]))
    typed = (
        *(ColumnDef(n, label) for n, label in (columns[i] for i in places)),
        ColumnDef("entries", "Entries", "number"),
    )
    told = [Note(f"{len(kept):,} entries in all", "count")]
    if any(columns[i][0] in several for i in places):
        told.append(Note("an entry with several values counts in each of them", "method"))
    return Records(head.title, head, typed, tuple((*k, n) for k, n in rows), len(rows), notes=(*told, *notes))


Columns = list[tuple[str, str]]


def _columns_and_rows(register: Register, at: datetime | None) -> tuple[Columns, list[tuple[Any, ...]]]:
    """The rows of a register valid at `at` (naive UTC; all there are for None), and what their columns are called."""
    columns, rows = _links(register, at) if register.table.links else _versions(register, at)
    return [*columns, ("from", "From"), ("until", "Until")], rows


def _known_values(register: Register, schema: LogSchema, selection: Selection) -> None:
    """Raises UnknownName for an exact value of a filter that no row of the register has at any time."""
    wanted = [c for c in selection.conditions if c.kind == "is"]
    columns, rows = _columns_and_rows(register, None) if wanted else ([], [])
    names = [n for n, _ in columns]
    for condition in wanted:
        i = names.index(condition.field)
        held = {str(v) for r in rows for v in (r[i] if isinstance(r[i], list) else [r[i]]) if v is not None}
        for value in condition.values:
            if value not in held:
                if advice := written_otherwise(str(value), condition, schema):
                    raise RequestError(advice)
                raise UnknownName.of(condition.field, str(value), held, where=f"in the register {register.name}")


def _versions(register: Register, at: datetime | None) -> tuple[Columns, list[tuple[Any, ...]]]:
    """The same of people or things."""
    table = register.table
    kinds = [k for k, m in table.names.items() if m.column != table.label]
    more = [("parent", "Part of")] if table.parent else []
    gone = [("archived", "Archived")] if table.archived else []
    heads = [(n, n.capitalize().replace("_", " ")) for n in (*kinds, *table.attributes)]
    rows = [
        (
            v.id,
            v.label,
            *(", ".join(v.names[k]) or None for k in kinds),
            *(list(a) if isinstance(a, tuple) else a for a in v.attributes.values()),
            *([register.labels.get(v.parent)] if more else []),
            *(["yes" if v.archived else None] if gone else []),
            *_ends(v.since, v.until),
        )
        for v in register.versions
        if at is None or v.since <= at < v.until
    ]
    return [("id", "Id"), ("label", "Name"), *heads, *more, *gone], sorted(rows, key=lambda r: r[0])


def _links(register: Register, at: datetime | None) -> tuple[Columns, list[tuple[Any, ...]]]:
    heads = [(n, n.capitalize().replace("_", " ")) for n in (*register.table.links, *register.table.attributes)]
    rows = [
        (*a.links.values(), *a.attributes.values(), *_ends(a.since, a.until))
        for a in register.assignments
        if at is None or a.since <= at < a.until
    ]
    return heads, rows


def _ends(since: datetime, until: datetime) -> tuple[str | None, str | None]:
    first = f"{(since + timedelta(hours=12)).date()}" if since != EVER else None
    return first, f"{last_day(until)}" if until != NEVER else None


def _kept(place: Workplace, rows: list[tuple[Any, ...]], schema: LogSchema, selection: Any) -> list[tuple[Any, ...]]:
    """The rows a selection keeps, in their order, by the same rules as events."""
    columns = {"n": "number", **{f.stored: "texts" if f.type == "tags" else "text" for f in schema.fields}}
    held = [(i, *row) for i, row in enumerate(rows)]
    mark = hashlib.sha256(repr((columns, held)).encode()).hexdigest()[:16]
    table = place.engine.lookup(f"register_{mark}", columns, held)
    predicates = selection.predicates(table, schema)
    kept = table.filter(predicates) if predicates else table
    numbers = place.engine.run(kept.select(kept.n).order_by("n")).column(0).to_pylist()
    return [rows[n] for n in numbers]


def last_day(until: datetime) -> date:
    """The last day before an end that is excluded."""
    return (until - timedelta(hours=1)).date()
