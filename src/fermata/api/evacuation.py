"""An evacuation as whoever clears the house has it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from fermata.api.tabular import Listing
from fermata.people import evacuation
from fermata.people.headcount import Muster

__all__ = ["Clearing"]


@dataclass(frozen=True)
class Clearing(evacuation.Clearing):
    """One evacuation by its name: prepared, begun, marked and ended."""

    def state(self, now: datetime | None = None) -> tuple[Muster, Listing]:
        """How it stands now, from the readings and marks there are, and as a list. Raises RequestError where none was
        begun.

        >>> _ = hall.evacuation("third").prepare(log="doors", outer="every")
        >>> _ = hall.evacuation("third").begin(datetime(2026, 3, 31, 6, tzinfo=UTC))
        >>> hall.evacuation("third").state()[1].names[:3]
        ('done', 'number', 'group')
        """
        found, listed = super().state(now)
        return found, Listing.of(listed)

    def end(self, by: str) -> tuple[Muster, Listing]:
        """Ends it, whoever is still missing; its list stays to be read. Raises RequestError where none is under way.

        >>> _ = hall.evacuation("fourth").prepare(log="doors", outer="every")
        >>> _ = hall.evacuation("fourth").begin(datetime(2026, 3, 31, 6, tzinfo=UTC))
        >>> hall.evacuation("fourth").end("Wanda Tistlewick")[0].missing > 0
        True
        """
        found, listed = super().end(by)
        return found, Listing.of(listed)
