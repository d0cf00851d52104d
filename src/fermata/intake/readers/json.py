"""A JSON document: an array of records, alone or at a path; or an object whose keys, which may repeat, hold one each.

An array is read piece by piece. Any other document is read as a stream and written anew as one object a line; from
there on it is JSON Lines.
"""

from __future__ import annotations

import contextlib
import dataclasses
import re
from collections.abc import Iterator
from operator import itemgetter
from pathlib import Path
from typing import Any, BinaryIO

from fermata.archive.duck import ident
from fermata.errors import SourceError
from fermata.garbage import uncollected
from fermata.intake.readers import Job, Records, jsonlines
from fermata.intake.readers.elements import DEEPEST
from fermata.intake.readers.jsonarray import Piece, Unusual, cut
from fermata.intake.readers.jsonlines import ways
from fermata.intake.readers.rows import BATCH, as_line, from_batches

__all__ = ["open"]

UNUSUAL = re.compile(r"\d[eE]|\d{15}|0\.0000|\\u")  # very large and small numbers, control characters within a list
OTHERS = "what is no object"
READ = 4_000_000  # bytes looked at together
NO_BRACKETS = bytes(set(range(256)) - set(b'[]{}"'))
WHOLE = 256_000_000  # bytes of a file whose wanted texts stay in memory


def open(job: Job) -> Records:
    """Opens a document; `records` is the path of its array or object of records (`data.items`)."""
    with uncollected(), contextlib.suppress(Unusual):
        return _in_pieces(job)
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


def _in_pieces(job: Job) -> Records:
    """The records of an array as a table of the texts of the columns that are wanted, and what is no object. Raises
    Unusual where the engine has to decide what a value is.
    """
    import pyarrow as pa

    if not job.wanted or "line" in job.wanted or not job.path.stat().st_size:
        raise Unusual
    names = list(dict.fromkeys(job.wanted))
    pieces: list[Piece] = []

    def batches() -> Iterator[Any]:
        for piece, records in cut(job.path, (job.log.records or "").split(".")):
            pieces.append(piece)
            for at in range(0, len(records), BATCH):
                yield _table(records[at : at + BATCH], names)

    if job.path.stat().st_size > WHOLE:
        found = from_batches(job, [*names, OTHERS], batches())
    else:
        table, view = pa.concat_tables(batches()), f"held_{job.tag}"
        job.con.register(view, table)
        found = Records(view, {n: ident(n) for n in names}, rows=len(table), held=view)
    refused = f"CASE WHEN {ident(OTHERS)} IS NOT NULL THEN 'is no JSON object' END"
    columns = {n: ident(n) for n in names}
    return dataclasses.replace(found, columns=columns, refused=refused, texts=lambda n: _texts(job.path, pieces, n))


def _table(records: list[Any], names: list[str]) -> Any:
    """Some records as texts, and a mark at those that are no objects."""
    import pyarrow as pa

    others = pa.nulls(len(records), pa.string())
    found = [ways(n) for n in names]
    columns: list[Any] = []
    if any(map(_plain, found)):
        with contextlib.suppress(KeyError, TypeError):  # a record lacks one, or is no object
            columns = [_column(records, w, whole=True) for w in found]
    if not columns:
        if set(map(type, records)) != {dict}:
            others = pa.array([None if type(r) is dict else "other" for r in records], pa.string())
            records = [r if type(r) is dict else {} for r in records]
        columns = [_column(records, w) for w in found]
    return pa.table([*columns, others], names=[*names, OTHERS])


def _plain(found: list[list[str | int]]) -> bool:
    """Whether a column is one key of the record itself."""
    return len(found) == len(found[0]) == 1 and isinstance(found[0][0], str)


def _texts(path: Path, pieces: list[Piece], numbers: list[int]) -> list[str]:
    """The records of some numbers, a line of JSON each."""
    found: dict[int, str] = {}
    wanted = sorted(numbers)
    for piece in pieces:
        some = [n for n in wanted if piece.first <= n < piece.first + piece.count]
        if some:
            records = piece.read(path)
            found |= {n: as_line(records[n - piece.first]).decode().rstrip() for n in some}
    return [found[n] for n in numbers]


def _column(records: list[dict[str, Any]], found: list[list[str | int]], *, whole: bool = False) -> Any:
    """The text each record has at the first of the ways where it has any, as an Arrow array. If all are to have it
    (`whole`), raises KeyError, TypeError where one has not.
    """
    import pyarrow as pa
    from pyarrow import compute

    if not _plain(found):
        return pa.array([next(filter(None, (_text(_at(r, w)) for w in found)), None) for r in records], pa.string())
    key = found[0][0]
    values = list(map(itemgetter(key), records)) if whole else [r.get(str(key)) for r in records]
    with contextlib.suppress(pa.ArrowTypeError):  # one is no text
        texts = pa.array(values, pa.string())
        empty = compute.equal(texts, "")
        return compute.if_else(empty, None, texts) if compute.any(empty).as_py() else texts
    if set(map(type, values)) <= {int, type(None)}:
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
    """A value as text: what is no text as JSON writes it. Raises Unusual where that can be done in two ways."""
    if value is None or value == "":
        return None
    if isinstance(value, str):
        return value
    if type(value) is int:
        return str(value)
    text = as_line(value).decode().rstrip()
    if UNUSUAL.search(text):
        raise Unusual
    return text


def _records(job: Job) -> Iterator[Any]:
    import ijson

    at = job.log.records or ""
    try:
        with job.path.open("rb") as f:
            not_too_deep(f, job.shown)
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


def not_too_deep(file: BinaryIO, shown: Path) -> None:
    """Raises SourceError where lists or objects stand too deep in each other: the parser would take the square of that
    as memory. Reads up to the end, and goes back to the start.
    """
    import numpy as np

    depth, inside = 0, 0  # whether a text goes on from the part before
    while part := file.read(READ):
        while part.endswith(b"\\") and (more := file.read(1)):
            part += more
        pieces = part.replace(b"\\\\", b"").replace(b'\\"', b"").translate(None, NO_BRACKETS).split(b'"')
        steps = (np.frombuffer(b"".join(pieces[inside::2]), np.uint8) & 2).astype(np.int64) - 1  # [ and { have this bit
        depths = depth + steps.cumsum()
        if depths.max(initial=0) > DEEPEST:
            raise SourceError(f"{shown}: has lists or objects more than {DEEPEST} deep in each other, so it is no log")
        depth, inside = depths[-1] if len(depths) else depth, (inside + len(pieces) - 1) % 2
    file.seek(0)
