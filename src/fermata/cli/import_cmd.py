"""fermata import"""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Self

import click

from fermata.cli import common
from fermata.errors import counted, none_declared

__all__ = ["command"]

LOG = common.beside("LOG")
QUIET = 2.0  # seconds before progress is worth a line


@click.command(name="import")
@click.argument("log", required=False)
@click.argument("files", nargs=-1, type=click.Path(path_type=Path, allow_dash=True))
@LOG("--complete-to", metavar="TIME", help="declare that the log holds everything up to this time.")
@LOG(
    "--complete",
    default="",
    metavar="PERIOD",
    help="the files hold every entry of this period; missing ones were deleted.",
)
@common.beside("FILES")("--corrected", is_flag=True, help="the files put right what was rejected so far.")
@click.option(
    "--wait", type=common.Number(min=0), default=60, show_default=True, help="Seconds to wait for another import."
)
@click.option("--files", "by_file", is_flag=True, help="A line for each file also where all logs are imported.")
@click.option("--list", "listed", is_flag=True, help="List the imports made, those of LOG or all, oldest first.")
@click.pass_context
def command(
    ctx: click.Context,
    log: str | None,
    files: tuple[Path, ...],
    complete_to: str | None,
    complete: str,
    corrected: bool,
    wait: float,
    by_file: bool,
    listed: bool,
) -> None:
    """Import FILES into LOG, or the files its patterns match; without LOG, those of every log.

    Files that were imported before change nothing. Every record read is accounted for. `-` is standard input; a log
    with a database is asked for what is new.

    \b
    fermata import
    fermata import doors incoming/doors-2026-03.csv
    """
    common.alone(ctx, "listed", but=("log",))
    workspace = common.open_workspace(ctx)
    if listed:
        wanted = {log, *workspace.base.known(log).stored_logs} if log else None
        entries = [e for e in workspace.archive.imports() if wanted is None or e["log"] in wanted]
        _list(entries, workspace.config.workspace.zone)
        return
    if log and log not in workspace.archive.logs and Path(log).is_file():
        fits = [n for n, m in workspace.config.logs.items() if any(Path(log).match(p) for p in m.files)]
        new = "" if fits else f"; of a new log: fermata map {log} --add"
        raise click.UsageError(f"{log} is a file; name its log first: fermata import {(fits or ['LOG'])[0]} {log}{new}")
    if not workspace.archive.logs:
        raise none_declared("log")
    said: dict[str, Any] = {
        "complete_to": common.read_now(complete_to, workspace.config.workspace.zone),
        "complete": complete,
        "corrected": corrected,
        "wait": wait,
    }
    sources = [sys.stdin.buffer if str(f) == "-" else f for f in files]
    with _Progress() as progress:
        said["progress"] = progress
        if log:
            ctx.exit(0 if _one(workspace, log, sources, said, _Lines(progress)) else 1)
        shown = _Lines(progress) if by_file else _Table(progress, workspace.archive.logs)
        failed = [name for name in workspace.archive.logs if not _one_of_all(workspace, name, said, shown)]
        shown.end()
    if failed:
        others = "; all other logs are" if len(failed) < len(workspace.archive.logs) else ""
        common.note(f"not imported as a whole: {', '.join(failed)}{others}")
        ctx.exit(1)


class _Lines:
    """What became of each file, a line each."""

    def __init__(self, progress: _Progress) -> None:
        self.progress = progress

    def show(self, name: str, outcomes: list[Any]) -> None:
        """The lines of a log."""
        self.progress.clear()
        for outcome in outcomes:
            click.echo(f"{name}  {told(outcome)}")
        if not outcomes:
            click.echo(f"{name}  nothing new")

    def end(self) -> None:
        """Nothing is left to say."""


class _Table:
    """What became of each log, a row each under one heading, and the total; only what is not zero."""

    def __init__(self, progress: _Progress, names: list[str]) -> None:
        self.progress = progress
        self.width = max((len(n) for n in names), default=0)
        self.begun = self.rejected = False
        self.sums = [0, 0, 0]

    def show(self, name: str, outcomes: list[Any]) -> None:
        """The row of a log."""
        files = [o.file for o in outcomes if o.file]
        figures = [len(files), sum(f.read for f in files), sum(f.stored for f in files)]
        self.sums = [a + b for a, b in zip(self.sums, figures, strict=True)]
        self.rejected = self.rejected or any(f.rejected for f in files)
        known = sum(o.unchanged is not None for o in outcomes)
        rest = [counted(known, "known file")] if known else []
        self.row(name, figures, [*rest, *_apart(files)] if outcomes else ["nothing new"])

    def row(self, name: str, figures: list[int], rest: list[str]) -> None:
        """A row, below the heading."""
        self.progress.clear()
        if not self.begun:
            self.begun = True
            click.secho(f"{'Log':<{self.width}}  {'Files':>5}  {'Records':>9}  {'Stored':>9}", bold=sys.stdout.isatty())
        files, read, stored = figures
        line = f"{name:<{self.width}}  {files:>5,}  {read:>9,}  {stored:>9,}  {', '.join(rest)}"
        click.echo(line.rstrip())

    def end(self) -> None:
        """The total, and where rejects are listed."""
        if self.begun:
            self.row("All", self.sums, [])
        if self.rejected:
            common.note("rejected records, with their reasons: fermata survey LOG --part rejects")


