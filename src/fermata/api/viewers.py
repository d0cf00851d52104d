"""Viewers: who may see what, declared in `fermata.toml`.

[viewers.stage-lead]
person = "Ada Umberlin"        # whom the register of people knows
sees   = "team"                # own, team, or all
team   = "department"          # the attribute that names the team
hidden = ["cost", "calls.other", "people.pattern"]      # fields everywhere, of one log, an attribute of one register

[viewers.study]
sees       = "all"
pseudonyms = ["user"]          # under a key from [privacy]
shortened  = { other = 8 }     # only the first characters
smallest   = 5                 # no figures of fewer people
reports    = ["busiest-hours", "calls-by-line"]

[privacy]
key_env  = "HALL_KEY"          # or key_file, which only its owner may read
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC
from pathlib import Path
from typing import TYPE_CHECKING, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from fermata.errors import ConfigError, RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.registers.directory import Directory, kind
from fermata.registers.register import Register
from fermata.registers.scope import Scope
from fermata.reports.viewing import EVERYTHING, View
from fermata.secret import secret

if TYPE_CHECKING:
    from fermata.api.base import Base

__all__ = ["PrivacyMap", "ViewerMap", "view_of"]

LEAST_KEY = 16  # characters


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class PrivacyMap(Strict):
    """Where the key of pseudonyms is."""

    key_env: str = ""
    key_file: str = ""

    def key(self, base: Path) -> bytes:
        """The key. Raises RequestError, ConfigError."""
        if not (self.key_env or self.key_file):
            raise RequestError(
                "pseudonyms need a key; name its environment variable or file: [privacy] key_env or key_file"
            )
        text = secret("the key of pseudonyms", self.key_env, base / self.key_file if self.key_file else None)
        if len(text) < LEAST_KEY:
            raise RequestError(f"the key of pseudonyms is shorter than {LEAST_KEY} characters; make a longer one")
        return text.encode()


class ViewerMap(Strict):
    """A viewer: which rows (`sees`), which fields, which reports."""

    person: str = ""
    sees: Literal["own", "team", "all"] = "all"
    team: str = ""
    hidden: tuple[str, ...] = ()
    shortened: dict[str, int] = Field(default_factory=dict)
    pseudonyms: tuple[str, ...] = ()
    smallest: int = Field(default=0, ge=0)
    reports: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if self.sees != "all" and not self.person:
            raise ValueError(f"sees = {self.sees!r} needs person: whose own?")
        if (self.sees == "team") is not bool(self.team):
            raise ValueError('sees = "team" and team (the attribute that names it) go together')
        if any(n < 1 for n in self.shortened.values()):
            raise ValueError("shortened: keep at least one character")
        if self.pseudonyms and self.sees != "all":
            raise ValueError(f'pseudonyms go with sees = "all"; who sees {self.sees} knows whom')
        return self


def view_of(house: Base, name: str) -> View:
    """What the viewer of that name sees; everything for "". Raises UnknownName, RequestError, ConfigError."""
    if not name:
        return EVERYTHING
    if name not in house.config.viewers:
        raise UnknownName.of("viewer", name, house.config.viewers)
    table = house.config.viewers[name]
    _known(name, table, house)
    scope = None if table.sees == "all" else _scope(name, table, house)
    schemas = house.stored_schemas.values()
    return View(
        words=scope.words if scope else f"{name} (all rows)",
        person=table.person,
        scope=scope,
        hidden=frozenset(table.hidden),
        shortened=table.shortened,
        pseudonyms=frozenset(table.pseudonyms),
        named=_registers(table.pseudonyms, schemas, house.whole_directory),
        key=house.config.privacy.key(house.path) if table.pseudonyms else b"",
        smallest=table.smallest,
        reports=table.reports,
    )


def _registers(fields: Iterable[str], schemas: Iterable[LogSchema], directory: Directory) -> frozenset[str]:
    """The registers that know the names the fields hold."""
    wanted = set(fields)
    owners = (directory.owners.get(kind(f)) for s in schemas for f in s.fields if f.name in wanted)
    return frozenset(o for o in owners if o)


def _scope(name: str, table: ViewerMap, house: Base) -> Scope:
    owners = _registers(["user"], house.stored_schemas.values(), house.whole_directory)
    if not owners:
        raise RequestError(f"viewer {name}: no register knows the users of any log, so nobody has rows of their own")
    register = house.whole_directory.register(sorted(owners)[0])
    label = _person(name, table.person, register)
    if table.sees == "own":
        return Scope("user", (label,), f"{label} (own)")
    if table.team not in register.table.attributes:
        raise UnknownName.of(
            "attribute", table.team, register.table.attributes, where=f"in {register.name} (viewer {name})"
        )
    now = house.now().astimezone(UTC).replace(tzinfo=None)
    found = [
        register.value(v, table.team)
        for v in register.versions
        if register.labels[v.id] == label and v.since <= now < v.until
    ]
    teams = tuple(t for value in found for t in (value if isinstance(value, list) else [value]) if t)
    if not teams:
        raise RequestError(
            f"viewer {name}: {label} has no {table.team} in {register.name} today, so there is no team to see"
        )
    return Scope(f"user.{table.team}", teams, f"{label} ({table.team} {', '.join(teams)})")


def _person(name: str, text: str, register: Register) -> str:
    found = register.meant(text, "")
    if len(found) != 1:
        raise RequestError(
            f"viewer {name}: {text!r} may mean {' or '.join(found)}; say which"
            if found
            else f"viewer {name}: the register {register.name} knows nobody called {text!r}"
        )
    return found[0]


def _known(name: str, table: ViewerMap, house: Base) -> None:
    """Raises ConfigError for fields, attributes and reports there are none of: a slip would show what was to be hidden."""
    schemas = house.whole_schemas
    registers = house.whole_directory.tables
    problems = []
    fields = {n for s in schemas.values() for n in s.by_name} | {a for r in registers.values() for a in r.attributes}
    for text in table.hidden:
        holder, dot, own = text.partition(".")
        known = fields
        if dot:
            known = (
                set(schemas[holder].by_name)
                if holder in schemas
                else set(getattr(registers.get(holder), "attributes", ()))
            )
        if (own or holder) not in known:
            problems.append(f"viewers.{name}.hidden: there is no {text}; write FIELD, LOG.FIELD or REGISTER.ATTRIBUTE")
    for key in ("shortened", "pseudonyms"):
        problems += [f"viewers.{name}.{key}: no log has a field {n}" for n in getattr(table, key) if n not in fields]
    if problems:
        raise ConfigError("fermata.toml", problems)
