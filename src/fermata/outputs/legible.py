"""A drawing cut to what is legible: the names and series with most, and what becomes of the others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import zip_longest
from typing import Any

from fermata.errors import RequestError
from fermata.outputs.canvas import Drawing

__all__ = ["MOST", "MOST_TIMES", "OTHER", "SERIES", "cut_names", "cut_series", "ranked", "totalled"]

MOST = 40  # names on one chart
SERIES = 5  # series told apart by colour, beside the others together
MOST_TIMES = 12  # units of time in a ring, or as series
OTHER = "all others"


def totalled(found: Drawing, adds: bool) -> Drawing:
    """One figure for each name: the series added up. Raises RequestError where they do not add up."""
    if len(found.series) == 1:
        return found
    if not adds:
        raise RequestError(f"{found.measure} of several series cannot be put in order: they do not add up; draw bars")
    sums = tuple(_sum([line[i] for line in found.figures]) for i in range(len(found.names)))
    return replace(found, series=("",), figures=(sums,))


def ranked(found: Drawing, adds: bool, most: int) -> Drawing:
    """The largest first, times in their order; beyond `most` the others together, or left out and said where they do
    not add up, or would make all else small.
    """
    figures = found.figures[0]
    known = [i for i, v in enumerate(figures) if v is not None]
    rest = [i for i in known if found.names[i] == OTHER]
    order = [i for i in known if i not in rest]
    if not found.calendar:
        order.sort(key=lambda i: (-(figures[i] or 0), found.names[i]))
        order, rest = order[:most], [*order[most:], *rest]
    names, values = [found.names[i] for i in order], [figures[i] for i in order]
    notes: list[str] = []
    aside: tuple[str, Any] | None = None
    if rest:
        name = OTHER if found.names[rest[0]] == OTHER else f"{OTHER} ({len(rest):,})"
        total = _sum([figures[i] for i in rest]) if adds else None
        if total is None:
            notes.append(f"{name}: not shown, since they do not add up")
        elif most == MOST and total > max((v for v in values if v is not None), default=total):
            aside = (name, total)  # its bar would make all others small
        else:
            names, values = [*names, name], [*values, total]
    if lacking := len(figures) - len(known):
        notes.append(f"{lacking:,} without a figure are not drawn")
    return replace(
        found, names=tuple(names), figures=(tuple(values),), rest=aside, notes=(*found.notes, *notes),
        unfinished=frozenset(n for n, i in enumerate(order) if i in found.unfinished),
    )  # fmt: skip


def cut_names(found: Drawing, adds: bool) -> Drawing:
    """At most `MOST` names, unless they are times: those with most, in their order, and the others together."""
    if found.calendar or len(found.names) <= MOST:
        return found
    weight = [max((line[i] or 0 for line in found.figures), default=0) for i in range(len(found.names))]
    best = set(sorted(range(len(weight)), key=lambda i: -weight[i])[:MOST])
    keep = [i for i in range(len(weight)) if i in best]
    rest = [i for i in range(len(weight)) if i not in best]
    return _picked(found, keep, rest if adds else [], len(rest))


def _picked(found: Drawing, keep: list[int], rest: list[int], left: int) -> Drawing:
    """Only some of the names; the `rest` together, or counted and not drawn where their bar would make all others
    small.
    """
    name = f"{OTHER} ({left:,})"
    more = [_sum([line[i] for i in rest]) for line in found.figures] if rest else []
    total, most = _sum(more), max((_sum([line[i] for line in found.figures]) or 0 for i in keep), default=0)
    large = bool(rest) and (total or 0) > most
    drawn_too = rest and not large
    figures = [(*(line[i] for i in keep), *([m] if drawn_too else [])) for line, m in zip_longest(found.figures, more)]
    note = () if rest else (f"{left:,} names with less are not shown; they do not add up",)
    names = [*(found.names[i] for i in keep), *([name] if drawn_too else [])]
    rested = (name, total) if large else None
    return replace(found, names=tuple(names), figures=tuple(figures), notes=(*found.notes, *note), rest=rested)


def cut_series(found: Drawing, adds: bool, most: int = SERIES) -> Drawing:
    """At most `most` series and the others together, or left out and said where they do not add up; times stay as
    they are.
    """
    if len(found.series) <= most + 1 or (found.fixed_series and len(found.series) <= MOST_TIMES):
        return found
    weight = [_sum(line) or 0 for line in found.figures]
    best = sorted(range(len(weight)), key=lambda i: -weight[i])[:most]
    best = sorted(best) if found.fixed_series else best
    rest = [line for i, line in enumerate(found.figures) if i not in best]
    series, figures = [found.series[i] for i in best], [found.figures[i] for i in best]
    notes = found.notes
    if adds:
        others = tuple(_sum([line[i] for line in rest]) for i in range(len(found.names)))
        series, figures = [*series, f"{OTHER} ({len(rest):,})"], [*figures, others]
    else:
        notes = (*notes, f"{len(rest):,} series with less are not shown; they do not add up")
    return replace(found, series=tuple(series), figures=tuple(figures), notes=notes)


def _sum(values: Sequence[Any]) -> Any:
    """The exact sum of what is known; nothing if nothing is."""
    known = [v for v in values if v is not None]
    return sum(known) if known else None
