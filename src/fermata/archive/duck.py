"""The embedded engine, as import and archive use it: plain SQL over files, with bounded memory."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

__all__ = ["connect", "ident", "lit", "scan", "watched"]

MEMORY = "800MB"
WATCH = 2.0  # seconds


def ident(name: str) -> str:
    """`name` as a quoted SQL identifier."""
    return '"' + name.replace('"', '""') + '"'


def lit(value: str | int | None) -> str:
    """`value` as an SQL literal; text is quoted, so nothing in it is ever read as SQL."""
    if value is None:
        return "NULL"
    if isinstance(value, int):
        return str(value)
    return "'" + value.replace("'", "''") + "'"


def scan(paths: list[Path]) -> str:
    """A table expression over Parquet files that hold the same columns."""
    return f"read_parquet([{', '.join(lit(str(p)) for p in paths)}], hive_partitioning = false)"


@contextlib.contextmanager
def watched(con: Any, say: Callable[[str], None]) -> Iterator[None]:
    """Says every few seconds how far the engine's running statement is, from a thread of its own."""
    done = threading.Event()

    def watch() -> None:
        while not done.wait(WATCH):
            percent = con.query_progress()
            if 0 < percent < 100:
                say(f"    {percent:.0f} % of this step")

    thread = threading.Thread(target=watch, daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()


def connect(spill: Path | None = None, memory: str = MEMORY) -> Any:
    """A private in-memory engine in UTC that spills to `spill` beyond `memory`."""
    import duckdb

    con = duckdb.connect(":memory:", config={"memory_limit": memory})
    con.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = true; SET enable_progress_bar_print = false")
    if spill:
        con.execute(f"SET temp_directory = {lit(str(spill))}")
    return con
