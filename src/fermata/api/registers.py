"""The registers of a workspace as people and viewers have them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from fermata.api.tabular import Listing
from fermata.people import lookup
from fermata.people.lookup import Found
from fermata.registers.register import Register
from fermata.reports.definition.report import Report
from fermata.reports.result import Records
from fermata.workspace.base import Base

__all__ = ["Registers"]


@dataclass(frozen=True)
class Registers:
    """People, devices, projects and assignments: listed as of a day, and found by part of a name."""

    base: Base

    def register(self, name: str) -> Register:
        """The register called `name`. Raises UnknownName, SourceError, ConfigError with every contradiction in it.

        >>> hall.registers.register("people").name
        'people'
        """
        self.base.view.admit("names")
        return self.base.directory.register(name)

    def table(self, name: str, *, as_of: date | None = None, **chosen: object) -> Listing:
        """A register as of a local day (today): what was valid at its start, narrowed by
        `only`, `without`, `any_of`.

        >>> hall.registers.table("people", as_of=date(2026, 3, 2)).names[:3]
        ('id', 'label', 'badge')
        """
        day = {"as_of": as_of.isoformat()} if as_of else {}
        found = self.base.answer(Report.of(register=name, **day, **chosen))
        assert isinstance(found, Records)
        return Listing.of(found)

    def find(self, text: str) -> list[Found]:
        """Candidates for a part of a name: people, devices, projects of the registers, and names as logs have them.

        >>> hall.registers.find("umberlin")[0].label
        'Ada Umberlin'
        """
        return lookup.find(self.base, text)

    def found(self, text: str) -> Listing:
        """What `find` gives, as a listing.

        >>> len(hall.registers.found("umberlin").rows) > 0
        True
        """
        return Listing.of(lookup.found_table(self.base, text))

    def overview(self) -> Listing:
        """The registers there are, and what each knows.

        >>> hall.registers.overview().names[:3]
        ('register', 'rows', 'entries')
        """
        return Listing.of(lookup.register_list(self.base))
