"""Where one field of an event comes from: a table or a column's name below `[logs.NAME.fields]`.

start  = { column = "When", form = "%d/%m/%Y %H:%M:%S" }
user   = { column = "Badge", names = "badge" }
device = "Reader"
caller = { column = "message", pair = "src_user" }
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, Literal, Self

from pydantic import Field as Key
from pydantic import field_validator, model_validator

from fermata.fields import Field as EventField
from fermata.fields import FieldType
from fermata.strict import Strict, listed

__all__ = ["DURATION_FORMS", "TIME_WORDS", "FieldMap", "check_forms", "expression", "in_percents", "named_once"]

TIME_WORDS = ("iso", "epoch s", "epoch ms", "epoch us", "julian day", "spreadsheet day")
DURATION_FORMS = ("seconds", "milliseconds", "minutes", "hours", "h:mm:ss", "h:mm", "mm:ss", "iso", "words")
CALLED = {  # form -> what others call it
    "iso": ("iso8601", "iso 8601", "iso", "rfc3339", "rfc 3339"),
    "epoch s": ("unix", "epoch", "unix time", "timestamp"), "epoch ms": ("unix ms", "epoch milliseconds", "java"),
    "spreadsheet day": ("excel", "excel serial", "excel date", "serial", "serial date", "ole", "oadate", "ole date"),
}  # fmt: skip
LETTERS = re.compile(r"(?i)(y+|d+|hh?(?:24|12)?|mi|m+|s+|f+|tt|am|a)|(.)")  # letters of a form, or a sign between them
SPELLINGS = ("lower", "composed", "no domain", "mac", "phone")


class FieldMap(Strict):
    """Where one field comes from: a column, several joined by a space, a constant, or the file's name.

    A text alone stands for `{ column = text }`; in a file without header a column is its number from 1. `file_name`
    beside a column stands in front of its text: a date in the file's name, the clock on its lines. With `pair` the
    column holds pairs such as `user=ann; line="A 1"`, and the field is the value of that name. `past_midnight` says
    that a date holds until the clock steps back: then the next day begins.
    """

    column: str | None = None
    columns: tuple[str, ...] | None = None
    constant: str | None = None
    file_name: str | None = None
    form: tuple[str, ...] = ()
    values: dict[str, str] | None = None
    names: str = ""
    type: FieldType | Literal["link"] | None = None  # a link is a text whose unit says so
    unit: str = ""
    scale: int | None = Key(default=None, ge=0, le=9)
    decimal: Literal[".", ","] = "."
    thousands: Literal["", ".", ",", " ", "'"] = ""
    separator: str = ","
    true: tuple[str, ...] = ("true", "yes", "1")
    false: tuple[str, ...] = ("false", "no", "0")
    next_day: bool = False
    part: str | None = None
    pair: str | None = None
    past_midnight: bool = False
    patterns: dict[str, str] = Key(default_factory=dict)
    empty: tuple[str, ...] = ()
    spelling: tuple[str, ...] = ()

    alone = ("column", ("string", "integer"))
    _lists = listed("form", "spelling", "empty")

    @field_validator("column", mode="before", json_schema_input_type=str | int | None)
    @classmethod
    def _numbered(cls, column: Any) -> Any:
        return str(column) if isinstance(column, int) and not isinstance(column, bool) else column

    @field_validator("columns", mode="before", json_schema_input_type=tuple[str | int, ...] | None)
    @classmethod
    def _several_numbered(cls, columns: Any) -> Any:
        return tuple(map(cls._numbered, columns)) if isinstance(columns, list | tuple) else columns

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [n for n in ("column", "columns", "constant", "file_name") if getattr(self, n) is not None]
        if len(given) != 1 and given not in (["column", "file_name"], ["columns", "file_name"]):
            raise ValueError(f"give one of column, columns, constant, file_name ({', '.join(given) or 'none'} given)")
        for key in ("file_name", "part"):
            pattern = getattr(self, key)
            if pattern is not None and expression(key, pattern).groups != 1:
                raise ValueError(f"{key} needs exactly one group, as in 'doors-(\\w+)-'")
        if self.pair is not None and not self.pair.strip():
            raise ValueError("pair is the name in front of the =, as in pair = 'user'")
        for pattern in self.patterns:
            expression("patterns", pattern)
        for rule in self.spelling:
            if rule not in SPELLINGS and not re.fullmatch(r"phone \+\d{1,3}", rule):
                raise ValueError(f"no spelling rule {rule!r}; there are {', '.join(SPELLINGS)}, and 'phone +44'")
        return self

    @property
    def read_columns(self) -> tuple[str, ...]:
        """The columns of the file this field reads."""
        return self.columns or ((self.column,) if self.column is not None else ())

    def type_for(self, name: str) -> FieldType:
        """The declared type, or what the field's name implies."""
        if name in ("start", "finish"):
            return "time"
        if name == "duration" or self.type is None:
            return "duration" if name == "duration" else "text"
        return "text" if self.type == "link" else self.type

    def event_field(self, name: str) -> EventField:
        """What the log's schema says of the field."""
        kind = self.type_for(name)
        scale = self.scale if self.scale is not None else {"money": 2, "decimal": 3}.get(kind, 0)
        return EventField(name, kind, "link" if self.type == "link" else self.unit, scale, self.names)


