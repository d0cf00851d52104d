"""What the archive holds: one JSON file, replaced whole, and the only thing that makes data count.

Readers load it once and keep to the files it names; those never change and stay on disk for a day after they
left the manifest. Times are naive UTC in ISO 8601; `first` and `last` are inclusive starts of events.
"""

from __future__ import annotations

import dataclasses
import hashlib
import json
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fermata.errors import ArchiveDamaged
from fermata.jsontext import json_object

__all__ = ["Carry", "LogState", "Manifest", "Part", "SourceFile"]

FORMAT = 1
NO_SUM = "0" * 64  # stands where the sum of the file stands, while it is made


@dataclass(frozen=True, slots=True)
class SourceFile:
    """One imported file: where it was, its hash, what became of its records (they add up to `read`).

    `from_name` is what fields took from its path: the same bytes under another such name are other events. `known` is
    when its records first came in (an import repeated under another mapping keeps it), `upto` how far a query's growing
    column had come, `expired` how many of its events were dropped for their age, `inferred` what its reader assumed,
    and `deleted` how many entries it showed to be gone, and `values` how often each action and outcome occurs in it.
    """

    id: int
    path: str
    sha256: str
    size: int
    import_no: int
    mapping: str
    read: int
    stored: int
    duplicate: int
    rejected: int
    skipped: dict[str, int]
    events: int
    replaced: int = 0
    possible_repeats: int = 0
    twice: int = 0
    never: int = 0
    first: str | None = None
    last: str | None = None
    ends_in_newline: bool = True
    from_name: str = ""
    leaned_on: dict[str, int] = field(default_factory=dict)
    inferred: str = ""
    known: str = ""
    upto: str = ""
    expired: int = 0
    deleted: int = 0
    values: dict[str, dict[str, int]] = field(default_factory=dict)

    @property
    def adds_up(self) -> bool:
        """Whether every record read has exactly one fate."""
        fates = self.stored + self.replaced + self.duplicate + self.rejected + sum(self.skipped.values())
        return fates == self.read


@dataclass(frozen=True, slots=True)
class Part:
    """A Parquet file: the events of one import that start in one UTC month, with its sidecar of record keys.

    `until` is the latest start or finish in it, `unfinished` how many of its events have no finish. In a log with a
    key, `entry` are the columns of the key, of which the sidecar has a hash, and `between` the least and the greatest
    value of the first of them, where it is a text or a number.
    """

    path: str
    keys: str
    month: str
    rows: int
    size: int
    files: tuple[int, ...]
    first: str
    last: str
    until: str
    unfinished: int
    columns: tuple[str, ...] = ()
    entry: tuple[str, ...] = ()
    between: tuple[Any, ...] = ()


@dataclass(frozen=True, slots=True)
class Carry:
    """A Parquet file: copies of an import's events that leave their UTC month or have no finish."""

    path: str
    rows: int
    files: tuple[int, ...]
    first: str
    columns: tuple[str, ...] = ()


@dataclass(slots=True)
class LogState:
    """One log's live files and their events. `complete_to` is what an import declared, if any did.

    `kept_from` is where retention has cut; `ended` are the files of versions replaced or deleted, and `rejects` those
    of refused records, by import; `corrected` says which import put right the rejects of which.
    """

    files: dict[int, SourceFile] = field(default_factory=dict)
    parts: list[Part] = field(default_factory=list)
    carry: list[Carry] = field(default_factory=list)
    rejects: dict[str, str] = field(default_factory=dict)
    complete_to: str | None = None
    kept_from: str | None = None
    ended: dict[str, str] = field(default_factory=dict)
    corrected: dict[str, int] = field(default_factory=dict)

    @property
    def events(self) -> int:
        """Events stored."""
        return sum(p.rows for p in self.parts)

    @property
    def extent(self) -> tuple[datetime, datetime] | None:
        """First and last start of an event, both inclusive, naive UTC."""
        if not self.parts:
            return None
        first = min(p.first for p in self.parts)
        return datetime.fromisoformat(first), datetime.fromisoformat(max(p.last for p in self.parts))

    @property
    def until(self) -> datetime | None:
        """The end of what the log holds, excluded: past its last start, and at its last finish or later."""
        if not self.parts:
            return None
        last_start = datetime.fromisoformat(max(p.last for p in self.parts))
        return max(last_start + timedelta(microseconds=1), datetime.fromisoformat(max(p.until for p in self.parts)))


@dataclass(slots=True)
class Manifest:
    """The archive's state. `ledger_size` and `ledger_head` say how much of the ledger counts and its last hash."""

    number: int = 0
    next_import: int = 1
    next_file: int = 1
    key_probe: str = ""
    ledger_size: int = 0
    ledger_head: str = ""
    logs: dict[str, LogState] = field(default_factory=dict)
    retired: dict[str, str] = field(default_factory=dict)

    def log(self, name: str) -> LogState:
        """The log's state; empty if nothing was ever imported."""
        return self.logs.get(name) or LogState()

    def paths(self) -> set[str]:
        """Every file the archive must keep: live ones and those retired less than a day ago."""
        live = set(self.retired)
        for log in self.logs.values():
            live |= {p for part in log.parts for p in (part.path, part.keys)}
            live |= {c.path for c in log.carry} | set(log.rejects.values()) | set(log.ended.values())
        return live

    def to_json(self) -> str:
        """The manifest as it stands on disk."""
        text = json.dumps({"format": FORMAT, "sum": NO_SUM, **dataclasses.asdict(self)}, indent=1)
        return text.replace(NO_SUM, _sum(text), 1)

    @classmethod
    def load(cls, path: Path) -> Manifest:
        """The manifest at `path`; an empty one if there is none. Raises ArchiveDamaged if it is not readable."""
        try:
            text = path.read_text(encoding="utf-8")
            data = json_object(text)
        except FileNotFoundError:
            return cls()
        except (OSError, ValueError) as e:
            raise ArchiveDamaged(f"{path}: the manifest cannot be read ({e}); restore it from a backup") from None
        if data is None:
            raise ArchiveDamaged(f"{path}: the manifest is no JSON object; restore it from a backup")
        kept = data.pop("sum", None)  # archives of before it had none
        if isinstance(kept, str) and _sum(text.replace(kept, NO_SUM, 1)) != kept:
            raise ArchiveDamaged(f"{path}: the manifest is not as it was written; restore it from a backup")
        if data.pop("format", None) != FORMAT:
            raise ArchiveDamaged(f"{path}: written by another version of the archive format")
        try:
            logs = {name: _log_state(state) for name, state in data.pop("logs").items()}
            return cls(logs=logs, **data)
        except (AttributeError, KeyError, TypeError, ValueError) as e:
            raise ArchiveDamaged(f"{path}: the manifest cannot be read ({e}); restore it from a backup") from None


def _sum(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def _tuples(held: dict[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in held.items()}


def _log_state(state: dict[str, Any]) -> LogState:
    files = {int(i): SourceFile(**f) for i, f in state["files"].items()}
    parts = [Part(**_tuples(p)) for p in state["parts"]]
    carry = [Carry(**_tuples(c)) for c in state["carry"]]
    more = {key: state[key] for key in ("complete_to", "kept_from", "ended", "corrected") if key in state}
    return LogState(files, parts, carry, state["rejects"], **more)
