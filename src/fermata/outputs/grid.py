"""A result or a listing as a plain grid: headings, and rows in blocks of columns. What every output renders."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from fermata.analysis.stages import ELSE_LABEL
from fermata.analysis.table import Table
from fermata.errors import RequestError, UnknownName
from fermata.notes import Note
from fermata.outputs.columns import strings, texts
from fermata.outputs.formats import ISO, TEXTUAL, UNCLEAN, Form, Show, Typed, label, people, unit_of
from fermata.reports.definition.display import Display
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.execute.listed import Listed
from fermata.reports.result import Context, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["Block", "Grid", "Head", "drawn", "of", "shows"]

PLAIN = ("h:mm", "h:mm:ss")  # units that the figure itself shows
DAY = re.compile(r"\d{4}-\d\d-\d\d")
MEASURED = ("money", "decimal")
MINUTE = 60_000_000  # microseconds
FINE = ("duration", "mean")  # measures that may need seconds or decimals
BLOCK = 50_000  # rows of a block


@dataclass(frozen=True, slots=True)
class Head:
    """A column: its name, heading, type and scale, the heading above it (in a grid), its own unit and how it wants to
    be shown.
    """

    name: str
    label: str
    kind: str
    scale: int = 0
    above: str = ""
    unit: str = ""
    show: Show | None = None

    @property
    def left(self) -> bool:
        """Whether it is set to the left."""
        return self.kind in TEXTUAL


class Block(NamedTuple):
    """Some rows of a grid: their levels, and column by column a list of values or an Arrow array."""

    levels: Sequence[int]
    columns: Sequence[Any]


@dataclass(frozen=True)
class Grid:
    """Columns, and rows of raw values with their level. `source` holds (level, values) for a table, the rows of a
    listing as they are.

    `places` are where in a row the columns are. `said` are dimensions of one value that stand in the title instead of a
    column; `second` the columns that go on a line of their own below each row; `chart` the column whose bars are drawn,
    0 for none; `total` counts the rows there would be without a limit, `each` is what every column across shows where
    their headings do not say it; `origins` are the rows of the result that the rows are.
    """

    context: Context
    title: str
    heads: tuple[Head, ...]
    places: tuple[int, ...]
    source: Sequence[Any]
    depth: int
    notes: tuple[Note, ...]
    total: int
    how: Display = ISO
    said: tuple[str, ...] = ()
    second: tuple[str, ...] = ()
    chart: int = 0
    listing: bool = False
    large: bool = False
    each: str = ""
    origins: tuple[int, ...] = ()

    def __len__(self) -> int:
        return len(self.source)

    @property
    def headings(self) -> tuple[str, ...]:
        """The headings with the units asked for."""
        units = [self._unit(h) for h in self.heads]
        units = units if not self.each else [""] * len(units)
        return tuple(f"{h.label} ({u})" if u else h.label for h, u in zip(self.heads, units, strict=True))

    @property
    def with_units(self) -> tuple[str, ...]:
        """The headings with every unit that a figure needs: what is asked for, else that of money and measured
        amounts.
        """
        return tuple(
            f"{head} ({h.unit})"
            if h.unit and not self.each and head == h.label and (h.kind in MEASURED or h.unit.isupper())
            else head
            for head, h in zip(self.headings, self.heads, strict=True)
        )

    def _unit(self, head: Head) -> str:
        unit = head.show.unit if head.show else ""
        if head.kind in ("duration", "mean duration") and not unit:
            unit = unit_of(self.how)
        return "" if unit in PLAIN else unit

    @property
    def rows(self) -> tuple[tuple[int, tuple[Any, ...]], ...]:
        """All rows with their levels."""
        found: list[tuple[int, tuple[Any, ...]]] = []
        for levels, columns in self.blocks():
            values = [c if isinstance(c, list) else c.to_pylist() for c in columns]
            found += zip(levels, zip(*values, strict=True), strict=True)
        return tuple(found)

    def blocks(self, size: int = BLOCK) -> Iterator[Block]:
        """The rows, at most `size` at a time."""
        if isinstance(self.source, Listed):
            for table in self.source.tables():
                for at in range(0, table.num_rows, size):
                    part = [table.column(i).slice(at, size) for i in self.places]
                    yield Block([1] * len(part[0]), part)
            return
        for at in range(0, len(self.source), size):
            rows = self.source[at : at + size]
            leveled = [(1, r) for r in rows] if self.listing else rows
            yield Block([level for level, _ in leveled], [[r[i] for _, r in leveled] for i in self.places])

    def texts(self, block: Block, form: Form) -> list[list[str | None]]:
        """The texts of a block, column by column; None where nothing is known."""
        tz = zone(self.context.zone)
        told = zip(block.columns, self.heads, strict=True)
        odd = UNCLEAN if form is people else ""
        return [texts(column, h.kind, h.scale, tz, h.show, self.how, form, odd) for column, h in told]

    def strings(self, block: Block, times: Form, form: Form, odd: str) -> list[Any]:
        """The same as Arrow arrays: times as `times` writes them, texts that do not match `odd` as they are, all else
        as `form` does.
        """
        tz = zone(self.context.zone)
        told = zip(block.columns, self.heads, strict=True)
        return [
            strings(column, h.kind, h.scale, tz, h.show, self.how, times if h.kind == "time" else form, odd)
            for column, h in told
        ]

    def lines(self, form: Form = people) -> list[list[str]]:
        """Every row as texts, "" where nothing is known."""
        found: list[list[str]] = []
        for block in self.blocks():
            columns = [[t or "" for t in column] for column in self.texts(block, form)]
            found += [list(row) for row in zip(*columns, strict=True)]
        return found

    def compact(self) -> Grid:
        """The grid with headings in as little room as they need: one measure across is named in `each` and not over
        every column, days of it are told by month and day.
        """
        across = self.heads[self.depth :]
        if not any(h.above for h in across) or len({h.label for h in across}) > 1:
            return self
        told = self.with_units[self.depth]
        days = all(DAY.fullmatch(h.above) for h in across if h.above != "Total")
        heads = [
            dataclasses.replace(h, above=h.above[:7], label=h.above[8:])
            if days and h.above != "Total"
            else dataclasses.replace(h, above="", label=h.above)
            for h in across
        ]
        return dataclasses.replace(self, heads=(*self.heads[: self.depth], *heads), each=told)

    def first(self, count: int) -> Grid:
        """The grid of the first rows only."""
        return dataclasses.replace(self, source=self.source[:count])


def of(item: RunResult | Records, how: Display = ISO, *, titled: bool = False) -> Grid:
    """The grid of a result (subtotals named in words) or of a listing, with the columns that `how` chooses. Raises
    UnknownName.

    With `titled`, a dimension of one value among several is said in the title (`said`) and has no column.
    """
    if isinstance(item, Records):
        return _of_records(item, how)
    table, said, origins = _without_single(item.table) if titled else (item.table, (), range(len(item.table.rows)))
    if item.report.measures == "down":
        return _chosen(_down(item, table, said, how))
    return dataclasses.replace(_chosen(_across(item, table, said, how)), origins=tuple(origins))


def _chosen(grid: Grid) -> Grid:
    """Only the measures that are wanted, the groups always, in the order they have."""
    if not grid.how.columns:
        return grid
    heads = grid.heads
    wanted = {_place(name, [(h.name, h.label) for h in heads]) for name in grid.how.columns}
    labels = {heads[i].label for i in wanted} | {heads[i].above for i in wanted if heads[i].above and i >= grid.depth}
    keep = [i for i, h in enumerate(heads) if i < grid.depth or h.label in labels]
    chart = keep.index(grid.chart) if grid.chart in keep else 0
    return dataclasses.replace(
        grid, heads=tuple(heads[i] for i in keep), places=tuple(grid.places[i] for i in keep), chart=chart
    )


def _place(wanted: str, known: Sequence[tuple[str, str]]) -> int:
    """Which column a name or heading means. Raises UnknownName."""
    low = wanted.lower()
    for i, (name, heading) in enumerate(known):
        if low in (name.lower(), heading.lower()):
            return i
    raise UnknownName.of("column", wanted, [heading for _, heading in known], where="in this output")


def _without_single(table: Table) -> tuple[Table, tuple[str, ...], Sequence[int]]:
    """The table without dimensions that have one value only, what they are, and which rows stayed; one dimension
    stays.
    """
    said = []
    origins = list(range(len(table.rows)))
    for i in reversed(range(len(table.dimensions))):
        values = {r.shown[i] for r in table.body}
        if len(values) != 1 or len(table.dimensions) == 1 or not table.body:
            continue
        said.append(f"{table.dimensions[i].label}: {values.pop()}")
        depth = len(table.dimensions)
        totals = any(r.level == i for r in table.rows)  # then the only group's subtotal says the same again
        places = [n for n, r in enumerate(table.rows) if not (r.level == i + 1 < depth and totals)]
        origins = [origins[n] for n in places]
        rows = tuple(
            r._replace(level=r.level - (r.level > i), keys=_less(r.keys, i), shown=_less(r.shown, i))
            for r in (table.rows[n] for n in places)
        )
        table = Table((*table.columns[:i], *table.columns[i + 1 :]), rows)
    return table, tuple(reversed(said)), origins


def _less(values: tuple[Any, ...], i: int) -> tuple[Any, ...]:
    return (*values[:i], *values[i + 1 :])


def shows(result: RunResult, table: Table) -> list[Show | None]:
    """How each column of figures wants to be shown, by the report's columns; seconds only where a measure has some."""
    asked: dict[str, ColumnSpec] = {c.heading: c for c in result.report.columns}
    fine = _fine(table)
    found = []
    for column in table.measures:
        spec = asked.get(column.label)
        digits = spec.format.rstrip("% ") if spec else ""
        places = len(digits.partition(".")[2]) if digits else None
        minutes = column.type == "duration" and column.label not in fine
        if column.type == "mean" and places is None and column.label not in fine:
            places = 0
        unit, width = (spec.unit, spec.width) if spec else ("", None)
        shown = Show(unit, places, width, minutes)
        found.append(None if shown == Show() else shown)
    return found


