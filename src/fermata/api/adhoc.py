"""Reports without a workspace of one's own: files, streams and tables, read in the call."""

from __future__ import annotations

import difflib
import re
import tempfile
import tomllib
import weakref
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from fermata import tomlfile
from fermata.api.question import Question
from fermata.api.sources import Source, WithFields, kept, registered
from fermata.api.workspace import Workspace, clock_of
from fermata.config.workspace_file import Config
from fermata.errors import FermataError, RequestError, SourceError
from fermata.kinds import KINDS
from fermata.timeline.zones import Moment
from fermata.workspace.base import Base
from fermata.workspace.proposing import propose

__all__ = ["Read", "build", "read"]

SETTINGS = (
    "delimiter", "quote", "encoding", "header", "skip_lines", "comment", "keep", "drop", "ambiguous", "nonexistent",
    "repeats", "record_id", "format", "expression", "sheet", "path", "empty",
)  # fmt: skip
KNOWN = {  # what fields are usually called
    "start", "finish", "duration", "user", "device", "place", "action", "outcome", "other",
    *(name for kind in KINDS.values() for name in (*kind.fields, *kind.further)),
}  # fmt: skip
NO_FORM = ("kind", "keep", "drop", "fields", "files")  # of a proposal: what is not about the format
ALIKE = 0.75  # a keyword this much like a field's name is a slip of it


@dataclass(frozen=True, repr=False)
class Read(Question):
    """A question to what was read: `summary` says what became of the records, `rejects` which could not be read and
    why, `doubts` what of the mapping (a TOML text) is unsure.
    """

    mapping: str = ""
    doubts: tuple[str, ...] = ()
    summary: str = ""
    rejects: tuple[Mapping[str, object], ...] = ()


def read(
    source: Source,
    *,
    time: str | Mapping[str, object] | None = None,
    zone: str = "UTC",
    form: str | tuple[str, ...] = (),
    now: Moment | None = None,
    name: str = "",
    **fields: object,
) -> Read:
    """A question to one log without a workspace: a path, a glob, several paths, a stream of bytes, or a table of
    pandas, polars, Arrow, DuckDB or Ibis, or dictionaries. The format of files is found by their content.

    `time` (or `start`), `finish`, `duration`, `user`, `device`, `place`, `action`, `outcome`, `other` and any further
    field name a column, or are tables as in `fermata.toml`; without any, a mapping is proposed (`mapping`, `doubts`).
    `form` is how times are written (ISO 8601 by default), `zone` the zone of times without an offset. The settings of a
    log (`delimiter`, `encoding`, `header` ...) work too. The events are kept in a temporary directory for as long as
    the question lives. Raises ConfigError, RequestError for a keyword that is a slip, SourceError for what cannot be
    read, and where nothing of it can.

    >>> doors = [{"When": "2026-03-02T08:01", "Badge": "B-1"}, {"When": "2026-03-02T17:30", "Badge": "B-1"}]
    >>> fermata.read(doors, time="When", user="Badge", zone="Europe/Lisbon").by("user").to_dicts()
    [{'User': 'B-1', 'Count': 2}]
    """
    if time is not None and "start" in fields:
        raise RequestError("time and start mean the same; give one of them")
    if time is not None:
        fields["start"] = time
    if form and not {"start", "finish"} & fields.keys():
        raise RequestError(f"form={form!r} is how a time is written; say in which column: time='When'")
    fields |= {n: {"form": form, **_table(fields[n])} for n in ("start", "finish") if form and n in fields}
    workspace, logs = _made({name or "log": (source, fields)}, {}, zone, now, named=bool(name))
    (log,) = logs
    one = logs[log]
    question = workspace.log(log)
    return Read(question.workspace, question.report, one.mapping, one.doubts, one.summary, one.rejects)


def build(
    logs: Mapping[str, WithFields],
    *,
    registers: Mapping[str, WithFields] | None = None,
    zone: str = "UTC",
    now: Moment | None = None,
) -> Workspace:
    """A workspace in a temporary directory from tables and files: `logs` are sources as `read` takes them, or a source
    with its fields (`(frame, {"start": "When", "user": "Badge"})`); `registers` tables with how they are read
    (`(frame, {"id": "Id", "label": "Name", "names": {"badge": "Badge"}})`). It lives as long as the workspace does.
    Raises what `read` raises.

    >>> doors = [{"When": "2026-03-02T08:01", "Badge": "B-1", "Door": "Gate"}]
    >>> own = fermata.build({"doors": (doors, {"start": "When", "user": "Badge", "device": "Door"})})
    >>> own.log("doors").by("device").to_dicts()
    [{'Device': 'Gate', 'Count': 1}]
    """
    given = {n: _with_fields(s) for n, s in logs.items()}
    workspace, _ = _made(given, registers or {}, zone, now, named=True)
    return workspace


def _with_fields(source: WithFields) -> tuple[object, dict[str, object]]:
    """A source, and how its fields are read."""
    if isinstance(source, tuple) and len(source) == 2 and isinstance(source[1], dict):
        return source[0], dict(source[1])
    return source, {}


@dataclass(frozen=True)
class _One:
    """What became of a log that was read."""

    mapping: str
    doubts: tuple[str, ...]
    summary: str
    rejects: tuple[Mapping[str, object], ...]


