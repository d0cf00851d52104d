"""How a log's records become events: the `[logs.NAME]` tables of `fermata.toml`.

[logs.doors]
kind  = "door access"
files = "incoming/doors-*.csv"
[logs.doors.fields]
start  = { column = "When", form = "%d/%m/%Y %H:%M:%S" }
user   = { column = "Badge", names = "badge" }
device = "Reader"
action = { column = "Event", values = { "ENTRY OK" = "granted", "NO ENTRY" = "refused" } }
"""

from __future__ import annotations

import codecs
import hashlib
import json
import re
from datetime import date
from typing import Any, Literal, Self

from pydantic import Field as Key
from pydantic import field_validator, model_validator

from fermata.fields import COMMON, TIMES, LogSchema, checked_field
from fermata.fields import Field as EventField
from fermata.intake.field_map import FieldMap, check_forms, expression
from fermata.kinds import KINDS
from fermata.strict import Strict, listed, several
from fermata.timeline.lengths import exact, length
from fermata.timeline.zones import zone

__all__ = ["EventMap", "LogMap"]

NOT_EVENTS = {
    "files",
    "repeats",
    "reject_limit",
    "title",
    "kind",
    "key",
    "complete",
    "keep_for",
    "gap",
    "closed",
    "database",
}
ONLY_IMPORTED = ("files", "key", "complete", "keep_for", "repeats", "record_id", "reject_limit", "comment")
ONLY_WITH = {  # keys that mean something to some formats only
    "pattern": ("regex",),
    "begins": ("regex",),
    "heading": ("regex", "fixed width", "key=value"),
    "positions": ("fixed width",),
    "unmatched": ("regex", "syslog", "web access", "page log", "w3c"),
    "layout": ("page log",),
    "year": ("syslog",),
    "records": ("json", "xml"),
    "sheet": ("xlsx",),
    "until": ("icalendar",),
    "database": ("sql",),
    "delimiter": ("delimited",),
    "quote": ("delimited",),
    "escape": ("delimited",),
}


def _nothing(log: dict[str, Any]) -> dict[str, Any]:
    """The log whose fields have the texts that mean nothing in it, where they do not say their own."""

    def told(holder: Any) -> Any:
        fields = holder.get("fields") if isinstance(holder, dict) else None
        if not isinstance(fields, dict):
            return holder
        tables = {n: f if isinstance(f, dict) else {"column": f} for n, f in fields.items()}
        return {**holder, "fields": {n: {"empty": log["empty"], **f} for n, f in tables.items()}}

    found: dict[str, Any] = told(log)
    events = log.get("events")
    return {**found, "events": [told(e) for e in events]} if isinstance(events, list) else found


class DatabaseMap(Strict):
    """Where a log's records are asked for: one `query`, whose rows are imported, and the column that only grows; or the
    `table` (or view) in which they are reported on where they are, and the whole number by which a `record` is found in
    it again.

    The address with its password comes from an environment variable (`address_env`) or a file only its owner may
    read (`address_file`); a database file without a password may stand here as `address`. `timeout` is how many seconds
    one question to a table may take.
    """

    query: str = ""
    table: str = ""
    record: str = ""
    timeout: int = Key(default=60, ge=1)
    address_env: str | None = None
    address_file: str | None = None
    address: str | None = None
    growing: str | None = None

    @model_validator(mode="after")
    def _one_address(self) -> Self:
        given = [n for n in ("address_env", "address_file", "address") if getattr(self, n) is not None]
        if len(given) != 1:
            raise ValueError("give one of address_env, address_file, address")
        if bool(self.query) is bool(self.table):
            raise ValueError("give either query (its rows are imported) or table (its rows stay where they are)")
        if self.table and not self.record:
            raise ValueError(
                "a table read where it is needs record: the column of whole numbers that tells its rows apart"
            )
        if not self.table and {"record", "timeout"} & self.model_fields_set:
            raise ValueError("record and timeout go with a table")
        if self.table and self.growing:
            raise ValueError("growing goes with a query; a table is read as it is")
        if self.address is not None and re.search(r"://[^/@]*:[^/@]*@", self.address):
            raise ValueError(
                "a password does not belong here; put the address into an environment variable (address_env)"
            )
        return self


