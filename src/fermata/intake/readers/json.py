"""A JSON document: an array of records, alone or at a path; or an object whose keys, which may repeat, hold one each.

The document is read as a stream and written anew as one object a line; from there on it is JSON Lines.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from typing import Any

from fermata.errors import SourceError
from fermata.intake.readers import Job, Records, jsonlines
from fermata.intake.readers.rows import as_line

__all__ = ["open"]

WHOLE = 64_000_000  # bytes of a file that may be in memory as a whole


def open(job: Job) -> Records:
    """Opens a document; `records` is the path of its array or object of records (`data.items`)."""
    copy = job.scratch / f"{job.tag}.jsonl"
    rows = 0
    with copy.open("wb") as out:
        for record in _at_once(job) or _records(job):
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

    if job.path.stat().st_size > WHOLE or _long_number(data := job.path.read_bytes()):
        return []
    try:
        found = orjson.loads(data)
        for key in filter(None, (job.log.records or "").split(".")):
            found = found[key]
    except (ValueError, KeyError, TypeError):  # what is wrong is said by the way below
        return []
    return found if isinstance(found, list) else []


def _long_number(text: bytes) -> bool:
    """Whether nineteen digits stand side by side: a number that could have more than 64 bits."""
    import numpy as np

    run = np.frombuffer(text, dtype=np.uint8) - np.uint8(48) < 10  # a digit; then whether 2, 4, 8, 16, 19 begin here
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
        raise SourceError(f"{job.shown}: is not JSON: {str(e).splitlines()[0]}") from None
