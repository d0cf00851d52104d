"""Login records (wtmp, btmp) of a Linux system: fixed records of 384 bytes, see utmp(5).

Columns: event (login, logout, boot, shutdown, run level, clock set, other), type, time (epoch seconds with microseconds), user, line, host, pid,
session, id, address. A login without a user is a logout: that is how login programs write it.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address
from typing import Any

from fermata.errors import SourceError
from fermata.intake.readers import Job, Records
from fermata.intake.readers.rows import from_batches

__all__ = ["RECORD", "open"]

RECORD = [  # struct utmp on 64-bit machines, little endian
    ("type", "<i2"), ("pad", "V2"), ("pid", "<i4"), ("line", "S32"), ("id", "S4"), ("user", "S32"), ("host", "S256"),
    ("exit", "<i2", 2), ("session", "<i4"), ("sec", "<i4"), ("usec", "<i4"), ("address", "V16"), ("unused", "V20"),
]  # fmt: skip
EMPTY, RUN_LEVEL, BOOT, NEW_TIME, OLD_TIME, INIT, LOGIN, USER, DEAD = range(9)
NAMES = ("event", "type", "time", "user", "line", "host", "pid", "session", "id", "address")
AT_ONCE = 50_000


def open(job: Job) -> Records:
    """Opens a file of login records; empty records are kept as events called other."""
    import numpy as np

    size = job.path.stat().st_size
    width = np.dtype(RECORD).itemsize
    if size % width or not size:
        raise SourceError(f"{job.shown}: {size:,} bytes are no whole number of login records ({width} bytes each)")
    held = np.memmap(job.path, dtype=RECORD, mode="r")
    kinds = held["type"]
    if ((kinds < 0) | (kinds > 9)).any():
        place = int(np.argmax((kinds < 0) | (kinds > 9)))
        raise SourceError(f"{job.shown}: record {place + 1:,} is no login record (type {int(kinds[place])})")
    return from_batches(job, NAMES, _batches(held))


def _batches(held: Any) -> Iterator[Any]:
    for at in range(0, len(held), AT_ONCE):
        yield _table(held[at : at + AT_ONCE])


def _table(held: Any) -> Any:
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute as pc

    texts = {
        n: [v.decode("utf-8", "backslashreplace") or None for v in held[n].tolist()]
        for n in ("user", "line", "host", "id")
    }
    kind, named = held["type"], held["user"] != b""
    down = (kind == RUN_LEVEL) & (held["user"] == b"shutdown")
    event = np.select(
        [(kind == USER) & named, ((kind == USER) & ~named) | (kind == DEAD), kind == BOOT, down, kind == RUN_LEVEL,
         (kind == NEW_TIME) | (kind == OLD_TIME)],
        ["login", "logout", "boot", "shutdown", "run level", "clock set"], "other",
    )  # fmt: skip
    micros = held["sec"].astype("int64") * 1_000_000 + held["usec"]
    seconds = pc.cast(pc.cast(pa.array(micros), pa.decimal128(20, 0)), pa.decimal128(26, 6))
    numbers = {n: pa.array(held[n].astype("int64")).cast(pa.string()) for n in ("type", "pid", "session")}
    columns = {
        "event": pa.array(event.tolist()),
        "time": pc.cast(pc.divide(seconds, pa.scalar(1_000_000, pa.decimal128(7, 0))), pa.string()),
        **numbers,
        **{n: pa.array(v, type=pa.string()) for n, v in texts.items()},
        "address": pa.array([_address(bytes(a)) for a in held["address"]], type=pa.string()),
    }
    return pa.table([columns[n] for n in NAMES], names=list(NAMES))


def _address(raw: bytes) -> str | None:
    if not any(raw):
        return None
    return str(ip_address(raw if any(raw[4:]) else raw[:4]))
