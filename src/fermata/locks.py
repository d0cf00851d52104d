"""One process at a time: a lock on a file, which goes with the process that holds it, however it ends."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from fermata.errors import ArchiveBusy, DataError

if TYPE_CHECKING:
    from filelock import FileLock

__all__ = ["alone", "held"]


@contextlib.contextmanager
def held(path: Path) -> Iterator[None]:
    """Holds the lock at `path` while it lasts, after whoever has it. Raises OSError where it cannot be written."""
    from filelock import FileLock

    with FileLock(path, thread_local=False):
        yield


@contextlib.contextmanager
def alone(path: Path, what: str, wait: float, say: Callable[[str], None] = lambda _: None) -> Iterator[None]:
    """Holds the lock at `path` while it lasts. `what` is what holds it, in words: `import`.

    Waits up to `wait` seconds for another process (saying so through `say`), then raises ArchiveBusy.
    """
    from filelock import FileLock

    holder = path.with_name(f"{path.name}.pid")  # beside it: a lock is emptied by who waits for it
    lock = FileLock(path, thread_local=False)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        _acquired(lock, holder, what, wait, say)
        holder.write_text(str(os.getpid()))
    except OSError as e:
        lock.release()
        raise DataError(f"{path}: cannot be written: {e.strerror}; nothing was done") from None
    try:
        yield
    finally:
        lock.release()


def _acquired(lock: FileLock, holder: Path, what: str, wait: float, say: Callable[[str], None]) -> None:
    """Takes the lock, waiting where another has it. Raises ArchiveBusy, OSError."""
    from filelock import Timeout

    until, said = time.monotonic() + wait, False
    while True:
        with contextlib.suppress(Timeout):
            lock.acquire(timeout=0)
            return
        other = holder.read_text().strip() if holder.exists() else "unknown"
        if time.monotonic() >= until:
            raise ArchiveBusy(
                f"another {what} (process {other}) has held the archive for {wait:.0f} s; try again when it is done"
                if what == "import"
                else f"another {what} (process {other}) is at work; nothing was done"
            )
        if not said:
            say(f"another {what} (process {other}) is running; waiting up to {wait:.0f} s")
            said = True
        time.sleep(0.1)
