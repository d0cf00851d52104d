"""What can be computed per group. MEASURES tells each: how its records relate to the figure, and what it is.

A span of no length is never at once with anything. A capacity is the attribute `capacity` of the register that knows
the field. FIELD may be `duration`: the whole span, counted where it starts. A percentile is the nearest rank: the
smallest value with at least that share of the values at or below it, so it is a value that occurred; the median is
the 50th percentile.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from typing import Literal, NamedTuple

from fermata.analysis.declared import DeclaredMeasure, declared, declared_names
from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, FieldType, LogSchema

__all__ = ["MAX", "MEASURES", "MIN", "SUM", "Measure", "begins_measure", "component"]

SUM, MIN, MAX = "sum", "min", "max"  # how parts roll up

Records = Literal["contributors", "representatives", "witnesses", "none"]


class MeasureKind(NamedTuple):
    """How the records behind a measure relate to its figure, and what it is, in words."""

    records: Records
    means: str


MEASURES: dict[str, MeasureKind] = {
    "count": MeasureKind("contributors", "events that start in the group"),
    "distinct": MeasureKind(
        "representatives", "different values of FIELD; distinct day, week, month: units with anything of it"
    ),
    "time": MeasureKind("contributors", "of spans, what lies inside the period and the unit"),
    "total": MeasureKind("contributors", "sum of FIELD, exact; of duration: whole spans, by their start"),
    "mean": MeasureKind("contributors", "exact sum of FIELD divided by how many have it"),
    "median": MeasureKind("witnesses", "the middle value of FIELD"),
    "percentile": MeasureKind("witnesses", "`p95 FIELD`: the value that 95 % do not exceed"),
    "min": MeasureKind("witnesses", "the smallest value of FIELD"),
    "max": MeasureKind("witnesses", "the largest value of FIELD"),
    "first": MeasureKind("witnesses", "the earliest start"),
    "last": MeasureKind("witnesses", "the latest start"),
    "present": MeasureKind("representatives", "different values of FIELD with any time inside"),
    "share": MeasureKind(
        "contributors", "part of the grand total of a measure; `of parent`, `of row`, `of column` or of a group"
    ),
    "union": MeasureKind("contributors", "time in which at least one span lasted"),
    "overlap": MeasureKind("contributors", "time in which at least two spans lasted"),
    "uncovered": MeasureKind("none", "time of the log in which no span lasted"),
    "peak": MeasureKind("none", "most spans at once"),
    "peak time": MeasureKind("none", "the first moment of the peak"),
    "concurrency": MeasureKind("contributors", "time divided by the length of the period or unit"),
    "at": MeasureKind("none", "`at 4`, `at capacity FIELD`: time with at least so many at once"),
    "utilisation": MeasureKind("contributors", "time divided by what the capacity of FIELD would hold"),
    "capacity": MeasureKind("none", "how many FIELD holds, by the register that knows it"),
    "days": MeasureKind("none", "local days of the log in the cell"),
    "workdays": MeasureKind("none", "those of them that have working hours"),
    "months": MeasureKind("none", "local months of the log in the cell"),
    "rank": MeasureKind(
        "contributors", "place among all groups beside it, those below a top too, the highest first: 1, 2, 2, 4"
    ),
    "over": MeasureKind("none", "`over 8h day`: each user's time beyond so much a unit"),
    "running": MeasureKind("contributors", "a measure from the period's start up to the unit's end"),
    "opening": MeasureKind("none", "a measure of all that was before"),
    "all-time": MeasureKind("none", "a measure from the beginning of the log up to the unit's end"),
}
TOUCHED = "touched"  # what `distinct day` is called inside
UNITS = ("hour", "day", "week", "month", "quarter", "year")
WITH_FIELD = ("distinct", "total", "mean", "median", "percentile", "min", "max", "present", "utilisation", "capacity")
ADDS = ("count", "time", "total")
SWEPT = ("union", "overlap", "uncovered", "peak", "peak time", "at")
NEEDS_TIME = ("time", "present", "concurrency", "utilisation", "over", *SWEPT)
ONWARDS = ("running", "opening", "all-time")  # measures that go on from unit to unit
CARRIED = (*ADDS, "first", "last", "min", "max")
LENGTHS = ("days", "workdays", "months", "uncovered", "concurrency", "utilisation", "capacity")  # go by a cell's length
LONGEST = 8  # words of a measure, as in "running total share of count of parent"
AS_FIELDS = {"earliest": "first", "latest": "last"}  # as of a field that holds a time
A_DAY = re.compile(r"(?:(?:mean|avg|average) )?(.*?) ?(?:per|a|/) (day|workday|month)")
SHORT_PERCENTILE = re.compile(r"p(\d{1,2}(?:\.\d+)?)")
HEADINGS = {
    "union": "Time once", "overlap": "Overlapping", "uncovered": "Time without", "peak": "Most at once",
    "peak time": "First at", "concurrency": "Mean at once", "utilisation": "Utilisation", "capacity": "Capacity",
}  # fmt: skip
PLURAL = {"user": "People", "device": "Devices", "place": "Places", "action": "Actions", "other": "Others"}


MEANT = {  # words of other programs for what is called otherwise here
    "avg": "mean", "average": "mean", "sum": "total", "most": "max", "maximum": "max", "least": "min",
    "minimum": "min", "used": "utilisation", "ever": "all-time", "unique": "distinct", "number": "count",
    "duration": "time", "hours": "time",
}  # fmt: skip


def _unknown(name: str, rest: list[str]) -> UnknownName:
    """The error for a word that is no measure, with `rest` behind it: what it is called here, or what of a field."""
    if meant := MEANT.get(name):
        return UnknownName(f"there is no measure {name!r}; did you mean {' '.join([meant, *rest])!r}?")
    known = sorted([*MEASURES, *declared_names()])
    if rest or difflib.get_close_matches(name, known, 1, 0.75):  # a slip, and no field
        return UnknownName.of("measure", name, known)
    ways = (
        f"'total {name}', 'mean {name}', 'max {name}' or 'distinct {name}'; a column for each of its values: --across"
    )
    return UnknownName(f"there is no measure {name!r}; of a field write {ways} (measures: {', '.join(known)})")


def _worked_out(text: str) -> str:
    """How a mean of each day, workday or month is written; nothing for another text."""
    if not (m := A_DAY.fullmatch(text)):
        return ""
    what = "count" if m[1] in ("", "mean", "average", "avg", "events") else MEANT.get(m[1], m[1])
    what = what if what.split()[0] in MEASURES else f"total {what}"
    return f"'Per {m[2]} = {what} / {m[2]}s'" if what.split()[0] in ADDS else f"{what!r} with --by {m[2]}"


def begins_measure(text: str) -> bool:
    """Whether a text begins as a measure does, so that it is one or is written wrongly."""
    name = (text.lower().split() or [""])[0]
    return name in (*MEASURES, *AS_FIELDS) or bool(SHORT_PERCENTILE.fullmatch(name)) or declared(name) is not None


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure as asked for: its name, the field it is of, for a percentile the share in per cent, for `at` and `over`
    how much, for the latter of which calendar unit; for a share of something else than the grand total `within` what.

    >>> Measure.parse("percentile 95 duration")
    Measure(name='percentile', of='duration', percent=95.0, base=None, unit='', within='')
    """

    name: str
    of: str = ""
    percent: float = 0.0
    base: Measure | None = None
    unit: str = ""
    within: str = ""

    @classmethod
    def parse(cls, text: str) -> Measure:
        """The measure `text` writes. Raises UnknownName, RequestError."""
        parts = text.lower().split() or [""]
        if len(parts) > LONGEST:
            raise RequestError(f"{text[:60]!r} ... is no measure: none has more than {LONGEST} words")
        if way := _worked_out(" ".join(parts)):
            raise RequestError(f"{text!r} is no measure; write {way}")
        if re.search(r"[+*/()]| - ", text):
            raise RequestError(f"{text!r} is worked out from measures and needs a heading: 'Heading = {text}'")
        name, rest = parts[0], parts[1:]
        if (m := SHORT_PERCENTILE.fullmatch(name)) and rest:
            name, rest = "percentile", [m[1], *rest]
        if name in AS_FIELDS and rest in ([], ["start"]):
            name, rest = AS_FIELDS[name], []
        if name not in MEASURES:
            if declared(name) is None:
                raise _unknown(name, rest)
            if len(rest) != 1:
                raise RequestError(f"{name} needs a field, as in '{name} duration'")
            return cls(name, rest[0])
        if name in ONWARDS:
            base = cls.parse(" ".join(rest) or "count")
            if base.name not in CARRIED:
                raise RequestError(f"{name} {base}: only {', '.join(CARRIED)} go on from one unit to the next")
            return cls(name, base.of, 0.0, base)
        if name == "rank":
            base = cls.parse(" ".join(rest) or "count")
            if base.base or base.name in ("first", "last", "peak time"):
                raise RequestError(f"rank {base}: ranks are of counts and amounts")
            return cls(name, base.of, base.percent, base, base.unit)
        if name == "peak" and rest == ["time"]:
            return cls("peak time")
        if name == "at":
            return cls._at(rest, text)
        if name == "over":
            return cls._over(rest, text)
        if name == "share":
            within = ""
            if len(rest) > 1 and rest[-2] == "of" and rest[-1] not in MEASURES:
                rest, within = rest[:-2], rest[-1]
            if rest[:1] == ["of"]:
                rest = rest[1:]
            base = cls.parse(" ".join(rest) or "count")
            if base.name not in (*ADDS, "distinct", "present"):
                raise RequestError(
                    f"a share of {base} means nothing; shares are of count, time, a total or distinct values"
                )
            return cls("share", base.of, 0.0, base, "", within)
        if name == "distinct" and len(rest) == 1 and rest[0] in UNITS:
            return cls(TOUCHED, unit=rest[0])
        percent = 0.0
        if name == "percentile":
            percent = _percent(rest[0] if rest else "", text)
            rest = rest[1:]
        if name in WITH_FIELD and len(rest) != 1:
            raise RequestError(f"{name} needs a field, as in '{name} {'90 ' if name == 'percentile' else ''}duration'")
        if name not in WITH_FIELD and rest:
            raise RequestError(f"{name} is of no field; write {name!r} alone, not {text!r}")
        return cls(name, rest[0] if rest else "", percent)

    @classmethod
    def _at(cls, rest: list[str], text: str) -> Measure:
        if len(rest) == 2 and rest[0] == "capacity":
            return cls("at", rest[1])
        if len(rest) != 1 or not re.fullmatch(r"[1-9]\d{0,8}", rest[0]):
            raise RequestError(f"{text!r}: write how many at once, as in 'at 4', or 'at capacity place'")
        return cls("at", "", float(rest[0]))

    @classmethod
    def _over(cls, rest: list[str], text: str) -> Measure:
        m = re.fullmatch(r"(\d{1,5}(?:\.\d{1,5})?)h (day|week|month)", " ".join(rest))
        if not m:
            said = "write how much of each user's time a unit may hold, as in 'over 8h day' or 'over 38.5h week'"
            raise RequestError(f"{text!r}: {said}")
        return cls("over", "user", float(m[1]), None, m[2])

    def __str__(self) -> str:
        if self.name == "over":
            return f"over {self.percent:g}h {self.unit}"
        if self.name == TOUCHED:
            return f"distinct {self.unit}"
        if self.base:
            return f"{self.name} {self.base}" + (f" of {self.within}" if self.within else "")
        if self.name == "at":
            return f"at capacity {self.of}" if self.of else f"at {self.percent:g}"
        percent = f" {self.percent:g}" if self.name == "percentile" else ""
        return f"{self.name}{percent}{' ' + self.of if self.of else ''}"

    @property
    def label(self) -> str:
        """The heading of its column unless the report says otherwise."""
        return _label(self).rstrip()

    @property
    def adds_up(self) -> bool:
        """Whether the parts of a total add up to it."""
        return (self.base or self).name in ADDS

    @property
    def needs_spans(self) -> bool:
        """Whether it goes by the time events last and not by where they start."""
        return (self.base or self).name in (*NEEDS_TIME, TOUCHED)

    @property
    def records(self) -> Records:
        """How its records relate to the figure."""
        name = (self.base or self).name
        if outside := self.outside:
            return outside.records
        return "representatives" if name == TOUCHED else MEASURES[name].records

    @property
    def outside(self) -> DeclaredMeasure | None:
        """The declaration of a measure from outside, or of what this is a share of; None for one of the heart."""
        name = (self.base or self).name
        return None if name in MEASURES or name == TOUCHED else declared(name)

    def type_in(self, schema: LogSchema) -> tuple[FieldType | Literal["share", "mean", "mean duration"], str, int]:
        """Type, unit and scale of its values. Raises RequestError where it makes no sense for the field."""
        if self.name in ONWARDS and self.base:
            return self.base.type_in(schema)
        if self.name == "rank" and self.base:
            self.base.type_in(schema)
            return "number", "place", 0
        if self.name == TOUCHED:
            return "number", f"{self.unit}s", 0
        if self.name == "capacity":
            schema.field(self.of)
            return "number", "at once", 0
        if self.name in ("days", "workdays", "months"):
            return "number", "months" if self.name == "months" else "days", 0
        if self.name in NEEDS_TIME and self.name not in ("time", "present"):
            return self._of_spans(schema)
        if self.base:
            self.base.type_in(schema)
            return "share", "%", 0
        if self.name == "count":
            return "number", "events", 0
        if self.name == "time":
            if not schema.spans:
                raise RequestError(f"the log {schema.name} has no finish and no duration, so no time can be added up")
            return "duration", "h:mm:ss", 0
        if self.name in ("first", "last"):
            return "time", "", 0
        field = schema.field(self.of)
        if outside := self.outside:
            kind, unit, scale = self._amount(field)
            return ("number", outside.unit, 0) if outside.unit else (kind, unit, scale)
        if self.name in ("distinct", "present"):
            if field.type == "tags":
                raise RequestError(f"{self}: {field.name} holds several values; distinct of tags is not counted")
            if self.name == "present" and not schema.spans:
                raise RequestError(f"the log {schema.name} has no finish and no duration, so nobody can be present")
            return "number", PLURAL.get(self.of, self.of).lower(), 0
        return self._amount(field)

    def _of_spans(self, schema: LogSchema) -> tuple[FieldType | Literal["share", "mean", "mean duration"], str, int]:
        if not schema.spans:
            raise RequestError(f"the log {schema.name} has no finish and no duration, so nothing is at once ({self})")
        if self.name == "over":
            schema.field("user")
            return "duration", "h:mm:ss", 0
        if self.of:
            schema.field(self.of)
        if self.name == "utilisation":
            return "share", "%", 0
        if self.name == "concurrency":
            return "mean", "at once", 0
        if self.name == "peak":
            return "number", "at once", 0
        return ("time", "", 0) if self.name == "peak time" else ("duration", "h:mm:ss", 0)

    def _amount(self, field: Field) -> tuple[FieldType | Literal["share", "mean", "mean duration"], str, int]:
        ordered = field.type == "time" and self.name in ("min", "max")
        if not field.addable and not ordered:
            raise RequestError(
                f"{self} means nothing: {field.name} is a {field.type}; count its events (count) or its values "
                f"(distinct {field.name})"
            )
        if self.name == "mean":
            return ("mean duration" if field.type == "duration" else "mean"), field.unit, field.scale
        return field.type, "h:mm:ss" if field.type == "duration" else field.unit, field.scale


