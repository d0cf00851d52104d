"""The plan: a report resolved to absolute terms, frozen and hashable. Everything else is a reading of it."""

from __future__ import annotations

import dataclasses
import functools
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from fermata.analysis.filters import Selection
from fermata.analysis.measures import Measure
from fermata.digest import apart, digest
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.timeline import Calendar, Slot, Stretch, slots
from fermata.timeline.hours import Hours
from fermata.timeline.units import PARTS, WEEKDAY_NAMES, base_unit

__all__ = ["Cell", "ColumnPlan", "Dimension", "HoursOf", "Lookup", "Plan", "Rounding", "Strand"]

MOST_ACROSS = 400


@dataclass(frozen=True, slots=True)
class Dimension:
    """What is grouped by: a field, a calendar unit (`month`) or a recurring part of time (`weekday`)."""

    name: str
    kind: Literal["field", "unit", "part"]
    heading: str = dataclasses.field(default="", compare=False, metadata=apart("what it is called"))

    @classmethod
    def of(cls, text: str, schemas: Sequence[LogSchema], calendar: Calendar) -> Dimension:
        """The dimension called `text`; `-` and blanks are the same. Raises UnknownName, RequestError."""
        words = text.strip().lower().replace("-", " ")
        if words in PARTS:
            return cls(words, "part")
        if words == "hour" or words in calendar.units:
            return cls(words, "unit")
        name = text.strip()
        known = [*(f for s in schemas for f in s.by_name), "hour", *calendar.units, *PARTS]
        for schema in schemas:
            if name not in schema.by_name:
                raise UnknownName.of("dimension", name, known, where=f"in the log {schema.name}")
            kind = schema.by_name[name].type
            if kind in ("duration", "time", "decimal", "money"):
                raise RequestError(f"{name} is a {kind}; group by a text, a flag, tags or a whole number")
        return cls(name, "field")

    @property
    def calendar(self) -> bool:
        """Whether it is cut from time and not read from a field."""
        return self.kind != "field"

    @property
    def unit(self) -> str:
        """The calendar unit that decides it."""
        return PARTS.get(self.name, self.name)

    @property
    def label(self) -> str:
        """Its heading."""
        return self.heading or self.name[:1].upper() + self.name[1:].replace("_", " ").replace(".", " ")

    def labels(self, found: Sequence[Slot]) -> tuple[list[int], int | None]:
        """The integer label of each slot of its unit, and the modulus where labels recur."""
        if self.name == "weekday":
            return [s.begins.weekday() for s in found], 7
        if self.name == "hour of day":
            return [s.begins.hour for s in found], 24
        return list(range(len(found))), None


@dataclass(frozen=True)
class Lookup:
    """How the texts of a field become identities: the register's rows for the period (text, since, until, label and
    `attributes`), with the kinds of these columns. `whole` says that one row per text covers all of the period.
    """

    field: str
    kind: str
    digest: str
    attributes: tuple[str, ...]
    whole: bool
    columns: dict[str, str] = dataclasses.field(repr=False, compare=False, metadata=apart("kinds of the attributes"))
    rows: tuple[tuple[Any, ...], ...] = dataclasses.field(
        repr=False, metadata=apart("those of the period, from the register that `digest` marks")
    )

    @property
    def name(self) -> str:
        """What the rows are called in an engine: the same rows have the same name."""
        told = hashlib.sha256(f"{self!r} {self.rows!r}".encode()).hexdigest()
        return f"lookup_{told[:16]}"


@dataclass(frozen=True, slots=True)
class HoursOf:
    """The hours that count: of each value of the field `by` its own, and `others` for the rest (or all, without
    `by`).
    """

    others: Hours
    by: str = ""
    each: tuple[tuple[str, Hours], ...] = ()

    @property
    def variants(self) -> tuple[tuple[str | None, Hours], ...]:
        """Each value with its hours; None stands for all others and comes last."""
        return (*self.each, (None, self.others))


@dataclass(frozen=True, slots=True)
class Rounding:
    """Every span's length to whole steps of `step` microseconds, before it is split; its start stays."""

    way: Literal["up", "down", "nearest"]
    step: int


