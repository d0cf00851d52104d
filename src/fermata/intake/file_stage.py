"""What staging one file gives."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from fermata.intake.readers import delimited

__all__ = ["FileStage"]


@dataclass
class FileStage:
    """What one file gave: the view `events` of its events, the table `rejects`, and the counts of its records."""

    path: Path
    file_id: int
    events: str
    rejects: str
    counted: delimited.Counted = field(default_factory=delimited.Counted)
    read: int = 0
    rejected: int = 0
    skipped: dict[str, int] = field(default_factory=dict)
    twice: int = 0
    never: int = 0
    rows: str = ""
    several_lines: bool = False
    inferred: str = ""
