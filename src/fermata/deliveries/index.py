"""A folder of reports to look at: their files, and a page that leads to them, by subject, the latest first.

Any web server or share shows such a folder. It holds what is whole: no part made for one recipient among many.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata.archive.folder import put
from fermata.archive.shelf import Item
from fermata.deliveries import templates
from fermata.deliveries.model import Target
from fermata.errors import DataError
from fermata.outputs.formats import clean
from fermata.timeline.zones import local, zone
from fermata.workspace.base import Base

__all__ = ["Listed", "of_folder", "publish", "write"]

PAGE = "index.html"
KEPT = ".published"  # names of the files that were put there, a line each


@dataclass(frozen=True)
class Listed:
    """A report in the folder: its subject, period, when it was made (aware UTC) and the names of its files."""

    subject: str
    period: str
    made: datetime
    files: tuple[str, ...]


def publish(base: Base, folder: Path, *, delivery: str = "") -> list[str]:
    """Puts what is on the shelf (of one delivery, where given) into the folder with a page that leads to it; parts made
    for one recipient stay out, and so does what a viewer was given. What the shelf keeps no longer is removed from the
    folder. The names of what is new. Raises DataError.
    """
    kept: list[Listed] = []
    made: list[str] = []
    for item in base.shelf.items():
        facts = base.shelf.facts(item)
        if item.part or facts["viewer"] or facts["scope"] or (delivery and item.delivery != delivery):
            continue
        names = [f"{item.number:06d}-{templates.file_name(path.name)}" for path in base.shelf.paths(item)]
        for name, path in zip(names, base.shelf.paths(item), strict=True):
            if not (folder / name).exists():
                put(path, folder / name)
                made.append(name)
        kept.append(Listed(item.title, facts["said"]["period"], item.made, tuple(names)))
    known = {n for one in kept for n in one.files}
    for name in _before(folder) - known:
        with contextlib.suppress(OSError):
            (folder / name).unlink(missing_ok=True)
    _put_text(folder / KEPT, "".join(f"{n}\n" for n in sorted(known)))
    write(base, folder, kept)
    return made


def of_folder(base: Base, target: Target) -> list[Listed]:
    """What deliveries placed in a target's folder and is still there."""
    place = base.path / target.folder
    found: dict[str, Listed] = {}
    for entry in base.shelf.record.read():
        if entry["what"] != "outcome" or not entry.get("name") or not _sent_to(entry, target):
            continue
        item = base.shelf.item(entry["item"], gone=True)
        names = _files(item, str(entry["name"]), place)
        if names:
            period = "" if item.gone else base.shelf.facts(item)["said"]["period"]
            part = f", {item.part}" if item.part else ""
            found[str(entry["name"])] = Listed(f"{item.title}{part}", period or entry["name"], item.made, names)
    return list(found.values())


def _sent_to(entry: object, target: Target) -> bool:
    outcomes = entry["outcomes"]  # type: ignore[index]  # an entry of the record
    return any(o["state"] == "sent" and target.words in o["to"] for o in outcomes)


def _files(item: Item, name: str, place: Path) -> tuple[str, ...]:
    names = [f"{name}{Path(n).suffix}" for n in item.outputs]
    return tuple(n for n in names if (place / n).exists())


def write(base: Base, folder: Path, listed: Iterable[Listed]) -> None:
    """Writes the page of a folder, whole or not at all. Raises DataError."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    tz = zone(base.config.workspace.zone)
    subjects: dict[str, list[dict[str, Any]]] = {}
    for one in sorted(listed, key=lambda r: (r.made, r.files), reverse=True):
        files = sorted(one.files, key=lambda n: not n.endswith(".html"))
        links = [(n, Path(n).suffix[1:].upper()) for n in files]
        row = {"period": clean(one.period), "made": f"{local(one.made, tz):%Y-%m-%d %H:%M}", "links": links}
        subjects.setdefault(clean(one.subject), []).append(row)
    loader = PackageLoader("fermata.deliveries", "")
    page = Environment(loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    name = base.config.workspace.name or base.path.name
    text = page.get_template("index.html.jinja").render(name=clean(name), subjects=subjects)
    _put_text(folder / PAGE, text)


def _before(folder: Path) -> set[str]:
    """The names of what was put into the folder before."""
    path = folder / KEPT
    return set(path.read_text(encoding="utf-8").split("\n")) - {""} if path.exists() else set()


def _put_text(path: Path, text: str) -> None:
    aside = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        aside.write_text(text, encoding="utf-8")
        aside.replace(path)
    except OSError as e:
        raise DataError(f"{path}: cannot be written: {e.strerror}") from None
    finally:
        with contextlib.suppress(OSError):
            aside.unlink(missing_ok=True)
