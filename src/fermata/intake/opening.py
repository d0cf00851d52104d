"""Files as they lie on disk: packed ones are unpacked, archives of several give several, rotated ones come oldest
first.

A member of a zip archive is called by its way: `incoming/march.zip/doors.csv`.
"""

from __future__ import annotations

import bz2
import contextlib
import gzip
import lzma
import re
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import IO, Any

from fermata.errors import NoSuchFile, SourceError

__all__ = ["in_order", "is_workbook", "members", "on_disk", "plain_name", "unpacked"]

CHUNK = 1 << 20
UNPACKED = 1 << 30  # bytes that a packed file may have in any case; above, EXPANDED times its size
EXPANDED = 300
GZIP, ZSTD, ZIP = b"\x1f\x8b", b"\x28\xb5\x2f\xfd", b"PK\x03\x04"
BZIP, XZ = tuple(b"BZh%d1AY" % n for n in range(1, 10)), b"\xfd7zXZ\x00"
OLD_WORKBOOK = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"  # XLS, and other documents of its time
PACKED = (".gz", ".zst", ".zstd", ".bz2", ".xz")
NOT_MEANT = ("__MACOSX", ".DS_Store", "Thumbs.db", "desktop.ini")  # what a file manager puts into an archive


def on_disk(path: Path) -> Path:
    """The file that must be there for `path`: itself, or the archive it is a member of."""
    for parent in path.parents:
        if parent.is_file() and _begins(parent, ZIP):
            return parent
    return path


def is_workbook(path: Path) -> bool:
    """Whether a file is a workbook (XLSX, XLS, ODS) by what stands in it, whatever its name. Raises SourceError."""
    if not _begins(path, ZIP):
        return _begins(path, OLD_WORKBOOK)
    try:
        with _zip(path) as held:
            names = held.namelist()
            kind = _member(held, "mimetype").read(100) if "mimetype" in names else b""
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError) as e:
        raise SourceError(f"{path}: is no whole zip archive: {e}") from None
    sheets = kind.endswith(b".spreadsheet") or any(n.startswith("xl/") for n in names)
    if not sheets and (b"opendocument" in kind or "[Content_Types].xml" in names):
        raise SourceError(f"{path}: is a document and no log; save its table as delimited text or as a workbook")
    return sheets


def members(path: Path, format: str) -> list[Path]:
    """The files a path stands for: the members of a zip archive, else itself. Raises SourceError."""
    if format in ("xlsx",) or not path.is_file() or not _begins(path, ZIP):
        return [path]
    try:
        with _zip(path) as held:
            names = [i.filename for i in held.infolist() if not i.is_dir() and not _beside(i.filename)]
    except (zipfile.BadZipFile, OSError) as e:
        raise SourceError(f"{path}: is no whole zip archive: {e}") from None
    if not names:
        raise SourceError(f"{path}: the zip archive is empty")
    return in_order(path / n for n in names)


@contextlib.contextmanager
def unpacked(path: Path, scratch: Path) -> Iterator[Path]:
    """`path` itself or, while it is needed, an unpacked copy of it. Raises SourceError where the packing is damaged."""
    archive = on_disk(path)
    try:
        inner = archive.open("rb") if archive == path else None
        head = inner.read(len(XZ) + 1) if inner else b""
    except OSError as e:
        wrong = NoSuchFile if isinstance(e, FileNotFoundError) else SourceError
        raise wrong(f"{path}: cannot be read: {e.strerror}") from None
    if inner:
        inner.close()
    if archive == path and not head.startswith((GZIP, ZSTD, *BZIP, XZ)):
        yield path
        return
    copy = scratch / f"unpacked{path.suffix if path.suffix.lower() not in PACKED else ''}"
    try:
        most = max(UNPACKED, archive.stat().st_size * EXPANDED)
        with _stream(path, archive, head) as source, copy.open("wb") as target:
            while chunk := source.read(CHUNK):
                target.write(chunk)
                if target.tell() > most:
                    raise SourceError(
                        f"{path}: unpacks to more than {EXPANDED} times its size, which no log does; nothing of it was "
                        "imported. If it is meant so, unpack it by hand"
                    )
        _times_of(archive, copy)
        yield copy
    except SourceError:
        raise
    except KeyError:
        raise SourceError(f"{archive}: holds no {path.relative_to(archive)}") from None
    except (OSError, EOFError, zlib.error, lzma.LZMAError, zipfile.BadZipFile) as e:
        if isinstance(e, OSError) and e.errno:  # of the disk; a damaged stream has no number
            raise SourceError(f"{path}: cannot be unpacked: {e.strerror}") from None
        raise SourceError(f"{path}: the packed file is damaged or cut off ({e}); nothing of it was imported") from None
    finally:
        copy.unlink(missing_ok=True)