class EventMap(Strict):
    """One of several events a record gives: fields beside those every event of the record shares."""

    fields: dict[str, FieldMap]


class LogMap(Strict):
    """A log: where its files are, how they are written, and what their columns mean."""

    title: str = ""
    kind: str = ""
    files: tuple[str, ...] = ()
    format: str = "delimited"
    zone: str | None = None
    zones: dict[str, str] = Key(default_factory=dict)
    pattern: str | None = None
    begins: str | None = None
    heading: str | None = None
    positions: dict[str, str] = Key(default_factory=dict)
    unmatched: Literal["reject", "skip"] = "reject"
    layout: str | None = None
    year: int | None = Key(default=None, ge=1970, le=2099)
    records: str | None = None
    sheet: str | int | None = None
    until: date | None = None
    database: DatabaseMap | None = None
    options: dict[str, Any] = Key(default_factory=dict)
    delimiter: str = Key(default=",", min_length=1, max_length=4)
    quote: str = Key(default='"', max_length=1)
    escape: str | None = Key(default=None, min_length=1, max_length=1)
    encoding: str = "utf-8"
    header: bool = True
    skip_lines: int = Key(default=0, ge=0)
    comment: str = ""
    empty: tuple[str, ...] = ()
    keep: dict[str, tuple[str, ...]] = Key(default_factory=dict)
    drop: dict[str, tuple[str, ...]] = Key(default_factory=dict)
    ambiguous: Literal["order", "earlier", "later", "reject"] = "order"
    nonexistent: Literal["earlier", "later", "reject"] = "later"
    repeats: Literal["keep", "drop"] = "keep"
    record_id: str | None = None
    key: tuple[str, ...] = ()
    complete: bool = False
    keep_for: str | None = None
    gap: str | None = None
    closed: str = ""
    reject_limit: int | None = Key(default=None, ge=0)
    fields: dict[str, FieldMap]
    events: tuple[EventMap, ...] = ()

    _lists = listed("files", "key", "empty")

    @model_validator(mode="before")
    @classmethod
    def _empty(cls, data: Any) -> Any:
        return _nothing(data) if isinstance(data, dict) and data.get("empty") else data

    @field_validator("keep", "drop", mode="before", json_schema_input_type=dict[str, str | tuple[str, ...]])
    @classmethod
    def _selection(cls, value: Any) -> Any:
        return {k: several(v) for k, v in value.items()} if isinstance(value, dict) else value

    @field_validator("fields")
    @classmethod
    def _names(cls, fields: dict[str, FieldMap]) -> dict[str, FieldMap]:
        if "time" in fields and "start" not in fields:
            fields = {"start" if k == "time" else k: v for k, v in fields.items()}
        for name in fields:
            if name not in (*TIMES, *COMMON):
                checked_field(name)
        return fields

    @field_validator("kind")
    @classmethod
    def _kind(cls, name: str) -> str:
        if name and name not in KINDS:
            raise ValueError(f"there is no kind of log {name!r}; there are {', '.join(KINDS)} (or leave it out)")
        return name

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

    @field_validator("zones")
    @classmethod
    def _offsets(cls, zones: dict[str, str]) -> dict[str, str]:
        for name, offset in zones.items():
            if not re.fullmatch(r"[+-]\d\d:\d\d", offset):
                raise ValueError(f"{name} = {offset!r}: write the offset as +01:00 or -04:00")
        return zones

    @field_validator("keep_for")
    @classmethod
    def _kept(cls, text: str) -> str:
        length(text)
        return text

    @field_validator("gap")
    @classmethod
    def _gap(cls, text: str) -> str:
        exact(text)
        return text

    @model_validator(mode="after")
    def _format(self) -> Self:
        _check_format(self)
        return self

    @model_validator(mode="after")
    def _sense(self) -> Self:
        for part in self.parts():
            if not {"start", "finish"} & part.keys():
                raise ValueError("no field says when it happened: map start (or time), or finish, to a column")
            if {"start", "finish", "duration"} <= part.keys():
                raise ValueError("start, finish and duration are all mapped; two of them say it all")
            for name in ("start", "finish", "duration"):
                if name in part:
                    check_forms(name, part[name])
            for name, field in part.items():
                if name in COMMON and field.type not in (None, "text", "link"):
                    raise ValueError(f"{name} is always text")
                if any("%Z" in f for f in field.form) and not self.zones:
                    raise ValueError(
                        f"{name}: abbreviations of zones are ambiguous (IST is used by three countries); say what "
                        "the log "
                        'means by them: zones = { EDT = "-04:00" }'
                    )
                if field.type in ("time", "duration") and name not in TIMES:
                    check_forms(name, field)
        if self.record_id and self.record_id not in self.schema_names:
            raise ValueError(f"record_id names the field {self.record_id!r}, which is not mapped")
        return self

    @property
    def in_place(self) -> bool:
        """Whether the log's records stay in a database, where reports read them."""
        return self.database is not None and bool(self.database.table)

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
            if first.spelling:
                fields.append(EventField(f"{field}_written", origin=field))
        spans = any("duration" in p or {"start", "finish"} <= p.keys() for p in parts)
        return LogSchema(name, tuple(fields), spans, self.kind, self.zone or default_zone)

    def digest(self, default_zone: str) -> str:
        """SHA-256 over everything that decides which events a file gives, to 16 hex digits."""
        data = self.model_dump(mode="json", exclude=NOT_EVENTS, exclude_defaults=True)
        data["zone"] = self.zone or default_zone
        if self.in_place and self.database:
            data["table"] = [self.database.table, self.database.record]
        return hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:16]


