"""Parquet files, and what a query gave (kept as Parquet): every column as text, lists joined by the separator comma."""

from __future__ import annotations

from typing import Any

from fermata.archive.duck import ident
from fermata.errors import SourceError
from fermata.intake.readers import Job, Records, check
from fermata.intake.readers.rows import over_parquet

__all__ = ["open"]


def open(job: Job) -> Records:
    """Opens a Parquet file; times with a zone come with their offset, nested values as JSON."""
    import pyarrow as pa
    from pyarrow import parquet

    try:
        schema = parquet.read_schema(job.path)
    except (pa.ArrowException, OSError) as e:
        raise SourceError(f"{job.shown}: is no Parquet file: {str(e).splitlines()[0]}") from None
    check(job, schema.names)
    return over_parquet(job, job.path, {f.name: _text(f) for f in schema})


def _text(field: Any) -> str:
    import pyarrow as pa

    name = ident(field.name)
    if pa.types.is_list(field.type) or pa.types.is_large_list(field.type):
        return f"array_to_string({name}, ',')"
    if pa.types.is_duration(field.type):  # kept as whole numbers of its unit; here in seconds
        scale = {"s": 1, "ms": 10**3, "us": 10**6, "ns": 10**9}[field.type.unit]
        return f"CAST(CAST({name} AS DECIMAL(38, 9)) / {scale} AS VARCHAR)"
    if pa.types.is_binary(field.type):
        return f"CAST({name} AS VARCHAR)"
    return f"nullif(CAST({name} AS VARCHAR), '')"
