"""TOML files people write: read, checked against a model, every problem at once with its line.

The one place that turns a file's problems into `ConfigError`.
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from fermata.errors import ConfigError, nearest

if TYPE_CHECKING:
    from pydantic import BaseModel, ValidationError

M = TypeVar("M", bound="BaseModel")

__all__ = ["line_of", "load", "parse", "problems"]

MEANT = {  # key -> what others call it
    "files": "path paths file source sources glob filename", "zone": "timezone time_zone tz", "kind": "type category",
    "format": "type reader parser", "fields": "columns mapping map", "delimiter": "separator sep",
    "form": "format date_format time_format dateformat", "encoding": "charset codepage", "header": "headers has_header",
    "skip_lines": "skip skip_rows skiprows", "column": "name source", "values": "rename replace translate",
    "by": "group_by groupby group", "across": "pivot", "columns": "measures metrics measure columns select",
    "only": "filter filters where include", "without": "exclude not", "sort": "order order_by", "top": "limit head",
    "log": "table dataset", "title": "name", "when": "schedule cron every time", "formats": "format output outputs",
    "to": "mail email recipients recipient", "id": "key", "attributes": "columns", "period": "range dates",
}  # fmt: skip
HEADER = re.compile(r"\s*\[{1,2}\s*([^\]]+?)\s*\]{1,2}\s*(?:#.*)?$")
KEY = re.compile(r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"))*)\s*=""")


def load(path: Path) -> tuple[dict[str, Any], str]:
    """The tables of the file and its text. Raises ConfigError if it is no TOML or not readable."""
    try:
        text = path.read_text(encoding="utf-8-sig")
        return tomllib.loads(text), text
    except OSError as e:
        raise ConfigError(str(path), [f"cannot be read: {e.strerror}"]) from None
    except UnicodeDecodeError:
        raise ConfigError(str(path), ["is not UTF-8 text; save it as UTF-8"]) from None
    except tomllib.TOMLDecodeError as e:
        raise ConfigError(str(path), [f"is not TOML: {e}"]) from None
    except RecursionError:
        raise ConfigError(str(path), ["its lists or tables stand too deep in each other"]) from None


def parse(model: type[M], data: Any, path: Path | str, text: str, at: tuple[str, ...] = ()) -> M:
    """`data` as a `model`; `at` is where in the file it stands. Raises ConfigError with every problem."""
    import pydantic

    try:
        return model.model_validate(data)
    except pydantic.ValidationError as e:
        raise ConfigError(str(path), problems(e, model, text, at)) from None


def problems(error: ValidationError, model: type[BaseModel], text: str, at: tuple[str, ...] = ()) -> list[str]:
    """Each problem as `line N, key: what is wrong; what would be right`."""
    found = []
    for item in error.errors(include_url=False):
        keys = (*at, *(str(k) for k in item["loc"] if not _is_branch(k)))
        message = item["msg"].removeprefix("Value error, ").removeprefix("Input should be ")
        if item["type"] == "extra_forbidden":
            message = "there is no such key" + _near(str(item["loc"][-1]), model, item["loc"][:-1])
        elif item["type"] == "missing":
            message = "is missing"
        elif item["type"] in ("model_type", "dict_type"):
            message = f"should be a table of keys, {{ key = value }}, not {item['input']!r}"
        elif item["type"] in ("too_short", "string_too_short"):
            message = "is empty; give at least one" if item["type"] == "too_short" else "is empty"
        elif item["type"] in ("tuple_type", "list_type"):
            message = f'should be a list, ["a", "b"], not {item["input"]!r}'
        elif item["type"] != "value_error":
            message = f"should be {message[0].lower() + message[1:]}, not {item['input']!r}"
        line = line_of(text, keys)
        place = _place(keys)
        found.append(f"{f'line {line}, ' if line else ''}{place + ': ' if place else ''}{message}")
    return list(dict.fromkeys(found))


def _place(keys: tuple[str, ...]) -> str:
    """Where a problem is, in words: `columns 1`, `ask.back`; places in a list count from 1."""
    words: list[str] = []
    for key in keys:
        if key.isdigit() and words:
            words[-1] += f" {int(key) + 1}"
        elif not (key == "measure" and words and words[-1].startswith("columns ")):
            words.append(key)
    return ".".join(words)


def _is_branch(key: object) -> bool:
    """Whether pydantic put the key in for a branch of a union; it is no key of the file."""
    return isinstance(key, str) and (key[:1].isupper() or "[" in key or key in ("str", "int", "bool", "float"))


def _near(key: str, model: Any, loc: tuple[int | str, ...]) -> str:
    """The keys of the table that `loc` leads to which look like `key`."""
    fields = getattr(model, "model_fields", {})
    for part in loc:
        annotation = fields[part].annotation if part in fields else None
        nested = next((a for a in _models(annotation)), None)
        fields = nested.model_fields if nested else fields
    names = [field.alias or name for name, field in fields.items()]
    meant = [own for own, words in MEANT.items() if own in names and key.lower() in words.split()]
    if close := meant or nearest(key, names):
        return f"; did you mean {' or '.join(close)}?"
    return f" (keys: {', '.join(names)})"


def _models(annotation: Any) -> list[Any]:
    if hasattr(annotation, "model_fields"):
        return [annotation]
    return [m for a in getattr(annotation, "__args__", ()) for m in _models(a)]


def line_of(text: str, keys: tuple[str, ...]) -> int | None:
    """The line, from 1, on which the value at `keys` is written; that of the nearest table above it otherwise."""
    best: tuple[int, int] | None = None
    table: tuple[str, ...] = ()
    counts: dict[tuple[str, ...], int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if m := HEADER.match(line):
            table = _split(m[1])
            if line.lstrip().startswith("[["):
                counts[table] = counts.get(table, -1) + 1
                table = (*table, str(counts[table]))
            here = table
        elif m := KEY.match(line):
            here = (*table, *_split(m[1]))
        else:
            continue
        shared = len(here) if keys[: len(here)] == here else 0
        if shared and (best is None or shared > best[0]):
            best = (shared, number)
    return best[1] if best else None


def _split(dotted: str) -> tuple[str, ...]:
    return tuple(p.strip("\"' ") for p in re.findall(r"""[^.\s"']+|"[^"]*"|'[^']*'""", dotted))
