"""The rows of a listing as columns, read from the engine when they are needed: a million of them are never all held."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, overload

from fermata.fields import LogSchema

__all__ = ["Listed", "Reading", "by_unique", "laid_out"]

Reading = Callable[[], Iterator[Any]]  # opens the rows anew, as Arrow tables of some rows each


class Listed(Sequence[tuple[Any, ...]]):
    """Rows that are read in pieces, each an Arrow table with the listing's columns; asked for as a sequence, all are
    held.
    """

    def __init__(self, tables: Reading, size: int) -> None:
        self.tables = tables
        self.size = size

    @functools.cached_property
    def _held(self) -> tuple[tuple[Any, ...], ...]:
        found: list[tuple[Any, ...]] = []
        for table in self.tables():
            found += zip(*(c.to_pylist() for c in table.columns), strict=True)
        return tuple(found)

    def __len__(self) -> int:
        return self.size

    @overload
    def __getitem__(self, at: int) -> tuple[Any, ...]: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[tuple[Any, ...], ...]: ...

    def __getitem__(self, at: int | slice) -> Any:
        if isinstance(at, slice) and at.start is None and at.stop is not None and at.stop >= 0 and at.step is None:
            return self._first(at.stop)
        return self._held[at]

    def _first(self, count: int) -> tuple[tuple[Any, ...], ...]:
        """The first rows; no more are read than these need."""
        found: list[tuple[Any, ...]] = []
        for table in self.tables():
            found += zip(*(c.to_pylist() for c in table.slice(0, count - len(found)).columns), strict=True)
            if len(found) >= count:
                break
        return tuple(found)

    def __iter__(self) -> Iterator[tuple[Any, ...]]:
        return iter(self._held)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and self._held == tuple(other)

    __hash__ = None  # type: ignore[assignment]  # it is a sequence of rows, compared by them


def by_unique(column: Any, form: Callable[[Any], Any]) -> Any:
    """An Arrow column of texts: `form` of each value, worked out once a value; nothing stays nothing."""
    import pyarrow as pa

    if isinstance(column, pa.ChunkedArray):
        column = column.combine_chunks()
    if pa.types.is_list(column.type):
        return pa.array([None if v is None else form(v) for v in column.to_pylist()], pa.string())
    coded = column.dictionary_encode()
    return pa.array([form(v) for v in coded.dictionary.to_pylist()], pa.string()).take(coded.indices)


def laid_out(
    read: Reading, schema: LogSchema, files: Mapping[str, Mapping[int, Any]], names: Sequence[str], first: int = 0
) -> Reading:
    """The events of `read` as the listing's columns: fields by name, `file`, `record`, `contribution`; before them,
    unless `first` is 0, running numbers from it on.

    `files` are the files of each stored log by id.
    """

    def tables() -> Iterator[Any]:
        import pyarrow as pa

        next_one = first
        for events in read():
            made = [pa.array(range(next_one, next_one + events.num_rows), pa.int64())] if first else []
            made += [_column(events, name, schema, files) for name in names]
            next_one += events.num_rows
            yield pa.table(made, names=[str(i) for i in range(len(made))])

    return tables


def _column(events: Any, name: str, schema: LogSchema, files: Mapping[str, Mapping[int, Any]]) -> Any:
    import pyarrow.compute as pc

    if name == "contribution":
        return events.column("contribution_")
    if name == "inside":
        return events.column("inside_us_")
    if name == "file":
        return _files(events, schema, files)
    if name == "record":
        ids, numbers = (events.column(c).cast("string") for c in ("file_id", "record_no"))
        return pc.binary_join_element_wise(ids, numbers, ":")
    if name == "duration" and name not in schema.by_name:
        return pc.subtract(events.column("finish_utc"), events.column("start_utc")).cast("int64")
    return events.column(schema.field(name).stored)


def _files(events: Any, schema: LogSchema, files: Mapping[str, Mapping[int, Any]]) -> Any:
    """The paths of the events' files; a generated log names its register."""
    import pyarrow.compute as pc

    ids = events.column("file_id")
    if hasattr(schema.derivation, "register"):
        return by_unique(ids, lambda _: f"register {schema.derivation.register}")
    if len(files) == 1 or "log" not in events.column_names:
        only = next(iter(files.values()))
        return by_unique(ids, lambda i: only[i].path if i in only else f"file {i}")
    both = pc.binary_join_element_wise(ids.cast("string"), events.column("log"), " ")

    def path(key: str) -> str:
        number, _, log = key.partition(" ")
        return str(files[log][int(number)].path) if int(number) in files[log] else f"file {number}"

    return by_unique(both, path)
