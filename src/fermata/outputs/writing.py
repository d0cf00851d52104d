"""What the writers of all forms share."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

from fermata.reports.definition.display import Display

__all__ = ["Progress", "ahead", "bare", "silent"]

A = TypeVar("A")
B = TypeVar("B")
AHEAD = 3  # pieces that are worked on or wait to be written
Progress = Callable[[int], None]  # told how many more rows were written


def silent(_: int) -> None:
    """Tells nobody."""


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
