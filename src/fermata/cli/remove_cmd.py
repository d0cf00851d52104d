"""fermata take-back, fermata expire"""

from __future__ import annotations

from typing import Any

import click

from fermata.cli import common

__all__ = ["expire", "take_back"]


@click.command(name="take-back")
@click.argument("number", metavar="IMPORT", type=int)
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
@click.option("--wait", type=float, default=60, show_default=True, help="Seconds to wait for another import.")
@click.pass_context
def take_back(ctx: click.Context, number: int, dry_run: bool, wait: float) -> None:
    """Take an import out again, as if it had never been; `fermata import --list` has the numbers."""
    _told(common.open_workspace(ctx).take_back(number, dry=dry_run, wait=wait), f"import {number}")


@click.command(name="expire")
@click.argument("log")
@click.option("--older-than", default="", metavar="LENGTH", help='Such as "13 months"; else keep_for of the log.')
@click.option("--dry-run", is_flag=True, help="Only say what would go.")
@click.option("--wait", type=float, default=60, show_default=True, help="Seconds to wait for another import.")
@click.pass_context
def expire(ctx: click.Context, log: str, older_than: str, dry_run: bool, wait: float) -> None:
    """Drop the events of LOG that ended longer ago than it is kept, with their rejects and received copies."""
    _told(common.open_workspace(ctx).expire(log, older_than, dry=dry_run, wait=wait), "what is older")


def _told(removal: Any, what: str) -> None:
    verb = "taken out" if removal.done else "would be taken out"
    click.echo(f"{removal.log}: {removal.events:,} events and {removal.rejects:,} rejects {verb} ({what})")
    if removal.outputs:
        click.echo(f"    with them {removal.outputs:,} outputs on the shelf that tell of that time")
    for file in removal.files:
        click.echo(f"    file {file.id}  {file.path}  sha256 {file.sha256[:12]}")
    if not removal.done:
        common.note("nothing was changed")
