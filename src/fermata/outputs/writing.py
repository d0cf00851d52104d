"""What the writers of all forms share."""

from __future__ import annotations

from collections.abc import Callable

from fermata.reports.display import Display

__all__ = ["Progress", "bare", "silent"]

Progress = Callable[[int], None]  # told how many more rows were written


def silent(_: int) -> None:
    """Tells nobody."""


def bare(how: Display) -> Display:
    """The display of exact forms: the columns and the author chosen, everything else as it is."""
    return Display(columns=how.columns, times=how.times, author=how.author)
