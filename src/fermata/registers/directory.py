"""All registers of a workspace: which one knows a kind of name, and what a question to a log needs of them."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata.errors import ConfigError, RequestError, UnknownName
from fermata.fields import Field, LogSchema
from fermata.registers.load import load
from fermata.registers.model import RegisterMap
from fermata.registers.register import EVER, NEVER, Register

__all__ = ["Directory"]


@dataclass(frozen=True)
class Directory:
    """The registers declared, each read when first needed. `zone` is the workspace's: dates in registers are its
    days.
    """

    tables: Mapping[str, RegisterMap]
    base: Path
    zone: str

    def __post_init__(self) -> None:
        owners: dict[str, str] = {}
        for name, table in self.tables.items():
            for kind in (*table.names, *([f"{name} id"] if table.id else [])):
                if kind in owners:
                    raise ConfigError(
                        "registers",
                        [f"{owners[kind]} and {name} both know names of the kind {kind!r}; one register per kind"],
                    )
                owners[kind] = name
        object.__setattr__(self, "owners", owners)

    owners: Mapping[str, str] = dataclasses.field(init=False, repr=False, default_factory=dict)

    @functools.cached_property
    def loaded(self) -> dict[str, Register]:
        """What was read so far, by name."""
        return {}

    def register(self, name: str) -> Register:
        """The register called `name`, read now if it was not. Raises UnknownName, ConfigError, SourceError."""
        if name not in self.tables:
            raise UnknownName.of("register", name, self.tables)
        if name not in self.loaded:
            self.loaded[name] = load(name, self.tables[name], self.base, self.zone)
        return self.loaded[name]

    def of(self, field: Field) -> Register | None:
        """The register that knows the kind of name a field of events holds, or whose units an attribute names."""
        name = self.owners.get(kind(field))
        return self.register(name) if name else None

    def widened(self, schema: LogSchema) -> LogSchema:
        """The schema with the attributes its fields gain; reads no register."""
        added: list[Field] = []
        for field in schema.fields:
            owner = self.owners.get(kind(field)) if field.type == "text" else None
            if owner:
                empty = Register(owner, self.tables[owner], (), (), "")
                added += [*empty.fields(field.name), Field(f"{field.name}.written")]
        return dataclasses.replace(schema, attributes=tuple(added))

    def rows(
        self, schema: LogSchema, wanted: Iterable[str], start: datetime | None, end: datetime
    ) -> list[tuple[Field, Register, tuple[str, ...], bool, list[dict[str, Any]]]]:
        """For each field among `wanted` (attributes count for their field): its register, the attributes to add,
        whether one row per text covers all of naive UTC [start, end), and the rows themselves.
        """
        asked: dict[str, list[str]] = {}
        for name in wanted:
            base, _, attribute = name.partition(".")
            held = asked.setdefault(base, [])
            if attribute and attribute != "written" and attribute not in held:
                held.append(attribute)
        found = []
        for name, attributes in asked.items():
            field = schema.by_name.get(name)
            register = self.of(field) if field and field.type == "text" else None
            if not field or not register:
                continue
            rows = register.rows(kind(field), attributes, start, end)
            first, last = start or EVER, min(end, NEVER)
            whole = all(r["since"] <= first and r["until"] >= last for r in rows)
            found.append((field, register, tuple(attributes), whole, rows))
        return found

    def identity(self, schema: LogSchema, field: str, text: str, names: str) -> str:
        """What a name is shown as in a field of a log: the label it means, else kind and text, else the text."""
        own = names or kind(schema.field(field))
        register = self.register(self.owners[own]) if own in self.owners else None
        if register is None:
            return text
        labels = register.meant(text, own)
        return labels[0] if len(labels) == 1 else f"{own} {text}"

    def meant(self, field: Field, value: str) -> tuple[list[str], bool]:
        """The values to look for when somebody filters `field` by `value`, and whether a register knows it.

        A person or thing stands for all its names, a unit of a tree for itself and everything below. Raises
        RequestError where a name could mean several.
        """
        register = self.of(field)
        if register is None:
            return [value], False
        attribute = "." in field.name
        if register.table.parent and (found := register.unit(value)):
            return (register.written(found) if attribute else found), True
        if attribute:
            return [value], False
        labels = register.meant(value, kind(field))
        if len(labels) > 1:
            raise RequestError(f"{field.name}: {value!r} may mean {' or '.join(labels)}; say which")
        return (labels, True) if labels else ([value, f"{value} ({kind(field)})"], False)


def kind(field: Field) -> str:
    """The kind of name a field holds: as declared, else its own name."""
    return field.names or field.name
