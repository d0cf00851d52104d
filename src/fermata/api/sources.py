"""What a library's user hands over, as files: tables of other libraries as Parquet, streams as they are."""

from __future__ import annotations

import glob
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import IO, Any, Protocol

from fermata.errors import NoSuchFile, RequestError, SourceError

__all__ = ["ArrowStream", "Source", "WithFields", "kept", "registered"]


class ArrowStream(Protocol):
    """A table of any library that gives Arrow streams: polars, pandas, pyarrow, DuckDB, Ibis."""

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The table as a stream."""


Source = str | Path | IO[bytes] | ArrowStream | Mapping[str, object] | Iterable[object]
WithFields = Source | tuple[Source, Mapping[str, object]]  # a source, or one with how its columns are read


def kept(source: Any, folder: Path, name: str) -> list[Path]:
    """The source as files: those it names, or one in `folder`. Raises SourceError, RequestError."""
    if isinstance(source, str | Path):
        return _paths(source)
    if hasattr(source, "read"):
        suffix = Path(str(getattr(source, "name", ""))).suffix
        path = folder / f"{name}{suffix}"
        held = source.read()
        path.write_bytes(held.encode() if isinstance(held, str) else held)
        return [path]
    if isinstance(source, list | tuple) and source and all(isinstance(s, str | Path) for s in source):
        return [p for s in source for p in _paths(s)]
    return [_written(_table(source), folder / f"{name}.parquet")]


def _paths(source: str | Path) -> list[Path]:
    text = str(source)
    if any(c in text for c in "*?[") and not Path(source).exists():
        found = sorted(glob.glob(text))  # a pattern may be absolute
        if not found:
            raise NoSuchFile(f"{text}: no file matches")
        return [Path(p) for p in found]
    if not Path(source).exists():
        raise NoSuchFile(f"{text}: there is no such file")
    return [Path(source)]


def _table(source: Any) -> Any:
    """Any table as one of Arrow. Raises RequestError."""
    import pyarrow as pa

    try:
        if isinstance(source, pa.Table):
            return source
        if type(source).__module__.partition(".")[0] == "pandas":
            return pa.Table.from_pandas(source, preserve_index=False)
        if hasattr(source, "__arrow_c_stream__"):
            return pa.table(source)
        if hasattr(source, "__dataframe__"):
            from pyarrow.interchange import from_dataframe

            return from_dataframe(source)
        if isinstance(source, Mapping):
            return pa.table(dict(source))
        rows = list(source)
        if rows and all(isinstance(r, Mapping) for r in rows):
            return pa.Table.from_pylist([dict(r) for r in rows])
    except (pa.ArrowException, TypeError, ValueError) as e:
        raise RequestError(f"{type(source).__name__} cannot be read as a table: {e}") from None
    raise RequestError(
        f"{type(source).__name__} cannot be read; give a path, a stream, a table of pandas, polars, Arrow, DuckDB or "
        "Ibis, or dictionaries"
    )


def _written(table: Any, path: Path) -> Path:
    """The table as a Parquet file, dictionary columns as their values. Raises SourceError."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        pq.write_table(_all_plain(table), path)
    except pa.ArrowException as e:
        raise SourceError(f"the table cannot be kept: {e}") from None
    return path


def _all_plain(table: Any) -> Any:
    import pyarrow as pa

    return pa.table([_plain(c) for c in table.columns], names=[str(n) for n in table.column_names])


def _plain(column: Any) -> Any:
    """A column in a type that a file can hold."""
    import pyarrow as pa

    if pa.types.is_dictionary(column.type):
        return column.cast(column.type.value_type)
    if pa.types.is_null(column.type) or pa.types.is_string_view(column.type):
        return column.cast(pa.string())
    if pa.types.is_interval(column.type):  # months, days and nanoseconds; a month is no length of time
        values = column.to_pylist()
        if any(v is not None and v.months for v in values):
            raise SourceError("the table cannot be kept: an interval of months is no length of time")
        held = [None if v is None else v.days * 86_400_000_000 + v.nanoseconds // 1000 for v in values]
        return pa.array(held, pa.duration("us"))
    return column


def registered(registers: Mapping[str, Any], folder: Path) -> dict[str, Any]:
    """The tables of registers as `fermata.toml` has them, their rows beside it as CSV. Raises RequestError."""
    import pyarrow.csv as pc

    found: dict[str, Any] = {}
    for name, given in registers.items():
        if not (isinstance(given, tuple) and len(given) == 2 and isinstance(given[1], dict)):
            how_read = "the table, and how it is read ({'id': ..., 'label': ...})"
            raise RequestError(f"registers: {name} is a pair: {how_read}")
        source, how = given
        if isinstance(source, str | Path):
            path = Path(source).resolve()
        else:
            path = folder / f"register-{name}.csv"
            pc.write_csv(_all_plain(_table(source)), path)
        found[name] = {"files": str(path), **how}
    return found