def _positions(given: dict[str, str]) -> None:
    """Raises ValueError unless each column has its place in the line, from 1, as `1-19` or, to the end, `40-`."""
    if not given:
        raise ValueError("format 'fixed width' needs positions, as in { When = '1-19', Who = '21-32', What = '34-' }")
    for name, place in given.items():
        found = re.fullmatch(r"([1-9]\d*)-(\d*)", place)
        if not found or (found[2] and int(found[2]) < int(found[1])):
            raise ValueError(f"positions: {name} = {place!r} is no place in a line; write 1-19 or, to the end, 40-")


def _check_format(log: LogMap) -> None:
    """Raises ValueError where keys do not go with the format or with each other."""
    for key, formats in ONLY_WITH.items():
        if key in log.model_fields_set and log.format not in formats:
            raise ValueError(f"{key} means something with format = {' or '.join(map(repr, formats))} only")
    if log.format == "regex" and (not log.pattern or not expression("pattern", log.pattern).groupindex):
        raise ValueError("format 'regex' needs a pattern with named groups, as in '(?P<when>\\S+) (?P<who>\\w+)'")
    if log.heading and not expression("heading", log.heading).groupindex:
        raise ValueError("heading needs named groups, as in '^== (?P<date>\\S+) ==$'; they become columns")
    if log.begins:
        expression("begins", log.begins)
    if log.heading and log.begins:
        raise ValueError("heading goes with records of one line each, begins with records of several")
    if log.format == "fixed width":
        _positions(log.positions)
    if log.in_place and any(f.past_midnight for part in log.parts() for f in part.values()):
        raise ValueError("past_midnight goes by the order of a file's records; the rows of a table have none")
    if log.format == "sql" and log.database is None:
        raise ValueError("format 'sql' needs a table [logs.NAME.database] with query and address_env")
    for i, part in enumerate(log.parts()):
        for name in (n for n, f in part.items() if f.next_day):
            if not (name == "finish" and "start" in part) and not (name == "start" and i and "start" in log.parts()[0]):
                raise ValueError(
                    f"{name}: next_day is for a finish beside its start, or the start of a record's further events"
                )
    for name in log.key:
        if name not in (*log.schema_names, "start", "finish"):
            raise ValueError(f"key names the field {name!r}, which is not mapped")
    if log.complete and not log.key:
        raise ValueError("complete = true needs a key, by which a missing entry is known")
    if log.in_place and (given := [k for k in ONLY_IMPORTED if k in log.model_fields_set]):
        raise ValueError(
            f"{', '.join(given)} means something for imported records only; the log's table is read where it is"
        )
    if log.key and (log.events or log.record_id):
        raise ValueError("a key goes with one event a record and without record_id")