def _label(measure: Measure) -> str:
    if measure.name in ONWARDS and measure.base:
        inner = measure.base.label[:1].lower() + measure.base.label[1:]
        return {
            "running": f"Running {inner}",
            "opening": f"Opening {inner}",
            "all-time": f"{measure.base.label} to date",
        }[measure.name]
    if measure.name == "rank" and measure.base:
        return f"Rank by {measure.base.label[:1].lower()}{measure.base.label[1:]}"
    if measure.name == TOUCHED:
        return f"{measure.unit.capitalize()}s used"
    if measure.name in HEADINGS:
        return HEADINGS[measure.name]
    if measure.name == "over":
        return f"Over {measure.percent:g} h a {measure.unit}"
    if measure.name == "at":
        return "Time at capacity" if measure.of else f"Time with {measure.percent:g} or more"
    if measure.base and measure.within:
        what = "" if measure.base.name == "count" else f"{measure.base.label} s"
        return f"{what or 'S'}hare of {measure.within}"
    if measure.base:
        return (
            f"Share of {measure.base.label[:1].lower()}{measure.base.label[1:]}"
            if measure.base.name != "count"
            else "Share"
        )
    if measure.name == "percentile":
        return f"{_ordinal(measure.percent)} percentile of {measure.of}"
    if measure.name in ("distinct", "present"):
        plural = PLURAL.get(measure.of, f"Different {measure.of}")
        return plural if measure.name == "distinct" else f"{plural} present"
    if measure.name in ("first", "last", "count", "time"):
        return measure.name.capitalize()
    return f"{measure.name.capitalize()} {measure.of}"


