"""Files into a folder: whole or not at all, under a name of their own, the oldest dropped."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
from collections.abc import Sequence
from pathlib import Path

from fermata.delivery.outcome import Outcome
from fermata.errors import DataError

__all__ = ["place", "put", "writable"]


def put(file: Path, final: Path) -> Path:
    """Copies a file to `final`, whole or not at all. Raises DataError."""
    aside = final.with_name(f".{final.name}.{os.getpid()}.part")
    try:
        final.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(file, aside)
        with aside.open("rb") as f:
            os.fsync(f.fileno())
        aside.replace(final)
    except OSError as e:
        raise DataError(f"{final}: cannot be written: {e.strerror}") from None
    finally:
        with contextlib.suppress(OSError):
            aside.unlink(missing_ok=True)
    return final


def place(files: Sequence[Path], folder: Path, name: str, *, keep: int = 0, former: Sequence[str] = ()) -> Outcome:
    """Copies the files into the folder as `name` with their endings, each by a rename.

    A file of the same name is replaced: it is the same delivery of the same period. `former` are the names this delivery gave before,
    oldest first; of all, only the last `keep` sets stay (0: all).
    """
    try:
        made = [put(file, folder / f"{name}{file.suffix}") for file in files]
    except DataError as e:
        return Outcome("later", str(e))
    if keep:
        names = [n for n in dict.fromkeys(former) if n != name]
        for old in names[: max(len(names) + 1 - keep, 0)]:
            for path in folder.iterdir():
                if re.fullmatch(rf"{re.escape(old)}\.[a-z0-9]+", path.name):
                    with contextlib.suppress(OSError):
                        path.unlink()
    return Outcome("sent", ", ".join(p.name for p in made))


def writable(folder: Path) -> str:
    """Why nothing can be put into the folder; "" if something can. It is not made here."""
    at = folder
    while not at.exists() and at != at.parent:
        at = at.parent
    if not at.is_dir():
        return f"{folder}: {at} is no folder"
    return "" if os.access(at, os.W_OK | os.X_OK) else f"{folder}: {at} cannot be written to"
