"""Parquet, and Arrow tables: the rows of the finest level in their own types."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from typing import IO, Any

from fermata.analysis.finish import NONE_SHOWN
from fermata.errors import RequestError
from fermata.outputs.delimited import grids, headings
from fermata.outputs.formats import local
from fermata.outputs.grid import DATED, Grid, Head
from fermata.outputs.json import context_of
from fermata.outputs.writing import Progress, bare
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer
from fermata.timeline.zones import zone

__all__ = ["schema", "tables", "write"]


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """A row group for each block, compressed. The context stands in the file's metadata under `fermata`, as JSON.

    Durations are 64-bit microseconds, times timestamps with the zone, money and decimals exact. Raises RequestError for
    figures below each other, whose column has no one type.
    """
    import pyarrow.parquet as pq

    target = None
    for grid, table in tables(item, bare(how)):
        if target is None:
            context = context_of(grid.context, grid.title, grid.notes, how)
            target = pq.ParquetWriter(
                out, table.schema.with_metadata({"fermata": json.dumps(context)}), compression="zstd"
            )
        target.write_table(table.replace_schema_metadata(target.schema.metadata))
        progress(table.num_rows)
    if target is not None:
        target.close()


def tables(item: Answer, how: Display, *, named: bool = False) -> Iterator[tuple[Grid, Any]]:
    """The rows as Arrow tables, an empty one first, so that the types are known in any case.

    Columns are called by heading, or with `named` by the names of fields; those of a page have the part's title in
    front.
    """
    import pyarrow as pa

    for title, grid in grids(item, how):
        form = schema(grid, titled=title is not None, named=named)
        yield grid, form.empty_table()
        for block in grid.blocks():
            keep = [n for n, level in enumerate(block.levels) if level >= grid.depth]
            known = [_known(c) if i < grid.depth and not grid.listing else c for i, c in enumerate(block.columns)]
            columns = [_column(c, h, grid, keep) for c, h in zip(known, grid.heads, strict=True)]
            lead = [pa.array([title] * len(keep), pa.string())] if title is not None else []
            yield grid, pa.table([*lead, *columns], schema=form)


def _known(names: list[str]) -> list[str | None]:
    """The names of groups; the group of events without one has none."""
    return [None if n == NONE_SHOWN else n for n in names]


def schema(grid: Grid, *, titled: bool = False, named: bool = False) -> Any:
    """The Arrow schema of a grid. Raises RequestError for a column of several types."""
    import pyarrow as pa

    names = [h.name for h in grid.heads] if named else headings(grid)
    fields = [pa.field(name, _type(h, grid.context.zone)) for name, h in zip(names, grid.heads, strict=True)]
    return pa.schema([pa.field("Part", pa.string()), *fields] if titled else fields)


def _type(head: Head, zone_name: str) -> Any:
    import pyarrow as pa

    if head.kind == "text" and head.unit in DATED:
        return pa.date32()
    if head.kind == "mixed":
        raise RequestError("figures below each other have no one type; ask for measures across")
    return {
        "duration": pa.duration("us"),
        "mean duration": pa.duration("us"),
        "time": pa.timestamp("us", tz=zone_name),
        "text": pa.string(),
        "command": pa.string(),
        "link": pa.string(),
        "flag": pa.bool_(),
        "tags": pa.list_(pa.string()),
        "share": pa.float64(),
        "mean": pa.float64(),
        "decimal": pa.decimal128(38, head.scale),
        "money": pa.decimal128(38, head.scale),
        "number": pa.int64(),
    }[head.kind]


def _column(values: Any, head: Head, grid: Grid, keep: list[int]) -> Any:
    """The column in its type; a list of values without those of subtotals."""
    import pyarrow as pa

    kind = _type(head, grid.context.zone)
    if not isinstance(values, list):
        whole = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
        if head.kind in ("decimal", "money"):
            return _scaled(whole.to_pylist(), head.scale, kind)
        return whole.cast(pa.timestamp("us", tz="UTC")).cast(kind) if head.kind == "time" else whole.cast(kind)
    held = [values[n] for n in keep]
    if head.kind in ("decimal", "money"):
        return _scaled(held, head.scale, kind)
    if head.kind == "time":
        tz = zone(grid.context.zone)
        held = [None if v is None else local(v, tz) for v in held]
    if head.kind == "text" and head.unit in DATED:
        held = [None if v is None else date.fromisoformat(v if head.unit == "day" else f"{v}-01") for v in held]
    elif head.kind == "text":
        held = [None if v is None else str(v) for v in held]
    return pa.array(held, kind)


def _scaled(values: list[Any], scale: int, kind: Any) -> Any:
    import pyarrow as pa

    return pa.array([None if v is None else Decimal(v).scaleb(-scale) for v in values], kind)
