"""Proposing a log from a file, and adding it to a workspace once it is known to be readable."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

from fermata import tomlfile
from fermata.api.config import Config
from fermata.errors import DataError, RequestError
from fermata.intake import opening
from fermata.intake.guess.propose import propose as from_file

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["add_log", "log_name", "propose"]


def log_name(path: Path) -> str:
    """A name for the log of a file: its own, without endings and numbers."""
    stem = re.split(r"[.\d]", opening.plain_name(path))[0].strip("-_ ").lower()
    return re.sub(r"[^a-z0-9_-]+", "-", stem).strip("-") or "log"


def propose(path: Path, log: str, base: Path | None = None) -> tuple[str, list[str]]:
    """The TOML proposed for a log of files like `path`, and what is unsure. Raises SourceError."""
    whole = path.resolve()
    inside = base is not None and whole.is_relative_to(base)
    shown = whole.relative_to(base).as_posix() if inside and base else str(path)
    return from_file(path, log, shown)


def add_log(workspace: Workspace, path: Path, log: str | None) -> tuple[str, list[str]]:
    """Appends the proposal to `fermata.toml`, if the whole still reads. Raises RequestError, ConfigError."""
    name = log or log_name(path)
    if name in workspace.config.logs:
        raise RequestError(f"there is a log {name} already; give the new one another name with --log")
    text, doubts = propose(path, name, workspace.path)
    config = workspace.path / "fermata.toml"
    whole = config.read_text(encoding="utf-8").rstrip("\n") + "\n\n" + text
    tomlfile.parse(Config, tomllib.loads(whole), config, whole)
    aside = config.with_suffix(".new")
    try:
        aside.write_text(whole, encoding="utf-8")
        aside.replace(config)
    except OSError as e:
        raise DataError(f"{config}: cannot be written: {e.strerror}") from None
    return name, doubts
