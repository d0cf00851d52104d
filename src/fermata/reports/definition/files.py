"""Report files: `reports/NAME.toml`, one report each; read, and written so that people can read them."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

from fermata import tomlfile
from fermata.analysis.filters import Condition
from fermata.errors import DataError, RequestError, UnknownName, nearest
from fermata.reports.definition import catalogue
from fermata.reports.definition.parts import Strict
from fermata.reports.definition.report import Report
from fermata.reports.definition.search import SAME, ranked

__all__ = ["copied", "held", "load", "names", "save", "text_of", "write"]

NAME = re.compile(r"[a-z0-9][a-z0-9_-]*")
TABLES = ("columns", "parts")


def names(directory: Path) -> list[str]:
    """The reports kept in a directory, by name."""
    return sorted(p.stem for p in directory.glob("*.toml"))


def load(directory: Path, name: str, also: tuple[str, ...] = ()) -> Report:
    """The report kept under `name`, else the ready one of that name.

    Raises UnknownName (`also` are other names that would do) and ConfigError.
    """
    own = names(directory)
    if name in own:
        path = directory / f"{name}.toml"
        data, text = tomlfile.load(path)
        return tomlfile.parse(Report, data, path, text)
    if not NAME.fullmatch(name) or (found := catalogue.ready(name)) is None:
        raise _unknown(name, [*own, *catalogue.entries(), *also])
    return found


def _unknown(name: str, known: list[str]) -> UnknownName:
    """The error for a report that there is not: of several words, or where no name is like it, with the reports that
    the words find.
    """
    found = [e.name for e in ranked(catalogue.entries().values(), name)][:3]
    of_the_trade = len(name.split()) > 1 or any(name in same for same in SAME)
    if not found or (nearest(name, known) and not of_the_trade):
        return UnknownName.of("report", name, known)
    return UnknownName(f"there is no report {name!r}; these words find {', '.join(found)} (fermata reports NAME)")


def save(directory: Path, name: str, report: Report, *, over: bool = False) -> Path:
    """Writes the report as a file of its own. Raises RequestError for a name that is taken (unless `over`) or will not
    do.
    """
    return write(_free(directory, name, over), text_of(report))


def write(path: Path, text: str) -> Path:
    """Writes a text whole or not at all. Raises DataError."""
    aside = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        aside.write_text(text, encoding="utf-8")
        aside.replace(path)
    except OSError as e:
        aside.unlink(missing_ok=True)
        raise DataError(f"{path}: cannot be written: {e.strerror}") from None
    return path


def copied(directory: Path, name: str, new: str, *, over: bool = False) -> Path:
    """A copy of a report's file, comments and all, under a new name; the original stays. Raises UnknownName,
    RequestError.
    """
    own = directory / f"{name}.toml"
    if not own.exists():
        if not NAME.fullmatch(name) or (ready := catalogue.entry(name)) is None:
            raise _unknown(name, [*names(directory), *catalogue.entries()])
        own = ready.path
    return write(_free(directory, new, over), own.read_text(encoding="utf-8"))


def _free(directory: Path, name: str, over: bool) -> Path:
    if not NAME.fullmatch(name):
        raise RequestError(f"{name!r} cannot name a report: small letters, digits, - and _")
    path = directory / f"{name}.toml"
    if path.exists() and not over:
        raise RequestError(
            f"there is a report {name} already ({path}); choose another name, or replace it (--replace; over=True)"
        )
    return path


def text_of(report: Strict) -> str:
    """The definition as a report file has it: only the keys that say something."""
    import tomlkit

    return tomlkit.dumps(_table(held(report), tomlkit.document()))


def held(model: Strict) -> dict[str, Any]:
    """The keys that differ from what they are anyway, in the model's order, as plain values; tables last, as TOML wants
    them.
    """
    plain: dict[str, Any] = {}
    tables: dict[str, Any] = {}
    for name, field in type(model).model_fields.items():
        value = getattr(model, name)
        if value == field.get_default(call_default_factory=True) or (
            name == "columns" and getattr(model, "listing", None)
        ):
            continue
        key = field.alias or name
        if isinstance(value, tuple) and value and all(isinstance(c, Condition) for c in value):
            plain[key] = _written(value)
        elif name == "any_of":
            plain[key] = [[_written((c,)) for c in group] for group in value]
        elif name in TABLES:
            tables[key] = [held(c) for c in value]
        elif isinstance(value, Strict):
            plain[key] = held(value)
        else:
            plain[key] = list(value) if isinstance(value, tuple) else value
    order = ("title", "about", "category", "label", "log", "kind", "made")
    ordered = (*(k for k in order if k in plain), *(k for k in plain if k not in order))
    return {key: plain[key] for key in ordered} | tables


def _table(values: dict[str, Any], table: Any) -> Any:
    """Plain values as a table of a file, tables of reports as lists of tables, all others on a line."""
    import tomlkit

    for key, value in values.items():
        if key in TABLES:
            listed = tomlkit.aot()
            listed.extend(_table(c, tomlkit.table()) for c in value)
            table.append(key, listed)
        elif key == "any_of":
            table.append(key, [[_inline(c) for c in group] for group in value])
        else:
            table.append(key, _inline(value) if isinstance(value, dict) else value)
    return table


def _inline(values: dict[str, Any]) -> Any:
    import tomlkit

    table = tomlkit.inline_table()
    for name, value in values.items():
        table.append(tomlkit.key([name]) if "." in name else name, _inline(value) if isinstance(value, dict) else value)
    return table


def _written(conditions: tuple[Condition, ...]) -> dict[str, Any]:
    """Conditions as `{ field = value }`."""
    found: dict[str, list[Any]] = {}
    for c in conditions:
        values: list[Any]
        if c.kind == "is":
            values = [_plain(v) for v in c.values]
        elif c.kind == "empty":
            values = [""]
        elif c.kind == "between":
            values = [{k: _plain(v) for k, v in zip(("from", "to"), c.values, strict=True) if v is not None}]
        else:
            values = [{"like": list(c.values)} if c.kind == "like" else {"words": " ".join(map(str, c.values))}]
        found.setdefault(c.field, []).extend(values)
    return {name: values[0] if len(values) == 1 else values for name, values in found.items()}


def _plain(value: Any) -> Any:
    return value if isinstance(value, bool | int | float | str) else str(value)
