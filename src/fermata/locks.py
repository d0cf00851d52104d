"""One process at a time: a lock on a file, which goes with the process that holds it, however it ends."""

from __future__ import annotations

import contextlib
import fcntl
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from fermata.errors import ArchiveBusy, DataError

__all__ = ["alone"]


@contextlib.contextmanager
def alone(path: Path, what: str, wait: float, say: Callable[[str], None] = lambda _: None) -> Iterator[None]:
    """Holds the lock at `path` while it lasts. `what` is what holds it, in words: `import`.

    Waits up to `wait` seconds for another process (saying so through `say`), then raises ArchiveBusy.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        lock = path.open("a+")
    except OSError as e:
        raise DataError(f"{path}: cannot be written: {e.strerror}; nothing was done") from None
    with lock:
        until, said = time.monotonic() + wait, False
        while True:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                lock.seek(0)
                holder = lock.read().strip() or "unknown"
                if time.monotonic() >= until:
                    raise ArchiveBusy(
                        f"another {what} (process {holder}) has held the archive for {wait:.0f} s; try again when it "
                        "is done"
                        if what == "import"
                        else f"another {what} (process {holder}) is at work; nothing was done"
                    ) from None
                if not said:
                    say(f"another {what} (process {holder}) is running; waiting up to {wait:.0f} s")
                    said = True
                time.sleep(0.1)
        lock.seek(0)
        lock.truncate()
        lock.write(str(os.getpid()))
        lock.flush()
        yield
