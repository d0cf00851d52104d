"""Formats that are no text: their records become a Parquet file of text columns, in batches,
and are read from there.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from fermata.archive.duck import ident, scan
from fermata.errors import SourceError
from fermata.intake.readers import Job, Records, check, jsonlines

__all__ = ["BATCH", "as_line", "from_batches", "from_dicts", "over_parquet"]

BATCH = 20_000


def from_batches(job: Job, names: Sequence[str], batches: Iterable[Any]) -> Records:
    """Records of Arrow tables, all with the text columns `names`."""
    import pyarrow as pa
    from pyarrow import parquet

    check(job, names)
    schema = pa.schema([(n, pa.string()) for n in names])
    copy = job.scratch / f"{job.tag}.parquet"
    with parquet.ParquetWriter(copy, schema) as writer:
        for batch in batches:
            writer.write_table(batch)
    return over_parquet(job, copy, {n: ident(n) for n in names})


def over_parquet(job: Job, path: Path, columns: Mapping[str, str]) -> Records:
    """Records of a Parquet file; `columns` are expressions over its own."""
    from pyarrow import parquet

    rows = parquet.read_metadata(path).num_rows
    whole = ", ".join(f"{ident(n)} := {sql}" for n, sql in columns.items())
    return Records(scan([path]), dict(columns), rows=rows, whole=f"CAST(to_json(struct_pack({whole})) AS VARCHAR)")


def as_line(record: Any) -> bytes:
    """A record as a line of JSON."""
    import orjson

    try:
        return orjson.dumps(record, default=str, option=orjson.OPT_APPEND_NEWLINE)
    except TypeError:  # whole numbers of more than 64 bits, halves of characters
        return json.dumps(record, ensure_ascii=False, default=str).encode("utf-8", "surrogatepass") + b"\n"


def from_dicts(job: Job, records: Iterator[Mapping[str, str | None]]) -> Records:
    """Records of differing keys, one dict of texts each; a column that no record has is an error that names those there
    are.
    """
    copy = job.scratch / f"{job.tag}.jsonl"
    names: dict[str, None] = {}
    rows = 0
    with copy.open("wb") as out:
        for record in records:
            out.write(as_line({k: v for k, v in record.items() if v is not None}))
            names.update(dict.fromkeys(record))
            rows += 1
    if not rows:
        raise SourceError(f"{job.shown}: holds no records")
    check(job, tuple(names))
    plain = job.log.model_copy(update={"skip_lines": 0, "comment": ""})
    return dataclasses.replace(jsonlines.open(dataclasses.replace(job, path=copy, log=plain)), text=copy)
