"""What a workspace does with its logs' sources: import, take back, expire."""

from __future__ import annotations

import dataclasses
import glob
import itertools
import shutil
import tempfile
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

from fermata.archive import retention
from fermata.archive.retention import Removal
from fermata.errors import FermataError, FilesFailed, RequestError
from fermata.intake import database, opening
from fermata.intake.importer import Declared, Outcome, import_files
from fermata.intake.mapping import LogMap
from fermata.intake.readers import delimited
from fermata.intake.storing import Progress
from fermata.run_log import tell
from fermata.timeline.lengths import ago
from fermata.timeline.periods import Period
from fermata.timeline.zones import zone
from fermata.workspace.base import Base

__all__ = ["expire", "export_rejects", "files", "import_log", "naive", "undo_import"]

Source = str | Path | IO[bytes]


def naive(at: datetime) -> datetime:
    """An aware instant as the archive writes it: UTC without zone."""
    return at.astimezone(UTC).replace(tzinfo=None)


def files(workspace: Base, log: str) -> list[Path]:
    """The files the log's patterns match now, oldest records first; those of a zip archive one by one."""
    mapping = workspace.mapping(log)
    found: dict[Path, None] = {}
    for pattern in mapping.files:
        whole = pattern if Path(pattern).is_absolute() else f"{glob.escape(str(workspace.path))}/{pattern}"
        for path in opening.in_order(Path(n) for n in glob.glob(whole, recursive=True)):
            found.update(dict.fromkeys(opening.members(path, mapping.format)))
    return list(found)


def import_log(
    workspace: Base,
    log: str,
    given: Sequence[Source],
    *,
    complete_to: datetime | None,
    complete: str,
    corrected: bool,
    wait: float,
    progress: Progress,
) -> list[Outcome]:
    """See `Upkeep.import_log`."""
    mapping = workspace.mapping(log)
    if mapping.in_place:
        raise RequestError(
            f"the log {log} is read where it is, in {mapping.database and mapping.database.table}; there is nothing "
            "to import"
        )
    schema = workspace.stored_schemas[log]
    if complete and not mapping.key:
        raise RequestError(f"the log {log} has no key, so a missing entry cannot be told from one that never was")
    calendar = dataclasses.replace(workspace.config.workspace.calendar, zone_name=schema.zone)
    stretch = Period.parse(complete, calendar).resolve(workspace.now()) if complete else None
    paths, received, upto = _sources(workspace, log, mapping, given, progress)
    declared = Declared(
        complete_to=naive(complete_to) if complete_to else None,
        complete=(naive(stretch.start), naive(stretch.end)) if stretch else None,
        corrected=corrected,
        upto=upto,
    )
    try:
        done = import_files(
            workspace.archive,
            mapping,
            schema,
            paths,
            base=workspace.path,
            now=naive(workspace.now()),
            declared=declared,
            wait=wait,
            progress=progress,
        )
    except FilesFailed as e:
        _told(workspace, log, e.done, [])
        raise
    except FermataError:
        _discard(received)
        raise
    _told(workspace, log, done, received)
    return done


def _told(workspace: Base, log: str, done: list[Outcome], received: list[Path]) -> None:
    """Logs what became of each file, and drops received ones that hold nothing new."""
    _discard(p for p in received if any(o.unchanged and workspace.path / o.path == p for o in done))
    for one in done:
        held = one.file or one.unchanged
        counts = (
            {k: getattr(held, k) for k in ("read", "stored", "replaced", "duplicate", "rejected")} if one.file else {}
        )
        tell(
            "info",
            "imported" if one.file else "known already",
            log=log,
            number=held and held.import_no,
            **counts,
            debug={"file": one.path},
        )


def _sources(
    workspace: Base, log: str, mapping: LogMap, given: Sequence[Source], progress: Progress
) -> tuple[list[Path], list[Path], str]:
    """The files to import, those of them kept for having no other place, and how far a query came."""
    if mapping.database and not given:
        target = _place_for(workspace, log, "parquet")
        held = workspace.archive.snapshot().manifest.log(log).files
        since = held[max(held)].upto if held and mapping.database.growing else ""
        progress(f"{log}: asking the database")
        rows, upto = database.fetch(mapping.database, target, workspace.path, since)
        return ([target], [target], upto) if rows else ([], [], upto)
    paths, received = [], []
    for source in given:
        if isinstance(source, str | Path):
            paths += opening.members(Path(source), mapping.format)
            continue
        target = _place_for(workspace, log, "data")
        with target.open("wb") as out:
            shutil.copyfileobj(source, out)
        paths.append(target)
        received.append(target)
    paths = paths or files(workspace, log)
    for path in paths:
        if not opening.on_disk(path).is_file():
            raise RequestError(f"{path}: there is no such file")
    if not paths:
        raise RequestError(f"the log {log} matches no file; its patterns: {', '.join(mapping.files) or 'none given'}")
    return paths, received, ""


