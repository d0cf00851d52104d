"""Events exported as XML: each element called `records` (by default whatever the document repeats) is a record.

    <Events><Event><System><TimeCreated SystemTime="2026-03-28T09:12:00Z"/></System>
      <EventData><Data Name="Param3">mira</Data></EventData></Event></Events>

Columns are ways from the record on, names without their namespaces: `System/TimeCreated@SystemTime`, and of elements
that are told apart by an attribute `Name` or `name`, `EventData/Data[Param3]`. A repeated element gives its texts,
comma between.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fermata.intake.readers import Job, Records
from fermata.intake.readers.elements import elements
from fermata.intake.readers.rows import from_dicts

__all__ = ["open"]


def open(job: Job) -> Records:
    """Opens a document; `records` is the name of the elements that are records."""
    return from_dicts(job, _records(job))


def _records(job: Job) -> Iterator[dict[str, str | None]]:
    wanted, depth, top = job.log.records, 0, None
    for kind, element in elements(job, "no XML that can be read"):
        if kind == "start":
            top = element if top is None else top
            depth += 1
            continue
        depth -= 1
        name = _plain(element.tag)
        if (name == wanted) if wanted else depth == 1:
            found: dict[str, str | None] = {}
            _take(element, "", found)
            if found:
                yield found
            element.clear()
            if depth == 1 and top is not None:
                top.clear()


def _take(element: Any, way: str, found: dict[str, str | None]) -> None:
    """Attributes, text and children of an element, by their ways."""
    told = element.get("Name") or element.get("name")
    for key, value in element.attrib.items():
        if not (way and told and _plain(key) in ("Name", "name")):
            _add(found, f"{way}@{_plain(key)}" if way else f"@{_plain(key)}", value)
    if way and (text := (element.text or "").strip()):
        _add(found, way, text)
    for child in element:
        named = child.get("Name") or child.get("name")
        step = f"{_plain(child.tag)}[{named}]" if named else _plain(child.tag)
        _take(child, f"{way}/{step}" if way else step, found)


def _add(found: dict[str, str | None], key: str, value: str) -> None:
    before = found.get(key)
    found[key] = f"{before},{value}" if before else value


def _plain(tag: str) -> str:
    return tag.rpartition("}")[2]
