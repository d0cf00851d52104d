"""A JSON document: an array of records, alone or at a path; or an object whose keys, which may repeat, hold one each.

An array that is not large is read in one go. Any other document is read as a stream and written anew as one object a
line; from there on it is JSON Lines.
"""

from __future__ import annotations

import contextlib
import dataclasses
import re
from collections.abc import Iterator
from typing import Any

from fermata.archive.duck import ident
from fermata.errors import SourceError
from fermata.garbage import uncollected
from fermata.intake.readers import Job, Records, jsonlines
from fermata.intake.readers.jsonlines import ways
from fermata.intake.readers.rows import BATCH, as_line, from_batches

__all__ = ["open"]

UNUSUAL = re.compile(r"\d[eE]|\d{15}|0\.0000|\\u")  # very large and small numbers, control characters within a list
OTHERS = "what is no object"
WHOLE = 64_000_000  # bytes of a file that may be in memory as a whole


class _Unusual(Exception):
    """A value that is written in more than one way: the engine decides."""


def open(job: Job) -> Records:
    """Opens a document; `records` is the path of its array or object of records (`data.items`)."""
    with uncollected(), contextlib.suppress(_Unusual):
        if records := _at_once(job):
            return _held(job, records)
    copy = job.scratch / f"{job.tag}.jsonl"
    rows = 0
    with copy.open("wb") as out:
        for record in _records(job):
            out.write(as_line(record))
            rows += 1
    if not rows:
        raise SourceError(f"{job.shown}: holds no records{f' at {job.log.records!r}' if job.log.records else ''}")
    found = jsonlines.open(
        dataclasses.replace(job, path=copy, log=job.log.model_copy(update={"skip_lines": 0, "comment": ""}))
    )
    return dataclasses.replace(found, text=copy)


def _at_once(job: Job) -> list[Any]:
    """The records of an array in a file that is not large, read in one go; none where that could change them."""
    import orjson

    if job.path.stat().st_size > WHOLE or not job.wanted or "line" in job.wanted:
        return []
    data = job.path.read_bytes()
    if b"\\u0000" in data or _long_number(data):
        return []
    try:
        found = orjson.loads(data)
        for key in filter(None, (job.log.records or "").split(".")):
            found = found[key]
    except (ValueError, KeyError, TypeError):  # what is wrong is said by the way below
        return []
    return found if isinstance(found, list) else []


def _held(job: Job, records: list[Any]) -> Records:
    """Records of objects in memory, by way of the texts of the columns that are wanted."""
    import pyarrow as pa

    names = list(dict.fromkeys(job.wanted))

    def batches() -> Iterator[Any]:
        for at in range(0, len(records), BATCH):
            some = records[at : at + BATCH]
            others = pa.nulls(len(some), pa.string())
            if set(map(type, some)) != {dict}:
                others = pa.array([None if type(r) is dict else "other" for r in some], pa.string())
                some = [r if type(r) is dict else {} for r in some]
            yield pa.table([*(_column(some, ways(n)) for n in names), others], names=[*names, OTHERS])

    found = from_batches(job, [*names, OTHERS], batches())
    columns = {n: sql for n, sql in found.columns.items() if n != OTHERS}
    refused = f"CASE WHEN {ident(OTHERS)} IS NOT NULL THEN 'is no JSON object' END"
    return dataclasses.replace(
        found,
        columns=columns,
        refused=refused,
        texts=lambda numbers: [as_line(records[n - 1]).decode().rstrip() for n in numbers],
    )


def _column(records: list[dict[str, Any]], found: list[list[str | int]]) -> Any:
    """The text each record has at the first of the ways where it has any, as an Arrow array."""
    import pyarrow as pa

    if len(found) > 1 or len(found[0]) > 1 or not isinstance(key := found[0][0], str):
        return pa.array([next(filter(None, (_text(_at(r, w)) for w in found)), None) for r in records], pa.string())
    values = [r.get(key) for r in records]
    kinds = set(map(type, values)) - {type(None)}
    if kinds == {str}:
        return pa.array([v or None for v in values] if "" in values else values, pa.string())
    if kinds == {int}:
        with contextlib.suppress(OverflowError):
            return pa.array(values, pa.int64()).cast(pa.string())
    return pa.array(map(_text, values), pa.string())


def _at(value: Any, way: list[str | int]) -> Any:
    for step in way:
        if isinstance(step, str):
            value = value.get(step) if isinstance(value, dict) else None
        else:
            value = value[step] if isinstance(value, list) and step < len(value) else None
    return value


def _text(value: Any) -> str | None:
    """A value as text: what is no text as JSON writes it. Raises _Unusual where that can be done in two ways."""
    if value is None or value == "":
        return None
    if isinstance(value, str):
        return value
    if type(value) is int:
        return str(value)
    text = as_line(value).decode().rstrip()
    if UNUSUAL.search(text):
        raise _Unusual
    return text


def _long_number(text: bytes) -> bool:
    """Whether nineteen digits stand side by side: a number that could have more than 64 bits."""
    import numpy as np

    found = np.frombuffer(text, dtype=np.uint8)
    some = found[::4] - np.uint8(48) < 10  # nineteen digits lie on at least four of these places
    for more in (1, 2):
        some = some[:-more] & some[more:]
    if not some.any():
        return False
    run = found - np.uint8(48) < 10  # a digit; then whether 2, 4, 8, 16, 19 begin here
    for more in (1, 2, 4, 8, 3):
        run = run[:-more] & run[more:]
    return bool(run.any())


def _records(job: Job) -> Iterator[Any]:
    import ijson

    at = job.log.records or ""
    try:
        with job.path.open("rb") as f:
            kind = next((e for p, e, _ in ijson.parse(f) if p == at), None)
        with job.path.open("rb") as f:
            if kind == "start_array":
                yield from ijson.items(f, f"{at}.item" if at else "item", use_float=True)
            elif kind == "start_map":
                for key, value in ijson.kvitems(f, at, use_float=True):
                    yield {"key": key, **value} if isinstance(value, dict) else {"key": key, "value": value}
            else:
                raise SourceError(f"{job.shown}: there is no array or object at {at or 'its top'!r}")
    except (ijson.JSONError, UnicodeError) as e:
        if "integer overflow" in str(e):
            why = "holds a whole number of more than 64 bits; have it written as a text, in quotes"
            raise SourceError(f"{job.shown}: {why}") from None
        raise SourceError(f"{job.shown}: is not JSON: {str(e).splitlines()[0]}") from None
