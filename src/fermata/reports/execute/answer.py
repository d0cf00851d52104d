"""The one way from a request to its answer."""

from __future__ import annotations

import dataclasses
import importlib
from datetime import datetime
from typing import Any

from fermata.notes import ordered
from fermata.reports.compile.access import viewed
from fermata.reports.compile.request import Asking, compiled
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.requests import Request
from fermata.reports.result import Answer

__all__ = ["answer", "execute"]


def answer(report: Report, place: Workplace, now: datetime, asking: Asking | None = None) -> Answer:
    """What the report asks for, at the instant `now` (aware). Raises UnknownName, RequestError, DataError."""
    with place.keeping():
        return execute(compiled(report, place, now, asking), place)


def execute(request: Request, place: Workplace) -> Answer:
    """The answer to a request, with what compiling it had to say in front of its notes, and whose view it is. What it
    keeps on the way is gone when it is there.
    """
    module, _, name = request.executor.partition(":")
    run: Any = getattr(importlib.import_module(module), name)
    with place.keeping():
        found: Answer = run(request, place)
    found = dataclasses.replace(found, notes=ordered((*request.notes, *found.notes)))
    return viewed(found, place.view.words, place.stands)
