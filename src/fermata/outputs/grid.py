"""A result or a listing as a plain grid of texts: what the terminal, CSV and JSON outputs share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from fermata.analysis.table import Column, Table
from fermata.errors import RequestError, UnknownName
from fermata.outputs.formats import Show, Typed
from fermata.reports.result import Context, Records, RunResult
from fermata.reports.spec import ColumnSpec
from fermata.timeline.zones import zone

__all__ = ["Grid", "of"]

Format = Callable[[Any, str, int, ZoneInfo, Show | None], str]
PLAIN = ("h:mm", "h:mm:ss")  # units that the figure itself shows


@dataclass(frozen=True)
class Grid:
    """Headings (with the group heading above, if any), rows of raw values with their level, and types per column.

    `said` are dimensions of one value that stand in the title instead of a column; `second` the columns that go on a line of their
    own below each row; `chart` the column whose bars are drawn, 0 for none.
    """

    context: Context
    above: tuple[str, ...]
    heads: tuple[str, ...]
    kinds: tuple[str, ...]
    scales: tuple[int, ...]
    names: tuple[str, ...]
    rows: tuple[tuple[int, tuple[Any, ...]], ...]
    depth: int
    notes: tuple[str, ...]
    total: int
    shows: tuple[Show | None, ...] = ()
    said: tuple[str, ...] = ()
    second: tuple[str, ...] = ()
    chart: int = 0

    @property
    def headings(self) -> tuple[str, ...]:
        """The headings with the units asked for."""
        units = [s.unit if s and s.unit not in PLAIN else "" for s in self._shows]
        return tuple(f"{h} ({u})" if u else h for h, u in zip(self.heads, units, strict=True))

    @property
    def _shows(self) -> tuple[Show | None, ...]:
        return self.shows or (None,) * len(self.heads)

    def texts(self, form: Format) -> list[list[str]]:
        """Every row as texts."""
        tz = zone(self.context.zone)
        pairs = list(zip(self.kinds, self.scales, self._shows, strict=True))
        return [[form(v, k, s, tz, show) for v, (k, s, show) in zip(row, pairs, strict=True)] for _, row in self.rows]


def of(item: RunResult | Records, *, titled: bool = False) -> Grid:
    """The grid of a result (subtotals named in words) or of a listing.

    With `titled`, a dimension of one value among several is said in the title (`said`) and has no column.
    """
    if isinstance(item, Records):
        return _of_records(item)
    table, said = _without_single(item.table) if titled else (item.table, ())
    if item.report.measures == "down":
        return _down(item, table, said)
    return _across(item, table, said)


def _without_single(table: Table) -> tuple[Table, tuple[str, ...]]:
    """The table without dimensions that have one value only, and what they are; one dimension stays."""
    said = []
    for i in reversed(range(len(table.dimensions))):
        values = {r.shown[i] for r in table.body}
        if len(values) != 1 or len(table.dimensions) == 1 or not table.body:
            continue
        said.append(f"{table.dimensions[i].label}: {values.pop()}")
        depth = len(table.dimensions)
        totals = any(r.level == i for r in table.rows)  # then the only group's subtotal says the same again
        kept = [r for r in table.rows if not (r.level == i + 1 < depth and totals)]
        rows = tuple(
            r._replace(level=r.level - (r.level > i), keys=_less(r.keys, i), shown=_less(r.shown, i)) for r in kept
        )
        table = Table((*table.columns[:i], *table.columns[i + 1 :]), rows)
    return table, tuple(reversed(said))


def _less(values: tuple[Any, ...], i: int) -> tuple[Any, ...]:
    return (*values[:i], *values[i + 1 :])


def _shows(result: RunResult, columns: tuple[Column, ...]) -> tuple[Show | None, ...]:
    """How each column wants to be shown, by the report's columns."""
    asked: dict[str, ColumnSpec] = {c.heading: c for c in result.report.columns}
    found = []
    for column in columns:
        spec = asked.get(column.label)
        places = len(spec.format.partition(".")[2]) if spec and spec.format else None
        plain = spec is None or not (spec.unit or spec.format or spec.width)
        found.append(None if plain or spec is None else Show(spec.unit, places, spec.width))
    return tuple(found)


