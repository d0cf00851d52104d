"""Measures from outside: declared by packages that are installed beside this one, under the entry point group
`fermata.measures`.

[project.entry-points."fermata.measures"]
squares = "my_package:SQUARES"

SQUARES = DeclaredMeasure("squares", adds="sum", expression=lambda column, where: (column * column).sum(where=where))
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from importlib.metadata import entry_points
from typing import Any, Literal

from fermata.errors import RequestError

__all__ = ["DeclaredMeasure", "declared", "declared_names"]


@dataclass(frozen=True)
class DeclaredMeasure:
    """A measure of an amount whose parts roll up: of the parts of a group, `adds` (sum, min or max) gives the whole.

    `expression` makes it, from the column of the amount and the condition that its events meet (None: all), as an
    expression of Ibis that is exact: a whole number in the field's own scale. It is of the field's type and unit unless
    `unit` names another, for whole numbers. `records` says how the events behind a figure relate to it: `contributors`
    add up to it, `witnesses` have it, `none` explain it.
    """

    name: str
    adds: Literal["sum", "min", "max"]
    expression: Callable[[Any, Any], Any]
    unit: str = ""
    records: Literal["contributors", "witnesses", "none"] = "none"


@functools.cache
def declared_names() -> tuple[str, ...]:
    """The names of all measures from outside."""
    return tuple(sorted(e.name for e in entry_points(group="fermata.measures")))


@functools.cache
def declared(name: str) -> DeclaredMeasure | None:
    """The measure from outside of that name, if there is one. Raises RequestError where it is none."""
    found = next((e for e in entry_points(group="fermata.measures") if e.name == name), None)
    if found is None:
        return None
    made = found.load()
    if not isinstance(made, DeclaredMeasure):
        raise RequestError(f"the measure {name!r} ({found.value}) is no DeclaredMeasure")
    return made
