"""A report as people write it: validated, immutable text. The one type behind files, options and calls.

title  = "Refused entries by door"
log    = "doors"
period = "last month"
only   = { action = "refused" }
by     = ["place", "device"]
[[columns]]
label   = "Refused"
measure = "count"
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self

from pydantic import Field, ValidationError, field_validator, model_validator

from fermata.digest import Apart
from fermata.errors import RequestError
from fermata.reports.definition.display import Display
from fermata.reports.definition.parts import EVERYWHERE, Ask, ColumnSpec, Listing, Question, Sourced
from fermata.reports.definition.wording import column_of
from fermata.strict import listed, split
from fermata.tomlfile import problems

__all__ = ["CHARTS", "Part", "Report"]

CHARTS = ("bar", "stacked", "ranked", "line", "area", "share", "panels", "heat map", "timeline", "tiles")
CALLED = {  # what others call a drawing
    "pie": "share", "donut": "share", "column": "bar", "columns": "bar", "histogram": "bar", "heatmap": "heat map",
    "calendar": "heat map", "gantt": "timeline", "cards": "tiles", "kpi": "tiles", "curve": "line",
}  # fmt: skip
CHART = re.compile(rf"({'|'.join((*CHARTS, 'none'))})?(?:(?:^| )of (.+))?")


class Report(Sourced):
    """The sentence: of these logs, during this period, only these events, by these dimensions, these measures.

    `period` stays as written (relative stays relative). `sort` names columns or dimensions, `-` in front for downwards.
    `zero_rows` shows each user, device, action or assignment that could appear, with zeros where nothing happened; with
    `no_others`, only these. `hours` counts only certain hours ("office", "outside office"), `rounding` each span's
    length ("up 15 minutes"), `date_field` goes by another time than the start. `compare` sets another period beside:
    before,
    year ago, 52 weeks ago, weekdays before, or any; `full_period` all of it where this one is not over. `rows` keeps
    rows
    whose column is so ("Count = 0"); `checks` are equalities that must hold ("Colour + Mono = Pages"), `warn` limits
    ("Refused > 20"). `known` asks for the state as it was known at the end of a date (or at a time). `top` keeps the N
    highest of the first dimension and puts the rest into one row. `measures = "down"` sets the columns below each other
    under each group; `chart` says what is drawn of them ("bar", "line of Time"); a terminal shows bars. `display` says
    how figures, times and pages are shown.

    Instead of figures a report may list events (`listing`), a `register` `as_of` a day, or put a question (`ask`).
    `parts` puts several reports on one page (`layout = [2, 1]`: two beside each other, then one), `each` one part for
    every value of a field. `must_name` are fields a run
    must name; `expect` says when a part is as it should be, for the verdict of its page.
    """

    title: Annotated[str, Apart("words")] = ""
    about: Annotated[str, Apart("words")] = ""
    category: Annotated[str, Apart("where it is listed")] = ""
    period: Annotated[str, Apart("absolute in what it is asked with")] = "all"
    zone: Annotated[str | None, Apart("in the calendar of the period")] = None
    as_known: Annotated[str | None, Apart("absolute in the plan")] = None
    by: tuple[str, ...] = ()
    across: str | None = None
    zero_rows: str | None = None
    no_others: bool = False
    columns: tuple[ColumnSpec, ...] = (ColumnSpec(measure="count"),)
    sort: tuple[str, ...] = ()
    top: int | None = Field(default=None, ge=1)
    totals: bool = True
    hours: str | None = None
    rounding: str | None = None
    date_field: str | None = None
    compare: str | None = None
    full_period: bool = False
    rows: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    warn: tuple[str, ...] = ()
    measures: Annotated[Literal["across", "down"], Apart("the look")] = "across"
    chart: Annotated[str, Apart("the look")] = ""
    display: Annotated[Display | None, Apart("the look")] = None
    listing: Listing | None = None
    register_name: str = Field(default="", alias="register")
    as_of: Annotated[str, Apart("absolute in what it is asked with")] = ""
    ask: Ask | None = None
    must_name: Annotated[tuple[str, ...], Apart("checked before")] = ()
    each: str = ""
    parts: tuple[Part, ...] = ()
    layout: Annotated[tuple[Annotated[int, Field(ge=1, le=4)], ...], Apart("the look")] = ()
    expect: Literal["", "no rows", "within limits"] = ""

    _names = listed("by", "sort", "must_name", read=split)
    _formulas = listed("rows", "checks", "warn")

    @field_validator("columns", mode="before", json_schema_input_type=tuple[str | ColumnSpec, ...])
    @classmethod
    def _columns_in_words(cls, columns: Any) -> Any:
        if not isinstance(columns, list | tuple):
            return columns
        try:
            return tuple(column_of(c) if isinstance(c, str) else c for c in columns)
        except RequestError as e:
            raise ValueError(str(e)) from None

    @field_validator("ask", mode="before", json_schema_input_type=Question | Ask | None)
    @classmethod
    def _question_alone(cls, ask: Any) -> Any:
        return {"what": ask} if isinstance(ask, str) else ask

    @field_validator("chart")
    @classmethod
    def _drawable(cls, text: str) -> str:
        if text and not CHART.fullmatch(text):
            other = CALLED.get(text) or next(iter(difflib.get_close_matches(text, CHARTS, 1)), "")
            meant = f"did you mean {other!r}? There are" if other else "write one of"
            raise ValueError(f"{text!r}: {meant} {', '.join(CHARTS)}, 'bar of COLUMN', or 'of COLUMN'")
        return text

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if len(set(self.by)) < len(self.by):
            raise ValueError("by names a dimension twice")
        if self.across in self.by:
            raise ValueError(f"{self.across} is both in by and across")
        if not self.columns:
            raise ValueError("columns is empty; give at least one measure")
        if self.no_others and not self.zero_rows:
            raise ValueError("no_others goes with zero_rows: only whose rows?")
        if self.top and not self.by:
            raise ValueError("top needs by: the N highest of what?")
        ways = [w for w in ("listing", "register_name", "ask", "parts", "each") if getattr(self, w)]
        if len(ways) > 1 and ways not in (["listing", "each"], ["listing", "register_name"]):
            said = " and ".join("register" if w == "register_name" else w for w in ways)
            raise ValueError(f"{said} do not go together; put them into parts of one page")
        if self.layout and sum(self.layout) != len(self.parts):
            raise ValueError(
                f"layout tells of {sum(self.layout)} parts, the page has {len(self.parts)}; it says how many stand "
                "beside each other in each row"
            )
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
    def of(cls, **data: object) -> Self:
        """The report that `data` (as a report file has it) describes. Raises RequestError with every problem.

        >>> Report.of(log="doors", only={"action": "refused"}, by=["place"]).by
        ('place',)
        """
        try:
            return cls.model_validate(data)
        except ValidationError as e:
            raise RequestError("; ".join(problems(e, cls, ""))) from None

    def changed(self, **changes: object) -> Self:
        """A new report with some keys changed, validated again. Raises RequestError with every problem.

        >>> Report(log="doors").changed(period="2026-03").period
        '2026-03'
        """
        if "log" in changes and changes["log"] and "kind" not in changes:
            changes |= {"kind": "", "made": ""}
        held = {f.alias or name: getattr(self, name) for name, f in type(self).model_fields.items()}
        return self.of(**{**held, **changes})

    @property
    def charted(self) -> tuple[str, str]:
        """The kind of chart and the column to draw; "" where the report leaves it open.

        >>> Report.of(log="doors", chart="line of Count").charted
        ('line', 'Count')
        """
        found = CHART.fullmatch(self.chart)
        return (found[1] or "", found[2] or "") if found else ("", "")

    def with_keys(self, keys: Mapping[str, object]) -> Self:
        """The report with keys changed, those of its tables too: `{"ask.back": "8 hours", "as_of": "2026-01-01"}`.

        Raises RequestError with every problem.

        >>> Report(log="doors").with_keys({"period": "2026-03"}).period
        '2026-03'
        """
        changes: dict[str, Any] = {}
        for key, value in keys.items():
            name, dot, inner = key.partition(".")
            held = getattr(self, name, None) if dot else None
            if dot and (isinstance(held, Ask | Listing | Display) or name == "display"):
                own = changes.get(name) or {n: getattr(held, n) for n in getattr(held, "model_fields_set", ())}
                changes[name] = {**own, inner: value}
            elif dot and name in ("ask", "listing"):
                raise RequestError(f"{key}: this report has no {name}")
            else:
                changes[key] = value
        return self.changed(**changes)

    def narrowed_as(self, other: Report) -> Self:
        """The report for the period and zone of another, with its filters on fields that this one does not filter
        itself.

        >>> Report(log="doors").narrowed_as(Report.of(log="doors", only={"action": "in"})).only
        (Condition(field='action', kind='is', values=('in',), said='', unknown=()),)
        """
        own = {c.field for c in self.selection.conditions}
        only, without = (tuple(c for c in cs if c.field not in own) for cs in (other.only, other.without))
        any_of = tuple(group for group in other.any_of if not any(c.field in own for c in group))
        return self.changed(
            period=other.period, zone=other.zone, as_known=other.as_known, only=self.only + only,
            without=self.without + without,
            any_of=self.any_of + any_of,
        )  # fmt: skip


class Part(Report):
    """A part of a page: a report by name (`report`) with some keys changed, or one of its own, which has the page's
    log, period, zone and filters unless it says otherwise.
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
