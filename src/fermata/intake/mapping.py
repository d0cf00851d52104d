"""How a log's records become events: the `[logs.NAME]` tables of `fermata.toml`.

[logs.doors]
kind  = "door access"
files = "incoming/doors-*.csv"
[logs.doors.fields]
start  = { column = "When", form = "%d/%m/%Y %H:%M:%S" }
user   = { column = "Badge", names = "badge" }
device = "Reader"
action = { column = "Event", values = { "ENTRY OK" = "granted", "NO ENTRY" = "denied" } }
"""

from __future__ import annotations

import codecs
import hashlib
import json
import re
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, field_validator, model_validator
from pydantic import Field as Key

from fermata.fields import COMMON, TIMES, FieldType, LogSchema, checked_name
from fermata.fields import Field as EventField
from fermata.timeline.zones import zone

__all__ = ["DURATION_FORMS", "TIME_WORDS", "EventMap", "FieldMap", "LogMap"]

TIME_WORDS = ("iso", "epoch s", "epoch ms", "epoch us")
DURATION_FORMS = ("seconds", "milliseconds", "minutes", "hours", "h:mm:ss", "h:mm", "mm:ss", "iso")
NOT_EVENTS = {
    "files",
    "repeats",
    "reject_limit",
    "title",
    "kind",
    "overlap",
}  # changing these changes no event


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class FieldMap(Strict):
    """Where one field comes from: a column, several joined by a space, a constant, or the file's name.

    A text alone stands for `{ column = text }`; in a file without header a column is its number from 1.
    """

    column: str | None = None
    columns: tuple[str, ...] | None = None
    constant: str | None = None
    file_name: str | None = None
    form: tuple[str, ...] = ()
    values: dict[str, str] | None = None
    names: str = ""
    type: FieldType | None = None
    unit: str = ""
    scale: int | None = Key(default=None, ge=0, le=9)
    decimal: Literal[".", ","] = "."
    thousands: Literal["", ".", ",", " ", "'"] = ""
    separator: str = ","
    true: tuple[str, ...] = ("true", "yes", "1")
    false: tuple[str, ...] = ("false", "no", "0")
    next_day: bool = False

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, data: Any) -> Any:
        if isinstance(data, str | int) and not isinstance(data, bool):
            data = {"column": data}
        if isinstance(data, dict):
            data = dict(data)
            if isinstance(data.get("form"), str):
                data["form"] = (data["form"],)
            if isinstance(data.get("column"), int):
                data["column"] = str(data["column"])
            if "columns" in data:
                data["columns"] = tuple(str(c) for c in data["columns"])
        return data

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [n for n in ("column", "columns", "constant", "file_name") if getattr(self, n) is not None]
        if len(given) != 1:
            raise ValueError(f"give one of column, columns, constant, file_name ({', '.join(given) or 'none'} given)")
        if self.file_name is not None:
            try:
                groups = re.compile(self.file_name).groups
            except re.error as e:
                raise ValueError(f"file_name is no regular expression: {e}") from None
            if groups != 1:
                raise ValueError("file_name needs exactly one group, as in 'doors-(\\w+)-'")
        return self

    @property
    def read_columns(self) -> tuple[str, ...]:
        """The columns of the file this field reads."""
        return self.columns or ((self.column,) if self.column is not None else ())

    def type_for(self, name: str) -> FieldType:
        """The declared type, or what the field's name implies."""
        if name in ("start", "finish"):
            return "time"
        return "duration" if name == "duration" else self.type or "text"

    def event_field(self, name: str) -> EventField:
        """What the log's schema says of the field."""
        kind = self.type_for(name)
        scale = self.scale if self.scale is not None else {"money": 2, "decimal": 3}.get(kind, 0)
        return EventField(name, kind, self.unit, scale, self.names)


class EventMap(Strict):
    """One of several events a record gives: fields beside those every event of the record shares."""

    fields: dict[str, FieldMap]


