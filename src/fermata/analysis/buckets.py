"""Calendar units as engine expressions: which unit an instant falls in, without zone arithmetic per row.

The units' UTC edges are known before the query runs. A balanced tree of comparisons finds the unit; long runs of
equally long units (days between clock changes, hours) become one leaf with an integer division, so a year of
hours needs a handful of comparisons.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any

from fermata.timeline import Slot

__all__ = ["Buckets"]

MICROSECOND = timedelta(microseconds=1)
FEW = 64
Leaf = Callable[["_Run", Any], Any]


@dataclass(frozen=True, slots=True)
class _Run:
    """Units of one length in a row: from `start`, `step` microseconds each, labels counting up from `label`."""

    start: datetime
    step: int
    label: int
    count: int


@dataclass(frozen=True)
class Buckets:
    """Touching units with an integer label each; labels may recur (hour of day) counting up modulo `modulo`."""

    starts: tuple[datetime, ...]
    end: datetime
    labels: tuple[int, ...]
    modulo: int | None = None

    @classmethod
    def of(cls, slots: Sequence[Slot], labels: Sequence[int] | None = None, modulo: int | None = None) -> Buckets:
        """The buckets of `slots`, labelled 0, 1, 2 ... by default otherwise. Edges become naive UTC."""
        starts = tuple(s.start.replace(tzinfo=None) for s in slots)
        return cls(starts, slots[-1].end.replace(tzinfo=None), tuple(labels or range(len(slots))), modulo)

    def label(self, at: Any, *, upper: bool = False) -> Any:
        """The label of the unit `at` falls in; with `upper`, an instant on an edge belongs to the unit before."""

        def leaf(run: _Run, here: Any) -> Any:
            import ibis

            if run.count == 1:
                return ibis.literal(run.label, type="int64")
            steps = (_since(here, run.start) - int(upper)) // run.step
            label = (steps + run.label).cast("int64")
            return label % self.modulo if self.modulo else label

        return self._tree(self._runs(), at, leaf, upper)

    def offset(self, at: Any, *, upper: bool = False) -> Any:
        """Microseconds from the start of the unit `at` falls in; with `upper`, the unit's length on its end."""

        def leaf(run: _Run, here: Any) -> Any:
            since = _since(here, run.start)
            if run.count == 1:
                return since
            return (since - 1) % run.step + 1 if upper else since % run.step

        return self._tree(self._runs(), at, leaf, upper)

    def until(self, at: Any) -> Any:
        """The end of the unit `at` falls in."""
        import ibis

        def leaf(run: _Run, here: Any) -> Any:
            if run.count == 1:
                return ibis.timestamp((run.start + run.step * MICROSECOND).isoformat())
            left = run.step - _since(here, run.start) % run.step
            return here + left.cast("int64").as_interval("us")

        return self._tree(self._runs(), at, leaf, False)

    def start(self, label: Any) -> Any:
        """Where the unit of this label begins; the label after the last one gives the end."""
        import ibis

        found = ibis.timestamp(self.end.isoformat())
        for run in reversed(self._runs()):
            begin = ibis.timestamp(run.start.isoformat())
            here = begin + ((label - run.label) * run.step).cast("int64").as_interval("us")
            found = ibis.ifelse(label < run.label + run.count, here, found)
        return found

    def _runs(self) -> list[_Run]:
        edges = [*self.starts, self.end]
        lengths = [(b - a) // MICROSECOND for a, b in pairwise(edges)]
        runs: list[_Run] = []
        for start, length, label in zip(self.starts, lengths, self.labels, strict=True):
            last = runs[-1] if runs else None
            following = last and (last.label + last.count) % (self.modulo or len(self.labels) + 1)
            if last and last.step == length and following == label:
                runs[-1] = _Run(last.start, last.step, last.label, last.count + 1)
            else:
                runs.append(_Run(start, length, label, 1))
        if len(runs) > 2 and len(lengths) <= FEW:
            return [_Run(s, n, lab, 1) for s, n, lab in zip(self.starts, lengths, self.labels, strict=True)]
        return runs

    def _tree(self, runs: list[_Run], at: Any, leaf: Leaf, upper: bool) -> Any:
        import ibis

        if len(runs) == 1:
            return leaf(runs[0], at)
        middle = len(runs) // 2
        edge = ibis.timestamp(runs[middle].start.isoformat())
        left, right = (self._tree(r, at, leaf, upper) for r in (runs[:middle], runs[middle:]))
        return ibis.ifelse(at <= edge if upper else at < edge, left, right)


def _since(at: Any, start: datetime) -> Any:
    import ibis

    return at.delta(ibis.timestamp(start.isoformat()), unit="microsecond")
