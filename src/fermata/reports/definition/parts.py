"""What a report is made of: conditions, sources, columns, listings and questions, each validated on its own."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import Field, ValidationInfo, WithJsonSchema, field_validator, model_validator

from fermata.analysis.filters import Condition, Selection, between, conditions, empty, like, words
from fermata.analysis.formula import Formula
from fermata.analysis.measures import Measure
from fermata.digest import Apart
from fermata.kinds import KINDS
from fermata.strict import Strict, listed, split

__all__ = [
    "BYTES",
    "EVERYWHERE",
    "SPENT",
    "WHOLE",
    "Ask",
    "Chosen",
    "ColumnSpec",
    "Conditions",
    "Listing",
    "Sourced",
    "Strict",
    "conditions_of",
]

TABLE_KEYS = ("like", "from", "to", "empty", "words")
EVERYWHERE = (
    "trail",
    "attention",
    "logs",
    "cannot",
    "unresolved",
    "edits",
)  # asked of the whole workspace, not of one log
WHOLE = ("attention", "logs", "cannot")  # what cannot be narrowed: they look at whole logs
SPENT = {  # unit of a length of time -> its microseconds, and the decimals it is shown with
    "h": (3_600_000_000, 2),
    "min": (60_000_000, 1),
    "s": (1_000_000, 0),
    "days": (86_400_000_000, 2),  # of 24 hours
}
BYTES = {"KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}  # decimal prefixes (SI)
UNITS = ("h:mm:ss", "h:mm", "h", "min", "s", "days", "KB", "MB", "GB", "TB")
_VALUE = {
    "anyOf": [
        {"type": ["string", "number", "boolean", "array"]},
        {"type": "object", "properties": {k: {} for k in TABLE_KEYS}},
    ]
}
_TABLE = {
    "type": "object",
    "additionalProperties": _VALUE,
    "description": "field = value, several, or like, from/to, words, empty",
}
Conditions = Annotated[tuple[Condition, ...], WithJsonSchema(_TABLE)]
Alternatives = Annotated[
    tuple[tuple[Condition, ...], ...],
    WithJsonSchema({"type": "array", "description": "a list of such tables, one of which must hold"}),
]


def conditions_of(data: Any, *, drops: bool = False) -> Any:
    """Conditions from `{ field = value }`; a value is one, several, or a table of like, from/to, words, empty. Raises
    ValueError, also for an empty list, of which nothing could be kept; where the conditions drop, it drops nothing.
    """
    if not isinstance(data, dict):
        return data
    found: dict[str, Any] = {}
    for name, value in data.items():
        listed = _values(value)
        if not listed and not drops:
            raise ValueError(
                f"{name}: the list of values is empty, so nothing would be kept; name some, or leave it out"
            )
        found[name] = [_special(name, v) if isinstance(v, dict) else v for v in listed]
    return conditions(found)


def _values(value: Any) -> list[Any]:
    """One value or several, of a column of another library too, as a list of Python's own."""
    for own in ("tolist", "to_pylist", "to_list"):  # of NumPy and pandas, of Arrow, of polars
        if hasattr(value, own):
            value = getattr(value, own)()
    several = isinstance(value, Iterable) and not isinstance(value, str | bytes | Mapping)
    return list(value) if several else [value]


def _special(name: str, table: dict[str, Any]) -> Any:
    if unknown := [k for k in table if k not in TABLE_KEYS]:
        raise ValueError(f"{name}: no such key {unknown[0]!r}; a condition has {', '.join(TABLE_KEYS)}")
    if "like" in table:
        patterns = table["like"]
        return like(*([patterns] if isinstance(patterns, str) else patterns))
    if "words" in table:
        return words(*str(table["words"]).split())
    return empty if table.get("empty") else between(table.get("from"), table.get("to"))


class Chosen(Strict):
    """What a report and each of its columns may narrow."""

    only: Conditions = ()
    without: Conditions = ()
    any_of: Alternatives = ()

    @field_validator("only", "without", mode="before")
    @classmethod
    def _read_conditions(cls, data: Any, of: ValidationInfo) -> Any:
        return conditions_of(data, drops=of.field_name == "without")

    @field_validator("any_of", mode="before")
    @classmethod
    def _read_alternatives(cls, data: Any) -> Any:
        """A list of tables is one set of alternatives; a list of such lists several, all of which must hold."""
        if isinstance(data, list | tuple) and data and all(isinstance(d, dict) for d in data):
            data = [data]
        if not isinstance(data, list | tuple):
            return data
        found = tuple(
            tuple(c for one in group for c in (conditions_of(one) if isinstance(one, dict) else (one,)))
            for group in data
        )
        if () in found:
            raise ValueError("there is no alternative, so nothing would be kept; name some, or leave it out")
        return found

    @property
    def selection(self) -> Selection:
        """The conditions together.

        >>> str(Report.of(log="doors", only={"action": "in"}).selection)
        'only action is in'
        """
        return Selection(self.only, self.without, self.any_of)