class LogMap(Strict):
    """A log: where its files are, how they are written, and what their columns mean."""

    title: str = ""
    kind: str = ""
    files: tuple[str, ...] = ()
    zone: str | None = None
    delimiter: str = Key(default=",", min_length=1, max_length=4)
    quote: str = Key(default='"', max_length=1)
    escape: str | None = Key(default=None, min_length=1, max_length=1)
    encoding: str = "utf-8"
    header: bool = True
    skip_lines: int = Key(default=0, ge=0)
    comment: str = ""
    keep: dict[str, tuple[str, ...]] = Key(default_factory=dict)
    drop: dict[str, tuple[str, ...]] = Key(default_factory=dict)
    ambiguous: Literal["order", "earlier", "later", "reject"] = "order"
    nonexistent: Literal["earlier", "later", "reject"] = "later"
    repeats: Literal["keep", "drop"] = "keep"
    record_id: str | None = None
    reject_limit: int | None = Key(default=None, ge=0)
    fields: dict[str, FieldMap]
    events: tuple[EventMap, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, data: Any) -> Any:
        if isinstance(data, dict):
            data = dict(data)
            if isinstance(data.get("files"), str):
                data["files"] = (data["files"],)
            for key in ("keep", "drop"):
                if isinstance(data.get(key), dict):
                    data[key] = {k: (v,) if isinstance(v, str) else v for k, v in data[key].items()}
        return data

    @field_validator("fields")
    @classmethod
    def _names(cls, fields: dict[str, FieldMap]) -> dict[str, FieldMap]:
        if "time" in fields and "start" not in fields:
            fields = {"start" if k == "time" else k: v for k, v in fields.items()}
        for name in fields:
            if name not in (*TIMES, *COMMON):
                checked_name(name)
        return fields

    @field_validator("encoding")
    @classmethod
    def _encoding(cls, name: str) -> str:
        try:
            return codecs.lookup(name).name
        except LookupError:
            raise ValueError(f"there is no encoding {name!r}; common ones: utf-8, utf-16, latin-1, cp1252") from None

    @field_validator("zone")
    @classmethod
    def _zone(cls, name: str | None) -> str | None:
        if name is not None:
            zone(name)
        return name

    @model_validator(mode="after")
    def _sense(self) -> Self:
        for part in self.parts():
            if not {"start", "finish"} & part.keys():
                raise ValueError("no field says when it happened: map start (or time), or finish, to a column")
            if {"start", "finish", "duration"} <= part.keys():
                raise ValueError("start, finish and duration are all mapped; two of them say it all")
            for name in ("start", "finish", "duration"):
                if name in part:
                    _check_forms(name, part[name])
            for name, field in part.items():
                if name in COMMON and field.type not in (None, "text"):
                    raise ValueError(f"{name} is always text")
                if field.type in ("time", "duration") and name not in TIMES:
                    _check_forms(name, field)
        if self.record_id and self.record_id not in self.schema_names:
            raise ValueError(f"record_id names the field {self.record_id!r}, which is not mapped")
        return self

    @property
    def name_patterns(self) -> list[str]:
        """The patterns by which fields come from the file's name."""
        return [f.file_name for part in self.parts() for f in part.values() if f.file_name is not None]

    def parts(self) -> list[dict[str, FieldMap]]:
        """The fields of each event a record gives; one entry for an ordinary log."""
        if not self.events:
            return [self.fields]
        return [{**self.fields, **e.fields} for e in self.events]

    @property
    def schema_names(self) -> list[str]:
        """Every mapped field that is no time, the common ones first."""
        named = dict.fromkeys(n for part in self.parts() for n in part if n not in TIMES)
        return [*(n for n in COMMON if n in named), *(n for n in named if n not in COMMON)]

    def schema_of(self, name: str, default_zone: str) -> LogSchema:
        """What the log's events hold."""
        parts = self.parts()
        fields = []
        for field in self.schema_names:
            first = next(p[field] for p in parts if field in p)
            fields.append(first.event_field(field))
        spans = any("duration" in p or {"start", "finish"} <= p.keys() for p in parts)
        return LogSchema(name, tuple(fields), spans, self.kind, self.zone or default_zone)

    def digest(self, default_zone: str) -> str:
        """SHA-256 over everything that decides which events a file gives, to 16 hex digits."""
        data = self.model_dump(mode="json", exclude=NOT_EVENTS)
        data["zone"] = self.zone or default_zone
        return hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:16]


def _check_forms(name: str, field: FieldMap) -> None:
    if field.type_for(name) == "duration":
        for form in field.form:
            if form not in DURATION_FORMS:
                raise ValueError(f"{name}: no duration form {form!r}; there are {', '.join(DURATION_FORMS)}")
        return
    for form in field.form:
        if form not in TIME_WORDS and "%" not in form:
            raise ValueError(
                f"{name}: no time form {form!r}; give {', '.join(TIME_WORDS)} or a pattern such as %d/%m/%Y %H:%M:%S"
            )