def expression(key: str, pattern: str) -> re.Pattern[str]:
    """A regular expression that the engine can run too. Raises ValueError saying what is wrong with it."""
    try:
        found = re.compile(pattern)
    except re.error as e:
        raise ValueError(f"{key} is no regular expression: {e}") from None
    if re.search(r"\(\?(?:[=!>]|<[=!]|\()|\\[1-9]|\(\?P=", pattern):
        raise ValueError(f"{key}: look-ahead, look-behind and back references cannot be used over many records")
    return found


def check_forms(name: str, field: FieldMap) -> None:
    """Raises ValueError for a form of a time or a length that there is not."""
    if field.type_for(name) == "duration":
        for form in field.form:
            if form not in DURATION_FORMS:
                raise ValueError(f"{name}: no duration form {form!r}; there are {', '.join(DURATION_FORMS)}")
        return
    for form in field.form:
        if form not in TIME_WORDS and "%" not in form:
            likely = in_percents(form)
            better = (
                f"did you mean {likely!r}?"
                if likely
                else (f"give {', '.join(TIME_WORDS)} or a pattern such as %d/%m/%Y %H:%M:%S")
            )
            raise ValueError(f"{name}: no time form {form!r}; {better}")


def in_percents(form: str) -> str:
    """A form of time that is written in letters (`dd/MM/yyyy HH:mm:ss`), or by another name, as it is written here;
    empty where it says no date.

    >>> in_percents("dd/MM/yyyy hh:mm:ss tt")
    '%d/%m/%Y %I:%M:%S %p'
    """
    if word := next((own for own, others in CALLED.items() if form.casefold() in others), ""):
        return word
    found, before = "", ""
    for letters, other in LETTERS.findall(form.replace("'", "")):
        sign = _percent(letters, before, twelve=bool(re.search("tt|a$|am", form.casefold())))
        found, before = found + (sign or other or letters), sign or before
    return found if {"%d", "%m"} <= set(re.findall("%.", found)) or "%b" in found else ""


def _percent(letters: str, before: str, *, twelve: bool) -> str:
    """What letters of a form stand for, after what was `before`."""
    match letters.casefold()[:1], letters.casefold():
        case "y", _:
            return "%y" if len(letters) == 2 else "%Y"
        case "d", _:
            return {1: "%d", 2: "%d", 3: "%a"}.get(len(letters), "%A")
        case "h", text:
            return "%I" if twelve or text == "hh12" else "%H"
        case "m", text if text == "mi" or before in ("%H", "%I"):
            return "%M"
        case "m", text:
            return {3: "%b", 4: "%B"}.get(len(text), "%m")
        case "s", text:
            return "%f" if len(text) > 2 else "%S"
        case "f", _:
            return "%f"
        case (("t" | "a"), _):
            return "%p"
    return ""


def named_once(row: Sequence[str]) -> list[str]:
    """The names of a header, each told from the others: a repeated one gets `_2`, `_3`."""
    seen: dict[str, int] = {}
    names = []
    for column in (c.strip() for c in row):
        seen[column] = seen.get(column, 0) + 1
        names.append(column if seen[column] == 1 else f"{column}_{seen[column]}")
    return names