class Sourced(Chosen):
    """What names its events: a log of the workspace, or whichever log it has of a `kind`. With `made`, one made from
    such a log: "pairing", "pairing: in" (by that opening), "states", "merge", "link", "combine", "required time"
    ...
    """

    log: str = ""
    kind: str = ""
    made: str = ""

    @field_validator("kind")
    @classmethod
    def _known(cls, name: str) -> str:
        if name and name not in KINDS:
            raise ValueError(f"there is no kind of log {name!r}; there are {', '.join(KINDS)}")
        return name

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        if self.log and (self.kind or self.made):
            raise ValueError("give either log (one by name) or kind (whichever the workspace has), not both")
        if self.made and not self.kind:
            raise ValueError("made needs kind: the kind of log it is made from")
        return self


class ColumnSpec(Sourced):
    """A column: a measure with a heading, and if wanted a log, hours and a narrower selection of its own; or a formula
    over other columns, measures and factors. With `show = false` it is there for formulas only; an `optional` one is
    left out, with a note, where the workspace has nothing to answer it.

    `unit` (h:mm, h, min, s, days; KB to TB), `format` (0, 0.0, 0.00) and `width` (in characters) only change how it is
    shown. A formula is shown in per cent where its format ends in % (0.0 %) or its label does.
    """

    measure: str = ""
    formula: str = ""
    label: Annotated[str, Apart("the look")] = ""
    hours: str | None = None
    show: bool = True
    optional: bool = False
    unit: Annotated[str, Apart("the look")] = ""
    format: Annotated[str, Apart("the look; per cent stands in the plan")] = Field(
        default="", pattern=r"^(0(\.0+)?)?( ?%)?$"
    )
    width: Annotated[int | None, Apart("the look")] = Field(default=None, ge=3, le=200)

    @field_validator("measure")
    @classmethod
    def _readable(cls, text: str) -> str:
        if text:
            Measure.parse(text)
        return text

    @field_validator("formula")
    @classmethod
    def _sensible(cls, text: str) -> str:
        if text:
            Formula.parse(text)
        return text

    @field_validator("unit")
    @classmethod
    def _showable(cls, text: str) -> str:
        if text and text not in UNITS:
            raise ValueError(f"{text!r} is no unit to show figures in; there are {', '.join(UNITS)}")
        return text

    @model_validator(mode="after")
    def _one(self) -> Self:
        if bool(self.measure) is bool(self.formula):
            raise ValueError("a column has either a measure or a formula")
        if self.formula and (self.only or self.without or self.any_of or self.log or self.kind or self.hours):
            raise ValueError("a formula has no log, hours or selection of its own; give them to the columns it names")
        return self

    @property
    def percent(self) -> bool:
        """Whether a formula is shown in per cent."""
        return bool(self.formula) and (self.format.endswith("%") or self.heading.endswith("%"))

    @property
    def heading(self) -> str:
        """The label, or the measure's own."""
        return self.label or (Measure.parse(self.measure).label if self.measure else self.formula)


class Listing(Strict):
    """The events themselves instead of figures: which `fields`, a `second` line of fields under each, `sort` (`-` in
    front for downwards), the first `most`, running `numbers`, `totals` of the amounts; `overlapping` lists what began
    before the period, too.
    """

    fields: tuple[str, ...] = ()
    second: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    most: int | None = Field(default=None, ge=1)
    numbers: bool = False
    totals: bool = False
    overlapping: bool = False

    _lists = listed("fields", "second", "sort", read=split)


Question = Literal["inside", "contacts", "unusual", "trail", "attention", "edits", "logs", "cannot", "unresolved"]


class Ask(Strict):
    """A question that is no table of figures: `what`, and what each of them may be told.

    inside: who is inside at the period's end (`opening`, `closing`, `back`). contacts: who was near the person the
    filters name (`within`, `at`). unusual: more than one's own usual (`unit`, `history`, `factor`). trail: all that a
    name did in every log. attention: what a reader should look at first. edits: versions of entries that were replaced
    or deleted. logs: what the logs cover. cannot: who or what cannot appear in an answer. unresolved: names no register
    knows.
    """

    what: Question
    opening: tuple[str, ...] = ("in",)
    closing: tuple[str, ...] = ("out",)
    back: str = "24 hours"
    within: str = "15 minutes"
    at: str = "place"
    unit: str = "day"
    history: int = Field(default=28, ge=2)
    factor: float = Field(default=2.0, ge=1)

    _lists = listed("opening", "closing", read=split)
