"""How a register is read: the `[registers.NAME]` tables of `fermata.toml`.

[registers.people]
files      = "registers/people.csv"
id         = "Staff no"
label      = "Name"
names      = { badge = "Badge", extension = "Extension", login = "Login" }
attributes = { department = "Department", groups = { column = "Groups", separator = "|" } }
from       = "From"
until      = "Until"                       # this day included
archived   = "Left"

[registers.licences]                       # an assignment: who holds what
files = "registers/licences.xlsx"
links = { user = { column = "Login", names = "login" }, product = "Product" }
from  = "Since"
"""

from __future__ import annotations

import re
from typing import Any, Self

from pydantic import Field, field_validator, model_validator

from fermata.fields import checked_name
from fermata.intake.field_map import in_percents
from fermata.intake.mapping import DatabaseMap
from fermata.strict import Strict, listed

__all__ = ["AttributeMap", "LinkMap", "NameMap", "RegisterMap"]

OWN = ("written", "id", "parent", "top", "text", "label", "since", "until")  # what every row of a register has


class NameMap(Strict):
    """A kind of name: its column, or several joined by a space; with `separator`, a cell may hold several names."""

    alone = ("column", ("string", "array"))
    column: str | tuple[str, ...]
    separator: str | None = None


class AttributeMap(Strict):
    """An attribute: its column; with `separator` a set of values, such as the groups somebody is in."""

    alone = ("column", ("string",))
    column: str
    separator: str | None = None


class LinkMap(Strict):
    """One side of an assignment: its column, and the kind of name that stands in it."""

    alone = ("column", ("string",))
    column: str
    names: str = ""


class RegisterMap(Strict):
    """A register: where it is, and which of its columns are identity, names, attributes and validity.

    Dates are local days of the workspace's zone, both included; empty means open. They are written 2026-03-01, or as
    `form` says. The label may be several columns joined by a space.
    """

    files: tuple[str, ...] = ()
    database: DatabaseMap | None = None
    sheet: str | int | None = None
    delimiter: str = Field(default=",", min_length=1, max_length=1)
    encoding: str = "utf-8-sig"
    skip_lines: int = Field(default=0, ge=0)
    id: str | None = None
    label: str | tuple[str, ...] | None = None
    names: dict[str, NameMap] = Field(default_factory=dict)
    attributes: dict[str, AttributeMap] = Field(default_factory=dict)
    links: dict[str, LinkMap] = Field(default_factory=dict)
    parent: str | None = None
    since: str | None = Field(default=None, alias="from")
    until: str | None = None
    archived: str | None = None
    form: str = ""
    title: str = ""

    _files = listed("files")

    @field_validator("names", "attributes", "links", mode="before")
    @classmethod
    def _by_heading(cls, value: Any) -> Any:
        return {str(v).lower().replace(" ", "_"): v for v in value} if isinstance(value, list) else value

    @field_validator("attributes")
    @classmethod
    def _attribute_names(cls, value: dict[str, AttributeMap]) -> dict[str, AttributeMap]:
        for name in value:
            checked_name(name)
            if name in OWN:
                raise ValueError(f"attribute {name!r} has a meaning of its own; choose another name")
        return value

    @field_validator("form")
    @classmethod
    def _form(cls, form: str) -> str:
        if form and not {"%d", "%m"} <= set(re.findall("%.", form)):
            raise ValueError(f"form {form!r} is not that of a date; write it as {in_percents(form) or '%d.%m.%Y'}")
        return form

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if twice := [n for n in self.names if n in (*self.attributes, *OWN)]:
            raise ValueError(f"names: {twice[0]} is an attribute too, or has a meaning of its own; choose another word")
        if bool(self.files) is (self.database is not None):
            raise ValueError("give either files or database")
        if self.database and self.database.table:
            raise ValueError("a register is read by a query; write one in place of table and record")
        if self.links:
            if self.id or self.names or self.parent:
                raise ValueError("an assignment has links, and no id, names or parent of its own")
        elif not self.id:
            raise ValueError(
                "id is missing: the column whose value is different for each row (an assignment has links instead)"
            )
        return self
