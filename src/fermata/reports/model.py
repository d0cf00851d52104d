"""A report as people write it: validated, immutable text. The one type behind files, options and calls.

title  = "Refused entries by door"
log    = "doors"
period = "last month"
only   = { action = "denied" }
by     = ["place", "device"]
[[columns]]
label   = "Refused"
measure = "count"
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, WithJsonSchema, field_validator, model_validator

from fermata.analysis.filters import Condition, Selection, between, conditions, empty, like, words
from fermata.analysis.formula import Formula
from fermata.analysis.measures import Measure
from fermata.errors import RequestError
from fermata.kinds import KINDS
from fermata.tomlfile import problems

__all__ = [
    "Ask",
    "Chosen",
    "ColumnSpec",
    "Conditions",
    "Listing",
    "Part",
    "Report",
    "Sourced",
    "conditions_of",
    "several",
]

TABLE_KEYS = ("like", "from", "to", "empty", "words")
CHART = re.compile(r"bar( of .+)?")
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


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)


def conditions_of(data: Any) -> Any:
    """Conditions from `{ field = value }`; a value is one, several, or a table of like, from/to, words, empty."""
    if not isinstance(data, dict):
        return data
    found: dict[str, Any] = {}
    for name, value in data.items():
        listed = list(value) if isinstance(value, list | tuple | set | frozenset) else [value]
        found[name] = [_special(name, v) if isinstance(v, dict) else v for v in listed]
    return conditions(found)


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
    def _read_conditions(cls, data: Any) -> Any:
        return conditions_of(data)

    @field_validator("any_of", mode="before")
    @classmethod
    def _read_alternatives(cls, data: Any) -> Any:
        """A list of tables is one set of alternatives; a list of such lists several, all of which must hold."""
        if isinstance(data, list | tuple) and data and all(isinstance(d, dict) for d in data):
            data = [data]
        if isinstance(data, list | tuple):
            return tuple(
                tuple(c for one in group for c in (conditions_of(one) if isinstance(one, dict) else (one,)))
                for group in data
            )
        return data

    @property
    def selection(self) -> Selection:
        """The conditions together."""
        return Selection(self.only, self.without, self.any_of)


class Sourced(Chosen):
    """What names its events: a log of the workspace, or whichever log it has of a `kind`. With `made`, one made from such a
    log: "pairing", "pairing: in" (by that opening), "states", "collapse", "link", "assembly", "required time" ...
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
    """A column: a measure with a heading, and if wanted a log, hours and a narrower selection of its own; or a formula over
    other columns, measures and factors. With `show = false` it is there for formulas only; an `optional` one is left out, with
    a note, where the workspace has nothing to answer it.

    `unit` (h:mm, h, min, s, days; KB to TB), `format` (0, 0.0, 0.00) and `width` (in characters) only change how it is shown.
    """

    measure: str = ""
    formula: str = ""
    label: str = ""
    hours: str | None = None
    show: bool = True
    optional: bool = False
    unit: str = ""
    format: str = Field(default="", pattern=r"^(0(\.0+)?)?$")
    width: int | None = Field(default=None, ge=3, le=200)

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
    def heading(self) -> str:
        """The label, or the measure's own."""
        return self.label or (Measure.parse(self.measure).label if self.measure else self.formula)


def _column(text: str) -> dict[str, str]:
    """A column in a word: a measure, or `Label = formula`."""
    label, equals, formula = text.partition("=")
    return {"label": label.strip(), "formula": formula.strip()} if equals else {"measure": text}


def several(value: Any) -> Any:
    """Names separated by commas as several; anything else as it is."""
    return tuple(p.strip() for p in value.split(",") if p.strip()) if isinstance(value, str) else value


class Listing(Strict):
    """The events themselves instead of figures: which `fields`, a `second` line of fields under each, `sort` (`-` in front for
    downwards), the first `most`, running `numbers`, `totals` of the amounts.
    """

    fields: tuple[str, ...] = ()
    second: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    most: int | None = Field(default=None, ge=1)
    numbers: bool = False
    totals: bool = False

    _lists = field_validator("fields", "second", "sort", mode="before")(several)


Question = Literal["inside", "contacts", "unusual", "trail", "attention", "edits", "logs", "cannot", "unresolved"]


