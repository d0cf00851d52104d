"""The events behind every figure of a table at once: for pages that are looked at without the workspace."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from fermata.analysis import drill
from fermata.analysis.cells import measure_of
from fermata.analysis.plan import Cell, Dimension, Plan, Strand
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.errors import RequestError
from fermata.reports.execute.listed import Listed
from fermata.reports.execute.listing import has_records, listed_events
from fermata.reports.result import Records, RunResult

__all__ = ["Behind", "behind"]

QUERIES = 400  # figures of time by calendar units are asked for one unit at a time


@dataclass(frozen=True)
class Behind:
    """The events of each log (`logs`), and for (row, measure column) of the table: the log, the events by number, what
    each brought.

    With more events than asked for, `logs` is empty and `total` says how many there would be. `left` are the headings
    of columns whose events are not there, as too many units of time would have to be asked for one by one.
    """

    logs: tuple[Records, ...]
    figures: dict[tuple[int, int], tuple[int, list[int], list[Any]]]
    total: int
    left: tuple[str, ...] = ()


@dataclass
class _Found:
    """The events of one log so far, each once."""

    strand: Strand
    numbers: dict[tuple[Any, ...], int] = dataclasses.field(default_factory=dict)
    pieces: list[Any] = dataclasses.field(default_factory=list)


def behind(result: RunResult, most: int) -> Behind:
    """The events behind the figures of a result, as long as there are no more than `most`."""
    plan, place = result.plan, result.place
    columns = [i for i, c in enumerate(plan.columns) if not c.hidden and _explained(plan, i)]
    source = place.source(plan)
    counted = {plan.columns[i].strand: 0 for i in columns}
    for i in columns:
        counted[plan.columns[i].strand] = max(counted[plan.columns[i].strand], drill.count(plan, Cell((), i), source))
    if sum(counted.values()) > most:
        return Behind((), {}, sum(counted.values()))
    found: dict[int, _Found] = {}
    figures: dict[tuple[int, int], tuple[int, list[int], list[Any]]] = {}
    left: list[str] = []
    for i in columns:
        for (row, column), (strand, numbers, brought) in _of_column(result, i, found, left).items():
            figures[row, column] = (strand, numbers, brought)
    order = list(found)
    logs = tuple(_records(result, found[n]) for n in order)
    placed = {key: (order.index(n), numbers, brought) for key, (n, numbers, brought) in figures.items()}
    return Behind(logs, placed, sum(len(f.numbers) for f in found.values()), tuple(left))


def _explained(plan: Plan, column: int) -> bool:
    try:
        has_records(plan.columns[column])
    except RequestError:
        return False
    return True


def _of_column(
    result: RunResult, column: int, found: dict[int, _Found], left: list[str]
) -> dict[tuple[int, int], tuple[int, list[int], list[Any]]]:
    """The events behind each figure of one measure, over the rows and across."""
    plan, table = result.plan, result.table
    cells: dict[tuple[tuple[Dimension, Any], ...], tuple[int, int]] = {}
    for r, row in enumerate(table.rows):
        keys = tuple(zip(plan.by, row.keys, strict=False))
        for c, head in enumerate(table.measures):
            if head.measure == column and row.cells[c] is not None:
                own = keys if plan.across is None or head.across_total else (*keys, (plan.across, head.across))
                cells[own] = (r, c)
    strand = plan.columns[column].strand
    held = found.setdefault(strand, _Found(plan.strands[strand]))
    told: dict[tuple[int, int], tuple[int, list[int], list[Any]]] = {}
    asked = _asked(plan, column, list(cells))
    if len(asked) > QUERIES:
        left.append(plan.columns[column].label)
        return {}
    for fixed, wanted in asked.items():
        for pieces in drill.pieces(plan, Cell(fixed, column), result.place.source(plan)):
            numbers = _numbered(held, pieces)
            for keys, at in _sorted_in(plan, column, pieces, wanted):
                _, mine, brought = told.setdefault(cells[keys], (strand, [], []))
                mine += [numbers[n] for n in at]
                brought += [pieces.column("contribution")[n].as_py() for n in at]
    return {cell: _kept(result, column, cell, entry) for cell, entry in told.items()}


def _asked(plan: Plan, column: int, cells: list[Any]) -> dict[tuple[Any, ...], list[Any]]:
    """What to ask for at once: everything, or where time is clipped to calendar units, one unit at a time; with the
    cells it answers.
    """
    measure = measure_of(plan, column)
    groups: dict[tuple[Any, ...], list[Any]] = {}
    for keys in cells:
        calendar = tuple((d, k) for d, k in keys if d.calendar) if measure.needs_spans else ()
        groups.setdefault(calendar, []).append(keys)
    return groups


def _numbered(held: _Found, pieces: Any) -> list[int]:
    """The numbers of events, those not yet known added."""
    keys = list(
        zip(*(pieces.column(c).to_pylist() for c in ("start_utc", "file_id", "record_no", "event_no")), strict=True)
    )
    new = []
    for n, key in enumerate(keys):
        if key not in held.numbers:
            held.numbers[key] = len(held.numbers)
            new.append(n)
    if new:
        held.pieces.append(pieces.drop_columns(["contribution"]).take(new))
    return [held.numbers[key] for key in keys]


def _sorted_in(plan: Plan, column: int, pieces: Any, wanted: list[Any]) -> Iterator[tuple[Any, list[int]]]:
    """Each cell with the places of its events among the pieces."""
    strand = plan.strands[plan.columns[column].strand]
    shapes: dict[tuple[Dimension, ...], set[Any]] = {}
    for keys in wanted:
        shapes.setdefault(tuple(d for d, _ in keys), set()).add(keys)
    values: dict[Dimension, list[Sequence[Any]]] = {}
    clipped = measure_of(plan, column).needs_spans
    for shape, cells in shapes.items():
        free = [d for d in shape if not (clipped and d.calendar)]
        for dimension in free:
            if dimension not in values:
                values[dimension] = _labels(plan, strand, dimension, pieces)
        at: dict[Any, list[int]] = {}
        for n in range(pieces.num_rows):
            for keys in _combined([values[d][n] for d in free]):
                at.setdefault(keys, []).append(n)
        for keys in cells:
            own = tuple(k for d, k in keys if d in free)
            if own in at:
                yield keys, at[own]


def _combined(parts: list[Sequence[Any]]) -> Iterator[tuple[Any, ...]]:
    """Every combination: an event with two tags is in two groups."""
    if not parts:
        yield ()
        return
    for rest in _combined(parts[1:]):
        for first in parts[0]:
            yield (first, *rest)


def _labels(plan: Plan, strand: Strand, dimension: Dimension, pieces: Any) -> list[Sequence[Any]]:
    """The groups of a dimension that each event is in."""
    kept = set(plan.kept) if plan.kept is not None and plan.by and dimension == plan.by[0] else None
    if dimension.calendar:
        import bisect
        from datetime import UTC

        slots = plan.slots(dimension.unit)
        labels, _ = dimension.labels(slots)
        edges = [s.start.astimezone(UTC).replace(tzinfo=None) for s in slots]
        starts = pieces.column("start_utc").to_pylist()
        found = [labels[max(bisect.bisect_right(edges, s) - 1, 0)] for s in starts]
        return [(v if kept is None or v in kept else ELSE_LABEL,) for v in found]
    field = strand.schema.field(dimension.name)
    given = pieces.column(field.stored).to_pylist()
    if field.type == "tags":
        return [tuple(v) if v else (None,) for v in given]
    return [(v if kept is None or v in kept else ELSE_TEXT,) for v in given]


def _kept(result: RunResult, column: int, cell: tuple[int, int], entry: tuple[int, list[int], list[Any]]) -> Any:
    """Of all events of a cell those that explain its figure: the first of each different value, those that hold the
    extreme.
    """
    measure = measure_of(result.plan, column)
    strand, numbers, brought = entry
    if measure.records == "representatives":
        first: dict[Any, int] = {}
        for number, value in zip(numbers, brought, strict=True):
            first.setdefault(value, number)
        return strand, list(first.values()), [1] * len(first)
    if measure.records == "witnesses":
        value = result.table.rows[cell[0]].cells[cell[1]]
        pairs = [(n, v) for n, v in zip(numbers, brought, strict=True) if v == value]
        return strand, [n for n, _ in pairs], [v for _, v in pairs]
    return strand, numbers, brought


def _records(result: RunResult, held: _Found) -> Records:
    """The events of one log as a listing, in the order of their numbers."""
    import pyarrow as pa

    whole = pa.concat_tables(held.pieces) if held.pieces else None
    rows = listed_events(result, held.strand, lambda: iter([whole] if whole is not None else []), len(held.numbers))
    assert isinstance(rows.rows, Listed)
    return rows