def _fine(table: Table) -> set[str]:
    """The measures with a length of time that is not of full minutes, or a mean that is no whole number."""
    steps = [
        (i, c.label, MINUTE if c.type == "duration" else 1) for i, c in enumerate(table.measures) if c.type in FINE
    ]
    return {label for i, label, step in steps if any((row.cells[i] or 0) % step for row in table.rows)}


def _down(result: RunResult, table: Table, said: tuple[str, ...], how: Display) -> Grid:
    """The columns below each other under each group; what runs across stays across."""
    dimensions, measures = table.dimensions, table.measures
    shown_as = shows(result, table)
    labels = list(dict.fromkeys(c.label for c in measures))
    across = list(dict.fromkeys(c.across_label for c in measures))
    place = {(c.label, c.across_label): i for i, c in enumerate(measures)}
    rows: list[tuple[int, tuple[Any, ...]]] = []
    for row in table.rows if table.size > 1 else table.body:
        shown = _named(row, len(dimensions), how)
        body = row.level == len(dimensions)
        for n, heading in enumerate(labels):
            cells = [
                Typed(row.cells[i], measures[i].type, measures[i].scale, shown_as[i])
                if i is not None and row.cells[i] is not None
                else None
                for i in (place.get((heading, a)) for a in across)
            ]
            heads = shown if body or not n else [""] * len(shown)
            rows.append((row.level + body, (*heads, heading, *cells)))
    heads_ = (*_dimensions(table), Head("measure", "Measure", "text"))
    figures = (Head(a or "figure", label(a, how) if a else "Figure", "mixed") for a in across)
    return _table(result, (*heads_, *figures), rows, len(dimensions) + 1, said, how)