def _made(
    logs: Mapping[str, tuple[object, dict[str, object]]], registers: Mapping[str, WithFields], zone: str,
    now: Moment | None, *, named: bool,
) -> tuple[Workspace, dict[str, _One]]:  # fmt: skip
    """The workspace of some sources, and what became of each."""
    directory = tempfile.TemporaryDirectory(prefix="fermata-")
    try:
        here = Path(directory.name).resolve()
        tables: dict[str, Any] = {}
        files: dict[str, list[Path]] = {}
        doubts: dict[str, tuple[str, ...]] = {}
        for given, (source, fields) in logs.items():
            paths = kept(source, here, given)
            log = given if named else _named(paths[0], given)
            tables[log], doubts[log] = _mapped(paths[0], log, fields)
            files[log] = paths
        data = {"workspace": {"zone": zone}, "logs": tables, "registers": registered(registers, here)}
        config = tomlfile.parse(Config, data, "fermata.read(...)", "", ())
        base = Base(here, config, clock_of(now, zone))
        weakref.finalize(base, directory.cleanup)
        workspace = Workspace(base)
        return workspace, {log: _imported(workspace, log, files[log], tables[log], doubts[log]) for log in tables}
    except FermataError:
        directory.cleanup()
        raise


def _imported(
    workspace: Workspace, log: str, paths: list[Path], table: dict[str, Any], doubts: tuple[str, ...]
) -> _One:
    """Imports a log's files. Raises SourceError where nothing of them can be read."""
    import tomlkit

    done = [o.file for o in workspace.archive.import_log(log, paths) if o.file]
    rejects = tuple(workspace.base.place().rejects(log))
    total, stored = sum(f.read for f in done), sum(f.stored for f in done)
    if rejects and not stored:
        reasons = dict.fromkeys(str(r["reason"]) for r in rejects)
        raise SourceError(f"{log}: none of {total:,} records could be read: {'; '.join(list(reasons)[:3])}")
    summary = f"{total:,} records read, {stored:,} stored" + (f", {len(rejects):,} rejected" if rejects else "")
    return _One(tomlkit.dumps({"logs": {log: table}}), doubts, summary, rejects)


def _named(path: Path, otherwise: str) -> str:
    name = re.sub(r"^[^a-z]+|[^a-z0-9]+", "_", path.stem.lower()).strip("_")
    return name or otherwise


def _table(field: Any) -> dict[str, Any]:
    return field if isinstance(field, dict) else {"column": field}


def _mapped(path: Path, log: str, given: dict[str, Any]) -> tuple[dict[str, Any], tuple[str, ...]]:
    """The log's table: what was given, and what the file itself tells of it. Raises RequestError."""
    settings = {k: given.pop(k) for k in SETTINGS if k in given}
    for name in given:
        near = difflib.get_close_matches(name, sorted(KNOWN), 1, ALIKE)
        if name not in KNOWN and near and near[0] not in given:
            raise RequestError(f"there is no field {name!r} in use; did you mean {near[0]!r}?")
    try:
        text, doubts = propose(path, log)
        proposed = tomllib.loads(text)["logs"][log]
    except SourceError:
        if not given:
            raise
        proposed, doubts = {"fields": {}}, []
    found = _with_lengths(path, proposed.pop("fields", {}))
    proposed.pop("files", None)
    if not given:
        return {**proposed, **settings, "fields": found}, tuple(doubts)
    typed = {_column(_table(f)): _table(f) for f in found.values()}
    fits = any(_column(_table(f)) in typed for f in given.values())  # else the file was taken for something else
    how = {k: v for k, v in proposed.items() if k not in NO_FORM} if fits and not settings else {}
    typed = typed if fits else {}
    fields = {n: _typed(f, typed) for n, f in given.items()}
    form = {"format": "parquet"} if path.suffix == ".parquet" else {}
    return {**how, **form, **settings, "fields": fields}, ()


def _with_lengths(path: Path, fields: dict[str, Any]) -> dict[str, Any]:
    """The proposed fields, with the columns of a Parquet file that hold lengths of time as such: in seconds, the first
    as the duration where there is none.
    """
    import pyarrow as pa
    from pyarrow import parquet

    if path.suffix != ".parquet":
        return fields
    lengths = [f.name for f in parquet.read_schema(path) if pa.types.is_duration(f.type)]
    for column in lengths:
        name = next((n for n, f in fields.items() if _column(_table(f)) == column), "duration")
        form = {"column": column, "form": "seconds"}
        if not {"duration", "finish"} & (fields.keys() - {name}):
            fields.pop(name, None)
            fields["duration"] = form
        else:
            fields[name] = {"type": "duration", **form}
    return fields


def _column(field: dict[str, Any]) -> str:
    return str(field.get("column", ""))


def _typed(field: Any, typed: dict[str, dict[str, Any]]) -> Any:
    """A field that names a plain column, with the type and form that its values have."""
    if not isinstance(field, str) or field not in typed:
        return field
    kept = {k: v for k, v in typed[field].items() if k in ("column", "type", "scale", "form", "true", "false")}
    return kept if len(kept) > 1 else field
