"""RADIUS accounting detail: blocks of `Name = value` lines under a line with the server's local time.

    Fri Oct 31 08:58:06 2025
            User-Name = "mira"
            Acct-Status-Type = Stop
            Acct-Session-Time = 1800

Columns are the attributes by name (RFC 2865, 2866, 2869), `time` is the line above them (server time, no zone), and
`Input-Octets`, `Output-Octets` are the counters with the 2^32 wraps of the Gigawords attributes (RFC 2869, 5.1, 5.2)
added. Accounting is retransmitted: give the log a `key` of session and action, so that a session counts once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from fermata.archive.duck import lit, scan
from fermata.errors import SourceError, UnknownName
from fermata.intake.readers import Job, Records

__all__ = ["open"]

CHUNK = 1 << 22
LONGEST_BLOCK = 1 << 24
SAMPLE = 500  # blocks looked at for the names of attributes; rarer ones are looked for when asked for
BETWEEN = re.compile(rb"\r?\n(?:[ \t]*\r?\n)+")
WIDE = {"Input-Octets": "Acct-Input", "Output-Octets": "Acct-Output"}
ATTRIBUTE = re.compile(r"\n\t([A-Za-z][A-Za-z0-9.:_-]*) = ")
NEXT = "\n\t"
INDENT = re.compile(rb"\r?\n[ \t]+")


def open(job: Job) -> Records:
    """Opens a detail file. An attribute that no block has is an error that names those there are."""
    import pyarrow as pa
    from pyarrow import parquet

    copy = job.scratch / f"{job.tag}.parquet"
    rows, names = 0, dict.fromkeys(("time", *WIDE))
    with parquet.ParquetWriter(copy, pa.schema([("block", pa.string())])) as writer:
        for blocks in _blocks(job):
            names.update(dict.fromkeys(a for b in blocks[: 0 if rows else SAMPLE] for a in ATTRIBUTE.findall(b)))
            rows += len(blocks)
            writer.write_table(pa.table({"block": pa.array(blocks, type=pa.string())}))
    for column in job.wanted:
        if column not in names and not _anywhere(job, copy, column):
            raise UnknownName.of("attribute", column, names, where=f"in {job.shown}")
    columns = {n: _wide(WIDE[n]) if n in WIDE else _value(n) for n in (*names, *job.wanted) if n != "time"}
    columns["time"] = "nullif(trim(split_part(block, chr(10), 1), ' \t\r'), '')"
    refused = "CASE WHEN NOT regexp_matches(block, '\\n\\t\\S+ = ') THEN 'is no block of attributes' END"
    return Records(scan([copy]), columns, rows=rows, refused=refused, whole="block")


def _wide(name: str) -> str:
    """A counter of octets with its wraps: Octets + Gigawords * 2^32."""
    low, high = (f"TRY_CAST({_value(f'{name}-{part}')} AS BIGINT)" for part in ("Octets", "Gigawords"))
    return f"CAST({low} + coalesce({high}, 0) * 4294967296 AS VARCHAR)"


def _value(name: str) -> str:
    """The text of an attribute: between its name, as a line of the block begins with it, and the end of that line."""
    text = f"split_part(split_part(block, {lit(f'{NEXT}{name} = ')}, 2), chr(10), 1)"
    plain = f"replace(replace({text}[2:-2], '\\\"', '\"'), '\\\\', '\\')"
    return f"nullif(CASE WHEN starts_with({text}, '\"') THEN {plain} ELSE {text} END, '')"


def _anywhere(job: Job, copy: Any, name: str) -> bool:
    found = job.con.execute(f"SELECT 1 FROM {scan([copy])} WHERE {_value(name)} IS NOT NULL LIMIT 1").fetchone()
    return found is not None


def _blocks(job: Job) -> Iterator[list[str]]:
    """The blocks of the file as texts, some thousand at a time, each attribute behind a line end and one tab."""
    held = b""
    with job.path.open("rb") as f:
        while chunk := f.read(CHUNK):
            *whole, held = _split(held + chunk)
            if len(held) > LONGEST_BLOCK:
                raise SourceError(f"{job.shown}: has a block of more than 16 MB; it is no RADIUS detail file")
            yield [b.decode("utf-8", "backslashreplace") for b in whole if b.strip()]
    yield [b.decode("utf-8", "backslashreplace") for b in _split(held) if b.strip()]


def _split(data: bytes) -> list[bytes]:
    """The blocks of some text, in the one way a server writes them or in any other."""
    if b"\r" in data or b"\n " in data or b"\n\t\t" in data or b"\n\n\n" in data or b"\n\t\n" in data:
        return [INDENT.sub(b"\n\t", block) for block in BETWEEN.split(data)]
    return data.split(b"\n\n")
