"""Files into a folder: whole or not at all."""

from __future__ import annotations

import contextlib
import os
import shutil
from pathlib import Path

from fermata.errors import DataError

__all__ = ["put", "writable"]


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


def writable(folder: Path) -> str:
    """Why nothing can be put into the folder; "" if something can. It is not made here."""
    at = folder
    while not at.exists() and at != at.parent:
        at = at.parent
    if not at.is_dir():
        return f"{folder}: {at} is no folder"
    return "" if os.access(at, os.W_OK | os.X_OK) else f"{folder}: {at} cannot be written to"
