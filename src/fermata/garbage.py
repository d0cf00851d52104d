"""Python's search for objects that hold each other, put off while many lasting ones are made."""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Iterator

__all__ = ["uncollected"]


@contextlib.contextmanager
def uncollected() -> Iterator[None]:
    """Without the garbage collector: a table is many small lasting objects that it would walk over and over."""
    on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()