class Ask(Strict):
    """A question that is no table of figures: `what`, and what each of them may be told.

    inside: who is inside at the period's end (`opening`, `closing`, `back`). contacts: who was near the person the filters name
    (`within`, `at`). unusual: more than one's own usual (`unit`, `history`, `factor`). trail: all that a name did in every log.
    attention: what a reader should look at first. edits: versions of entries that were replaced or deleted. logs: what the logs
    cover. cannot: who or what cannot appear in an answer. unresolved: names no register knows.
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

    _lists = field_validator("opening", "closing", mode="before")(several)


class Report(Sourced):
    """The sentence: of these logs, during this period, only these events, by these dimensions, these measures.

    `period` stays as written (relative stays relative). `sort` names columns or dimensions, `-` in front for downwards.
    `every` shows each user, device, action or assignment that could appear, with zeros where nothing happened.
    `hours` counts only certain hours ("office", "outside office"), `rounding` each span's length ("up 15 minutes"), `dated` goes by
    another time than the start. `compare` sets another period beside: before, year ago, 52 weeks ago, weekdays before, or any;
    `whole` all of it where this one is not over. `rows` keeps rows whose column is so ("Count = 0"); `checks` are equalities that
    must hold ("Colour + Mono = Pages"), `warn` limits ("Refused > 20").
    `known` asks for the state as it was known at the end of a date (or at a time). `top` keeps the N highest of the first dimension and puts the rest into one row.
    `measures = "down"` sets the columns below each other under each group; `chart` draws bars beside the rows.

    Instead of figures a report may list events (`listing`), a `register` `as_of` a day, or put a question (`ask`). `parts` puts
    several reports on one page, `each` one part for every value of a field. `asks_for` are fields a run must name;
    `expect` says when a part is as it should be, for the verdict of its page.
    """

    title: str = ""
    about: str = ""
    category: str = ""
    period: str = "all"
    zone: str | None = None
    known: str | None = None
    by: tuple[str, ...] = ()
    across: str | None = None
    every: str | None = None
    columns: tuple[ColumnSpec, ...] = (ColumnSpec(measure="count"),)
    sort: tuple[str, ...] = ()
    top: int | None = Field(default=None, ge=1)
    totals: bool = True
    hours: str | None = None
    rounding: str | None = None
    dated: str | None = None
    compare: str | None = None
    whole: bool = False
    rows: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    warn: tuple[str, ...] = ()
    measures: Literal["across", "down"] = "across"
    chart: str = ""
    orientation: Literal["", "portrait", "landscape"] = ""
    listing: Listing | None = None
    register_name: str = Field(default="", alias="register")
    as_of: str = ""
    ask: Ask | None = None
    asks_for: tuple[str, ...] = ()
    each: str = ""
    parts: tuple[Part, ...] = ()
    expect: Literal["", "no rows", "within limits"] = ""

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, data: Any) -> Any:
        if isinstance(data, dict):
            data = dict(data)
            for key in ("by", "sort", "asks_for"):
                if key in data:
                    data[key] = several(data[key])
            for key in ("rows", "checks", "warn"):
                if isinstance(data.get(key), str):
                    data[key] = (data[key],)
            if isinstance(data.get("columns"), list | tuple):
                data["columns"] = tuple(_column(c) if isinstance(c, str) else c for c in data["columns"])
            if isinstance(data.get("ask"), str):
                data["ask"] = {"what": data["ask"]}
        return data

    @field_validator("chart")
    @classmethod
    def _drawable(cls, text: str) -> str:
        if text and not CHART.fullmatch(text):
            raise ValueError(f"{text!r}: write 'bar', or 'bar of COLUMN'")
        return text

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if len(set(self.by)) < len(self.by):
            raise ValueError("by names a dimension twice")
        if self.across in self.by:
            raise ValueError(f"{self.across} is both in by and across")
        if not self.columns:
            raise ValueError("columns is empty; give at least one measure")
        if self.top and not self.by:
            raise ValueError("top needs by: the N highest of what?")
        ways = [w for w in ("listing", "register_name", "ask", "parts", "each") if getattr(self, w)]
        if len(ways) > 1 and ways not in (["listing", "each"], ["listing", "register_name"]):
            said = " and ".join("register" if w == "register_name" else w for w in ways)
            raise ValueError(f"{said} do not go together; put them into parts of one page")
        if self.as_of and not self.register_name:
            raise ValueError("as_of goes with register; a log has a period")
        return self._with_source()

    def _with_source(self) -> Self:
        """Raises ValueError for a report that has nothing to ask."""
        everywhere = self.ask and self.ask.what in EVERYWHERE
        if not (self.log or self.kind or self.register_name or self.parts or everywhere):
            raise ValueError("is missing a log (one by name) or a kind (whichever log of it the workspace has)")
        return self

    @classmethod
    def of(cls, **data: Any) -> Self:
        """The report that `data` (as a report file has it) describes. Raises RequestError with every problem."""
        try:
            return cls.model_validate(data)
        except ValidationError as e:
            raise RequestError("; ".join(problems(e, cls, ""))) from None

    def changed(self, **changes: Any) -> Self:
        """A new report with some keys changed, validated again. Raises RequestError with every problem."""
        if "log" in changes and changes["log"] and "kind" not in changes:
            changes |= {"kind": "", "made": ""}
        held = {f.alias or name: getattr(self, name) for name, f in type(self).model_fields.items()}
        return self.of(**{**held, **changes})


EVERYWHERE = (
    "trail",
    "attention",
    "logs",
    "cannot",
    "unresolved",
    "edits",
)  # asked of the whole workspace, not of one log


class Part(Report):
    """A part of a page: a report by name (`report`) with some keys changed, or one of its own, which has the page's log, period, zone and
    filters unless it says otherwise.
    """

    report: str = ""

    def _with_source(self) -> Self:
        return self

    @property
    def own(self) -> dict[str, Any]:
        """The keys the part gives itself."""
        return {
            f.alias or n: getattr(self, n)
            for n, f in type(self).model_fields.items()
            if n in self.model_fields_set and n != "report"
        }


Report.model_rebuild()
