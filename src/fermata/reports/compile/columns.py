"""The columns of a report as a plan has them, each with the strand that answers it, and
formulas with their operands.
"""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from fermata.analysis.filters import Condition, Selection
from fermata.analysis.formula import Formula, Quantity, unit, words
from fermata.analysis.measures import ADDS, NEEDS_TIME, ONWARDS, SWEPT, Measure
from fermata.analysis.plan import ColumnPlan, Dimension, HoursOf, Rounding
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report
from fermata.timeline import Stretch
from fermata.timeline.lengths import exact

__all__ = ["Ask", "Columns", "rounding"]

BEFORE = " before"


@dataclass(frozen=True)
class Ask:
    """What tells one strand from another; `stretch` and `units` as in a strand."""

    schema: LogSchema
    selection: Selection
    hours: HoursOf | None = None
    stretch: Stretch | None = None
    units: bool = True


@dataclass
class Columns:
    """Columns gathered one by one. `ask` tells the strand of a spec; `compared` is the other period, `past` all before
    this one.
    """

    report: Report
    ask: Any
    logs: Any
    compared: Stretch | None
    past: Any
    asks: list[Ask] = field(default_factory=list)
    columns: list[ColumnPlan] = field(default_factory=list)

    def number(self, ask: Ask) -> int:
        """The strand's number, a new one if it was not asked before."""
        if ask not in self.asks:
            self.asks.append(ask)
        return self.asks.index(ask)

    def add(self, spec: ColumnSpec) -> None:
        """A column, and what a comparison adds to it."""
        if spec.formula:
            self.columns.append(self._formula(spec.heading, Formula.parse(spec.formula), not spec.show, spec.percent))
            return
        ask: Ask = self.ask(spec)
        column = self._measure(spec.heading, Measure.parse(spec.measure), ask, not spec.show)
        self.columns.append(column)
        if self.compared and spec.show and column.kind[0] != "time":
            self._compare(column, ask)

    def check(self, text: str) -> int:
        """The hidden column of what two sides of an equality are apart. Raises RequestError."""
        left, equals, right = text.partition("=")
        if not equals or "=" in right:
            raise RequestError(f"check {text!r}: write an equality, as in 'Colour + Mono = Pages'")
        formula = Formula.parse(f"({left}) - ({right})")
        self.columns.append(self._formula(text, formula, True))
        return len(self.columns) - 1

    def _measure(self, label: str, measure: Measure, ask: Ask, hidden: bool) -> ColumnPlan:
        measure = self._whole(measure) if self.report.date_field else measure
        kind = measure.type_in(ask.schema)
        self._within(measure)
        if self.report.rounding and (measure.base or measure).name in SWEPT:
            raise RequestError(
                f"{measure} with rounding means nothing: rounded entries overlap where the real ones did not"
            )
        strand = self.number(ask)
        earlier = None
        if measure.name in ONWARDS and measure.name != "running":
            earlier = self.number(dataclasses.replace(ask, stretch=self.past(ask.schema), units=False))
        return ColumnPlan(label, measure, strand, kind, earlier, hidden=hidden)

    def _whole(self, measure: Measure) -> Measure:
        """The measure for events that go by another date: their time is whole and belongs to it. Raises RequestError
        for what is at once.
        """
        if measure.base:
            return dataclasses.replace(measure, base=(base := self._whole(measure.base)), of=base.of)
        if measure.name == "time":
            return Measure.parse("total duration")
        if measure.name in NEEDS_TIME:
            raise RequestError(
                f"{measure} with date_field means nothing: entries that go by {self.report.date_field} do not last "
                "at that date"
            )
        return measure

    def _within(self, measure: Measure) -> None:
        """Raises RequestError for a share of something that the report does not have."""
        by, within = self.report.by, measure.within
        if within in ("row", "column") and not self.report.across:
            raise RequestError(
                f"{measure}: there are {within}s only in a table with groups across; give across, or write 'of parent'"
            )
        if within in ("", "parent", "row", "column"):
            return
        if within not in by:
            raise UnknownName.of("base", within, ["parent", "row", "column", *by], where=f"of a share ({measure})")
        if by.index(within) and measure.base and measure.base.name not in ADDS:
            raise RequestError(
                f"{measure}: different values do not add up; put {within} first in by, or say 'of parent'"
            )

    def _compare(self, column: ColumnPlan, ask: Ask) -> None:
        """The same measure in the other period, the difference, and what part of it that is."""
        name = column.label + BEFORE
        other = self._measure(name, column.measure, dataclasses.replace(ask, stretch=self.compared), False)
        self.columns[-1] = dataclasses.replace(column, beside=len(self.columns))
        self.columns.append(other)
        apart = Formula.parse(f'"{column.label}" - "{name}"')
        self.columns.append(self._formula(f"{column.label} change", apart, False))
        if column.kind[0] != "share":
            part = Formula.parse(f'("{column.label}" - "{name}") / "{name}"')
            self.columns.append(self._formula(f"{column.label} change %", part, False, True))

    def _formula(self, label: str, formula: Formula, hidden: bool, percent: bool = False) -> ColumnPlan:
        operands, quantities, factors = [], {}, {}
        for name in formula.names:
            number = self._operand(name)
            if number is None:
                factor = self.logs.terms.factors[name]
                quantities[name], factors[name] = Quantity("mean", unit(factor.unit)), Fraction(factor.value)
                continue
            operands.append((name, number))
            quantities[name] = _quantity(self.columns[number])
        if not operands:
            raise RequestError(
                f"formula {formula.text!r} names no column and no measure, so it is the same for every row"
            )
        result = formula.quantity(quantities, percent=percent)
        shown = {"duration": "h:mm:ss", "share": "%", "time": ""}.get(
            result.kind, words(result.unit) if result.unit else ""
        )
        named = Formula(formula.text, formula.node, tuple(n for n, _ in operands))
        strand = self.columns[operands[0][1]].strand
        return ColumnPlan(
            label, Measure("formula", formula.text), strand, (result.kind, shown, result.scale), None, named,
            tuple(n for _, n in operands), tuple(factors.items()), hidden,
        )  # fmt: skip

    def _operand(self, name: str) -> int | None:
        """The column a name of a formula means: by heading, by measure, or a hidden one for a measure; None for a
        factor.
        """
        for i, column in enumerate(self.columns):
            if name.lower() in (column.label.lower(), str(column.measure)):
                return i
        if name in self.logs.terms.factors:
            return None
        try:
            measure = Measure.parse(name)
        except RequestError:
            known = [*(c.label for c in self.columns), *self.logs.terms.factors]
            raise UnknownName.of("column", name, known, where="above this one, and no measure or factor,") from None
        self.columns.append(self._measure(name, measure, self.ask(ColumnSpec(measure=name)), True))
        return len(self.columns) - 1


