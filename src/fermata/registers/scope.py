"""What a viewer's scope leaves of the registers, and which names stand for whom it lets through."""

from __future__ import annotations

import base64
import dataclasses
import hashlib
import hmac
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.fields import Field
from fermata.registers.directory import Directory, kind
from fermata.registers.model import RegisterMap
from fermata.registers.register import Assignment, Register, Version

__all__ = ["Narrowed", "Scope", "pseudonym"]


@dataclass(frozen=True)
class Scope:
    """The events there are: those whose `field` has one of the `values`. It is a field (`user`) or what a register says
    of one at the event's start (`user.department`); `words` say it to people.
    """

    field: str
    values: tuple[str, ...]
    words: str

    @property
    def base(self) -> str:
        """The field of events it goes by."""
        return self.field.partition(".")[0]

    @property
    def attribute(self) -> str:
        """The register's attribute it goes by; empty for the names themselves."""
        return self.field.partition(".")[2]

    def holds(self, register: Register, version: Version) -> bool:
        """Whether a row of the register that knows the field's names is within it."""
        if not self.attribute:
            return register.labels[version.id] in self.values
        found = register.value(version, self.attribute)
        return any(v in self.values for v in (found if isinstance(found, list) else [found]))

    def narrowed(self, register: Register) -> Register:
        """The register with only the rows within."""
        kept = tuple(v for v in register.versions if self.holds(register, v))
        above = {v.id for v in kept}
        kept = tuple(v if v.parent in above else dataclasses.replace(v, parent="") for v in kept)
        return dataclasses.replace(register, versions=kept, digest=marked(register.digest, self.field, *self.values))

    def assigned(self, links: Register, owner: Register) -> Register:
        """An assignment with only the rows that name somebody or something within; `owner` is narrowed already."""
        ours = [n for n, m in links.table.links.items() if kind(Field(n, names=m.names)) in owned(owner)]
        if not ours:
            return links
        texts = {t for v in owner.versions for t in (v.id, *sum(v.names.values(), ()))}
        kept = tuple(a for a in links.assignments if any(a.links[n] in texts for n in ours))
        return dataclasses.replace(links, assignments=kept, digest=marked(links.digest, self.field, *self.values))

    def rows(self, register: Register, field: Field, start: datetime | None, end: datetime) -> list[tuple[Any, ...]]:
        """The names that stand for those within: (text, since, until), cut to naive UTC [start, end)."""
        found = self.narrowed(register).rows(kind(field), (), start, end)
        return [(r["text"], r["since"], r["until"]) for r in found]


def owned(register: Register) -> tuple[str, ...]:
    """The kinds of names a register knows, its ids included."""
    return (*register.table.names, f"{register.name} id")


def marked(*parts: str) -> str:
    """A digest of a digest and what was done to it."""
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:16]


def pseudonym(key: bytes, names: str, text: str) -> str:
    """What stands for a name of a kind: the first 60 bits of HMAC-SHA-256 (RFC 2104) in base 32 (RFC 4648).

    The same key, kind and text always give the same; without the key nobody can tell one from the other.
    """
    digest = hmac.new(key, f"{names}\0{text}".encode(), hashlib.sha256).digest()
    told = base64.b32encode(digest).decode().lower()[:12]
    return f"{told[:4]}-{told[4:8]}-{told[8:]}"


def replaced(register: Register, key: bytes) -> Register:
    """The register with a pseudonym for every id, label and name in it."""

    def one(v: Version) -> Version:
        names = {k: tuple(pseudonym(key, k, t) for t in texts) for k, texts in v.names.items()}
        own = pseudonym(key, f"{register.name} id", v.id)
        parent = pseudonym(key, f"{register.name} id", v.parent) if v.parent else ""
        return dataclasses.replace(v, id=own, label=own, names=names, parent=parent, place=register.name)

    digest = marked(register.digest, "pseudonyms", pseudonym(key, "", ""))
    return dataclasses.replace(register, versions=tuple(map(one, register.versions)), digest=digest)


def links_replaced(register: Register, kinds: Callable[[str], bool], key: bytes) -> Register:
    """An assignment with a pseudonym for every name of the kinds for which `kinds` holds."""
    ours = {n: k for n, m in register.table.links.items() if kinds(k := kind(Field(n, names=m.names)))}

    def one(a: Assignment) -> Assignment:
        return dataclasses.replace(
            a, links={n: pseudonym(key, ours[n], t) if n in ours and t else t for n, t in a.links.items()}
        )

    if not ours:
        return register
    digest = marked(register.digest, "pseudonyms", pseudonym(key, "", ""))
    return dataclasses.replace(register, assignments=tuple(map(one, register.assignments)), digest=digest)


def without(register: Register, hidden: Callable[[str], bool]) -> Register:
    """The register without the attributes for which `hidden` holds."""
    table = without_columns(register.table, hidden)

    def one(v: Any) -> Any:
        return dataclasses.replace(v, attributes={n: a for n, a in v.attributes.items() if n in table.attributes})

    versions, assignments = tuple(map(one, register.versions)), tuple(map(one, register.assignments))
    return dataclasses.replace(register, table=table, versions=versions, assignments=assignments)


def without_columns(table: RegisterMap, hidden: Callable[[str], bool]) -> RegisterMap:
    """The declaration of a register without the hidden attributes."""
    return table.model_copy(update={"attributes": {n: a for n, a in table.attributes.items() if not hidden(n)}})


@dataclass(frozen=True)
class Narrowed(Directory):
    """The registers as a viewer has them: `change` is done to each as it is read from `whole`."""

    whole: Directory = dataclasses.field(kw_only=True)
    change: Callable[[Register], Register] = dataclasses.field(kw_only=True)

    def register(self, name: str) -> Register:
        """The register called `name` as the viewer has it. Raises UnknownName, ConfigError, SourceError."""
        if name in self.tables and name not in self.loaded:
            self.loaded[name] = self.change(self.whole.register(name))
        return super().register(name)
