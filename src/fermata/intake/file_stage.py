"""What staging one file gives."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from fermata.intake.readers import counting

__all__ = ["FileStage", "Seen"]


@dataclass(frozen=True)
class Seen:
    """What stands in a stage: its rows, how many are skipped and refused, and the first and last wall clock of the
    others, by column.
    """

    rows: int
    skips: int
    bads: int
    ends: dict[str, tuple[datetime, datetime]]


@dataclass
class FileStage:
    """What one file gave: the view `events` of its events, the table `rejects`, and the counts of its records. The wall
    clocks of a small one lie within `extent`; `held` is how many events the view has, the first start and the last,
    once that was asked. `text` is counted of the text the records stand in. `scratch` is a directory of this import.
    """

    path: Path
    file_id: int
    scratch: Path
    events: str
    rejects: str
    counted: counting.Counted = field(default_factory=counting.Counted)
    text: counting.Counted | None = None
    read: int = 0
    rejected: int = 0
    skipped: dict[str, int] = field(default_factory=dict)
    twice: int = 0
    never: int = 0
    rows: str = ""
    several_lines: bool = False
    inferred: str = ""
    extent: tuple[datetime, datetime] | None = None
    held: tuple[int, datetime | None, datetime | None] | None = None