@dataclass(frozen=True, slots=True)
class Strand:
    """One log's part of a plan: which events, and which columns (by number) they answer.

    `window` is its period, `covers` what the log holds, from its first start to past its last moment (both aware UTC);
    `reach` is how much more than the period must be read. `stretch` is a period of its own, `units` whether its
    calendar units stand beside those of the plan in their order (the month before), or it has none (all that was
    before). `date_field` goes by another time than the start. `uses` are the stored columns its figures need (empty:
    all),
    `origin` the digest of what a generated log is made of: its register, working patterns, workdays, and the local date
    it is asked on.
    """

    schema: LogSchema
    selection: Selection
    measures: tuple[tuple[int, Measure], ...]
    lookups: tuple[Lookup, ...] = ()
    computed: tuple[Any, ...] = ()
    window: tuple[datetime, datetime] | None = dataclasses.field(
        default=None, metadata=apart("the plan's or its own period")
    )
    covers: tuple[datetime, datetime] | None = dataclasses.field(
        default=None, metadata=apart("the events' own mark tells it")
    )
    capacities: tuple[tuple[str, int], ...] = ()
    reach: timedelta = timedelta(0)
    hours: HoursOf | None = None
    rounding: Rounding | None = None
    stretch: Stretch | None = None
    units: bool = True
    date_field: str = ""
    uses: tuple[str, ...] = dataclasses.field(default=(), metadata=apart("what is read follows from what is asked"))
    origin: str = ""

    @property
    def needs_spans(self) -> bool:
        """Whether events that began before the period matter."""
        return any(m.needs_spans for _, m in self.measures)

    @property
    def as_filtered(self) -> Strand:
        """The strand with no more names and computed fields than its filters go by: for questions about starts and ends
        alone.
        """
        named = {c.field.partition(".")[0] for c in self.selection.conditions}
        if self.hours or any(c.field.name in named for c in self.computed):
            return self
        return dataclasses.replace(self, computed=(), lookups=tuple(lk for lk in self.lookups if lk.field in named))


@dataclass(frozen=True, slots=True)
class ColumnPlan:
    """A measure column: heading, measure, the strand that answers it, and type, unit and scale of its values.

    `earlier` is the strand of all that was before the period, for measures that go on from it. With a `formula` it is
    worked out from other columns (by number), its operands. A hidden one is only an operand. `beside` is the column of
    the same measure in the period it is compared with.
    """

    label: str = dataclasses.field(metadata=apart("a heading"))
    measure: Measure
    strand: int
    kind: tuple[str, str, int] = ("number", "", 0)
    earlier: int | None = None
    formula: Any = None
    operands: tuple[int, ...] = ()
    factors: tuple[tuple[str, Any], ...] = ()
    hidden: bool = False
    beside: int | None = None


@dataclass(frozen=True, slots=True)
class Cell:
    """A figure of a result: values of some dimensions (all others are totals) and one measure column."""

    keys: tuple[tuple[Dimension, object], ...]
    column: int


