"""What a workspace declares for its reports beside logs and registers: hours and factors."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from fermata.analysis.plan import HoursOf
from fermata.errors import RequestError, UnknownName
from fermata.timeline import otherwise
from fermata.timeline.hours import Hours, written

__all__ = ["Factor", "Terms"]

OUTSIDE = "outside "
WRITTEN = "(hours may be written out, too: sunday, 22:00-06:00, monday to friday 09:00-17:00)"
WORKING = "working hours"  # whichever hours the workspace calls its workdays


@dataclass(frozen=True, slots=True)
class Factor:
    """A stated number of a unit, such as grams of a sheet, and where it is from."""

    value: Decimal
    unit: str
    source: str


@dataclass(frozen=True)
class Terms:
    """Named hours, which of them make a workday, and factors."""

    hours: Mapping[str, HoursOf] = field(default_factory=dict)
    workdays: Hours | None = None
    factors: Mapping[str, Factor] = field(default_factory=dict)

    def hours_of(self, text: str) -> HoursOf:
        """The hours called `text`, or written out in it (`sunday`, `22:00-06:00`), or all others for `outside NAME`;
        `working hours` are those of the workspace's workdays.

        Raises UnknownName; RequestError where no workdays are declared.
        """
        import dataclasses

        name = text.strip().removeprefix(OUTSIDE).strip()
        if name == WORKING and name not in self.hours:
            if self.workdays is None:
                raise RequestError(
                    'the workspace does not say what its working hours are: workdays = "NAME" in [workspace], and '
                    "[hours.NAME]"
                )
            name = self.workdays.name
        found = self.hours.get(name)
        if found is None:
            plain = written(name)
            if plain is None:
                if (meant := otherwise.hours(name)) and written(meant):
                    raise UnknownName(f"there is no set of hours {name!r}; did you mean {meant}? {WRITTEN}")
                raise UnknownName.of("set of hours", name, self.hours, where=WRITTEN)
            found = HoursOf(plain)
        if not text.strip().startswith(OUTSIDE):
            return found
        turned = tuple((v, dataclasses.replace(h, outside=not h.outside)) for v, h in found.variants)
        return HoursOf(turned[-1][1], found.by, turned[:-1])  # type: ignore[arg-type]  # only the last has no value
