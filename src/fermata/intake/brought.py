"""Records of a table brought to the embedded engine, each read once: for times that no database can compare, so that
every question would read all of them again.
"""

from __future__ import annotations

import functools
import hashlib
from dataclasses import dataclass
from datetime import datetime

from fermata.intake.inplace import InPlace
from fermata.intake.parts import Part
from fermata.intake.questions import STORED, Questions

__all__ = ["Brought", "brought"]


@dataclass(frozen=True)
class Brought(Questions):
    """What `query` gives of a table, `columns` (name -> its type, as the archive calls it), as the table `name`."""

    query: str
    columns: dict[str, str]
    events_of: list[Part]

    @property
    def parts(self) -> list[Part]:
        """The events a record gives."""
        return self.events_of

    @property
    def number(self) -> str:
        """The column with the record's number."""
        return "record_no"

    @functools.cached_property
    def name(self) -> str:
        """The table's name; another query has another."""
        return f"brought_{hashlib.sha256(self.query.encode()).hexdigest()[:16]}"

    def records(self, where: str, *, first: str = "") -> str:
        """All of them."""
        return f"SELECT * FROM {self.name}"

    def within(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """Nothing: the events' own times decide."""
        return ""

    def or_nothing(self, start: datetime, end: datetime) -> str:
        """Nothing."""
        return ""


def brought(at: InPlace) -> Brought:
    """Every record that a mapping selects: its events as they are stored, their wall clocks, or why it is refused."""
    given = {"record_no": (at.number, "BIGINT"), "bad": ("bad", "VARCHAR")}

    def column(value: str, kind: str) -> str:
        name = f"v{len(given)}"
        given[name] = (f"CASE WHEN bad IS NULL THEN {value} END", kind)
        return name

    parts = []
    for part in at.parts:
        stored = {f.name: at.schema.columns[f.stored] for f in at.schema.fields if part.fields.get(f.name)}
        parts.append(
            Part(
                start=column(part.start, "TIMESTAMP"),
                finish=column(part.finish, "TIMESTAMP") if part.finish else "",
                walls={name: column(wall, "TIMESTAMP") for name, wall in part.walls.items()},
                fields={name: column(part.fields[name], kind) for name, kind in stored.items()},
            )
        )
    listed = ", ".join(f"CAST({value} AS {STORED[kind]}) AS {name}" for name, (value, kind) in given.items())
    query = f"SELECT {listed} FROM ({at.records('')}) AS r"
    return Brought(at.log, at.schema, query, {name: kind for name, (_, kind) in given.items()}, parts)
