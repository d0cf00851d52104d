"""Looking into registers: who is meant by part of a name, and a register as it was on a date."""

from __future__ import annotations

import dataclasses
import hashlib
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any

from fermata._version import __version__
from fermata.fields import Field, LogSchema
from fermata.registers.register import EVER, NEVER, Register
from fermata.reports.model import Report
from fermata.reports.result import Context, Records
from fermata.timeline.words import of_days
from fermata.timeline.zones import day_start, local, zone

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["Found", "context", "find", "found_table", "register_list", "register_table"]

ENDS = ("archived", "from", "until")  # columns of a register listed only where some row says something
LOOKED_IN = ("user", "device", "place", "project")


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


def find(workspace: Workspace, text: str) -> list[Found]:
    """Everyone and everything whose label, id or any name holds `text`, whatever its case; by label."""
    part = text.casefold()
    known: dict[str, Found] = {}
    for name, table in workspace.directory.tables.items():
        if not table.links:
            known.update(_candidates(workspace.directory.register(name), part))
    for log, field in _fields(workspace):
        if not workspace.archive.snapshot().manifest.log(log).events:
            continue
        result = workspace.run(Report.of(log=log, by=(field,), columns=("last",), totals=False))
        for row in result.table.body:
            label, last = row.keys[0], row.cells[0]
            seen = known.get(label)
            if label is None or last is None or (seen is None and part not in label.casefold()):
                continue
            last = last if last.tzinfo else last.replace(tzinfo=UTC)
            if seen is None:
                known[label] = Found(label, "", f"{field} as written", last, log)
            elif seen.last is None or last > seen.last:
                known[label] = dataclasses.replace(seen, last=last, log=log)
    return sorted(known.values(), key=lambda f: (f.label.casefold(), f.register))


def found_table(workspace: Workspace, text: str) -> Records:
    """What `find` gives as a listing."""
    head = context(workspace, f"Who or what has {text!r} in a name", "all registers and logs")
    columns = (
        ("name", "Name", "text", "", 0), ("register", "Register", "text", "", 0), ("last", "Last seen", "time", "", 0),
        ("log", "In", "text", "", 0), ("details", "Names and attributes", "text", "", 0),
    )  # fmt: skip
    rows = tuple((f.label, f.register or None, f.last, f.log or None, f.details) for f in find(workspace, text))
    return Records(head.title, head, columns, rows, len(rows))


def register_list(workspace: Workspace) -> Records:
    """The registers of a workspace: what each knows."""
    head = context(workspace, "Registers", "all rows")
    columns = (
        ("register", "Register", "text", "", 0), ("rows", "Rows", "number", "", 0), ("entries", "Entries", "number", "", 0),
        ("names", "Kinds of names or links", "text", "", 0), ("attributes", "Attributes", "text", "", 0),
    )  # fmt: skip
    rows = []
    for name, table in workspace.directory.tables.items():
        register = workspace.directory.register(name)
        count = len(register.versions) or len(register.assignments)
        entries = len(register.labels) if register.versions else count
        rows.append((name, count, entries, ", ".join((*table.names, *table.links)), ", ".join(table.attributes)))
    return Records(head.title, head, columns, tuple(rows), len(rows))


def _candidates(register: Register, part: str) -> dict[str, Found]:
    found = {}
    for version in sorted(register.versions, key=lambda v: v.since):
        names = [f"{k} {t}" for k, texts in version.names.items() for t in texts]
        texts = (version.id, version.label, register.labels[version.id], *sum(version.names.values(), ()))
        if not any(part in t.casefold() for t in texts):
            continue
        own = [", ".join(v) if isinstance(v, tuple) else v for v in version.attributes.values()]
        until = [f"until {_last_day(version.until):%Y-%m-%d}"] if version.until != NEVER else []
        archived = ["archived"] if version.archived else []
        details = ", ".join([*(o for o in own if o), *until, *archived, *names])
        label = register.labels[version.id]
        found[label] = Found(label, register.name, details)
    return found


