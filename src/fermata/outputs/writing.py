"""What the writers of all forms share."""

from __future__ import annotations

import dataclasses
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Page, Records, RunResult

__all__ = ["Progress", "ahead", "bare", "handed", "silent"]

A = TypeVar("A")
B = TypeVar("B")
AHEAD = 3  # pieces that are worked on or wait to be written
Progress = Callable[[int], None]  # told how many more rows were written


def silent(_: int) -> None:
    """Tells nobody."""


def handed(item: Answer) -> Answer:
    """The answer as others get it: without columns of commands, which only a terminal of the workspace can use."""
    if isinstance(item, Page):
        parts = tuple(dataclasses.replace(p, item=_handed(p.item)) for p in item.parts)
        return dataclasses.replace(item, parts=parts)
    found = _handed(item)
    assert found is not None
    return found


def _handed(item: RunResult | Records | None) -> RunResult | Records | None:
    if not isinstance(item, Records) or all(c.type != "command" for c in item.columns):
        return item
    kept = [i for i, c in enumerate(item.columns) if c.type != "command"]
    rows = tuple(tuple(row[i] for i in kept) for row in item.rows)
    return dataclasses.replace(item, columns=tuple(item.columns[i] for i in kept), rows=rows)


def bare(how: Display) -> Display:
    """The display of exact forms: the columns and the author chosen, everything else as it is."""
    return Display(columns=how.columns, times=how.times, author=how.author)


def ahead(pieces: Iterable[A], work: Callable[[A], B]) -> Iterator[B]:
    """What `work` makes of each piece, in their order; a few are worked on while the next ones are read."""
    with ThreadPoolExecutor(2) as workers:
        waiting: deque[Future[B]] = deque()
        for piece in pieces:
            waiting.append(workers.submit(work, piece))
            if len(waiting) > AHEAD:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
