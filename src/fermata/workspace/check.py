"""All files of a workspace read, and every problem of them listed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

from fermata.errors import ConfigError, FermataError
from fermata.reports.compile.request import compiled
from fermata.workspace import importing
from fermata.workspace.base import Base

__all__ = ["Problem", "problems"]


class Problem(NamedTuple):
    """What is wrong, and in which file."""

    file: str
    words: str


def problems(base: Base) -> list[Problem]:
    """Every problem of the logs, registers, viewers and reports of a workspace whose `fermata.toml` could be read:
    files that no pattern finds, registers that cannot be read, reports that could not run.
    """
    found: list[Problem] = []

    def tried(file: str, check: Callable[..., Any], *arguments: Any) -> None:
        try:
            check(*arguments)
        except ConfigError as e:
            found.extend(Problem(file, p) for p in e.problems)
        except FermataError as e:
            found.append(Problem(file, str(e)))

    for name in base.imported:
        log = base.config.logs[name]
        if not log.database and log.files and not importing.files(base, name):
            found.append(Problem("fermata.toml", f"logs.{name}: no file matches {', '.join(log.files)}"))
    for name in base.whole_directory.tables:
        tried("fermata.toml", base.whole_directory.register, name)
    for viewer in base.config.viewers:
        tried("fermata.toml", lambda v=viewer: base.seen_by(v).view)
    for name in base.own_reports():
        tried(f"reports/{name}.toml", _run, base, name)
    found += _strays(base.path)
    return found


def _run(base: Base, name: str) -> None:
    report = base.definition(name)
    compiled(report.changed(must_name=()), base.place(), base.now())


def _strays(path: Path) -> Iterator[Problem]:
    """TOML files that cannot be used, for their names."""
    for folder in ("reports", "deliveries"):
        for file in sorted((path / folder).glob("*")) if (path / folder).is_dir() else ():
            if file.suffix != ".toml" and not file.name.startswith(".") and not file.name.endswith(".removed"):
                yield Problem(f"{folder}/{file.name}", "is no file of this folder; files are NAME.toml")