def _fields(workspace: Workspace) -> list[tuple[str, str]]:
    """The fields of each log that hold names of people or things."""
    directory = workspace.directory
    return [
        (log, f.name)
        for log, schema in workspace.stored_schemas.items()
        for f in schema.fields
        if f.type == "text" and (f.name in LOOKED_IN or directory.owners.get(f.names or f.name))
    ]


def _last_day(until: datetime) -> date:
    return (until - timedelta(hours=1)).date()


def context(workspace: Workspace, title: str, words: str, filters: str = "") -> Context:
    """What stands above a listing that is no report."""
    return Context(
        title=title,
        period=words,
        period_exact=words,
        period_text=words,
        zone=workspace.config.workspace.zone,
        filters=filters,
        fresh=(),
        made_at=workspace.now(),
        version=__version__,
        plan="",
    )


def register_table(workspace: Workspace, name: str, as_of: date | None, **chosen: Any) -> Records:
    """See `Workspace.register_table`."""
    register = workspace.directory.register(name)
    tz = zone(workspace.config.workspace.zone)
    day = as_of or local(workspace.now(), tz).date()
    at = day_start(day, tz).astimezone(UTC).replace(tzinfo=None)
    columns, rows = _links(register, at) if register.table.links else _versions(register, at)
    columns += [("from", "From"), ("until", "Until")]
    several = {n for n, _ in columns if register.several(n)}
    schema = LogSchema(name, tuple(Field(n, "tags" if n in several else "text") for n, _ in columns))
    selection = Report.of(log=name, **chosen).selection.checked(schema)
    kept = _kept(workspace, rows, schema, selection) if rows else []
    told = [i for i, (n, _) in enumerate(columns) if n not in ENDS or any(r[i] is not None for r in kept)]
    columns, kept = [columns[i] for i in told], [tuple(r[i] for i in told) for r in kept]
    head = context(
        workspace,
        register.table.title or name.capitalize(),
        f"as of {of_days(day, day + timedelta(days=1))}",
        str(selection) if chosen else "",
    )
    typed = tuple((n, label, "tags" if n in several else "text", "", 0) for n, label in columns)
    return Records(head.title, head, typed, tuple(kept), len(kept))


Columns = list[tuple[str, str]]


def _versions(register: Register, at: datetime) -> tuple[Columns, list[tuple[Any, ...]]]:
    """The rows of a register valid at `at`, and what their columns are called."""
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
        if v.since <= at < v.until
    ]
    return [("id", "Id"), ("label", "Name"), *heads, *more, *gone], sorted(rows, key=lambda r: r[0])


def _links(register: Register, at: datetime) -> tuple[Columns, list[tuple[Any, ...]]]:
    heads = [(n, n.capitalize().replace("_", " ")) for n in (*register.table.links, *register.table.attributes)]
    rows = [
        (*a.links.values(), *a.attributes.values(), *_ends(a.since, a.until))
        for a in register.assignments
        if a.since <= at < a.until
    ]
    return heads, rows


def _ends(since: datetime, until: datetime) -> tuple[str | None, str | None]:
    first = f"{(since + timedelta(hours=12)).date()}" if since != EVER else None
    return first, f"{_last_day(until)}" if until != NEVER else None


def _kept(
    workspace: Workspace, rows: list[tuple[Any, ...]], schema: LogSchema, selection: Any
) -> list[tuple[Any, ...]]:
    """The rows a selection keeps, in their order, by the same rules as events."""
    columns = {"n": "number", **{f.stored: "texts" if f.type == "tags" else "text" for f in schema.fields}}
    held = [(i, *row) for i, row in enumerate(rows)]
    mark = hashlib.sha256(repr((columns, held)).encode()).hexdigest()[:16]
    table = workspace.engine.lookup(f"register_{mark}", columns, held)
    predicates = selection.predicates(table, schema)
    kept = table.filter(predicates) if predicates else table
    numbers = workspace.engine.run(kept.select(kept.n).order_by("n")).column(0).to_pylist()
    return [rows[n] for n in numbers]
