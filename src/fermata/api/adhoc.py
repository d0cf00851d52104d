"""Reports without a workspace: one export, mapped in the call."""

from __future__ import annotations

import re
import tempfile
import weakref
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata import tomlfile
from fermata.api.question import Question
from fermata.api.workspace import Workspace, clock_of
from fermata.config.workspace_file import Config
from fermata.workspace.base import Base

__all__ = ["read"]

SETTINGS = (
    "delimiter",
    "quote",
    "encoding",
    "header",
    "skip_lines",
    "comment",
    "keep",
    "drop",
    "ambiguous",
    "nonexistent",
    "repeats",
    "record_id",
)


def read(
    path: str | Path | Iterable[str | Path],
    *,
    time: Any = None,
    zone: str,
    form: str | tuple[str, ...] = (),
    now: datetime | None = None,
    **fields: Any,
) -> Question:
    """A question to one or several delimited files, without a workspace.

    `time` (or `start`), `finish`, `duration`, `user`, `device`, `place`, `action`, `outcome`, `other` and any further
    field name a column, or are tables as in `fermata.toml`; `form` is how times are written (ISO 8601 by default),
    `zone` the zone of times without an offset. The settings of a log (`delimiter`, `encoding`, `header` ...) work too.
    The events are kept in a temporary directory for as long as the question lives. Raises ConfigError, SourceError.

    >>> fermata.read("x.csv", time="When", user="Badge", zone="Europe/Lisbon").by("month").to_pandas()  # doctest: +SKIP
    """
    mapped: dict[str, Any] = {k: fields.pop(k) for k in SETTINGS if k in fields}
    if time is not None:
        fields["start"] = time
    for name in ("start", "finish"):
        if form and name in fields:
            given = fields[name] if isinstance(fields[name], dict) else {"column": fields[name]}
            fields[name] = {"form": form, **given}
    paths = [Path(path)] if isinstance(path, str | Path) else [Path(p) for p in path]
    name = re.sub(r"^[^a-z]+|[^a-z0-9]+", "_", paths[0].stem.lower()).strip("_") if paths else ""
    name = name or "log"
    data = {"workspace": {"zone": zone}, "logs": {name: {**mapped, "fields": fields}}}
    config = tomlfile.parse(Config, data, "fermata.read(...)", "", ())
    directory = tempfile.TemporaryDirectory(prefix="fermata-")
    base = Base(Path(directory.name).resolve(), config, clock_of(now))
    weakref.finalize(base, directory.cleanup)
    workspace = Workspace(base)
    workspace.archive.import_log(name, paths)
    return workspace.log(name)
