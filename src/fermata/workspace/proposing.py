"""Proposing a log from a file, and adding it to a workspace once it is known to be readable."""

from __future__ import annotations

import dataclasses
import functools
import os
import re
import tempfile
import tomllib
from collections import Counter
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from fermata.config.workspace_file import understood
from fermata.errors import DataError, NoSuchFile, RequestError, SourceError, counted
from fermata.intake import opening
from fermata.intake.guess.propose import propose as from_file
from fermata.registers.load import load
from fermata.registers.model import RegisterMap
from fermata.reports.compile.request import Asking
from fermata.reports.definition.report import Report
from fermata.reports.result import Records
from fermata.workspace import importing
from fermata.workspace.base import Base

__all__ = ["Trial", "add_log", "add_register", "files_of", "log_name", "propose", "propose_list", "tried"]

PART = 8_000_000  # bytes of a long text that a proposal is tried on
SHOWN = 3
EVENTS = re.compile(rb"(?s)\nBEGIN:V.*(?=END:VCALENDAR)")
TOGETHER = 200  # files of a folder that a proposal looks at


def log_name(path: Path) -> str:
    """A name for the log of a file: its own, without endings and numbers."""
    named = path.parent if set(path.name) & set("*?[") else path  # a pattern is called as its folder
    stem = re.split(r"[.\d]", opening.plain_name(named))[0].strip("-_ ").lower()
    return re.sub(r"[^a-z0-9_-]+", "-", stem).strip("-") or "log"


def files_of(path: Path) -> tuple[list[Path], Path]:
    """The files that a path stands for, the largest first, and the pattern for all of them: itself, the commonest
    kind of file in a folder, or what a pattern such as `cal/*.ics` finds. Raises SourceError where there is none.
    """
    if path.is_file():
        return [path], path
    if path.is_dir():
        endings = Counter(p.suffix for p in path.iterdir() if p.is_file() and not p.name.startswith("."))
        if not endings:
            raise SourceError(f"{path}: the folder holds no files")
        path = path / f"*{endings.most_common(1)[0][0]}"
    found = [p for p in path.parent.glob(path.name) if p.is_file()] if path.parent.is_dir() else []
    if not found:
        raise NoSuchFile(f"there is no file {path}")
    return sorted(found, key=lambda p: (-p.stat().st_size, p.name)), path


def propose(path: Path, log: str, base: Path | None = None) -> tuple[str, list[str]]:
    """The TOML proposed for a log of files like `path` (a file, a folder, a pattern), and what is unsure. Raises
    SourceError.
    """
    files, pattern = files_of(path)
    shown = _seen_from(base, pattern.parent.resolve() / pattern.name) if base else str(pattern)
    with tempfile.TemporaryDirectory(prefix="fermata-") as made:
        return from_file(_together(files, Path(made)), log, shown)


def _seen_from(base: Path, path: Path) -> str:
    """A path as `fermata.toml` has it: from the workspace, if it is in it or beside it."""
    near = path.is_relative_to(base.parent) and base.parent != Path(base.anchor)
    return Path(os.path.relpath(path, base)).as_posix() if near else str(path)


def _together(files: list[Path], folder: Path) -> Path:
    """The largest file; of calendars, which may hold one event each, many as one."""
    if len(files) == 1 or files[0].suffix.lower() != ".ics":
        return files[0]
    whole = folder / files[0].name
    parts = [EVENTS.search(p.read_bytes()) for p in files[:TOGETHER]]
    events = b"".join(p[0].rstrip() for p in parts if p)
    whole.write_bytes(b"BEGIN:VCALENDAR\r\nVERSION:2.0" + events + b"\r\nEND:VCALENDAR\r\n")
    return whole


@dataclass(frozen=True)
class Trial:
    """What a proposal made of a file, or of its first part: records read, stored, refused (with the reasons) and
    skipped, and some of its events.
    """

    files: int
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
        one = "the first part of the file" if self.part else "the file"
        looked_at = one if self.files == 1 else f"{self.files:,} files"
        return f"{looked_at}: {counted(self.read, 'record')}: {', '.join(told)}"


