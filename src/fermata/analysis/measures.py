"""What can be computed per group: each measure says its unit, whether parts add up, and its records.

    count                     events that start in the group                     contributors
    distinct FIELD            different values among them                        representatives
    time                      of spans, what lies inside period and unit         contributors
    total FIELD               sum of an amount, exact                            contributors
    mean FIELD                exact sum divided by count, once                   contributors
    median, percentile, least, most FIELD    order statistics                    witnesses
    first, last               earliest and latest start                          witnesses
    present FIELD             different values with any time inside              representatives
    share MEASURE             part of the grand total (count unless named)       contributors of the measure

FIELD may be `duration`: the whole span, counted where it starts. A percentile is the nearest rank: the smallest
value with at least that share of the values at or below it, so it is a value that occurred; the median is the
50th percentile.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from fermata.errors import RequestError, UnknownName
from fermata.fields import Field, FieldType, LogSchema

__all__ = ["MEASURES", "Measure"]

Records = Literal["contributors", "representatives", "witnesses"]
MEASURES: dict[str, Records] = {
    "count": "contributors",
    "distinct": "representatives",
    "time": "contributors",
    "total": "contributors",
    "mean": "contributors",
    "median": "witnesses",
    "percentile": "witnesses",
    "least": "witnesses",
    "most": "witnesses",
    "first": "witnesses",
    "last": "witnesses",
    "present": "representatives",
    "share": "contributors",
}
WITH_FIELD = ("distinct", "total", "mean", "median", "percentile", "least", "most", "present")
ADDS = ("count", "time", "total")
NEEDS_TIME = ("time", "present")
SHORT_PERCENTILE = re.compile(r"p(\d{1,2}(?:\.\d+)?)")
PLURAL = {"user": "People", "device": "Devices", "place": "Places", "action": "Actions", "other": "Others"}


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure as asked for: its name, the field it is of, and for a percentile the share in per cent.

    >>> Measure.parse("percentile 95 duration")
    Measure(name='percentile', of='duration', percent=95.0, base=None)
    """

    name: str
    of: str = ""
    percent: float = 0.0
    base: Measure | None = None

    @classmethod
    def parse(cls, text: str) -> Measure:
        """The measure `text` writes. Raises UnknownName, RequestError."""
        parts = text.lower().split() or [""]
        name, rest = parts[0], parts[1:]
        if (m := SHORT_PERCENTILE.fullmatch(name)) and rest:
            name, rest = "percentile", [m[1], *rest]
        if name in ("earliest", "latest") and rest in ([], ["start"]):
            name, rest = {"earliest": "first", "latest": "last"}[name], []
        if name not in MEASURES:
            raise UnknownName.of("measure", name, MEASURES)
        if name == "share":
            if rest[:1] == ["of"]:
                rest = rest[1:]
            base = cls.parse(" ".join(rest) or "count")
            if base.name not in (*ADDS, "distinct", "present"):
                raise RequestError(
                    f"a share of {base} means nothing; shares are of count, time, a total or distinct values"
                )
            return cls("share", base.of, 0.0, base)
        percent = 0.0
        if name == "percentile":
            percent = _percent(rest[0] if rest else "", text)
            rest = rest[1:]
        if name in WITH_FIELD and len(rest) != 1:
            raise RequestError(f"{name} needs a field, as in '{name} {'90 ' if name == 'percentile' else ''}duration'")
        if name not in WITH_FIELD and rest:
            raise RequestError(f"{name} takes no field ({text!r})")
        return cls(name, rest[0] if rest else "", percent)

    def __str__(self) -> str:
        if self.base:
            return f"share {self.base}"
        percent = f" {self.percent:g}" if self.name == "percentile" else ""
        return f"{self.name}{percent}{' ' + self.of if self.of else ''}"

    @property
    def label(self) -> str:
        """The heading of its column unless the report says otherwise."""
        if self.base:
            return (
                f"Share of {self.base.label[:1].lower()}{self.base.label[1:]}" if self.base.name != "count" else "Share"
            )
        if self.name == "percentile":
            return f"{self.percent:g} % of {self.of} up to"
        if self.name in ("distinct", "present"):
            plural = PLURAL.get(self.of, f"Different {self.of}")
            return plural if self.name == "distinct" else f"{plural} present"
        if self.name in ("first", "last", "count", "time"):
            return self.name.capitalize()
        return f"{self.name.capitalize()} {self.of}"

    @property
    def adds_up(self) -> bool:
        """Whether the parts of a total add up to it."""
        return (self.base or self).name in ADDS

    @property
    def needs_spans(self) -> bool:
        """Whether it goes by the time events last and not by where they start."""
        return (self.base or self).name in NEEDS_TIME

    @property
    def records(self) -> Records:
        """How its records relate to the figure."""
        return MEASURES[(self.base or self).name]

    def type_in(self, schema: LogSchema) -> tuple[FieldType | Literal["share", "mean", "mean duration"], str, int]:
        """Type, unit and scale of its values. Raises RequestError where it makes no sense for the field."""
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
        if self.name in ("distinct", "present"):
            if field.type == "tags":
                raise RequestError(f"{self}: {field.name} holds several values; distinct of tags is not counted")
            if self.name == "present" and not schema.spans:
                raise RequestError(f"the log {schema.name} has no finish and no duration, so nobody can be present")
            return "number", "", 0
        return self._amount(field)

    def _amount(self, field: Field) -> tuple[FieldType | Literal["share", "mean", "mean duration"], str, int]:
        if self.name == "total" and field.name == "duration":
            raise RequestError("durations are totalled by the measure 'time', which clips them to the period")
        ordered = field.type == "time" and self.name in ("least", "most")
        if not field.addable and not ordered:
            raise RequestError(f"{self} means nothing: {field.name} is a {field.type}")
        if self.name == "mean":
            return ("mean duration" if field.type == "duration" else "mean"), field.unit, field.scale
        return field.type, field.unit, field.scale


def _percent(text: str, whole: str) -> float:
    try:
        percent = float(text)
    except ValueError:
        raise RequestError(f"{whole!r}: write the percentile as 'percentile 95 duration' or 'p95 duration'") from None
    if not 0 < percent <= 100:
        raise RequestError(f"{whole!r}: a percentile lies above 0 and up to 100")
    return percent