def _named(row: Any, width: int, how: Display) -> list[str]:
    """The dimension cells of a row, a subtotal's in words."""
    shown = [label(s, how) for s in row.shown] if how is not ISO else list(row.shown)
    if row.level < width:
        shown.append("All" if row.level == 0 else f"All of {shown[-1]}")
    return shown + [""] * (width - len(shown))


DATED = ("day", "month")  # units whose names are those of days


def _dimensions(table: Table) -> list[Head]:
    """The columns of the groups; those of days where every row has one, and none is the rest of a top N."""
    rest = any(row.keys[0] == ELSE_LABEL for row in table.body if row.keys)
    dated = [c.unit in DATED and not (rest and not i) for i, c in enumerate(table.dimensions)]
    return [
        Head(c.name, c.label, "text", unit=c.unit if d else "") for c, d in zip(table.dimensions, dated, strict=True)
    ]


def _across(result: RunResult, table: Table, said: tuple[str, ...], how: Display) -> Grid:
    width = len(table.dimensions)
    rows = [(row.level, (*_named(row, width, how), *row.cells)) for row in table.rows]
    shown_as = shows(result, table)
    figures = [
        Head(c.name, c.label, c.type, c.scale, label(c.across_label, how), c.unit, show)
        for c, show in zip(table.measures, shown_as, strict=True)
    ]
    grid = _table(result, (*_dimensions(table), *figures), rows, width, said, how)
    return dataclasses.replace(grid, chart=_charted(result, table))