def _quantity(column: ColumnPlan) -> Quantity:
    kind, text, scale = column.kind
    if kind == "time":
        return Quantity(kind, (("time", 1),))
    if kind in ("duration", "mean duration"):
        return Quantity(kind, (("h", 1),))
    return Quantity(kind, unit("" if text == "at once" else text), scale)


def rounding(text: str | None) -> Rounding | None:
    """`up 15 minutes` as a rounding. Raises RequestError."""
    if not text:
        return None
    m = re.fullmatch(r"(up|down|nearest)(?: to)? +(.+)", text.strip())
    if not m:
        raise RequestError(f"rounding {text!r}: write 'up 15 minutes', 'down 6 minutes' or 'nearest 1 hour'")
    from datetime import timedelta

    return Rounding(m[1], exact(m[2]) // timedelta(microseconds=1))  # type: ignore[arg-type]  # one of the three


def pairing_shown(selection: Selection, schema: LogSchema, hidden: Sequence[str]) -> Selection:
    """The selection without closings that have no opening, unless it asks about them."""
    if not hidden or any(c.field == "pairing" for c in selection.conditions):
        return selection
    return dataclasses.replace(selection, without=(*selection.without, Condition("pairing", "is", tuple(hidden))))


def dimension_names(by: Sequence[Dimension], across: Dimension | None) -> list[str]:
    """The fields among the dimensions."""
    return [d.name for d in (*by, *((across,) if across else ())) if not d.calendar]
