"""The events behind every figure of a table at once: for pages that are looked at without the workspace."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from fermata.analysis import drill
from fermata.analysis.cells import measure_of
from fermata.analysis.combine import Source
from fermata.analysis.measures import TOUCHED
from fermata.analysis.plan import Cell, Plan, Strand
from fermata.errors import RequestError
from fermata.fields import PROVENANCE
from fermata.reports.execute.cell_events import Keys, Placed
from fermata.reports.execute.listed import Listed
from fermata.reports.execute.listing import has_records, listed_events
from fermata.reports.result import Records, RunResult

__all__ = ["Behind", "behind"]

QUERIES = 400  # units of time that are asked for one by one for a figure
BROUGHT = ("_brought_", "contribution_")


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


@dataclass(frozen=True)
class _Query:
    """Events of one log asked for at once: for measure columns, each with the heading of what an event brought to it
    and its cells, as (row, column) of the table. With `fixed`, the cells' units of time are asked for already.
    """

    strand: int
    opened: Callable[[Source], tuple[Any, Any]]
    columns: dict[int, str]
    cells: dict[int, dict[Keys, tuple[int, int]]]
    fixed: bool = False


def behind(result: RunResult, most: int) -> Behind:
    """The events behind the figures of a result, as long as there are no more than `most`."""
    plan, source = result.plan, result.place.source(result.plan)
    columns = [i for i, c in enumerate(plan.columns) if not c.hidden and _explained(plan, i)]
    found: dict[int, _Found] = {}
    figures: dict[tuple[int, int], tuple[int, list[int], list[Any]]] = {}
    left: list[str] = []
    for query in _queries(result, columns, left):
        engine, table = query.opened(source)
        events = engine.run(table.limit(most + 1))
        held = found.setdefault(query.strand, _Found(plan.strands[query.strand]))
        events = events.sort_by([(c, "ascending") for c in ("start_utc", *PROVENANCE)])
        numbers = _numbered(held, events)
        if max(events.num_rows, sum(len(f.numbers) for f in found.values())) > most:
            return Behind((), {}, _counted(plan, columns, source))
        figures.update(_explaining(result, query, events, numbers))
    order = list(found)
    logs = tuple(_records(result, found[n]) for n in order)
    placed = {key: (order.index(n), numbers, brought) for key, (n, numbers, brought) in figures.items()}
    return Behind(logs, placed, sum(len(f.numbers) for f in found.values()), tuple(left))


def _counted(plan: Plan, columns: list[int], source: Source) -> int:
    """How many events there are behind the columns, of each log as many as most of its columns have."""
    counts: dict[int, int] = {}
    for i in columns:
        strand = plan.columns[i].strand
        counts[strand] = max(counts.get(strand, 0), drill.count(*drill.pieces(plan, Cell((), i), source)))
    return sum(counts.values())


def _explained(plan: Plan, column: int) -> bool:
    try:
        has_records(plan.columns[column])
    except RequestError:
        return False
    return True


def _queries(result: RunResult, columns: list[int], left: list[str]) -> Iterator[_Query]:
    """What to ask for: all columns of a log at once; by themselves those that count units of time, or have time within
    certain hours in units of time, which are asked for one unit after the other.
    """
    plan = result.plan
    cells = {i: own for i in columns if (own := _cells(result, i))}
    columns = list(cells)
    apart = [i for i in columns if _apart(plan, i, cells[i])]
    for strand in dict.fromkeys(plan.columns[i].strand for i in columns):
        together = [i for i in columns if plan.columns[i].strand == strand and i not in apart]
        if together:
            opened = functools.partial(drill.columns_behind, plan, together)
            yield _Query(strand, opened, {i: f"_brought_{i}" for i in together}, cells)
    for i in apart:
        groups: dict[Keys, dict[Keys, tuple[int, int]]] = {}
        for keys, at in cells[i].items():
            groups.setdefault(tuple((d, k) for d, k in keys if d.calendar), {})[keys] = at
        if len(groups) > QUERIES:
            left.append(plan.columns[i].label)
            continue
        for fixed, these in groups.items():
            opened = functools.partial(drill.pieces, plan, Cell(fixed, i))
            yield _Query(plan.columns[i].strand, opened, {i: "contribution_"}, {i: these}, fixed=True)


def _apart(plan: Plan, column: int, cells: dict[Keys, tuple[int, int]]) -> bool:
    measure, strand = measure_of(plan, column), plan.strands[plan.columns[column].strand]
    clipped = measure.needs_spans and any(d.calendar for keys in cells for d, _ in keys)
    return measure.name == TOUCHED or (clipped and strand.hours is not None)


def _cells(result: RunResult, column: int) -> dict[Keys, tuple[int, int]]:
    """The cells of a measure's figures, over the rows and across, with where they stand in the table."""
    plan, table = result.plan, result.table
    cells: dict[Keys, tuple[int, int]] = {}
    for r, row in enumerate(table.rows):
        keys = tuple(zip(plan.by, row.keys, strict=False))
        for c, head in enumerate(table.measures):
            if head.measure == column and row.cells[c] is not None:
                cells[keys if plan.across is None or head.across_total else (*keys, (plan.across, head.across))] = (
                    r,
                    c,
                )
    return cells


def _numbered(held: _Found, events: Any) -> list[int]:
    """The numbers of events, those not yet known added."""
    own = [events.column("start_utc").cast("int64"), *(events.column(c) for c in PROVENANCE)]
    keys = list(zip(*(c.to_pylist() for c in own), strict=True))
    new = []
    for n, key in enumerate(keys):
        if key not in held.numbers:
            held.numbers[key] = len(held.numbers)
            new.append(n)
    if new:
        asked = [c for c in events.column_names if c in ("_at_utc", "_until_utc") or c.startswith(BROUGHT)]
        held.pieces.append(events.drop_columns(asked).take(new))
    return [held.numbers[key] for key in keys]


def _explaining(
    result: RunResult, query: _Query, events: Any, numbers: list[int]
) -> dict[tuple[int, int], tuple[int, list[int], list[Any]]]:
    """The events behind each figure that a query is for, with what they brought."""
    plan = result.plan
    strand = plan.strands[query.strand]
    placed = Placed(plan.of(strand), strand, events)
    told = {}
    for column, name in query.columns.items():
        cells = query.cells[column]
        sorted_in = placed.sorted_in(name, measure_of(plan, column), list(cells), fixed=query.fixed)
        for keys, (at, brought) in sorted_in.items():
            entry = (query.strand, [numbers[n] for n in at], brought)
            told[cells[keys]] = _kept(result, column, cells[keys], entry)
    return told


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
