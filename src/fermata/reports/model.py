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

from typing import Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from fermata.analysis.filters import Condition, Selection, between, conditions, empty, like, words
from fermata.analysis.formula import Formula
from fermata.analysis.measures import Measure
from fermata.errors import RequestError
from fermata.tomlfile import problems

__all__ = ["ColumnSpec", "Report"]

TABLE_KEYS = ("like", "from", "to", "empty", "words")


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)


def _conditions(data: Any) -> Any:
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

    only: tuple[Condition, ...] = ()
    without: tuple[Condition, ...] = ()
    any_of: tuple[tuple[Condition, ...], ...] = ()

    @field_validator("only", "without", mode="before")
    @classmethod
    def _read_conditions(cls, data: Any) -> Any:
        return _conditions(data)

    @field_validator("any_of", mode="before")
    @classmethod
    def _read_alternatives(cls, data: Any) -> Any:
        """A list of tables is one set of alternatives; a list of such lists several, all of which must hold."""
        if isinstance(data, list | tuple) and data and all(isinstance(d, dict) for d in data):
            data = [data]
        if isinstance(data, list | tuple):
            return tuple(
                tuple(c for one in group for c in (_conditions(one) if isinstance(one, dict) else (one,)))
                for group in data
            )
        return data

    @property
    def selection(self) -> Selection:
        """The conditions together."""
        return Selection(self.only, self.without, self.any_of)


class ColumnSpec(Chosen):
    """A column: a measure with a heading, and if wanted a log, hours and a narrower selection of its own; or a formula over
    other columns, measures and factors. With `show = false` it is there for formulas only.
    """

    measure: str = ""
    formula: str = ""
    label: str = ""
    log: str | None = None
    hours: str | None = None
    show: bool = True

    @field_validator("measure")
    @classmethod
    def _readable(cls, text: str) -> str:
        Measure.parse(text)
        return text

    @field_validator("formula")
    @classmethod
    def _sensible(cls, text: str) -> str:
        Formula.parse(text)
        return text

    @model_validator(mode="after")
    def _one(self) -> Self:
        if bool(self.measure) is bool(self.formula):
            raise ValueError("a column has either a measure or a formula")
        if self.formula and (self.only or self.without or self.any_of or self.log or self.hours):
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


class Report(Chosen):
    """The sentence: of these logs, during this period, only these events, by these dimensions, these measures.

    `period` stays as written (relative stays relative). `sort` names columns or dimensions, `-` in front for downwards.
    `every` shows each user, device, action or assignment that could appear, with zeros where nothing happened.
    `hours` counts only certain hours ("office", "outside office"), `rounding` each span's length ("up 15 minutes"), `dated` goes by
    another time than the start. `compare` sets another period beside: before, year ago, 52 weeks ago, weekdays before, or any;
    `whole` all of it where this one is not over. `rows` keeps rows whose column is so ("Count = 0"); `checks` are equalities that
    must hold ("Colour + Mono = Pages"), `warn` limits ("Refused > 20").
    `known` asks for the state as it was known at the end of a date (or at a time). `top` keeps the N highest of the first dimension and puts the rest into one row.
    """

    title: str = ""
    about: str = ""
    log: str
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

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, data: Any) -> Any:
        if isinstance(data, dict):
            data = dict(data)
            for key in ("by", "sort"):
                if isinstance(data.get(key), str):
                    data[key] = tuple(p.strip() for p in data[key].split(",") if p.strip())
            for key in ("rows", "checks", "warn"):
                if isinstance(data.get(key), str):
                    data[key] = (data[key],)
            if isinstance(data.get("columns"), list | tuple):
                data["columns"] = tuple(_column(c) if isinstance(c, str) else c for c in data["columns"])
        return data

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
        return self

    @classmethod
    def of(cls, **data: Any) -> Report:
        """The report that `data` (as a report file has it) describes. Raises RequestError with every problem."""
        try:
            return cls.model_validate(data)
        except ValidationError as e:
            raise RequestError("; ".join(problems(e, cls, ""))) from None

    def changed(self, **changes: Any) -> Report:
        """A new report with some keys changed, validated again. Raises RequestError with every problem."""
        return self.of(**{**{name: getattr(self, name) for name in type(self).model_fields}, **changes})