def _ordinal(number: float) -> str:
    """95th, 99.9th, 1st."""
    last = f"{number:g}"
    ending = {"1": "st", "2": "nd", "3": "rd"}.get(last[-1], "th") if last[-2:-1] != "1" and "." not in last else "th"
    return f"{last}{ending}"


def _percent(text: str, whole: str) -> float:
    try:
        percent = float(text)
    except ValueError:
        raise RequestError(f"{whole!r}: write the percentile as 'percentile 95 duration' or 'p95 duration'") from None
    if not 0 < percent <= 100:
        raise RequestError(f"{whole!r}: a percentile lies above 0 and up to 100")
    return percent


def component(measure: Measure) -> list[tuple[str, str]]:
    """The (name, how parts roll up) a measure is finished from; none if it does not roll up."""
    inner = measure.base or measure
    of = inner.of
    if outside := inner.outside:
        return [(f"{outside.name} {of}", outside.adds)]
    return {
        "count": [("count", SUM)],
        "time": [("time", SUM)],
        "concurrency": [("time", SUM)],
        "utilisation": [("time", SUM)],
        **{name: [("count", SUM)] for name in ("capacity", "days", "workdays", "months")},  # the groups there are
        "total": [(f"total {of}", SUM), (f"filled {of}", SUM)],
        "mean": [(f"total {of}", SUM), (f"filled {of}", SUM)],
        "first": [("first", MIN)],
        "last": [("last", MAX)],
        "min": [(f"min {of}", MIN)],
        "max": [(f"max {of}", MAX)],
    }.get(inner.name, [])