def tried(text: str, log: str, path: Path, zone: str) -> Trial | None:
    """Reads the file as proposed, in a workspace of its own that is gone afterwards; None for a database, which is
    asked where it is.
    """
    data = tomllib.loads(text)
    if "database" in data["logs"][log]:
        return None
    files, pattern = files_of(path)
    with tempfile.TemporaryDirectory(prefix="fermata-") as made:
        here = Path(made).resolve()
        sample, part = _sample(files[0], here)
        samples = [p.resolve() for p in files[:TOGETHER]] if len(files) > 1 else [sample]
        data["logs"][log]["files"] = str(samples[0].with_name(pattern.name) if len(files) > 1 else sample)
        config = understood({"workspace": {"zone": zone}, **data}, text, Path("the proposal"))
        base = Base(here, config, functools.partial(datetime.now, UTC))
        outcomes = importing.import_log(
            base,
            log,
            samples,
            complete_to=None,
            complete="",
            corrected=False,
            wait=60,
            progress=lambda _: None,
        )
        held = [o.file for o in outcomes if o.file]
        skipped = sum((Counter(f.skipped) for f in held), Counter[str]())
        read, stored = sum(f.read for f in held), sum(f.stored for f in held)
        refused = Counter(r["reason"] for r in base.place().rejects(log))
        shown = [n for n in ("start", "finish", "duration") if n == "start" or base.stored_schemas[log].spans]
        asked = Report.of(log=log, listing={"fields": [*shown, *base.stored_schemas[log].by_name]})
        events = base.answer(asked, Asking(limit=SHOWN)) if stored else None
        rows = None
        if isinstance(events, Records):
            rows = dataclasses.replace(events, rows=list(events.rows), total=len(events.rows))
        return Trial(
            len(samples), part and len(samples) == 1, read, stored, dict(refused.most_common(3)), dict(skipped), rows
        )


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
        why = next((d.partition(": ")[2] for d in doubts if d.startswith("start: ")), "no time was found in it")
        raise RequestError(f"nothing of {path} was added: {why}; what was found in it: fermata map {path}")
    trial = tried(text, name, path, workspace.config.workspace.zone)
    if trial and not trial.stored:
        raise RequestError(
            f"nothing of {path} would be stored as proposed, so nothing was added ({trial.words}); see it with: "
            f"fermata map {path}"
        )
    _append(workspace, text)
    return name, doubts, trial


def propose_list(path: Path, register: str, base: Path | None = None) -> tuple[str, list[str]]:
    """The TOML proposed for a register from a list, and what is unsure. Raises SourceError."""
    from fermata.registers.proposal import propose_register

    return propose_register(path, register, _seen_from(base, path.resolve()) if base else str(path.resolve()))


def add_register(workspace: Base, path: Path, register: str) -> tuple[list[str], int]:
    """Appends the proposal of a register to `fermata.toml`, if it can be read without a contradiction: what is unsure,
    and how many rows it has. Raises RequestError, SourceError, ConfigError.
    """
    if register in workspace.config.registers:
        raise RequestError(f"there is a register {register} already; give the new one another name")
    text, doubts = propose_list(path, register, workspace.path)
    table = RegisterMap.model_validate(tomllib.loads(text)["registers"][register])
    found = load(register, table, workspace.path, workspace.config.workspace.zone)
    _append(workspace, text)
    return doubts, len(found.versions) + len(found.assignments)


def _append(workspace: Base, text: str) -> None:
    """Writes tables at the end of `fermata.toml`, if the whole still reads."""
    config = workspace.path / "fermata.toml"
    whole = config.read_text(encoding="utf-8-sig").rstrip("\n") + "\n\n" + text
    understood(tomllib.loads(whole), whole, config)
    aside = config.with_suffix(".new")
    try:
        aside.write_text(whole, encoding="utf-8")
        aside.replace(config)
    except OSError as e:
        raise DataError(f"{config}: cannot be written: {e.strerror}") from None