def _zip(path: Path) -> zipfile.ZipFile:
    """A zip archive; whatever a damaged list of its members meets is a BadZipFile."""
    try:
        return zipfile.ZipFile(path)
    except (ValueError, RuntimeError) as e:
        raise zipfile.BadZipFile(str(e)) from None


def _beside(name: str) -> bool:
    """Whether a member of an archive was put there by a file manager."""
    return any(part in NOT_MEANT for part in name.split("/"))


def _member(held: zipfile.ZipFile, name: str) -> IO[bytes]:
    try:
        return held.open(name)
    except (ValueError, RuntimeError) as e:  # damaged, packed in a way of its own, or encrypted
        raise zipfile.BadZipFile(str(e)) from None


@contextlib.contextmanager
def _stream(path: Path, archive: Path, head: bytes) -> Iterator[IO[bytes] | Any]:
    if archive != path:
        with _zip(archive) as held, _member(held, path.relative_to(archive).as_posix()) as member:
            yield member
    elif of := next((m for sign, m in STREAMS.items() if head.startswith(sign)), None):
        with of(path) as member:
            yield member
    else:
        import zstandard

        try:
            with (
                path.open("rb") as raw,
                zstandard.ZstdDecompressor().stream_reader(raw, read_across_frames=True) as member,
            ):
                yield _Whole(member, path)
        except zstandard.ZstdError as e:
            raise SourceError(f"{path}: the packed file is damaged ({e}); nothing of it was imported") from None


STREAMS: dict[bytes | tuple[bytes, ...], Callable[[Path], Any]] = {GZIP: gzip.open, BZIP: bz2.open, XZ: lzma.open}


class _Whole:
    """A zstd stream that notices when it ends in the middle of a frame."""

    def __init__(self, member: Any, path: Path) -> None:
        self.member, self.path = member, path

    def read(self, size: int) -> bytes:
        """The next bytes; none at the end. Raises EOFError where the last frame is not whole."""
        data: bytes = self.member.read(size)
        if not data and not _ends_whole(self.path):
            raise EOFError("the last frame is not whole")
        return data


def _ends_whole(path: Path) -> bool:
    import zstandard

    left = zstandard.ZstdDecompressor().decompressobj()
    with path.open("rb") as f:
        data = f.read(CHUNK)
        while data:
            left.decompress(data)
            if left.eof:
                data = left.unused_data or f.read(CHUNK)
                if not data:
                    return True
                left = zstandard.ZstdDecompressor().decompressobj()
            else:
                data = f.read(CHUNK)
    return bool(left.eof)


def _times_of(archive: Path, copy: Path) -> None:
    import os

    stat = archive.stat()
    os.utime(copy, (stat.st_atime, stat.st_mtime))


def _begins(path: Path, sign: bytes) -> bool:
    """Whether a file begins so; one that cannot be read does not, and whoever reads it says why."""
    try:
        with path.open("rb") as f:
            return f.read(len(sign)) == sign
    except OSError:
        return False


def plain_name(path: Path) -> str:
    """The name without the ending of its packing."""
    return path.name.removesuffix(path.suffix) if path.suffix.lower() in PACKED else path.name


def in_order(paths: Iterable[Path]) -> list[Path]:
    """Paths in the order their records were written: numbers count as numbers, and of a rotated log (`x.log`,
    `x.log.1`, `x.log.2.gz`) the highest number is the oldest."""

    def key(path: Path) -> tuple[Any, ...]:
        name = plain_name(path)
        rotated = re.fullmatch(r"(.+\.[^.]*[^.0-9][^.]*)\.(\d{1,3})", name)
        stem, age = (rotated[1], -int(rotated[2])) if rotated else (name, 0)
        parts = [(int(t), "") if t.isdigit() else (0, t) for t in re.split(r"(\d+)", f"{path.parent}/{stem}")]
        return (parts, age, str(path))

    return sorted(paths, key=key)
