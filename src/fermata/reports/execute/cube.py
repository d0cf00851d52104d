"""Figures for a viewer of groups: sums of those cells of the declared cube that enough people are in; all other events
are in no figure.

A cell is one value of each field of the cube in one unit of its grain, whatever was asked. It counts where at least N
people are behind its events, and an amount of it where, besides, the events with that amount and those without are of N
people or of nobody. Since every figure is a sum of such cells, rows, order, totals and differences of answers tell
nothing of smaller groups.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator

from fermata.analysis.combine import WAYS, Figures, Key, Source, gather
from fermata.analysis.filters import Condition, Selection
from fermata.analysis.measures import Measure, component
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.reports.compile.resolve import computed_fields, lookups
from fermata.reports.compile.workplace import Workplace

__all__ = ["figures_of_groups"]

STARTING, PRESENT = Measure.parse("distinct user"), Measure.parse("present user")


def figures_of_groups(plan: Plan, place: Workplace, source: Source) -> Figures:
    """The figures of a plan that `compile.cube` admitted, from the cells that enough people are in."""
    found: Figures = {level: {} for level in plan.levels}
    for number, strand in enumerate(plan.strands):
        cells = _cells(plan, strand, place)
        enough = _enough(cells, place.view.smallest, source)
        how = {c: way for _, m in strand.measures for c, way in component(m)}
        for key, values in gather(cells, source)[cells.by].items():
            named = dict(zip(cells.by, key, strict=True))
            for (_, name), value in values.items():
                if value is None or key not in enough.get(_amount(name), ()):
                    continue
                for level in plan.levels:
                    held = found[level].setdefault(tuple(named[d] for d in level), {})
                    before = held.get((number, name))
                    held[number, name] = value if before is None else WAYS[how[name]](before, value)
    return found


def _cells(plan: Plan, strand: Strand, place: Workplace) -> Plan:
    """The plan of one strand at the cells of the cube, with the units that were asked for beside them."""
    cube, schema = place.view.cube, strand.schema
    fields = [Dimension(n, "field") for n in cube.fields if n in schema.by_name]
    units = dict.fromkeys((Dimension(cube.grain, "unit"), *(d for d in plan.dimensions if d.calendar)))
    wanted = [*cube.fields, *(c.field for c in strand.selection.conditions), "user"]
    wanted += [m.of for _, m in strand.measures if m.of]
    made = computed_fields(schema, wanted)
    known = lookups(place.registers, schema, [*wanted, *(n for c in made for n in c.needs)], plan.stretch)
    own = dataclasses.replace(strand, lookups=known, computed=made, uses=())
    return dataclasses.replace(
        plan, by=(*fields, *units), across=None, strands=(own,), columns=(), totals=False, sort=(), checks=()
    )


def _enough(cells: Plan, least: int, source: Source) -> dict[str, set[Key]]:
    """The cells that enough people are in: by the amount it is about, "" for counts and time."""
    strand = cells.strands[0]
    asked = dict(_people(strand))
    counted = dataclasses.replace(cells, strands=tuple(asked.values()))
    counts: dict[str, dict[Key, int]] = {name: {} for name in asked}
    names = list(asked)
    for key, values in gather(counted, source)[cells.by].items():
        for (number, _), n in values.items():
            counts[names[number]][key] = n or 0
    every = set().union(*counts.values())
    whole = {k for k in every if all(_fits(counts[n].get(k, 0), least) for n in names if n in ("starting", "present"))}
    whole = {k for k in whole if max(counts[n].get(k, 0) for n in names if n in ("starting", "present")) >= least}
    found = {"": whole}
    for of in dict.fromkeys(n.partition(" ")[2] for n in names if " " in n):
        found[of] = {k for k in whole if all(_fits(counts[f"{w} {of}"].get(k, 0), least) for w in ("with", "without"))}
    return found


def _fits(people: int, least: int) -> bool:
    return not people or people >= least


def _people(strand: Strand) -> Iterator[tuple[str, Strand]]:
    """The strands that count people, whatever the filters asked for: whose events start in a cell, who is present, with
    and without an amount.
    """
    shown = tuple(c for c in strand.selection.without if c.field == "pairing")
    every = dataclasses.replace(strand, selection=Selection(without=shown), measures=((0, STARTING),))
    yield "starting", every
    if strand.needs_spans:
        yield "present", dataclasses.replace(every, measures=((0, PRESENT),))
    for of in dict.fromkeys((m.base or m).of for _, m in strand.measures if (m.base or m).of):
        nothing = Condition(of, "empty")
        yield f"with {of}", dataclasses.replace(every, selection=Selection(without=(*shown, nothing)))
        yield f"without {of}", dataclasses.replace(every, selection=Selection(only=(nothing,), without=shown))


def _amount(name: str) -> str:
    """The amount that a component is of: `total pages` and `filled pages` are of pages."""
    return name.partition(" ")[2]
