"""The shelf: finished outputs, kept with the facts of their run. What is done with them is recorded and never
rewritten.

shelf/record.jsonl      what was kept, sent, labelled, placed, dropped: a chain (see `fermata.chain`)
shelf/000012/           the files of item 12
shelf/000012/run.json   the facts of its run
"""

from __future__ import annotations

import contextlib
import functools
import json
import shutil
import tempfile
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata.archive.folder import put
from fermata.chain import Chain, digest, private
from fermata.errors import ArchiveDamaged, DataError, RequestError
from fermata.jsontext import json_object
from fermata.locks import held

__all__ = ["BODY", "FACTS", "FRAGMENT", "Item", "Shelf"]

FACTS, FRAGMENT, BODY = (
    "run.json",
    "fragment.html",
    "result.json",
)  # beside the outputs: what a message's text and a webhook need
Facts = dict[str, Any]


@dataclass(frozen=True)
class Item:
    """A kept output: its number, title, when it was made (aware UTC), for which `delivery`, planned time and `part` (""
    where none), its files (name -> SHA-256), how long it is kept (aware UTC; None for ever), its label, and why it is
    `gone` ("" while it is there).
    """

    number: int
    title: str
    made: datetime
    files: Mapping[str, str]
    delivery: str = ""
    planned: str = ""
    part: str = ""
    until: datetime | None = None
    label: str = ""
    gone: str = ""
    history: tuple[Mapping[str, Any], ...] = field(default=(), repr=False)

    @property
    def outputs(self) -> list[str]:
        """The names of its files but for those that are only for handing over."""
        return [n for n in self.files if n not in (FACTS, FRAGMENT, BODY)]