def _table(
    result: RunResult, heads: tuple[Head, ...], rows: list[Any], depth: int, said: tuple[str, ...], how: Display
) -> Grid:
    places, notes = tuple(range(len(heads))), result.notes
    return Grid(result.context, result.context.title, heads, places, rows, depth, notes, len(rows), how, said)


def _charted(result: RunResult, table: Table) -> int:
    """The place of the column that bars are drawn of: the one named, else the first. Raises UnknownName,
    RequestError.
    """
    if result.report.chart in ("", "none") or not table.measures:
        return 0
    names = result.report.charted[1].split(",")
    one = table.measures[drawn(table, names[0].strip() if len(names) > 1 else result.report.charted[1])]
    total = next(i for i, c in enumerate(table.measures) if c.measure == one.measure and c.across_total)
    return len(table.dimensions) + total


def drawn(table: Table, name: str) -> int:
    """Which measure column of a table to draw: the one of that heading, else the first. Raises UnknownName,
    RequestError.
    """
    places = {c.label.lower(): i for i, c in reversed(list(enumerate(table.measures)))}
    if name and name.lower() not in places:
        raise UnknownName.of("column", name, [c.label for c in table.measures], where="to draw")
    i = places[name.lower()] if name else 0
    if table.measures[i].type in TEXTUAL:
        raise RequestError(
            f"chart: {table.measures[i].label} is a {table.measures[i].type}; a chart needs numbers or durations"
        )
    return i


def _of_records(records: Records, how: Display) -> Grid:
    known = [(c.name, c.label) for c in records.columns]
    hidden = {"start": ("finish",), "finish": ("start",), "none": ("start", "finish"), "both": ()}[how.times]
    places = [_place(name, known) for name in how.columns]
    if not places:
        places = [i for i, (name, _) in enumerate(known) if name not in hidden]
    columns = [records.columns[i] for i in places]
    heads = tuple(Head(name, heading, kind, scale, "", unit) for name, heading, kind, unit, scale in columns)
    below = tuple(h.name for h in heads if h.name in records.second)
    return Grid(
        records.context, records.title, heads, tuple(places), records.rows, 1, records.notes, records.total, how,
        second=below,
        listing=True, large=records.large,
    )  # fmt: skip
