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
smallest   = 5                 # no figures of fewer people, and those only by the fields of the cube, filtered by its
fields, in whole weeks cube       = { by = ["place", "user.department"], only = ["action"], grain = "week" } reports
= ["busiest-hours", "calls-by-line"]

[privacy]
key_env  = "HALL_KEY"          # or key_file, which only its owner may read
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal, Self

from pydantic import Field, model_validator

from fermata.errors import ConfigError, RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.registers.directory import Directory, kind
from fermata.registers.register import Register
from fermata.registers.scope import Scope
from fermata.reports.compile.access import EVERYTHING, Cube, View
from fermata.reports.definition.report import Report
from fermata.secret import secret
from fermata.strict import Strict

__all__ = ["CubeMap", "Known", "PrivacyMap", "ViewerMap", "view_of"]

LEAST_KEY = 16  # characters


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


class CubeMap(Strict):
    """What a viewer of groups may ask for: figures by these fields, filtered by these, over
    whole units of the grain.
    """

    by: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    grain: Literal["day", "week", "month", "quarter", "year"] = "month"


class ViewerMap(Strict):
    """A viewer: which rows (`sees`), which fields, which reports."""

    person: str = ""
    sees: Literal["own", "team", "all"] = "all"
    team: str = ""
    hidden: tuple[str, ...] = ()
    shortened: dict[str, int] = Field(default_factory=dict)
    pseudonyms: tuple[str, ...] = ()
    smallest: int = Field(default=0, ge=0)
    cube: CubeMap | None = None
    reports: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if self.sees != "all" and not self.person:
            raise ValueError(f"sees = {self.sees!r} needs person: whose own?")
        if (self.sees == "team") is not bool(self.team):
            raise ValueError('sees = "team" and team (the attribute that names it) go together')
        if any(n < 1 for n in self.shortened.values()):
            raise ValueError("shortened: keep at least one character")
        if bool(self.smallest) is not bool(self.cube):
            raise ValueError(
                'smallest and cube go together: which groups there are, as in cube = { by = ["place"], only = '
                '["action"], grain = "day" }'
            )
        if self.pseudonyms and self.sees != "all":
            raise ValueError(f'pseudonyms go with sees = "all"; who sees {self.sees} knows whom')
        return self


@dataclass(frozen=True)
class Known:
    """What declarations of viewers are held against: the logs as stored and with derived ones, the registers, the
    moment, the reports.
    """

    stored: Mapping[str, LogSchema]
    schemas: Mapping[str, LogSchema]
    registers: Directory
    now: datetime
    definition: Callable[[str], Report]


def view_of(name: str, viewers: Mapping[str, ViewerMap], privacy: PrivacyMap, base: Path, known: Known) -> View:
    """What the viewer of that name sees; everything for "". Raises UnknownName, RequestError, ConfigError."""
    if not name:
        return EVERYTHING
    if name not in viewers:
        raise UnknownName.of("viewer", name, viewers)
    table = viewers[name]
    _check(name, table, known)
    scope = None if table.sees == "all" else _scope(name, table, known)
    return View(
        words=scope.words if scope else f"{name} (all rows)",
        person=table.person,
        scope=scope,
        hidden=frozenset(table.hidden),
        shortened=table.shortened,
        pseudonyms=frozenset(table.pseudonyms),
        named=_registers(table.pseudonyms, known),
        key=privacy.key(base) if table.pseudonyms else b"",
        smallest=table.smallest,
        cube=Cube(table.cube.by, table.cube.only, table.cube.grain) if table.cube else Cube(),
        reports=tuple((n, known.definition(n)) for n in table.reports),
    )


def _registers(fields: Iterable[str], known: Known) -> frozenset[str]:
    """The registers that know the names the fields hold."""
    wanted = set(fields)
    schemas = known.stored.values()
    owners = (known.registers.owners.get(kind(f)) for s in schemas for f in s.fields if f.name in wanted)
    return frozenset(o for o in owners if o)


def _scope(name: str, table: ViewerMap, known: Known) -> Scope:
    owners = _registers(["user"], known)
    if not owners:
        raise RequestError(f"viewer {name}: the users of the logs are in no register, so nobody has rows of their own")
    register = known.registers.register(sorted(owners)[0])
    label = _person(name, table.person, register)
    if table.sees == "own":
        return Scope("user", (label,), f"{label} (own)")
    if table.team not in register.table.attributes:
        raise UnknownName.of(
            "attribute", table.team, register.table.attributes, where=f"in {register.name} (viewer {name})"
        )
    now = known.now.astimezone(UTC).replace(tzinfo=None)
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


def _check(name: str, table: ViewerMap, known: Known) -> None:
    """Raises ConfigError for fields, attributes and reports there are none of: a slip would show what was to be
    hidden.
    """
    schemas, registers = known.schemas, known.registers.tables
    problems = []
    fields = {n for s in schemas.values() for n in s.by_name} | {a for r in registers.values() for a in r.attributes}
    for text in table.hidden:
        holder, dot, own = text.partition(".")
        there = fields
        if dot:
            there = (
                set(schemas[holder].by_name)
                if holder in schemas
                else set(getattr(registers.get(holder), "attributes", ()))
            )
        if (own or holder) not in there:
            problems.append(f"viewers.{name}.hidden: there is no {text}; write FIELD, LOG.FIELD or REGISTER.ATTRIBUTE")
    for key in ("shortened", "pseudonyms"):
        problems += [f"viewers.{name}.{key}: no log has a field {n}" for n in getattr(table, key) if n not in fields]
    owners = _registers(["user"], known)
    held = [f for s in known.stored.values() for f in s.fields]
    plain = {f.name for f in held if known.registers.owners.get(kind(f)) not in owners}
    known_names = {f.name for f in held} - plain
    problems += [
        f"viewers.{name}.shortened: the register of people knows the names in {n}, and would show them; write "
        "pseudonyms or hidden"
        for n in table.shortened
        if n in known_names
    ]
    widened = {n for s in schemas.values() for n in known.registers.widened(s).by_name}
    for key in ("by", "only") if table.cube else ():
        named = getattr(table.cube, key)
        problems += [f"viewers.{name}.cube.{key}: no log has a field {n}" for n in named if n not in widened]
        people = [n for n in named if n.partition(".")[0] == "user" and n.partition(".")[2] in ("", "written")]
        problems += [f"viewers.{name}.cube.{key}: {n} tells people apart; name attributes of groups" for n in people]
    for text in table.reports:
        try:
            known.definition(text)
        except UnknownName as e:
            problems.append(f"viewers.{name}.reports: {e}")
    if problems:
        raise ConfigError("fermata.toml", problems)
