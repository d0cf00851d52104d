"""The fields of an event: their words, their types, and the names they are stored under.

People say `user`; the archive says `person`, because `user` is the logged-in role in some databases. The
translation lives here and nowhere else.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any, Literal

from fermata.digest import apart
from fermata.errors import RequestError, UnknownName
from fermata.kinds import KINDS

__all__ = [
    "ADDABLE",
    "BY_TIME",
    "COMMON",
    "NAME",
    "PROVENANCE",
    "RESERVED",
    "Field",
    "FieldType",
    "LogSchema",
    "checked_field",
    "checked_name",
    "stored_name",
]

FieldType = Literal["text", "number", "decimal", "money", "flag", "tags", "duration", "time"]

NAME = re.compile(r"[a-z][a-z0-9]*(_[a-z0-9]+)*")
COMMON = ("user", "device", "place", "action", "outcome", "other")
TIMES = ("start", "finish", "duration")
UNITS = ("hour", "day", "week", "month", "quarter", "year", "weekday")  # what reports group by themselves
LISTED = ("file", "record", "inside", "contribution")  # what a listing says of an event besides its fields
PROVENANCE = ("file_id", "record_no", "event_no")
STORED = {"user": "person", "start": "start_utc", "finish": "finish_utc"}
RESERVED = (*STORED.values(), *PROVENANCE, *LISTED, *UNITS)  # no field of a log has such a name
ADDABLE: tuple[FieldType, ...] = ("number", "decimal", "money", "duration")
ENGINE_TYPES: dict[FieldType, str] = {  # as the embedded engine and Parquet name them
    "text": "VARCHAR",
    "number": "BIGINT",
    "decimal": "BIGINT",
    "money": "BIGINT",
    "flag": "BOOLEAN",
    "tags": "VARCHAR[]",
    "duration": "BIGINT",
    "time": "TIMESTAMP",
}

OF_A_WEEK = "; days of the week and times of the day are chosen with hours (sunday, 22:00-06:00)"
BY_TIME = {  # what is no field, as it is told from the time
    **dict.fromkeys(("weekday", "hour", "time", "day_of_week", "hour_of_day"), OF_A_WEEK),
    **dict.fromkeys(("date", "day", "week", "month", "quarter", "year"), "; dates are chosen with period (2026-03)"),
}


@dataclass(frozen=True, slots=True)
class Field:
    """One field of a log. `scale` is the number of decimals kept exactly in a 64-bit integer (money: 2).

    `names` says what kind of name a user or device field holds (badge, extension ...). `origin` is the field it says
    the same as in other words, such as the text as written beside a spelling: what a viewer may not see of that one is
    not seen of this one.
    """

    name: str
    type: FieldType = "text"
    unit: str = ""
    scale: int = 0
    names: str = ""
    origin: str = ""

    @property
    def source(self) -> str:
        """The name of the field that access goes by: its origin's, or its own."""
        return self.origin or self.name

    @property
    def stored(self) -> str:
        """The column of the archive."""
        return stored_name(self.name)

    @property
    def addable(self) -> bool:
        """Whether a total of it means anything."""
        return self.type in ADDABLE


def stored_name(name: str) -> str:
    """The archive's column for the field people call `name`; an attribute `user.department` is `person__department`."""
    field, dot, attribute = name.partition(".")
    return f"{STORED.get(field, field)}__{attribute}" if dot else STORED.get(name, name)


@dataclass(frozen=True, slots=True)
class LogSchema:
    """What a log's events hold, or the rows of a register (kind `register`). `spans` says that its events are meant to
    have a finish.

    The fields are in the order they were declared, the common ones first. `attributes` are what registers add when a
    question is asked (`user.department`); they are not stored. `derivation` says how the events of a derived log are
    made from those of others, `computed` which fields are worked out from others when asked for.
    """

    name: str
    fields: tuple[Field, ...]
    spans: bool = False
    kind: str = ""
    zone: str = "UTC"
    attributes: tuple[Field, ...] = field(
        default=(), metadata=apart("what registers could add; what is asked for is looked up")
    )
    derivation: Any = None
    computed: tuple[Any, ...] = field(default=(), metadata=apart("those asked for stand in the strand"))
    by_name: dict[str, Field] = field(
        init=False, repr=False, compare=False, hash=False, default_factory=dict, metadata=apart("the fields by name")
    )

    def __post_init__(self) -> None:
        made = tuple(c.field for c in self.computed)
        self.by_name.update({f.name: f for f in (*self.fields, *self.attributes, *made)})

    @property
    def stored_logs(self) -> tuple[str, ...]:
        """The names of the archive's logs behind it: itself, unless it is derived."""
        if self.derivation is None:
            return (self.name,)
        found = [n for s in self.derivation.inputs for n in s.stored_logs] or self.derivation.rests_on
        return tuple(dict.fromkeys(found))

    def field(self, name: str) -> Field:
        """The field called `name`, `duration`, `start` and `finish` included. Raises UnknownName."""
        if name in self.by_name:
            return self.by_name[name]
        if name == "start":
            return Field("start", "time")
        if name in ("finish", "duration") and self.spans:
            return Field(name, "time" if name == "finish" else "duration")
        known = [*self.by_name, "start", *(("finish", "duration") if self.spans else ())]
        expected = {**KINDS[self.kind].fields, **KINDS[self.kind].further} if self.kind in KINDS else {}
        hint = f'; a log of the kind {self.kind!r} has it once [logs.{self.name}.fields] maps it: {name} = "COLUMN"'
        hint = hint if name in expected else BY_TIME.get(name, "")
        what = "log" if self.kind != "register" else "register"
        raise UnknownName.of("field", name, known, where=f"in the {what} {self.name}{hint}")

    @property
    def columns(self) -> dict[str, str]:
        """Stored column -> engine type, times and provenance included, in the archive's order."""
        named = {f.stored: ENGINE_TYPES[f.type] for f in self.fields}
        provenance = dict(zip(PROVENANCE, ("INTEGER", "BIGINT", "SMALLINT"), strict=True))
        return {"start_utc": "TIMESTAMP", "finish_utc": "TIMESTAMP", **named, **provenance}


def checked_name(name: str) -> str:
    """`name` if an attribute may have that name. Raises RequestError saying why not."""
    taken = {*STORED.values(), *PROVENANCE}
    if not NAME.fullmatch(name):
        raise RequestError(f"field name {name!r}: use small letters, digits and _, beginning with a letter")
    if name in taken:
        raise RequestError(f"field name {name!r} is taken by the archive; choose another")
    return name


def checked_field(name: str) -> str:
    """`name` if the events of a log may have a field of that name. Raises RequestError saying why not."""
    if name in LISTED:
        raise RequestError(f"field name {name!r}: a list of events has {', '.join(LISTED)} of its own; choose another")
    if name in UNITS:
        raise RequestError(f"field name {name!r}: {name} is a unit of time, which reports group by; choose another")
    return checked_name(name)
