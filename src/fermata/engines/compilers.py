"""The start of Ibis without what is not used: it loads its compilers for twenty databases, of which one is needed."""

from __future__ import annotations

import importlib
import importlib.util
import sys
from types import ModuleType
from typing import Any

__all__ = ["load_when_used"]

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