def _down(result: RunResult, table: Table, said: tuple[str, ...]) -> Grid:
    """The columns below each other under each group; what runs across stays across."""
    dimensions, measures = table.dimensions, table.measures
    shows = _shows(result, measures)
    labels = list(dict.fromkeys(c.label for c in measures))
    across = list(dict.fromkeys(c.across_label for c in measures))
    place = {(c.label, c.across_label): i for i, c in enumerate(measures)}
    rows: list[tuple[int, tuple[Any, ...]]] = []
    for row in table.rows if len(table.body) > 1 else table.body:
        shown = _named(row, len(dimensions))
        body = row.level == len(dimensions)
        for n, label in enumerate(labels):
            cells = [
                Typed(row.cells[i], measures[i].type, measures[i].scale, shows[i])
                if i is not None and row.cells[i] is not None
                else None
                for i in (place.get((label, a)) for a in across)
            ]
            heads = shown if body or not n else [""] * len(shown)
            rows.append((row.level + body, (*heads, label, *cells)))
    width = len(across)
    return Grid(
        result.context, tuple([""] * (len(dimensions) + 1 + width)),
        (*(c.label for c in dimensions), "Measure", *(a or "Figure" for a in across)),
        tuple(["text"] * (len(dimensions) + 1) + ["mixed"] * width), (0,) * (len(dimensions) + 1 + width),
        (*(c.name for c in dimensions), "measure", *(a or "figure" for a in across)),
        tuple(rows), len(dimensions) + 1, result.caveats, len(rows), (), said,
    )  # fmt: skip


def _named(row: Any, width: int) -> list[str]:
    """The dimension cells of a row, a subtotal's in words."""
    shown = list(row.shown) + [""] * (width - len(row.shown))
    if row.level < width:
        shown[row.level] = "All" if row.level == 0 else f"All of {row.shown[-1]}"
    return shown


def _across(result: RunResult, table: Table, said: tuple[str, ...]) -> Grid:
    dimensions, measures = table.dimensions, table.measures
    rows = [(row.level, (*_named(row, len(dimensions)), *row.cells)) for row in table.rows]
    return Grid(
        result.context,
        tuple([""] * len(dimensions) + [c.across_label for c in measures]),
        tuple(c.label for c in (*dimensions, *measures)),
        tuple(["text"] * len(dimensions) + [c.type for c in measures]),
        tuple([0] * len(dimensions) + [c.scale for c in measures]),
        tuple([c.name for c in dimensions] + [c.name for c in measures]),
        tuple(rows),
        len(dimensions),
        result.caveats,
        len(rows),
        (*(None for _ in dimensions), *_shows(result, measures)),
        said,
        chart=_charted(result, table),
    )


def _charted(result: RunResult, table: Table) -> int:
    """The place of the column that bars are drawn of: the one named, else the first. Raises UnknownName, RequestError."""
    if not result.report.chart or not table.measures:
        return 0
    name = result.report.chart.removeprefix("bar").removeprefix(" of ").strip().lower()
    places = {c.label.lower(): i for i, c in reversed(list(enumerate(table.measures)))}
    if name and name not in places:
        raise UnknownName.of("column", name, [c.label for c in table.measures], where="to draw bars of")
    i = places[name] if name else 0
    if table.measures[i].type in ("text", "time", "tags", "flag"):
        raise RequestError(f"chart: {table.measures[i].label} is a {table.measures[i].type}, and has no length")
    return len(table.dimensions) + i


def _of_records(records: Records) -> Grid:
    columns = records.columns
    return Grid(
        records.context,
        tuple("" for _ in columns),
        tuple(c[1] for c in columns),
        tuple(c[2] for c in columns),
        tuple(c[4] for c in columns),
        tuple(c[0] for c in columns),
        tuple((1, row) for row in records.rows),
        1,
        records.notes,
        records.total,
        second=records.second,
    )
