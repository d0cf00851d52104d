"""Small groups: figures of fewer people than a viewer may see are left out, and so many more that none can be worked out.

A figure is hidden where fewer than N people, but at least one, are behind it. In every line of a table whose total is shown (down the
groups, and across), as many further figures are hidden as it takes for the hidden ones to be two or more, of N people or more together:
the least first. This is the usual rule of cell suppression; it holds within one result.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from typing import Any

from fermata.analysis.combine import Source, gather
from fermata.analysis.identify import opened
from fermata.analysis.measures import Measure
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.stages import inside
from fermata.analysis.table import Table
from fermata.errors import RequestError
from fermata.reports.resolve import Logs, lookups

__all__ = ["without_small"]

PEOPLE = Measure.parse("present user")
TOTAL = object()  # in the place of a value across: all of them
Cell = tuple[tuple[Any, ...], Any]  # keys of the groups, value across


def without_small(plan: Plan, table: Table, logs: Logs, source: Source) -> tuple[Table, list[str]]:
    """The table without figures of fewer people than the viewer may see, and a note that says how many are left out.

    Raises RequestError for a log without users, and for filters that leave out so few people that they could be told.
    """
    least = logs.view.smallest
    counting = dataclasses.replace(plan, strands=tuple(_counting(s, plan, logs) for s in plan.strands), columns=())
    for strand in counting.strands:
        _left_out(counting, strand, source, least)
    figures = gather(counting, source)
    counts: dict[int, dict[Cell, int]] = {}
    for level, groups in figures.items():
        for key, found in groups.items():
            own = (key[:-1], key[-1]) if plan.across and plan.across in level else (key, TOTAL)
            for (number, _), n in found.items():
                counts.setdefault(number, {})[own] = n
    hidden = {strand: hidden_cells(people, least, len(plan.by)) for strand, people in counts.items()}
    few = sum(1 for n, cells in hidden.items() for c in cells if counts[n][c] < least)
    more = sum(map(len, hidden.values())) - few
    rows = []
    for row in table.rows:
        cells = list(row.cells)
        for i, column in enumerate(table.measures):
            across = TOTAL if plan.across is None or column.across_total else column.across
            strands = _strands(plan, column.measure)
            if any((row.keys, across) in hidden.get(s, ()) for s in strands):
                cells[i] = None
        rows.append(row._replace(cells=tuple(cells)))
    told = [f"figures of fewer than {least} people are left out ({few:,} figure{'s' * (few != 1)})"] if few else []
    if more:
        told.append(f"{more:,} more, so that those cannot be worked out from the totals")
    return dataclasses.replace(table, rows=tuple(rows)), told


def hidden_cells(people: dict[Cell, int], least: int, depth: int) -> set[Cell]:
    """The cells to hide. `people` is how many are behind each: keys of the groups to any depth up to `depth`, and the value across."""
    hidden = {cell for cell, n in people.items() if 0 < n < least}
    lines = [*_down(people, depth), *_along(people)]
    changed = True
    while changed:
        changed = False
        for total, parts in lines:
            for cell in _protecting(total, parts, hidden, people, least):
                hidden.add(cell)
                changed = True
    return hidden


def _down(people: dict[Cell, int], depth: int) -> list[tuple[Cell, list[Cell]]]:
    lines: dict[Cell, list[Cell]] = {}
    for keys, across in people:
        if keys:
            lines.setdefault((keys[:-1], across), []).append((keys, across))
    return [(total, parts) for total, parts in lines.items() if total in people and len(total[0]) < depth]


def _along(people: dict[Cell, int]) -> list[tuple[Cell, list[Cell]]]:
    lines: dict[Cell, list[Cell]] = {}
    for keys, across in people:
        if across is not TOTAL:
            lines.setdefault((keys, TOTAL), []).append((keys, across))
    return [(total, parts) for total, parts in lines.items() if total in people]


def _protecting(
    total: Cell, parts: Iterable[Cell], hidden: set[Cell], people: dict[Cell, int], least: int
) -> list[Cell]:
    """The cells of a line still to be hidden: none where nothing in it is, else the least ones until nothing can be told."""
    ours = [c for c in parts if c in hidden]
    shown = sorted((c for c in parts if c not in hidden and people[c]), key=lambda c: (people[c], str(c)))
    if total in hidden:
        return [] if ours or not shown else shown[:1]
    if not ours:
        return []
    found: list[Cell] = []
    while len(ours) + len(found) < 2 or sum(people[c] for c in (*ours, *found)) < least:
        if not shown:
            return [*found, total]
        found.append(shown.pop(0))
    return found


def _counting(strand: Strand, plan: Plan, logs: Logs) -> Strand:
    """The strand with nothing but its people to count."""
    if "user" not in strand.schema.by_name:
        raise RequestError(
            f"{logs.view.words} sees figures of {logs.view.smallest} people or more, and {strand.schema.name} does not tell whose its events are"
        )
    own = strand.stretch or plan.stretch
    known = tuple(lk for lk in strand.lookups if lk.field == "user") or lookups(
        logs.registers, strand.schema, ["user"], own
    )
    others = tuple(lk for lk in strand.lookups if lk.field != "user")
    uses = (*strand.uses, "person") if strand.uses and "person" not in strand.uses else strand.uses
    return dataclasses.replace(strand, measures=((0, PEOPLE),), lookups=(*others, *known), uses=uses)


def _left_out(plan: Plan, strand: Strand, source: Source, least: int) -> None:
    """Raises RequestError where a selection leaves out events of so few people that the rest tells of them."""
    if not strand.selection.conditions:
        return
    engine, table = opened(strand, source)
    here = inside(table, plan.of(strand), strand, spans=True)
    kept = None
    for test in strand.selection.predicates(here, strand.schema):
        kept = test if kept is None else kept & test
    assert kept is not None
    dropped = here.filter(~kept.fill_null(False))
    n = engine.run(dropped.aggregate(n=dropped.person.nunique())).column(0)[0].as_py()
    if 0 < n < least:
        raise RequestError(
            f"'{strand.selection}' leaves out the events of fewer than {least} people, so the rest would tell of them; filter by less"
        )


def _strands(plan: Plan, column: int) -> set[int]:
    """The strands a column's figures come from."""
    one = plan.columns[column]
    if one.formula is None:
        return {one.strand}
    return set().union(*(_strands(plan, o) for o in one.operands)) if one.operands else set()
