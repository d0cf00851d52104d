"""Event streams in XES (IEEE 1849): one record per event; attributes of its case are called `case:NAME`.

Nested attributes are called by their way, `cost:currency` below `cost` as `cost/cost:currency`. Where an event
lacks an attribute that the log's `global` part gives a default for, the default counts.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fermata.intake.readers import Job, Records
from fermata.intake.readers.elements import elements
from fermata.intake.readers.rows import from_dicts

__all__ = ["open"]

TYPED = {"string", "date", "int", "float", "boolean", "id"}


def open(job: Job) -> Records:
    """Opens a stream; usual columns are time:timestamp, concept:name, org:resource, lifecycle:transition,
    case:concept:name.
    """
    return from_dicts(job, _events(job))


def _events(job: Job) -> Iterator[dict[str, str | None]]:
    defaults: dict[str, dict[str, str | None]] = {"event": {}, "trace": {}}
    case: dict[str, str | None] = {}
    way: list[str] = []
    for kind, element in elements(job, "no XES"):
        name = element.tag.rpartition("}")[2]
        if kind == "start":
            way.append(name)
            continue
        way.pop()
        if name == "global":
            defaults[element.get("scope", "event")] = _attributes(element, "")
        elif name == "event":
            yield {**defaults["trace"], **defaults["event"], **case, **_attributes(element, "")}
            element.clear()
        elif way and way[-1] == "trace" and name in TYPED:
            case.update({f"case:{k}": v for k, v in _one(element, "").items()})
        elif name == "trace":
            case = {}
            element.clear()


def _attributes(element: Any, above: str) -> dict[str, str | None]:
    found: dict[str, str | None] = {}
    for child in element:
        found.update(_one(child, above))
    return found


def _one(element: Any, above: str) -> dict[str, str | None]:
    key = above + (element.get("key") or "")
    found: dict[str, str | None] = {key: element.get("value")} if element.get("key") else {}
    for child in element:
        if child.tag.rpartition("}")[2] in TYPED:
            found.update(_one(child, f"{key}/"))
    return found
