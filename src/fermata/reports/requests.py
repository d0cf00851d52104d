"""Requests: what is asked, in absolute terms, by somebody who may ask it. Every way to ask ends in one of them.

`compile` makes them, and decides there who may ask what; `execute` carries them out. The digest of a request is made of
all its fields but those that say why they are left out: the same digest on the same data gives the same figures.
"""

from __future__ import annotations

import dataclasses
import functools
from dataclasses import dataclass
from datetime import date, datetime
from typing import ClassVar

from fermata.analysis.plan import Cell, Plan
from fermata.digest import apart, digest
from fermata.errors import RequestError
from fermata.notes import Note
from fermata.reports.definition.report import Report
from fermata.timeline import Stretch

__all__ = [
    "Attention", "Behind", "Contacts", "Coverage", "Each", "Edits", "Figures", "Limits", "Listing", "Page", "PagePart",
    "Presence",
    "RegisterList", "Request", "Trail", "Unresolved", "Unusual",
]  # fmt: skip


@dataclass(frozen=True, eq=False, repr=False)
class Request:
    """What all requests have: the definition bound to logs of the workspace, the moment it is asked at (aware), whose
    view of the data it is (the digest of the view, "" for everything), what compiling has to say, and how many rows are
    wanted at most.

    `executor` is the module and function that carries it out; `shows` is what it lets be seen, by which the gate
    decides.
    """

    report: Report
    now: datetime = dataclasses.field(metadata=apart("what is relative to it is absolute in the other fields"))
    seen: str
    notes: tuple[Note, ...] = dataclasses.field(default=(), metadata=apart("words"), kw_only=True)
    limit: int | None = dataclasses.field(
        default=None, metadata=apart("how many rows are shown; the total is of all"), kw_only=True
    )

    executor: ClassVar[str] = ""
    shows: ClassVar[str] = ""

    def __post_init__(self) -> None:
        if self.limit is not None and self.limit < 1:
            raise RequestError(f"the limit is the most rows, 1 or more, not {self.limit}; without it there are all")

    @functools.cached_property
    def digest(self) -> str:
        """SHA-256 of all that decides its figures, to 16 hex digits."""
        return digest(self)


@dataclass(frozen=True, eq=False, repr=False)
class Figures(Request):
    """A table of figures by its plan; with `explained`, what each filter took away."""

    plan: Plan
    explained: bool = dataclasses.field(default=False, metadata=apart("what is said beside the figures"))

    executor: ClassVar[str] = "fermata.reports.execute.figures:figures"
    shows: ClassVar[str] = "figures"


@dataclass(frozen=True, eq=False, repr=False)
class Listing(Request):
    """Events by a plan and the layout of the report; `skip` passes over the first."""

    plan: Plan
    skip: int = dataclasses.field(default=0, metadata=apart("where the listing begins; the total is of all"))

    executor: ClassVar[str] = "fermata.reports.execute.listing:listing"
    shows: ClassVar[str] = "events"

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.skip < 0:
            raise RequestError(f"skip is how many rows to pass over, 0 or more, not {self.skip}")


@dataclass(frozen=True, eq=False, repr=False)
class Behind(Request):
    """The events behind one figure of a table."""

    plan: Plan
    cell: Cell

    executor: ClassVar[str] = "fermata.reports.execute.listing:behind"
    shows: ClassVar[str] = "events behind a figure"


@dataclass(frozen=True, eq=False, repr=False)
class RegisterList(Request):
    """The rows of a register that are valid on a day, or how many there are of each; `rows`
    is the register's digest.
    """

    day: date
    rows: str

    executor: ClassVar[str] = "fermata.reports.execute.register_list:register_list"
    shows: ClassVar[str] = "a register"


@dataclass(frozen=True, eq=False, repr=False)
class Presence(Request):
    """Who is inside at an instant (aware)."""

    at: datetime

    executor: ClassVar[str] = "fermata.people.presence:inside"
    shows: ClassVar[str] = "who is inside"


@dataclass(frozen=True, eq=False, repr=False)
class Contacts(Request):
    """Who was near a person in a period."""

    stretch: Stretch
    person: str

    executor: ClassVar[str] = "fermata.people.presence:contacts"
    shows: ClassVar[str] = "who met whom"


@dataclass(frozen=True, eq=False, repr=False)
class Unusual(Request):
    """What is more than somebody's own usual, in a period against all before."""

    stretch: Stretch

    executor: ClassVar[str] = "fermata.reports.execute.unusual:asked"
    shows: ClassVar[str] = "what is unusual"


@dataclass(frozen=True, eq=False, repr=False)
class Trail(Request):
    """All that one name did in every log; `field` is what kind of name it is, where that was said."""

    stretch: Stretch
    name: str
    field: str

    executor: ClassVar[str] = "fermata.people.trails:asked"
    shows: ClassVar[str] = "a trail"


@dataclass(frozen=True, eq=False, repr=False)
class Attention(Request):
    """What needs a look first, over all logs."""

    stretch: Stretch
    executor: ClassVar[str] = "fermata.reports.execute.attention:attention"
    shows: ClassVar[str] = "whole logs"


@dataclass(frozen=True, eq=False, repr=False)
class Coverage(Request):
    """What each log holds."""

    executor: ClassVar[str] = "fermata.reports.execute.coverage:covered"
    shows: ClassVar[str] = "whole logs"


@dataclass(frozen=True, eq=False, repr=False)
class Limits(Request):
    """What no answer can show."""

    executor: ClassVar[str] = "fermata.reports.execute.coverage:cannot"
    shows: ClassVar[str] = "whole logs"


@dataclass(frozen=True, eq=False, repr=False)
class Edits(Request):
    """Versions of entries that were replaced or deleted."""

    stretch: Stretch
    executor: ClassVar[str] = "fermata.people.edits:edits"
    shows: ClassVar[str] = "whole logs"


@dataclass(frozen=True, eq=False, repr=False)
class Unresolved(Request):
    """Names in no register."""

    stretch: Stretch
    executor: ClassVar[str] = "fermata.reports.execute.coverage:unresolved"
    shows: ClassVar[str] = "whole logs"


@dataclass(frozen=True, eq=False, repr=False)
class Each(Request):
    """A report once for every value of a field; which values there are is known when it is carried out."""

    stretch: Stretch
    executor: ClassVar[str] = "fermata.reports.execute.pages:each"
    shows: ClassVar[str] = "parts"


@dataclass(frozen=True, eq=False, repr=False)
class PagePart:
    """A part of a page: its title, what it asks, or why it cannot be asked; `left` are filters of the page that it
    cannot apply.
    """

    title: str = dataclasses.field(metadata=apart("a heading"))
    asked: Request | None
    why: str = dataclasses.field(default="", metadata=apart("words"))
    about: str = dataclasses.field(default="", metadata=apart("words"))
    left: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False, repr=False)
class Page(Request):
    """Several requests under one title."""

    parts: tuple[PagePart, ...]

    executor: ClassVar[str] = "fermata.reports.execute.pages:page"
    shows: ClassVar[str] = "parts"
