"""Answers that a run has had from an engine, so that what several of its parts ask is worked out once."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

__all__ = ["FEW", "Answers"]

FEW = 1000  # rows of an answer that is held


class Answers(threading.local):
    """The small answers of a thread's run."""

    def __init__(self) -> None:
        self.depth = 0
        self.held: dict[Any, Any] = {}

    @contextmanager
    def held_on_to(self) -> Iterator[None]:
        """While the outermost of these lasts, an answer stands: the events must be those of one moment."""
        self.depth += 1
        try:
            yield
        finally:
            self.depth -= 1
            if not self.depth:
                self.held.clear()

    def to(self, expr: Any, ask: Callable[[], Any]) -> Any:
        """The rows of an Ibis expression as an Arrow table: those had before, or what `ask` gives."""
        if not self.depth:
            return ask()
        question = expr.op()
        if question not in self.held:
            rows = ask()
            if rows.num_rows > FEW:
                return rows
            self.held[question] = rows
        return self.held[question]
