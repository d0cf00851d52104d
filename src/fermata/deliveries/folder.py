"""Outputs into a folder, under a name of their own, the oldest dropped."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from pathlib import Path

from fermata.archive.folder import put
from fermata.deliveries.outcome import Outcome
from fermata.errors import DataError

__all__ = ["place"]


def place(files: Sequence[Path], folder: Path, name: str, *, keep: int = 0, former: Sequence[str] = ()) -> Outcome:
    """Copies the files into the folder as `name` with their endings, each by a rename.

    A file of the same name is replaced: it is the same delivery of the same period. `former` are the names this
    delivery gave before, oldest first; of all, only the last `keep` sets stay (0: all).
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