@dataclass(frozen=True)
class Shelf:
    """The shelf at `root`."""

    root: Path

    @property
    def record(self) -> Chain:
        """All that was ever done."""
        return Chain(self.root / "record.jsonl")

    def folder(self, number: int) -> Path:
        """Where the files of an item are."""
        return self.root / f"{number:06d}"

    def items(self, *, gone: bool = False) -> list[Item]:
        """What is kept, oldest first; with `gone`, what was dropped or has expired too. Raises ArchiveDamaged."""
        path = self.record.path
        found = path.stat() if path.exists() else None
        known = _known(path, found.st_size, found.st_mtime_ns) if found else ()
        return [i for i in known if gone or not i.gone]

    def item(self, number: int, *, gone: bool = False) -> Item:
        """The item of that number. Raises RequestError."""
        found = next((i for i in self.items(gone=True) if i.number == number), None)
        if found is None:
            raise RequestError(f"there is no item {number} on the shelf; list them with: fermata shelf")
        if found.gone and not gone:
            raise RequestError(f"item {number} is no longer on the shelf: {found.gone}")
        return found

    def paths(self, item: Item) -> list[Path]:
        """Its outputs, as they were made. Raises ArchiveDamaged where one was changed."""
        if wrong := self.changed(item):
            raise ArchiveDamaged("; ".join(wrong))
        return [self.folder(item.number) / name for name in item.outputs]

    def facts(self, item: Item) -> Facts:
        """The facts of its run. Raises ArchiveDamaged where they were changed."""
        path = self.folder(item.number) / FACTS
        try:
            if digest(path) != item.files[FACTS]:
                raise ArchiveDamaged(f"{path} is not as it was kept")
            found = json_object(path.read_bytes())
        except (OSError, ValueError, KeyError):
            found = None
        if found is None:
            raise ArchiveDamaged(f"{path} cannot be read")
        return found

    def changed(self, item: Item) -> list[str]:
        """What is wrong with its files, a line each."""
        wrong = []
        for name, mark in item.files.items():
            path = self.folder(item.number) / name
            try:
                if digest(path) != mark:
                    wrong.append(f"{path} is not as it was kept")
            except OSError:
                wrong.append(f"{path} is gone or cannot be read")
        return wrong

    def keep(
        self, make: Callable[[Path], Facts], *, title: str, at: datetime, until: datetime | None = None, **more: Any
    ) -> Item:
        """Keeps what `make` writes into the directory it is given; it returns the facts of the run.

        A kill at any moment leaves the item on the shelf or not at all. `more` are `delivery`, `planned` and `part`.
        Raises DataError where nothing can be written.
        """
        try:
            self.root.mkdir(mode=0o700, parents=True, exist_ok=True)
            with tempfile.TemporaryDirectory(prefix=".making-", dir=self.root) as aside:
                place = Path(aside) / "item"
                place.mkdir(mode=0o700)
                facts = make(place)
                with private(place / FACTS, "wb") as f:
                    f.write(json.dumps(facts, ensure_ascii=False, indent=1, default=str).encode())
                files = {p.name: digest(p) for p in sorted(place.iterdir())}
                with self._numbering():
                    number = max((i.number for i in self.items(gone=True)), default=0) + 1
                    shutil.rmtree(self.folder(number), ignore_errors=True)  # of a process killed before it was recorded
                    place.rename(self.folder(number))
                    entry = {"what": "kept", "item": number, "title": title, "at": at.isoformat(), "files": files}
                    self.record.add(entry | {"until": until.isoformat() if until else "", **more})
        except OSError as e:
            raise DataError(f"{self.root}: cannot be written: {e.strerror}") from None
        return self.item(number)

    @contextlib.contextmanager
    def _numbering(self) -> Iterator[None]:
        with held(self.root / ".lock"):
            yield

    def label(self, number: int, text: str, at: datetime) -> Item:
        """Gives an item a label; "" takes it off."""
        self.item(number)
        self.record.add({"what": "labelled", "item": number, "label": text, "at": at.isoformat()})
        return self.item(number)

    def place(self, number: int, target: Path, at: datetime, *, name: str = "") -> list[Path]:
        """Copies an item's files into a folder, under their names or as `name`. Raises RequestError, DataError."""
        item = self.item(number)
        made = [put(p, target / (f"{name}{p.suffix}" if name else p.name)) for p in self.paths(item)]
        self.record.add({"what": "placed", "item": number, "to": [str(p) for p in made], "at": at.isoformat()})
        return made

    def shared(self, number: int, path: Path) -> None:
        """Notes a file that a message leads to, so that it goes when the item goes."""
        self.record.add({"what": "shared", "item": number, "path": str(path)})

    def _unlink(self, item: Item) -> None:
        """Removes what messages about an item led to, unless another item leads there, too."""
        others = {
            e["path"] for i in self.items() if i.number != item.number for e in i.history if e["what"] == "shared"
        }
        for entry in item.history:
            if entry["what"] == "shared" and entry["path"] not in others:
                with contextlib.suppress(OSError):
                    Path(entry["path"]).unlink(missing_ok=True)

    def drop(self, numbers: Iterable[int], why: str, at: datetime) -> list[Item]:
        """Takes items off the shelf, their files too; that they were there stays recorded."""
        items = [self.item(n) for n in numbers]
        for item in items:
            self.record.add({"what": "dropped", "item": item.number, "why": why, "at": at.isoformat()})
            self._unlink(item)
            shutil.rmtree(self.folder(item.number), ignore_errors=True)
        return items

    def expire(self, now: datetime, *, besides: Collection[int] = ()) -> list[Item]:
        """Drops what is kept no longer, but for the items `besides`, and clears what a killed process left."""
        if not self.root.is_dir():
            return []
        there = self.items(gone=True)
        for item in there:
            if item.gone:
                shutil.rmtree(self.folder(item.number), ignore_errors=True)
        past = [i.number for i in there if not i.gone and i.until and i.until <= now and i.number not in besides]
        return self.drop(past, "its time was over", now)


@functools.lru_cache(maxsize=4)
def _known(path: Path, size: int, changed: int) -> tuple[Item, ...]:
    """What a record of that size, last changed then, tells of every item."""
    return tuple(_items(Chain(path).read()))


def _items(entries: Iterable[Mapping[str, Any]]) -> list[Item]:
    """What the record says of every item."""
    facts: dict[int, dict[str, Any]] = {}
    told: dict[int, list[Mapping[str, Any]]] = {}
    for entry in entries:
        number = entry.get("item")
        if not number:
            continue
        told.setdefault(number, []).append(entry)
        if entry["what"] == "kept":
            facts[number] = {
                "number": number, "title": entry["title"], "made": datetime.fromisoformat(entry["at"]),
                "files": entry["files"],
                "until": datetime.fromisoformat(entry["until"]) if entry["until"] else None,
                **{k: entry.get(k, "") for k in ("delivery", "planned", "part")},
            }  # fmt: skip
        elif entry["what"] == "labelled":
            facts[number]["label"] = entry["label"]
        elif entry["what"] == "dropped":
            facts[number]["gone"] = f"dropped {entry['at'][:16].replace('T', ' ')}, {entry['why']}"
    return [Item(**held, history=tuple(told[n])) for n, held in facts.items()]
