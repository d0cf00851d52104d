"""A JSON document: an array of records, alone or at a path; or an object whose keys, which may repeat, hold one each.

The document is read as a stream and written anew as one object a line; from there on it is JSON Lines.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Iterator
from typing import Any

from fermata.errors import SourceError
from fermata.intake.readers import Job, Records, jsonlines

__all__ = ["open"]


def open(job: Job) -> Records:
    """Opens a document; `records` is the path of its array or object of records (`data.items`)."""
    copy = job.scratch / f"{job.tag}.jsonl"
    rows = 0
    with copy.open("w", encoding="utf-8") as out:
        for record in _records(job):
            out.write(json.dumps(record, ensure_ascii=False, default=str) + "\n")
            rows += 1
    if not rows:
        raise SourceError(f"{job.shown}: holds no records{f' at {job.log.records!r}' if job.log.records else ''}")
    found = jsonlines.open(
        dataclasses.replace(job, path=copy, log=job.log.model_copy(update={"skip_lines": 0, "comment": ""}))
    )
    return dataclasses.replace(found, text=copy)


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
