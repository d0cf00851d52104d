"""fermata archive undo-import, fermata archive expire"""

from __future__ import annotations

from typing import Any

import click

from fermata.cli import common
from fermata.errors import none_declared

__all__ = ["compact", "expire", "undo_import"]


@click.command(name="undo-import")
@click.argument("number", metavar="IMPORT", type=common.Whole(min=1))
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
@click.option(
    "--wait", type=common.Number(min=0), default=60, show_default=True, help="Seconds to wait for another import."
)
@click.pass_context
def undo_import(ctx: click.Context, number: int, dry_run: bool, wait: float) -> None:
    """Take an import out again, as if it had never been; `fermata import --list` has the numbers.

    \b
    fermata import --list
    fermata archive undo-import 7 --dry-run
    """
    _told(common.open_workspace(ctx).archive.undo_import(number, dry=dry_run, wait=wait), f"import {number}")


@click.command(name="expire")
@click.argument("log")
@click.option("--older-than", default="", metavar="LENGTH", help='Such as "13 months"; else keep_for of the log.')
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
@click.option(
    "--wait", type=common.Number(min=0), default=60, show_default=True, help="Seconds to wait for another import."
)
@click.pass_context
def expire(ctx: click.Context, log: str, older_than: str, dry_run: bool, wait: float) -> None:
    """Drop the events of LOG that ended longer ago than it is kept, with their rejects and received copies.

    \b
    fermata archive expire doors --older-than '13 months' --dry-run
    fermata archive expire doors --older-than '13 months'
    """
    _told(common.open_workspace(ctx).archive.expire(log, older_than, dry=dry_run, wait=wait), "what is older")


@click.command(name="compact")
@click.argument("logs", nargs=-1, metavar="[LOG]...")
@click.option(
    "--least", type=common.Whole(min=2), default=2, show_default=True, help="Only where a month has this many files."
)
@click.option("--dry-run", is_flag=True, help="Only say what would be put together.")
@click.option("--wait", type=common.Number(min=0), default=60, show_default=True, help="Seconds to wait for an import.")
@click.pass_context
def compact(ctx: click.Context, logs: tuple[str, ...], least: int, dry_run: bool, wait: float) -> None:
    """Put the files of each month of LOGs (of all) together, for a quiet hour. No figure changes; `fermata archive
    verify` proves it.

    \b
    fermata archive compact
    fermata archive compact doors calls
    """
    workspace = common.open_workspace(ctx)
    if not workspace.archive.logs:
        raise none_declared("log")
    for log in logs or tuple(workspace.archive.logs):
        found = workspace.archive.compact(log, least=least, dry=dry_run, wait=wait)
        if found.before:
            verb = "became" if found.done else "would become"
            click.echo(f"{log}: {found.before:,} files {verb} {found.after:,}, {found.events:,} events")
        else:
            click.echo(f"{log}: nothing to put together")


def _told(removal: Any, what: str) -> None:
    verb = "taken out" if removal.done else "would be taken out"
    click.echo(f"{removal.log}: {removal.events:,} events and {removal.rejects:,} rejects {verb} ({what})")
    if removal.outputs:
        click.echo(f"    with them {removal.outputs:,} outputs on the shelf that tell of that time")
    for file in removal.files:
        click.echo(f"    file {file.id}  {file.path}  sha256 {file.sha256[:12]}")
    if not removal.done:
        common.note("nothing was changed")
