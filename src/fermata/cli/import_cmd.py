"""fermata import"""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from fermata.cli import common

__all__ = ["command"]

QUIET = 2.0  # seconds before progress is worth a line


@click.command(name="import")
@click.argument("log", required=False)
@click.argument("files", nargs=-1, type=click.Path(path_type=Path, allow_dash=True))
@click.option("--complete-to", metavar="TIME", help="Declare that the log holds everything up to this time.")
@click.option(
    "--complete",
    default="",
    metavar="PERIOD",
    help="The files hold every entry of this period; missing ones were deleted.",
)
@click.option("--corrected", is_flag=True, help="The files put right what was rejected so far.")
@click.option("--wait", type=float, default=60, show_default=True, help="Seconds to wait for another import.")
@click.option("--list", "listed", is_flag=True, help="List the imports made, oldest first.")
@click.pass_context
def command(
    ctx: click.Context,
    log: str | None,
    files: tuple[Path, ...],
    complete_to: str | None,
    complete: str,
    corrected: bool,
    wait: float,
    listed: bool,
) -> None:
    """Import FILES into LOG, or the files its patterns match; without LOG, those of every log.

    Files that were imported before change nothing. Every record read is accounted for. `-` is standard input; a log
    with a database is asked for what is new.

    \b
    fermata import
    zcat old.gz | fermata import doors -
    """
    workspace = common.open_workspace(ctx)
    if listed:
        _list(workspace.archive.imports(), workspace.config.workspace.zone)
        return
    if (complete_to or complete or corrected) and not log:
        raise click.UsageError("--complete-to, --complete and --corrected need the LOG they are about")
    if corrected and not files:
        raise click.UsageError("--corrected needs the FILES that put the rejects right")
    said = {
        "complete_to": common.read_now(complete_to, workspace.config.workspace.zone),
        "complete": complete,
        "corrected": corrected,
        "wait": wait,
        "progress": _Progress(),
    }
    sources = [sys.stdin.buffer if str(f) == "-" else f for f in files]
    if log:
        ctx.exit(0 if _one(workspace, log, sources, said) else 1)
    failed = [name for name in workspace.archive.logs if not _one_of_all(workspace, name, said)]
    if failed:
        common.note(f"not imported as a whole: {', '.join(failed)}; all other logs are")
        ctx.exit(1)


def _one_of_all(workspace: Any, name: str, said: dict[str, Any]) -> bool:
    """Imports what a log's patterns match; whether all went well. What goes wrong stops no other log."""
    from fermata.errors import ArchiveBusy, FermataError

    try:
        if not workspace.archive.mapping(name).database and not workspace.archive.files(name):
            common.note(
                f"{name}: no files match {', '.join(workspace.archive.mapping(name).files) or '(no patterns given)'}"
            )
            return True
        return _one(workspace, name, [], said)
    except ArchiveBusy:
        raise
    except FermataError as e:
        common.note(f"{name}: {e}")
        return False


def _one(workspace: Any, name: str, sources: list[Any], said: dict[str, Any]) -> bool:
    """Imports into one log and says what became of each file; whether all went well."""
    from fermata.errors import FilesFailed

    well = True
    try:
        outcomes = workspace.archive.import_log(name, sources, **said)
        if not outcomes:
            click.echo(f"{name}  nothing new")
    except FilesFailed as e:
        well, outcomes = False, e.done
        for problem in e.problems:
            common.note(f"{name}: not imported: {problem}")
    for outcome in outcomes:
        click.echo(f"{name}  {told(outcome)}")
    rejected = sum(o.file.rejected for o in outcomes if o.file)
    limit = workspace.archive.mapping(name).reject_limit
    if rejected:
        common.note(f"{name}: {rejected:,} rejected, listed by: fermata survey {name} --part rejects")
    if limit is not None and rejected > limit:
        common.note(f"{name}: more rejected records than its reject_limit of {limit:,}")
        return False
    return well


def told(outcome: Any) -> str:
    """What became of a file, in one line whose figures add up."""
    if outcome.unchanged:
        return f"{outcome.path}: already imported (import {outcome.unchanged.import_no}), nothing to do"
    f = outcome.file
    parts = [f"{f.stored:,} stored", *([f"{f.replaced:,} replaced"] if f.replaced else [])]
    parts += [f"{f.duplicate:,} duplicate", f"{f.rejected:,} rejected"]
    skipped = ", ".join(f"{n:,} {why}" for why, n in f.skipped.items())
    parts.append(f"{sum(f.skipped.values()):,} skipped" + (f" ({skipped})" if skipped else ""))
    text = f"{f.path}: {f.read:,} read = {' + '.join(parts)}; {f.events:,} events"
    if outcome.replaces:
        text += f"; replaces file {', '.join(map(str, outcome.replaces))}"
    if f.deleted:
        text += f"; {f.deleted:,} entries found deleted"
    if f.inferred:
        text += f"; {f.inferred}"
    if f.possible_repeats:
        text += f"; {f.possible_repeats:,} possible repeat{'s' * (f.possible_repeats != 1)} kept"
    if f.twice or f.never:
        text += f"; clock change: {f.twice:,} twice, {f.never:,} never"
    return text


class _Progress:
    """Progress on standard error: a line every few seconds, none for a quick import."""

    def __init__(self) -> None:
        self.said = time.monotonic()

    def __call__(self, text: str) -> None:
        if "another import" in text or time.monotonic() - self.said > QUIET:
            self.said = time.monotonic()
            click.echo(text, err=True)


def _list(entries: list[dict[str, Any]], zone: str) -> None:
    """The imports, with their times in the zone of the workspace."""
    from fermata.timeline.zones import local
    from fermata.timeline.zones import zone as known

    for e in entries:
        at = f"{local(datetime.fromisoformat(e['at']).replace(tzinfo=UTC), known(zone)):%Y-%m-%d %H:%M}"
        if what := e.get("what"):
            number = f" of import {e['taken_back']}" if "taken_back" in e else f" from before {e['before']}"
            click.echo(f"import {e['import']}  {at} {zone}  {e['log']}  {what}: {e['events']:,} events{number}")
            continue
        click.echo(f"import {e['import']}  {at} {zone}  {e['log']}  mapping {e['mapping']}")
        for f in e["files"]:
            newer = f"{f['replaced']:,} replaced, " if f["replaced"] else ""
            click.echo(
                f"    file {f['id']}  {f['path']}  {f['read']:,} read, {f['stored']:,} stored, "
                f"{newer}{f['duplicate']:,} duplicate, "
                f"{f['rejected']:,} rejected, {sum(f['skipped'].values()):,} skipped  sha256 {f['sha256'][:12]}"
            )