def _apart(files: list[Any]) -> list[str]:
    """What of some files was not simply stored, in words."""
    skipped: dict[str, int] = {}
    for f in files:
        for why, n in f.skipped.items():
            skipped[why] = skipped.get(why, 0) + n
    counts = (
        ("replaced", sum(f.replaced for f in files)), ("duplicate", sum(f.duplicate for f in files)),
        ("rejected", sum(f.rejected for f in files)), ("deleted", sum(f.deleted for f in files)),
        ("possible repeats kept", sum(f.possible_repeats for f in files)),
        ("at a clock change", sum(f.twice + f.never for f in files)),
    )  # fmt: skip
    told = [*(f"{n:,} {what}" for what, n in counts if n), *(f"{n:,} {why}" for why, n in skipped.items())]
    return [*told, *dict.fromkeys(f.inferred for f in files if f.inferred)]


def _one_of_all(workspace: Any, name: str, said: dict[str, Any], shown: _Lines | _Table) -> bool:
    """Imports what a log's patterns match; whether all went well. What goes wrong stops no other log."""
    from fermata.errors import ArchiveBusy, FermataError

    try:
        if not workspace.archive.mapping(name).database and not workspace.archive.files(name):
            common.note(
                f"{name}: no files match {', '.join(workspace.archive.mapping(name).files) or '(no patterns given)'}"
            )
            return True
        return _one(workspace, name, [], said, shown)
    except ArchiveBusy:
        raise
    except FermataError as e:
        common.note(f"{name}: {e}")
        return False


def _one(workspace: Any, name: str, sources: list[Any], said: dict[str, Any], shown: _Lines | _Table) -> bool:
    """Imports into one log and says what became of each file; whether all went well."""
    from fermata.errors import FilesFailed

    well = True
    try:
        outcomes = workspace.archive.import_log(name, sources, **said)
    except FilesFailed as e:
        well, outcomes = False, e.done
        for problem in e.problems:
            common.note(f"{name}: not imported: {problem}")
    if outcomes or well:
        shown.show(name, outcomes)
    rejected = sum(o.file.rejected for o in outcomes if o.file)
    limit = workspace.archive.mapping(name).reject_limit
    if rejected and isinstance(shown, _Lines):
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
    parts += [f"{n:,} {what}" for what, n in (("duplicate", f.duplicate), ("rejected", f.rejected)) if n]
    skipped = ", ".join(f"{n:,} {why}" for why, n in f.skipped.items())
    parts += [f"{sum(f.skipped.values()):,} skipped ({skipped})"] if skipped else []
    text = f"{f.path}: {f.read:,} read = {' + '.join(parts)}"
    text += f"; {f.events:,} events" if f.events != f.stored else ""
    if outcome.replaces:
        text += f"; replaces file {', '.join(map(str, outcome.replaces))}"
    if f.deleted:
        text += f"; {f.deleted:,} entries found deleted"
    if f.inferred:
        text += f"; {f.inferred}"
    if f.possible_repeats:
        text += f"; {counted(f.possible_repeats, 'possible repeat')} kept"
    if f.twice or f.never:
        text += f"; clock change: {f.twice:,} twice, {f.never:,} never"
    return text


class _Progress:
    """Progress on standard error: on a terminal a line that moves, elsewhere a line every few seconds, none for a quick
    import.
    """

    def __init__(self) -> None:
        self.said = time.monotonic()
        self.status: Any = None

    def __enter__(self) -> Self:
        if sys.stderr.isatty():
            from rich.console import Console

            self.status = Console(stderr=True).status("importing ...")
        return self

    def __exit__(self, *_: object) -> None:
        self.clear()

    def clear(self) -> None:
        """Takes the moving line away, for something to be printed in its place."""
        if self.status:
            self.status.stop()

    def __call__(self, text: str) -> None:
        if self.status:
            self.status.update(text)
            self.status.start()
        elif "another import" in text or time.monotonic() - self.said > QUIET:
            self.said = time.monotonic()
            click.echo(text, err=True)


def _list(entries: list[dict[str, Any]], zone: str) -> None:
    """The imports, with their times in the zone of the workspace."""
    from fermata.timeline.zones import local
    from fermata.timeline.zones import zone as known

    if not entries:
        common.note("nothing was imported yet")
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
