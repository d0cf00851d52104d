"""The events of a query sorted into the cells of a table: by their own values, and where time is measured in units of
time, each with its time in every unit it lasts into.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

from fermata.analysis.measures import Measure
from fermata.analysis.plan import Dimension, Plan, Strand
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT

__all__ = ["Keys", "Placed"]

Keys = tuple[tuple[Dimension, Any], ...]
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class _Sorted:
    """Numbers of events (`rows`), sorted by cell, with their time in it if that was asked for; of each cell, by the
    labels of its dimensions, where its events begin and end.
    """

    rows: Any
    times: Any
    cells: dict[tuple[Any, ...], tuple[int, int]]


@dataclass
class Placed:
    """The events of a strand (`events`, with `_at_utc` and `_until_utc`, the times it goes by)."""

    plan: Plan
    strand: Strand
    events: Any
    known: dict[Any, Any] = field(default_factory=dict)

    def sorted_in(
        self, name: str, measure: Measure, cells: Sequence[Keys], *, fixed: bool
    ) -> dict[Keys, tuple[list[int], list[Any]]]:
        """The numbers of the events of each cell of a measure, and what each brought to it, by the column `name`.

        With `fixed`, the events are those of the cells' units of time already, and what they brought is of these.
        """
        brought = self.events.column(name)
        valid, values = brought.is_valid().to_numpy(), brought.to_pylist()
        found = {}
        for keys in cells:
            shape = tuple(d for d, _ in keys if not (fixed and d.calendar))
            own = tuple(k for d, k in keys if not (fixed and d.calendar))
            clipped = measure.needs_spans and any(d.calendar for d in shape)
            held = self._sorted(shape, clipped)
            if own not in held.cells:
                continue
            first, last = held.cells[own]
            rows = held.rows[first:last]
            if clipped and measure.name != "present":
                times = held.times[first:last]
                found[keys] = (rows[times > 0].tolist(), times[times > 0].tolist())
            else:
                at = rows[valid[rows]].tolist()
                found[keys] = (at, [values[n] for n in at])
        return {keys: entry for keys, entry in found.items() if entry[0]}

    def _sorted(self, shape: tuple[Dimension, ...], clipped: bool) -> _Sorted:
        """The events by the labels of some dimensions; with `clipped`, once for each unit they have time in."""
        if (shape, clipped) not in self.known:
            self.known[shape, clipped] = self._by_labels(shape, clipped)
        sorted_: _Sorted = self.known[shape, clipped]
        return sorted_

    def _by_labels(self, shape: tuple[Dimension, ...], clipped: bool) -> _Sorted:
        import numpy as np

        rows, times = np.arange(self.events.num_rows), None
        coded: dict[int, tuple[Any, list[Any]]] = {}
        units = [n for n, d in enumerate(shape) if d.calendar] if clipped else []
        if units:
            rows, times, pieces, codes = self._in_units([shape[n] for n in units])
            coded |= {n: (c[pieces], labels) for n, (c, labels) in zip(units, codes, strict=True)}
        for n, dimension in enumerate(shape):
            if n in coded:
                continue
            codes, labels, each = self._labels(dimension)
            if each is not None:  # an event with two tags is in two groups
                again = np.repeat(np.arange(len(rows)), each[1][rows])
                before = np.repeat(np.cumsum(each[1][rows]) - each[1][rows], each[1][rows])
                place = each[0][rows][again] + np.arange(len(again)) - before
                coded = {m: (c[again], kept) for m, (c, kept) in coded.items()}
                rows, times = rows[again], None if times is None else times[again]
                coded[n] = (codes[place], labels)
            else:
                coded[n] = (codes[rows], labels)
        ids = np.zeros(len(rows), dtype=np.int64)
        for codes, labels in coded.values():
            _, ids = np.unique(ids * max(len(labels), 1) + codes, return_inverse=True)
        order = np.lexsort((rows, ids))
        rows, ids = rows[order], ids[order]
        if times is not None and len(rows):  # a unit that recurs: all its times are one
            firsts = np.flatnonzero(np.r_[True, (ids[1:] != ids[:-1]) | (rows[1:] != rows[:-1])])
            times = np.add.reduceat(times[order], firsts)
            order, rows, ids = order[firsts], rows[firsts], ids[firsts]
        edges = [*np.flatnonzero(np.r_[True, ids[1:] != ids[:-1]]).tolist(), len(ids)] if len(ids) else []
        cells = {}
        for first, last in pairwise(edges):
            at = order[first]
            cells[tuple(coded[n][1][coded[n][0][at]] for n in range(len(shape)))] = (first, last)
        return _Sorted(rows, times, cells)

    def _in_units(self, dimensions: Sequence[Dimension]) -> tuple[Any, Any, Any, list[tuple[Any, list[Any]]]]:
        """Each event once for every piece of the period it lasts into or begins in: its number, its time there, the
        piece, and of each dimension the codes of the pieces and what they stand for. Pieces end where a unit does.
        """
        import numpy as np

        plan = self.plan
        begin, end = _instant(plan.stretch.start), _instant(plan.stretch.end)
        units = [self._units(d) for d in dimensions]
        edges = np.unique(np.concatenate([np.array([begin, end]), *(np.clip(u[0], begin, end) for u in units)]))
        starts, ends = edges[:-1], edges[1:]
        codes = [(u[1][np.maximum(np.searchsorted(u[0], starts, "right") - 1, 0)], u[2]) for u in units]
        at = self._times("_at_utc")
        until = np.maximum(np.where(self.events.column("_until_utc").is_valid(), self._times("_until_utc"), at), at)
        lo = np.searchsorted(ends, at, "right")
        hi = np.maximum(np.searchsorted(starts, until, "left"), np.searchsorted(starts, at, "right"))
        count = np.maximum(hi - lo, 0)
        rows = np.repeat(np.arange(len(at)), count)
        pieces = np.arange(len(rows)) - np.repeat(np.cumsum(count) - count, count) + lo[rows]
        times = np.minimum(until[rows], ends[pieces]) - np.maximum(at[rows], starts[pieces])
        return rows, times, pieces, codes

    def _labels(self, dimension: Dimension) -> tuple[Any, list[Any], tuple[Any, Any] | None]:
        """Of each event the code of its group, and what the codes stand for. With tags, the codes are of all groups of
        all events, and of each event is said where they begin and how many there are.
        """
        if dimension not in self.known:
            self.known[dimension] = self._coded(dimension)
        found: tuple[Any, list[Any], tuple[Any, Any] | None] = self.known[dimension]
        return found

    def _coded(self, dimension: Dimension) -> tuple[Any, list[Any], tuple[Any, Any] | None]:
        import numpy as np

        if dimension.calendar:
            starts, codes, labels = self._units(dimension)
            return codes[np.maximum(np.searchsorted(starts, self._times("_at_utc"), "right") - 1, 0)], labels, None
        stored = self.strand.schema.field(dimension.name)
        given = self.events.column(stored.stored).to_pylist()
        if stored.type == "tags":
            tags = [tuple(v) if v else (None,) for v in given]
            each = np.array([len(t) for t in tags], dtype=np.int64)
            codes, labels = _codes([tag for own in tags for tag in own])
            return codes, labels, (np.cumsum(each) - each, each)
        kept = self._kept(dimension)
        return *_codes([v if kept is None or v in kept else ELSE_TEXT for v in given]), None

    def _units(self, dimension: Dimension) -> tuple[Any, Any, list[Any]]:
        """Where the units of a calendar dimension begin, the code of the label of each, and the labels."""
        import numpy as np

        slots = self.plan.slots(dimension.unit)
        own, _ = dimension.labels(slots)
        kept = self._kept(dimension)
        codes, labels = _codes([v if kept is None or v in kept else ELSE_LABEL for v in own])
        return np.array([_instant(s.start) for s in slots], dtype=np.int64), codes, labels

    def _kept(self, dimension: Dimension) -> set[Any] | None:
        """The values of the first dimension that a top N keeps."""
        plan = self.plan
        return set(plan.kept) if plan.kept is not None and plan.by and dimension == plan.by[0] else None

    def _times(self, name: str) -> Any:
        import numpy as np
        import pyarrow.compute as pc

        whole = self.events.column(name).cast("timestamp[us]").cast("int64")
        return np.asarray(pc.fill_null(whole, 0).combine_chunks(), dtype=np.int64)


def _codes(values: Sequence[Any]) -> tuple[Any, list[Any]]:
    """Whole numbers in the place of values, and the value of each."""
    import numpy as np

    seen: dict[Any, int] = {}
    codes = np.fromiter((seen.setdefault(v, len(seen)) for v in values), dtype=np.int64, count=len(values))
    return codes, list(seen)


def _instant(at: datetime) -> int:
    return (at - EPOCH) // timedelta(microseconds=1)