def _place_for(workspace: Base, log: str, ending: str) -> Path:
    """A new name under `received/` for what comes without a file of its own."""
    folder = workspace.path / "received" / log
    folder.mkdir(parents=True, exist_ok=True)
    stamp = f"{workspace.now().astimezone(UTC):%Y%m%dT%H%M%SZ}"
    names = (folder / f"{stamp}{f'-{n}' if n else ''}.{ending}" for n in itertools.count())
    return next(p for p in names if not p.exists())


def _discard(paths: Iterable[Path]) -> None:
    for path in paths:
        path.unlink(missing_ok=True)


def export_rejects(workspace: Base, log: str, target: Path) -> list[tuple[Path, int]]:
    """See `Upkeep.export_rejects`."""
    mapping, place = workspace.mapping(log), workspace.place()
    corrected, held = place.snapshot.manifest.log(log).corrected, place.snapshot.manifest.log(log).files
    if mapping.format not in delimited.TEXTS:
        raise RequestError(
            f"records of the format {mapping.format!r} are no text to be corrected; put them right in their source"
        )
    by_head: dict[tuple[str, ...], list[str]] = {}
    for reject in place.rejects(log):
        if str(held[reject["file_id"]].import_no) not in corrected:
            by_head.setdefault(_head(workspace, mapping, reject["file"]), []).append(reject["whole"] or "")
    if not by_head:
        raise RequestError(f"{log} has no rejects to mend")
    written = []
    for n, (head, texts) in enumerate(by_head.items(), 1):
        path = target if n == 1 else target.with_stem(f"{target.stem}-{n}")
        path.write_text("\n".join([*head, *texts]) + "\n", encoding=mapping.encoding, newline="\n")
        written.append((path, len(texts)))
    return written


def _head(workspace: Base, mapping: LogMap, file: str) -> tuple[str, ...]:
    """The lines above the records of a file: banner and header."""
    wanted = mapping.skip_lines + (mapping.header and mapping.format == "delimited")
    path = workspace.path / file
    if not wanted:
        return ()
    if not opening.on_disk(path).is_file():
        raise RequestError(f"{file} is gone; the rejected records cannot be written without its header")
    with (
        tempfile.TemporaryDirectory() as scratch,
        opening.unpacked(path, Path(scratch)) as plain,
        plain.open(encoding=mapping.encoding, errors="replace") as f,
    ):
        return tuple(f.readline().rstrip("\r\n") for _ in range(wanted))


def undo_import(workspace: Base, number: int, *, dry: bool, wait: float) -> Removal:
    """See `Upkeep.undo_import`."""
    removal = retention.undo_import(workspace.archive, number, naive(workspace.now()), dry=dry, wait=wait)
    if removal.done:
        tell("info", "taken back", log=removal.log, number=number, events=removal.events)
    return removal


def expire(workspace: Base, log: str, older_than: str, *, dry: bool, wait: float) -> Removal:
    """See `Upkeep.expire`."""
    if workspace.mapping(log).in_place:
        raise RequestError(f"the log {log} is read where it is; its records are dropped there")
    text = older_than or workspace.mapping(log).keep_for
    if not text:
        raise RequestError(f'say how long {log} is kept: --older-than "13 months", or keep_for in [logs.{log}]')
    before = naive(ago(text, workspace.now(), zone(workspace.stored_schemas[log].zone)))
    removal = retention.expire(workspace.archive, log, before, naive(workspace.now()), dry=dry, wait=wait)
    if removal.done:
        held = workspace.archive.snapshot().manifest.log(log).files.values()
        past = [f for f in held if f.expired == f.events and f.path.startswith(f"received/{log}/")]
        _discard(workspace.path / f.path for f in past)
    outputs = _kept_of(workspace, log, before.replace(tzinfo=UTC))
    if removal.done:
        tell("info", "expired", log=log, events=removal.events, outputs=len(outputs))
        workspace.shelf.drop(outputs, f"the events of {log} it tells of were dropped for their age", workspace.now())
    return dataclasses.replace(removal, outputs=len(outputs))


def _kept_of(workspace: Base, log: str, before: datetime) -> list[int]:
    """The numbers of kept items that tell of a log's events of periods that ended by then."""
    past = []
    for item in workspace.shelf.items():
        facts = workspace.shelf.facts(item)
        if log in facts["logs"] and facts["period"] and datetime.fromisoformat(facts["period"][1]) <= before:
            past.append(item.number)
    return past
