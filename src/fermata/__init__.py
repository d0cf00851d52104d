"""Fermata: counts and durations per user, device and period from the logs an organisation already has.

    import fermata
    hall = fermata.open("quillmere")
    hall.log("doors").during("2026-03").only(action="refused").by("place", "device").measure("count")
    fermata.read("export.csv", time="When", user="Badge", zone="Europe/Lisbon")     # no workspace needed

Names are loaded when first used, so that importing the package costs next to nothing.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from fermata._version import __version__

if TYPE_CHECKING:
    from fermata.analysis.filters import between, empty, like, words
    from fermata.api.adhoc import build, read
    from fermata.api.question import Question
    from fermata.api.result import Result
    from fermata.api.workspace import Workspace
    from fermata.api.workspace import open_workspace as open
    from fermata.errors import ConfigError, DataError, FermataError, RequestError, UnknownName
    from fermata.reports.definition.report import Report
    from fermata.timeline import Calendar, Period

__all__ = [
    "Calendar",
    "ConfigError",
    "DataError",
    "FermataError",
    "Period",
    "Question",
    "Report",
    "RequestError",
    "Result",
    "UnknownName",
    "Workspace",
    "__version__",
    "between",
    "build",
    "empty",
    "like",
    "open",
    "read",
    "words",
]

_PLACES = {
    "between": "fermata.analysis.filters",
    "empty": "fermata.analysis.filters",
    "like": "fermata.analysis.filters",
    "words": "fermata.analysis.filters",
    "build": "fermata.api.adhoc",
    "read": "fermata.api.adhoc",
    "Question": "fermata.api.question",
    "Result": "fermata.api.result",
    "Workspace": "fermata.api.workspace",
    "open": "fermata.api.workspace",
    "ConfigError": "fermata.errors",
    "DataError": "fermata.errors",
    "FermataError": "fermata.errors",
    "RequestError": "fermata.errors",
    "UnknownName": "fermata.errors",
    "Report": "fermata.reports.definition.report",
    "Calendar": "fermata.timeline",
    "Period": "fermata.timeline",
}


def __getattr__(name: str) -> Any:
    if name not in _PLACES:
        raise AttributeError(f"module 'fermata' has no attribute {name!r}")
    found = getattr(importlib.import_module(_PLACES[name]), "open_workspace" if name == "open" else name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *_PLACES})
