"""Readers: one file per format, all behind one contract. A further one comes in by the entry point `fermata.readers`.

A reader says how the engine gets at a file's records: a table expression whose rows are the records in their
order, and for each column a mapping names, the expression of its text. Nothing is typed here.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib import import_module
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any, Protocol

from fermata.errors import RequestError, UnknownName
from fermata.intake.mapping import LogMap

__all__ = ["BUILT_IN", "NO_DELIMITER", "Job", "Reader", "Records", "check", "reader"]

BUILT_IN = {  # format -> module here; what each reads stands in docs/logs.md
    "delimited": "delimited",
    "json lines": "jsonlines",
    "json": "json",
    "xlsx": "xlsx",
    "regex": "regex",
    "fixed width": "fixed",
    "key=value": "pairs",
    "syslog": "syslog",
    "web access": "webaccess",
    "w3c": "w3c",
    "icalendar": "icalendar",
    "xes": "xes",
    "xml": "xml",
    "login records": "logins",
    "page log": "pagelog",
    "radius detail": "radius",
    "parquet": "parquet",
    "sql": "parquet",  # what a query gave is kept as Parquet and read like any other
}
NO_DELIMITER = "\x01\x02\x03\x04"  # stands in no text, so a line is one column


@dataclass(frozen=True)
class Job:
    """One file to open: `path` is plain (unpacked), `shown` is what people call it, `tag` tells it apart in the engine.

    `wanted` are the columns the mapping reads; `scratch` is a directory of this import, and
    `modified` says when the file was last written, in seconds since 1970 UTC. `overlong`: lines may be longer than a
    record can be.
    """

    con: Any
    path: Path
    shown: Path
    log: LogMap
    tag: str
    wanted: Sequence[str]
    scratch: Path
    modified: float = 0
    overlong: bool = False


@dataclass(frozen=True)
class Records:
    """A file opened by a reader.

    `source` is a table expression with one row per record, in the file's order; `columns` gives the text of each
    column as an expression over it. `layout` is set where the records are lines or delimited records of a text,
    whose parts are then counted against the file; else the reader answers for the `rows` it made, and `whole` is the
    text of a record, or `texts` gives those of some record numbers. `temporary` is a table of the engine to drop
    afterwards, `held` an Arrow table that the engine then lets go of. `skip` are `WHEN ... THEN 'reason'` of records
    left out, `refused` is the reason or NULL.
    """

    source: str
    columns: dict[str, str]
    layout: LogMap | None = None
    text: Path | None = None
    rows: int = 0
    whole: str = "NULL"
    skip: tuple[str, ...] = ()
    refused: str = ""
    inferred: str = ""
    temporary: str = ""
    held: str = ""
    texts: Callable[[list[int]], list[str]] | None = None

    @property
    def width(self) -> int:
        """Columns of the text as the engine parses it: one where the records are lines."""
        return len(self.columns) if self.layout and self.layout.delimiter != NO_DELIMITER else 1


class Reader(Protocol):
    """What every reader's module offers."""

    def open(self, job: Job) -> Records:
        """Opens a file. Raises SourceError where it is not of the format, UnknownName for a column it lacks."""


def reader(name: str) -> Reader:
    """The reader of the format called `name`. Raises UnknownName."""
    if name in BUILT_IN:
        return import_module(f"fermata.intake.readers.{BUILT_IN[name]}")
    more = {e.name: e for e in entry_points(group="fermata.readers")}
    if name not in more:
        raise UnknownName.of("format", name, [*BUILT_IN, *more])
    found = more[name].load()
    if not hasattr(found, "open"):
        raise RequestError(f"the reader {name!r} ({more[name].value}) has no function open(job)")
    return found  # type: ignore[no-any-return]


def check(job: Job, names: Sequence[str], hint: str = "") -> None:
    """Raises UnknownName for the first column the mapping reads that is not among `names`."""
    for column in job.wanted:
        if column not in names:
            raise UnknownName.of("column", column, names, where=f"in {job.shown}{hint}")
