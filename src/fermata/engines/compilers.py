"""The compilers of Ibis: only the one that is needed of twenty, and with lengths of time as quick as they can be."""

from __future__ import annotations

import importlib
import importlib.util
import sys
from types import ModuleType
from typing import Any

__all__ = ["load_when_used", "with_lengths"]

PACKAGE = "ibis.backends.sql.compilers"


class _WhenUsed(ModuleType):
    """The package of the compilers; each module is loaded when it, or its class, is asked for."""

    def __getattr__(self, name: str) -> Any:
        wanted = f"{PACKAGE}.{name.removesuffix('Compiler').lower()}"
        if name.startswith("_") or importlib.util.find_spec(wanted) is None:
            raise AttributeError(f"module {PACKAGE!r} has no attribute {name!r}")
        module = importlib.import_module(wanted)
        return getattr(module, name) if name.endswith("Compiler") else module


def load_when_used() -> None:
    """Lets each compiler be loaded when it is first used. Does nothing where they are loaded already, or where a
    class is not in the module of its name: then Ibis loads all of them, as it does by itself.
    """
    if PACKAGE in sys.modules:
        return
    found = importlib.util.find_spec(PACKAGE)
    if found is None or not found.submodule_search_locations:
        return
    package = _WhenUsed(PACKAGE)
    package.__path__ = list(found.submodule_search_locations)
    package.__spec__, package.__loader__, package.__file__ = found, found.loader, found.origin
    sys.modules[PACKAGE] = package
    try:
        package.DuckDBCompiler  # noqa: B018  the one that is needed
    except Exception:
        for loaded in [m for m in sys.modules if m == PACKAGE or m.startswith(f"{PACKAGE}.")]:
            del sys.modules[loaded]


def with_lengths(con: Any) -> None:
    """Has a DuckDB backend subtract microseconds since 1970, which takes half the time of the difference of dates that
    Ibis writes and is as exact between the years that times may lie in.
    """
    import sqlglot.expressions as sge
    from ibis.backends.sql.compilers.duckdb import DuckDBCompiler

    class Lengths(DuckDBCompiler):  # type: ignore[misc]
        __slots__ = ()

        def visit_TimestampDelta(self, op: Any, *, part: Any, left: Any, right: Any) -> Any:
            """The length of time from `right` to `left` in whole units."""
            if op.part.value != "microsecond":
                return super().visit_TimestampDelta(op, part=part, left=left, right=right)
            return sge.paren(self.f.epoch_us(left) - self.f.epoch_us(right), copy=False)

    con.compiler = Lengths()
