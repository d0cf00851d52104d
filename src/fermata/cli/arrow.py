"""Arrow as a command needs it: without pandas, which it loads by itself."""

from __future__ import annotations

import importlib.abc
import sys
from typing import Any

__all__ = ["without_pandas"]


class _NoPandas(importlib.abc.MetaPathFinder):
    """Finds everything but pandas."""

    def find_spec(self, name: str, path: Any, target: Any = None) -> None:
        """None leaves the search to others."""
        if name == "pandas":
            raise ModuleNotFoundError(name)


def without_pandas() -> None:
    """Keeps Arrow from loading pandas, a seventh of the time of a command: it does so at the first value it is given,
    whatever that is. For a process that makes no data frames; Arrow will make none in it.
    """
    if "pandas" in sys.modules:
        return
    import pyarrow as pa

    nowhere = _NoPandas()
    sys.meta_path.insert(0, nowhere)
    try:
        pa.array([""])
    finally:
        sys.meta_path.remove(nowhere)
