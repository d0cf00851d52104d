"""A record that is only ever added to: JSON lines, each with the hash of the line before, and the head apart.

A line that was changed, and lines taken from the end, are found when it is read. Whoever can write the directory can
make a new record altogether; to find that as well, note the head that `verify` prints somewhere else.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from fermata.errors import ArchiveDamaged, DataError
from fermata.jsontext import json_object
from fermata.locks import held

__all__ = ["Chain", "digest", "follow", "private"]

Head = tuple[int, str]  # how many bytes count, and the hash of the last line


def follow(raw: bytes, path: Path) -> tuple[list[dict[str, Any]], str]:
    """The lines of a chain and the hash of the last. Raises ArchiveDamaged at a line that does not follow from the one
    before.
    """
    lines, head = [], ""
    for i, line in enumerate(raw.splitlines(), 1):
        entry = json_object(line) or {}
        if entry.get("previous") != head:
            raise ArchiveDamaged(f"{path}: line {i} does not follow from the one before; it was changed")
        head = hashlib.sha256(line).hexdigest()
        lines.append(entry)
    return lines, head


@dataclass(frozen=True)
class Chain:
    """The record at `path`; its head stands beside it."""

    path: Path

    def read(self) -> list[dict[str, Any]]:
        """Every entry, oldest first. Raises ArchiveDamaged where a line was changed or lost."""
        return self._read()[0]

    @property
    def head(self) -> str:
        """The hash of the last line; "" while there is none."""
        return self._read()[1][1]

    def _read(self) -> tuple[list[dict[str, Any]], Head]:
        try:
            raw = self.path.read_bytes()
        except FileNotFoundError:
            raw = b""
        size, head = self._head()
        if len(raw) < size:
            raise ArchiveDamaged(f"{self.path}: is shorter than its head says; lines were lost")
        lines, last = follow(raw[:size], self.path)
        if last != head:
            raise ArchiveDamaged(f"{self.path}: does not end as its head says; lines were changed")
        rest = raw[size:]
        if rest.endswith(b"\n"):  # written whole, but killed before the head was
            lines, last = follow(raw, self.path)
            size = len(raw)
        return lines, (size, last)

    def _end(self) -> Head:
        """Where the record ends. What its head covers was checked when it was written, and is again whenever it is
        read.
        """
        size, head = self._head()
        try:
            if self.path.stat().st_size == size:
                return size, head
        except FileNotFoundError:
            pass
        return self._read()[1]

    def _head(self) -> Head:
        try:
            size, head = self.path.with_suffix(".head").read_text(encoding="ascii").split()
            return int(size), "" if head == "-" else head
        except FileNotFoundError:
            if self.path.exists() and self.path.stat().st_size:
                raise ArchiveDamaged(f"{self.path.with_suffix('.head')}: is gone; restore it from a backup") from None
            return 0, ""
        except (OSError, ValueError):
            raise ArchiveDamaged(
                f"{self.path.with_suffix('.head')}: cannot be read; restore it from a backup"
            ) from None

    def add(self, *entries: dict[str, Any]) -> None:
        """Adds entries, durably, one process at a time. Raises DataError where it cannot be written."""
        try:
            with self._held():
                size, head = self._end()
                if not size:
                    self._set_head(size, head)  # there before the first line is
                with private(self.path, "ab") as f:
                    f.truncate(size)  # the torn line of a killed process
                    for entry in entries:
                        line = json.dumps({"previous": head, **entry}, sort_keys=True, ensure_ascii=False).encode()
                        f.write(line + b"\n")
                        size, head = size + len(line) + 1, hashlib.sha256(line).hexdigest()
                    f.flush()
                    os.fsync(f.fileno())
                self._set_head(size, head)
        except OSError as e:
            raise DataError(f"{self.path}: cannot be written: {e.strerror}") from None

    def _set_head(self, size: int, head: str) -> None:
        aside = self.path.with_suffix(".new")
        with private(aside, "wb") as f:
            f.write(f"{size} {head or '-'}".encode())
            f.flush()
            os.fsync(f.fileno())
        aside.replace(self.path.with_suffix(".head"))

    @contextlib.contextmanager
    def _held(self) -> Iterator[None]:
        self.path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        with held(self.path.with_suffix(".lock")):
            yield


def digest(path: Path) -> str:
    """The SHA-256 of a file's content, in hex. Raises OSError."""
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def private(path: Path, mode: str) -> IO[bytes]:
    """Opens a file, in a binary mode, that only its owner may read."""
    return open(path, mode, opener=lambda name, flags: os.open(name, flags, 0o600))
