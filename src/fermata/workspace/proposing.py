"""Proposing a log from a file, and adding it to a workspace once it is known to be readable."""

from __future__ import annotations

import dataclasses
import functools
import re
import tempfile
import tomllib
from collections import Counter
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from fermata.config.workspace_file import understood
from fermata.errors import DataError, RequestError
from fermata.intake import opening
from fermata.intake.guess.propose import propose as from_file
from fermata.reports.compile.request import Asking
from fermata.reports.definition.report import Report
from fermata.reports.result import Records
from fermata.workspace import importing
from fermata.workspace.base import Base

__all__ = ["Trial", "add_log", "log_name", "propose", "tried"]

PART = 8_000_000  # bytes of a long text that a proposal is tried on
SHOWN = 3


def log_name(path: Path) -> str:
    """A name for the log of a file: its own, without endings and numbers."""
    stem = re.split(r"[.\d]", opening.plain_name(path))[0].strip("-_ ").lower()
    return re.sub(r"[^a-z0-9_-]+", "-", stem).strip("-") or "log"


def propose(path: Path, log: str, base: Path | None = None) -> tuple[str, list[str]]:
    """The TOML proposed for a log of files like `path`, and what is unsure. Raises SourceError."""
    whole = path.resolve()
    inside = base is not None and whole.is_relative_to(base)
    shown = whole.relative_to(base).as_posix() if inside and base else str(path)
    return from_file(path, log, shown)


@dataclass(frozen=True)
class Trial:
    """What a proposal made of a file, or of its first part: records read, stored, refused (with the reasons) and
    skipped, and some of its events.
    """

    part: bool
    read: int
    stored: int
    refused: dict[str, int]
    skipped: dict[str, int]
    events: Records | None

    @property
    def words(self) -> str:
        """It in one line."""
        told = [f"{self.stored:,} stored"]
        told += [f"{n:,} refused ({why})" for why, n in self.refused.items()]
        told += [f"{n:,} skipped ({why})" for why, n in self.skipped.items()]
        return f"{'the first part of the file' if self.part else 'the file'}: {self.read:,} records: {', '.join(told)}"


def tried(text: str, log: str, path: Path, zone: str) -> Trial | None:
    """Reads the file as proposed, in a workspace of its own that is gone afterwards; None for a database, which is
    asked where it is.
    """
    data = tomllib.loads(text)
    if "database" in data["logs"][log]:
        return None
    with tempfile.TemporaryDirectory(prefix="fermata-") as made:
        here = Path(made).resolve()
        sample, part = _sample(path, here)
        data["logs"][log]["files"] = str(sample)
        config = understood({"workspace": {"zone": zone}, **data}, text, Path("the proposal"))
        base = Base(here, config, functools.partial(datetime.now, UTC))
        (done,) = importing.import_log(
            base, log, [sample], complete_to=None, complete="", corrected=False, wait=60, progress=lambda _: None
        )
        held = done.file
        assert held
        refused = Counter(r["reason"] for r in base.place().rejects(log))
        shown = [n for n in ("start", "finish", "duration") if n == "start" or base.stored_schemas[log].spans]
        asked = Report.of(log=log, listing={"fields": [*shown, *base.stored_schemas[log].by_name]})
        events = base.answer(asked, Asking(limit=SHOWN)) if held.stored else None
        rows = None
        if isinstance(events, Records):
            rows = dataclasses.replace(events, rows=list(events.rows), total=len(events.rows))
        return Trial(part, held.read, held.stored, dict(refused.most_common(3)), dict(held.skipped), rows)


def _sample(path: Path, folder: Path) -> tuple[Path, bool]:
    """The file, or a copy of its first part where it is a long text."""
    with path.open("rb") as f:
        head = f.read(PART + 1)
    if (
        len(head) <= PART
        or path.suffix in (".gz", ".zip", ".xz", ".bz2", ".zst")
        or b"\x00" in head[:1000]
        or head[:1] in b"{[<"
    ):
        return path.resolve(), False
    copy = folder / path.name
    copy.write_bytes(head[: head.rfind(b"\n") + 1])
    return copy, True


def add_log(workspace: Base, path: Path, log: str | None) -> tuple[str, list[str], Trial | None]:
    """Appends the proposal to `fermata.toml`, if the whole still reads and something of the file would be stored.
    Raises RequestError, ConfigError.
    """
    name = log or log_name(path)
    if name in workspace.stored_schemas or name in workspace.config.derived:
        raise RequestError(f"there is a log {name} already; give the new one another name with --log")
    text, doubts = propose(path, name, workspace.path)
    if '\nstart = "..."' in text:
        raise RequestError(
            f"no column of {path} holds times that can be read, so nothing was added; what was found in it: "
            f"fermata map {path}"
        )
    trial = tried(text, name, path, workspace.config.workspace.zone)
    if trial and not trial.stored:
        raise RequestError(
            f"nothing of {path} would be stored as proposed, so nothing was added ({trial.words}); see it with: "
            f"fermata map {path}"
        )
    config = workspace.path / "fermata.toml"
    whole = config.read_text(encoding="utf-8-sig").rstrip("\n") + "\n\n" + text
    understood(tomllib.loads(whole), whole, config)
    aside = config.with_suffix(".new")
    try:
        aside.write_text(whole, encoding="utf-8")
        aside.replace(config)
    except OSError as e:
        raise DataError(f"{config}: cannot be written: {e.strerror}") from None
    return name, doubts, trial
