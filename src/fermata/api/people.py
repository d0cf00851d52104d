"""Looking into registers: who is meant by part of a name, and a register as it was on a date."""

from __future__ import annotations

import dataclasses
from datetime import UTC
from typing import TYPE_CHECKING

from fermata.reports.model import Report
from fermata.reports.registers import Found, candidates, context
from fermata.reports.result import Records

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["Found", "find", "found_table", "register_list"]

LOOKED_IN = ("user", "device", "place", "project")


def find(workspace: Workspace, text: str) -> list[Found]:
    """Everyone and everything whose label, id or any name holds `text`, whatever its case; by label."""
    part = text.casefold()
    place = workspace.place()
    known: dict[str, Found] = {}
    for name, table in workspace.directory.tables.items():
        if not table.links:
            known.update({c.label: c for c in candidates(place, name, text)})
    for log, field in _fields(workspace):
        if not place.extent(log):
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
    head = context(
        workspace.config.workspace.zone,
        workspace.now(),
        f"Who or what has {text!r} in a name",
        "all registers and logs",
    )
    columns = (
        ("name", "Name", "text", "", 0), ("register", "Register", "text", "", 0), ("last", "Last seen", "time", "", 0),
        ("log", "In", "text", "", 0), ("details", "Names and attributes", "text", "", 0),
    )  # fmt: skip
    rows = tuple((f.label, f.register or None, f.last, f.log or None, f.details) for f in find(workspace, text))
    return Records(head.title, head, columns, rows, len(rows))


def register_list(workspace: Workspace) -> Records:
    """The registers of a workspace: what each knows."""
    head = context(workspace.config.workspace.zone, workspace.now(), "Registers", "all rows")
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


def _fields(workspace: Workspace) -> list[tuple[str, str]]:
    """The fields of each log that hold names of people or things."""
    directory = workspace.directory
    return [
        (log, f.name)
        for log, schema in workspace.schemas.items()
        if log in workspace.stored_schemas
        for f in schema.fields
        if f.type == "text" and (f.name in LOOKED_IN or directory.owners.get(f.names or f.name))
    ]
