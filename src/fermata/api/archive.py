"""The archive of a workspace as its administrator has it."""

from __future__ import annotations

from dataclasses import dataclass

from fermata.api.tabular import Listing
from fermata.workspace import upkeep

__all__ = ["Upkeep"]


@dataclass(frozen=True)
class Upkeep(upkeep.Upkeep):
    """Logs come in, are judged, and are taken out. No viewer has it."""

    def survey_all(self) -> Listing:
        """One line for each log: kind, events, time covered, gaps, rejects, files under an older mapping.

        >>> hall.archive.survey_all().names[:3]
        ('log', 'kind', 'events')
        """
        return Listing.of(super().survey_all())
