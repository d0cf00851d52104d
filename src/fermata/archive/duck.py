"""The embedded engine, as import and archive use it: plain SQL over files, with bounded memory."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

__all__ = ["Local", "Reader", "connect", "ident", "lit", "scan", "watched"]

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


class Reader(Protocol):
    """How an engine names the archive's files, which are given relative to its directory, and their columns."""

    def files(self, paths: Sequence[str]) -> str:
        """A table expression over Parquet files that hold the same columns."""

    def column(self, name: str) -> str:
        """A column's name in the engine's SQL."""

    def typed(self, value: str, kind: str) -> str:
        """A value as the type that the archive calls `kind`."""


@dataclass(frozen=True)
class Local:
    """The embedded engine over an archive on disk."""

    root: Path

    def files(self, paths: Sequence[str]) -> str:
        """A table expression over Parquet files that hold the same columns."""
        return scan([self.root / p for p in paths])

    def column(self, name: str) -> str:
        """The name, quoted."""
        return ident(name)

    def typed(self, value: str, kind: str) -> str:
        """The value as that type."""
        return f"CAST({value} AS {kind})"


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
    con.execute("SET disabled_optimizers = 'in_clause'")  # as a join, a list of values mixes up the order of records
    if spill:
        con.execute(f"SET temp_directory = {lit(str(spill))}")
    return con
