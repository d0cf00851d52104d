"""The registers of a workspace as people and viewers have them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

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
        """The register called `name`. Raises UnknownName, SourceError, ConfigError with every contradiction in it."""
        self.base.view.admit("names")
        return self.base.directory.register(name)

    def table(self, name: str, *, as_of: date | None = None, **chosen: object) -> Records:
        """A register as of a local day (today): what was valid at its start, narrowed by
        `only`, `without`, `any_of`.
        """
        day = {"as_of": as_of.isoformat()} if as_of else {}
        found = self.base.answer(Report.of(register=name, **day, **chosen))
        assert isinstance(found, Records)
        return found

    def find(self, text: str) -> list[Found]:
        """Candidates for a part of a name: people, devices, projects of the registers, and names as logs have them."""
        return lookup.find(self.base, text)

    def found(self, text: str) -> Records:
        """What `find` gives, as a listing."""
        return lookup.found_table(self.base, text)

    def overview(self) -> Records:
        """The registers there are, and what each knows."""
        return lookup.register_list(self.base)
