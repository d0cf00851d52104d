"""Report files: `reports/NAME.toml`, one report each."""

from __future__ import annotations

from pathlib import Path

from fermata import tomlfile
from fermata.errors import UnknownName
from fermata.reports.model import Report

__all__ = ["load", "names"]


def names(directory: Path) -> list[str]:
    """The reports kept in a directory, by name."""
    return sorted(p.stem for p in directory.glob("*.toml"))


def load(directory: Path, name: str, also: tuple[str, ...] = ()) -> Report:
    """The report kept under `name`. Raises UnknownName (`also` are other names that would do) and ConfigError."""
    path = directory / f"{name}.toml"
    if name not in names(directory):
        raise UnknownName.of("report", name, [*names(directory), *also])
    data, text = tomlfile.load(path)
    return tomlfile.parse(Report, data, path, text)
