"""Login records (wtmp, btmp) of a Linux system: fixed records of 384 bytes, see utmp(5).

Columns: event (login, failed, logout, boot, shutdown, run level, clock set, other), type, time (epoch seconds with
microseconds), user, line, host, pid, session, id, address. A login without a user is a logout: that is how login
programs write it.
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

    texts = {n: _text(held[n]) for n in ("user", "line", "host", "id")}
    kind, named = held["type"], held["user"] != b""
    refused = (kind == LOGIN) & named & (held["user"] != b"LOGIN")  # how login programs write it into btmp
    down = (kind == RUN_LEVEL) & (held["user"] == b"shutdown")
    event = np.select(
        [(kind == USER) & named, refused, ((kind == USER) & ~named) | (kind == DEAD), kind == BOOT, down,
         kind == RUN_LEVEL, (kind == NEW_TIME) | (kind == OLD_TIME)],
        ["login", "failed", "logout", "boot", "shutdown", "run level", "clock set"], "other",
    )  # fmt: skip
    seconds, micros = (pa.array(held[n].astype("int64")).cast(pa.string()) for n in ("sec", "usec"))
    numbers = {n: pa.array(held[n].astype("int64")).cast(pa.string()) for n in ("type", "pid", "session")}
    columns = {
        "event": pa.array(event.astype(object), type=pa.string()),
        "time": pc.binary_join_element_wise(seconds, pc.utf8_lpad(micros, 6, "0"), "."),
        **numbers,
        **texts,
        "address": _addresses(held["address"]),
    }
    return pa.table([columns[n] for n in NAMES], names=list(NAMES))


def _text(held: Any) -> Any:
    """Names padded with NUL as Arrow texts; empty ones are null, bytes that are not UTF-8 stay visible."""
    import numpy as np
    import pyarrow as pa

    different, at = np.unique(held, return_inverse=True)  # few names, many records
    words = pa.array([v.decode("utf-8", "backslashreplace") or None for v in different.tolist()], type=pa.string())
    return words.take(pa.array(at))


def _addresses(held: Any) -> Any:
    import numpy as np
    import pyarrow as pa

    different, at = np.unique(np.ascontiguousarray(held).view("S16"), return_inverse=True)
    words = pa.array([_address(v.ljust(16, b"\0")) for v in different.tolist()], type=pa.string())
    return words.take(pa.array(at.ravel()))


def _address(raw: bytes) -> str | None:
    if not any(raw):
        return None
    return str(ip_address(raw if any(raw[4:]) else raw[:4]))
