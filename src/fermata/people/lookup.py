"""Looking into registers: who is meant by part of a name, and a register as it was on a date."""

from __future__ import annotations

import dataclasses
from datetime import UTC

from fermata.errors import none_declared
from fermata.notes import Note
from fermata.reports.definition.report import Report
from fermata.reports.execute.register_list import Found, candidates, context
from fermata.reports.result import ColumnDef, Records, RunResult
from fermata.workspace.base import Base

__all__ = ["Found", "find", "found_table", "register_list"]

LOOKED_IN = ("user", "device", "place", "project")


def find(workspace: Base, text: str) -> list[Found]:
    """Everyone and everything whose label, id or any name holds `text`, whatever its case; by label."""
    part = text.casefold()
    place = workspace.place()
    place.view.admit("names")
    known: dict[str, Found] = {}
    for name, table in workspace.directory.tables.items():
        if not table.links:
            known.update({c.label: c for c in candidates(place, name, text)})
    for log, field in _fields(workspace):
        if not place.extent(log):
            continue
        result = workspace.answer(Report.of(log=log, by=(field,), columns=("last",), totals=False), place=place)
        for row in result.table.body if isinstance(result, RunResult) else ():
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


def found_table(workspace: Base, text: str) -> Records:
    """What `find` gives as a listing."""
    head = context(
        workspace.config.workspace.zone,
        workspace.now(),
        f"Who or what has {text!r} in a name",
        "all registers and logs",
    )
    columns = (
        ColumnDef("name", "Name"), ColumnDef("register", "Register"), ColumnDef("last", "Last seen", "time"),
        ColumnDef("log", "In"), ColumnDef("details", "Names and attributes"),
    )  # fmt: skip
    rows = tuple((f.label, f.register or None, f.last, f.log or None, f.details) for f in find(workspace, text))
    return Records(head.title, head, columns, rows, len(rows))


def register_list(workspace: Base) -> Records:
    """The registers of a workspace: what each knows."""
    head = context(workspace.config.workspace.zone, workspace.now(), "Registers", "all rows")
    columns = (
        ColumnDef("register", "Register"), ColumnDef("rows", "Rows", "number"), ColumnDef("entries", "Entries",
        "number"),
        ColumnDef("names", "Kinds of names or links"), ColumnDef("attributes", "Attributes"),
    )  # fmt: skip
    workspace.view.admit("names")
    rows = []
    for name, table in workspace.directory.tables.items():
        register = workspace.directory.register(name)
        count = len(register.versions) or len(register.assignments)
        entries = len(register.labels) if register.versions else count
        rows.append((name, count, entries, ", ".join((*table.names, *table.links)), ", ".join(table.attributes)))
    notes = () if rows else (Note(str(none_declared("register")), "nothing"),)
    return Records(head.title, head, columns, tuple(rows), len(rows), notes=notes)


def _fields(workspace: Base) -> list[tuple[str, str]]:
    """The fields of each log that hold names of people or things."""
    directory = workspace.directory
    return [
        (log, f.name)
        for log, schema in workspace.schemas.items()
        if log in workspace.stored_schemas
        for f in schema.fields
        if f.type == "text" and (f.name in LOOKED_IN or directory.owners.get(f.names or f.name))
    ]