@dataclass(frozen=True)
class Plan:
    """A report in absolute terms. `sort` is (column number or -1 - dimension number, descending).

    `zeros` are groups of `by` to show even without events. `known` (aware) leaves out what came in later; `kept` are
    the values of the first dimension that a top N keeps; all others become one group. A workday is one with any of the
    hours of `workdays`. `checks` are columns that must be zero. `seen` tells whose view of the data it is, "" for
    everything. With `lacking`, a total of nothing is empty and not 0: it may have been left out.
    """

    title: str = dataclasses.field(metadata=apart("a heading"))
    stretch: Stretch
    by: tuple[Dimension, ...]
    across: Dimension | None
    strands: tuple[Strand, ...]
    columns: tuple[ColumnPlan, ...]
    sort: tuple[tuple[int, bool], ...] = ()
    top: int | None = None
    totals: bool = True
    kept: tuple[Any, ...] | None = None
    known: datetime | None = None
    zeros: tuple[tuple[Any, ...], ...] = ()
    workdays: Hours | None = None
    checks: tuple[int, ...] = ()
    seen: str = ""
    lacking: bool = dataclasses.field(default=False, metadata=apart("follows from `seen`"))

    @property
    def dimensions(self) -> tuple[Dimension, ...]:
        """All dimensions, the one across last."""
        return (*self.by, *((self.across,) if self.across else ()))

    def of(self, strand: Strand) -> Plan:
        """The plan as a strand sees it: with the period of its own, if it has one, and without units where those do not
        compare.
        """
        if strand.stretch is None:
            return self
        if strand.units:
            return dataclasses.replace(self, stretch=strand.stretch)
        by = tuple(d for d in self.by if not d.calendar)
        across = self.across if self.across and not self.across.calendar else None
        kept = self.kept if by[:1] == self.by[:1] else None  # values of the first dimension
        return dataclasses.replace(self, stretch=strand.stretch, by=by, across=across, kept=kept)

    @property
    def levels(self) -> list[tuple[Dimension, ...]]:
        """The groupings to compute: each depth of `by`, with and without the one across; the finest first. Where no
        totals are shown, the finest alone, unless a top N, the order of groups or a share goes by them.
        """
        sorted_by_figures = len(self.by) > 1 and any(number >= 0 for number, _ in self.sort)
        shares = any(c.measure.name == "share" for c in self.columns)
        needed = self.totals or bool(self.top) or sorted_by_figures or shares
        depths = range(len(self.by), -1, -1) if needed else [len(self.by)]
        found = [self.by[:d] for d in depths]
        if self.across:
            found = [level for keys in found for level in ((*keys, self.across), keys)]
        return found

    @property
    def set_dimension(self) -> Dimension | None:
        """The dimension whose field holds several values (tags, groups), if there is one. Raises RequestError for
        two.
        """
        schema = self.strands[0].schema
        found = [d for d in self.dimensions if not d.calendar and schema.field(d.name).type == "tags"]
        if len(found) > 1:
            raise RequestError(f"{found[0].name} and {found[1].name} both hold several values; group by one of them")
        if found and self.top and self.by[:1] == (found[0],):
            raise RequestError(
                f"{found[0].name} holds several values, so the rest of a top has no count of its own; leave top out"
            )
        return found[0] if found else None

    @property
    def base(self) -> str:
        """The calendar unit all calendar dimensions can be told from; empty if there are none."""
        return base_unit([d.name for d in self.dimensions if d.calendar])

    def strands_of(self, column: int) -> set[int]:
        """The strands a column's figures come from."""
        one = self.columns[column]
        if one.formula is None:
            return {one.strand}
        return set().union(*(self.strands_of(o) for o in one.operands)) if one.operands else set()

    def slots(self, unit: str) -> Sequence[Slot]:
        """The period cut into `unit`s; the whole period as one if `unit` is empty."""
        if not unit:
            return [Slot(self.stretch.start, self.stretch.end, self.stretch.text, self.stretch.start)]
        return slots(self.stretch, unit)

    @property
    def compared(self) -> Stretch | None:
        """The period whose units stand beside those of this one."""
        return next((s.stretch for s in self.strands if s.stretch and s.units), None)

    def beyond(self, unit: str) -> Sequence[Slot]:
        """The units of the period compared with that stand beside none of this one: it has more."""
        return slots(self.compared, unit)[len(self.slots(unit)) :] if self.compared else ()

    @functools.cached_property
    def digest(self) -> str:
        """SHA-256 of everything that decides the figures, to 16 hex digits: of all fields
        but those that say why not.
        """
        return digest(self)

    def weekday_or_label(self, dimension: Dimension, label: object) -> str:
        """A calendar dimension's integer label as people read it."""
        number = int(str(label))
        if dimension.name == "weekday":
            return WEEKDAY_NAMES[number]
        if dimension.name == "hour of day":
            return f"{number:02d}:00"
        own = self.slots(dimension.unit)
        return own[number].label if number < len(own) else self.beyond(dimension.unit)[number - len(own)].label
