"""A register in memory: versions of people or things, what names mean when, trees, assignments."""

from __future__ import annotations

import functools
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.fields import Field
from fermata.registers.model import RegisterMap

__all__ = ["EVER", "NEVER", "Assignment", "Register", "Version"]

EVER, NEVER = datetime(1900, 1, 1), datetime(9999, 1, 1)  # open ends; never NULL, so that joins stay simple


@dataclass(frozen=True)
class Version:
    """What a row says of one person or thing in naive UTC [since, until). `place` is where the row stands."""

    id: str
    label: str
    since: datetime
    until: datetime
    names: dict[str, tuple[str, ...]]
    attributes: dict[str, Any]
    parent: str
    archived: bool
    place: str


@dataclass(frozen=True)
class Assignment:
    """Who or what belongs together in naive UTC [since, until)."""

    links: dict[str, str]
    since: datetime
    until: datetime
    attributes: dict[str, Any]
    place: str


@dataclass(frozen=True)
class Register:
    """A loaded register. `digest` changes with its content and its table in `fermata.toml`."""

    name: str
    table: RegisterMap
    versions: tuple[Version, ...]
    assignments: tuple[Assignment, ...]
    digest: str

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of names it knows."""
        return tuple(self.table.names)

    @functools.cached_property
    def labels(self) -> dict[str, str]:
        """What an id is shown as: its latest label, with the id behind it where two share one."""
        latest = {v.id: v.label for v in sorted(self.versions, key=lambda v: v.since)}
        shared: dict[str, int] = {}
        for label in latest.values():
            shared[label] = shared.get(label, 0) + 1
        return {i: label if shared[label] == 1 else f"{label} ({i})" for i, label in latest.items()}

    @functools.cached_property
    def below(self) -> dict[str, tuple[str, ...]]:
        """The ids below an id of a tree, at any depth."""
        children: dict[str, set[str]] = {}
        for v in self.versions:
            if v.parent:
                children.setdefault(v.parent, set()).add(v.id)

        def under(one: str) -> set[str]:
            own = children.get(one, set())
            return own.union(*(under(c) for c in own)) if own else set()

        return {one: tuple(sorted(under(one))) for one in children}

    def fields(self, field: str) -> list[Field]:
        """What events gain by it: `user.department` and so on, `user.id`, and in a tree `place.parent` and
        `place.top`.
        """
        made = [
            Field(f"{field}.{name}", "tags" if m.separator else "text", names=name)
            for name, m in self.table.attributes.items()
        ]
        more = ("parent", "top") if self.table.parent else ()
        return [*made, *(Field(f"{field}.{n}") for n in ("id", *more))]

    def several(self, attribute: str) -> bool:
        """Whether an attribute is a set of values."""
        return attribute in self.table.attributes and self.table.attributes[attribute].separator is not None

    def value(self, version: Version, attribute: str) -> Any:
        """An attribute of a version, `id`, `parent` and `top` (the outermost above it, or itself) included."""
        if attribute == "id":
            return version.id
        if attribute == "parent":
            return self.labels.get(version.parent) if version.parent else None
        if attribute == "top":
            above = {v.id: v.parent for v in self.versions if v.parent}
            at = version.id
            while at in above:
                at = above[at]
            return self.labels[at]
        found = version.attributes[attribute]
        return list(found) or None if isinstance(found, tuple) else found

    def texts(self, version: Version, kind: str) -> tuple[str, ...]:
        """The names of a kind that a version has; its id is of the kind `people id` (the register's name before it)."""
        return (version.id,) if kind == f"{self.name} id" else version.names.get(kind, ())

    def rows(self, kind: str, attributes: Iterable[str], start: datetime | None, end: datetime) -> list[dict[str, Any]]:
        """Names of a kind with what they mean: text, since, until, label and the attributes, cut to naive UTC [start,
        end).

        Versions that follow each other without a difference are joined. One text never has two rows at a time.
        """
        wanted = tuple(attributes)
        found: dict[str, list[dict[str, Any]]] = {}
        for v in sorted(self.versions, key=lambda v: v.since):
            if v.since >= end or (start and v.until <= start):
                continue
            for text in self.texts(v, kind):
                row = {"text": text, "label": self.labels[v.id], **{a: self.value(v, a) for a in wanted}}
                held = found.setdefault(text, [])
                last = held[-1] if held else None
                if last and last["until"] == v.since and all(last[k] == row[k] for k in row):
                    last["until"] = v.until
                else:
                    held.append({**row, "since": v.since, "until": v.until})
        return [row for rows in found.values() for row in rows]

    def meant(self, text: str, kind: str) -> list[str]:
        """The labels of those whom `text` means: by label or id, else by a name of the `kind`, else by any name."""
        by_label = {label for i, label in self.labels.items() if text in (label, i)}
        by_label |= {self.labels[v.id] for v in self.versions if v.label == text}
        own = {self.labels[v.id] for v in self.versions if text in v.names.get(kind, ())}
        every = {self.labels[v.id] for v in self.versions for texts in v.names.values() if text in texts}
        return sorted(by_label or own or every)

    def unit(self, text: str) -> list[str]:
        """The labels of what `text` names in a tree and of all that is below it, its ids and names included."""
        ids = {v.id for v in self.versions if text in (v.id, v.label) or any(text in t for t in v.names.values())}
        ids |= {b for i in tuple(ids) for b in self.below.get(i, ())}
        return sorted(self.labels[i] for i in ids)

    def written(self, labels: Iterable[str]) -> list[str]:
        """Every text that stands for those of the labels: ids, labels and names, for attributes that name a unit of
        this tree.
        """
        kept = set(labels)
        texts = {
            t for v in self.versions if self.labels[v.id] in kept for t in (v.id, v.label, *sum(v.names.values(), ()))
        }
        return sorted(texts)

    def named(self, labels: Iterable[str]) -> list[str]:
        """Those of the labels with all their names, in words: `Mira Vale (badge 1017, login mvale)`."""
        found = []
        for label in labels:
            held: dict[str, None] = {}
            for v in self.versions:
                if self.labels[v.id] == label:
                    held.update(dict.fromkeys(f"{k} {t}" for k, texts in v.names.items() for t in texts))
            found.append(f"{label} ({', '.join(held)})" if held else label)
        return found

    def valid(self, start: datetime, end: datetime) -> list[Version]:
        """The last version in naive UTC [start, end) of everyone who is not archived by then."""
        last: dict[str, Version] = {}
        for v in sorted(self.versions, key=lambda v: v.since):
            if v.since < end and v.until > start:
                last[v.id] = v
        return [v for v in last.values() if not v.archived]
