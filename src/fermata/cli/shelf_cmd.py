"""fermata shelf, fermata archive verify"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from fermata.cli import common, emit
from fermata.errors import counted

__all__ = ["command", "verify"]


@click.group(cls=common.Group, name="shelf", invoke_without_command=True)
@click.option("--gone", is_flag=True, help="List what was dropped or has expired, too.")
@emit.output
@click.option("--limit", type=common.Whole(min=1), metavar="N", help="Show at most N; the cut is stated.")
@click.pass_context
def command(ctx: click.Context, gone: bool, output: tuple[str, ...], limit: int | None) -> None:
    """Finished outputs with what proves them. Without a subcommand: list them, the latest first.

    Deliveries put their outputs here; `fermata report NAME --keep` does by hand.
    """
    if ctx.invoked_subcommand and (own := next(iter(common.given(ctx).values()), "")):
        raise click.UsageError(f"{own} is of the list alone; it has no effect with {ctx.invoked_subcommand}")
    if ctx.invoked_subcommand is None:
        emit.emit(common.open_workspace(ctx).shelf.table(gone=gone), output, limit)


@command.command(name="show")
@click.argument("item", type=common.Whole(min=1))
@click.pass_context
def show(ctx: click.Context, item: int) -> None:
    """Where the files of ITEM are, what it was made of, and what was done with it.

    \b
    fermata shelf
    fermata shelf show 3
    """
    workspace = common.open_workspace(ctx)
    found = workspace.shelf.item(item, gone=True)
    click.echo(f"Item {found.number}: {found.title}{f', {found.part}' if found.part else ''}")
    if found.gone:
        click.echo(f"Gone        {found.gone}")
        return
    for what, words in workspace.shelf.facts(item):
        click.echo(f"{what:<12}{words}")


@command.command(name="label")
@click.argument("item", type=common.Whole(min=1))
@click.argument("text")
@click.pass_context
def label(ctx: click.Context, item: int, text: str) -> None:
    """Give ITEM a label; an empty one takes it off.

    \b
    fermata shelf label 3 signed
    fermata shelf label 3 ''
    """
    workspace = common.open_workspace(ctx)
    workspace.shelf.label(item, text)
    common.note(f"item {item}: {text or 'no label'}")


@command.command(name="copy")
@click.argument("item", type=common.Whole(min=1))
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
@click.option("--name", default="", metavar="NAME", help="Under this name, each with its ending.")
@click.pass_context
def copy(ctx: click.Context, item: int, folder: Path, name: str) -> None:
    """Copy the files of ITEM into FOLDER, where it is wanted.

    \b
    fermata shelf copy 3 /srv/reports
    fermata shelf copy 3 /srv/reports --name payroll-march
    """
    workspace = common.open_workspace(ctx)
    for path in workspace.shelf.place(item, folder, name=name):
        common.note(f"written: {path}")


@command.command(name="publish")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
@click.option("--delivery", default="", metavar="NAME", help="Only what this delivery made.")
@click.pass_context
def publish(ctx: click.Context, folder: Path, delivery: str) -> None:
    """Put what is on the shelf into FOLDER, with a page that leads to it; for a share or any web server.

    Nothing that was made for one recipient or viewer. What the shelf keeps no longer is removed from there.

    \b
    fermata shelf publish /srv/reports
    fermata shelf publish /srv/reports --delivery payroll
    """
    names = common.open_workspace(ctx).shelf.publish(folder, delivery=delivery)
    common.note(f"written: {folder / 'index.html'}, {counted(len(names), 'new file')}")


@command.command(name="send")
@click.argument("item", type=common.Whole(min=1))
@click.option("--mail", multiple=True, metavar="ADDRESS", help="To whom; several.")
@click.option("--subject", default="", metavar="TEXT", help="A subject of its own.")
@click.pass_context
def send(ctx: click.Context, item: int, mail: tuple[str, ...], subject: str) -> None:
    """Send ITEM once more, to anybody.

    \b
    fermata shelf send 3 --mail auditor@example.org
    fermata shelf send 3 --mail auditor@example.org --subject 'March, as asked'
    """
    if not mail:
        raise click.UsageError("say to whom: --mail name@example.org")
    told = common.open_workspace(ctx).shelf.send_again(item, mail=list(mail), subject=subject)
    for one in told:
        click.echo(f"{one.what:<12}to {one.to}  {one.why}", err=one.failed)
    if any(one.failed for one in told):
        ctx.exit(1)


@command.command(name="drop")
@click.argument("items", type=common.Whole(min=1), nargs=-1, required=True)
@click.option("--why", default="by hand", metavar="TEXT", help="What is recorded as the reason.")
@click.pass_context
def drop(ctx: click.Context, items: tuple[int, ...], why: str) -> None:
    """Take ITEMS off the shelf with their files; that they were there stays recorded.

    \b
    fermata shelf drop 3
    fermata shelf drop 3 4 --why 'sent by mistake'
    """
    workspace = common.open_workspace(ctx)
    for found in workspace.shelf.drop(items, why):
        common.note(f"dropped: item {found.number}, {found.title}")


@command.command(name="expire")
@click.pass_context
def expire(ctx: click.Context) -> None:
    """Delete expired outputs that no delivery still needs; `fermata send` does so each time.

    \b
    fermata shelf expire
    fermata shelf --gone
    """
    from fermata.timeline.zones import local, zone

    workspace = common.open_workspace(ctx)
    found, here = workspace.shelf.expire(), zone(workspace.config.workspace.zone)
    for item, until in ((i, local(i.until, here)) for i in found if i.until):
        common.note(f"dropped: item {item.number}, {item.title}, kept until {until:%Y-%m-%d}")
    if not found:
        common.note("nothing is due to go")


@click.command(name="verify")
@click.argument("item", type=common.Whole(min=1), required=False)
@emit.output
@click.pass_context
def verify(ctx: click.Context, item: int | None, output: tuple[str, ...]) -> None:
    """Prove what is kept: the archive, the ledger and the shelf as they were stored, and every kept run, or that of
    ITEM, repeated.

    Same figures, or what changed since: late records, an import taken back, a register, a definition, zone data,
    versions. Exit code 1 where something was changed behind Fermata's back, or figures are no longer the same.

    \b
    fermata archive verify
    fermata archive verify 3
    """
    workspace = common.open_workspace(ctx)
    verdicts: list[Any] = workspace.shelf.verify(item)
    emit.emit(workspace.shelf.verdicts(verdicts), output)
    if not all(v.holds for v in verdicts):
        ctx.exit(1)
