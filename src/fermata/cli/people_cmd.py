"""fermata register find, fermata register list"""

from __future__ import annotations

from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["find", "register"]

NAME = common.beside("NAME")


@click.command(name="find")
@click.argument("text")
@emit.output
@click.pass_context
def find(ctx: click.Context, text: str, output: tuple[str, ...]) -> None:
    """Find people, devices, places and projects by part of any of their names.

    Candidates come with what tells them apart and when they were last seen; nothing is merged.

    \b
    fermata register find umber
    fermata register find B-1050
    """
    workspace = common.open_workspace(ctx)
    found = workspace.registers.found(text)
    emit.emit(found, output)
    if not found.rows:
        common.note(f"no person, device or place has {text!r} in a name")
        ctx.exit(1)


@click.command(name="list")
@click.argument("name", required=False)
@NAME("--as-of", metavar="DATE", help="the day whose rows to list; today unless given.")
@NAME("--only", multiple=True, metavar="FIELD=VALUE", help="keep only rows with this value.")
@NAME("--without", multiple=True, metavar="FIELD=VALUE", help="leave out rows with this value.")
@emit.output
@click.pass_context
def register(
    ctx: click.Context, /, name: str | None, as_of: str | None, output: tuple[str, ...], **chosen: Any
) -> None:
    """List a register (people, devices, projects, assignments) as of a day; without NAME, the registers there are.

    \b
    fermata register list people
    fermata register list people --only department=stage
    """
    workspace = common.open_workspace(ctx)
    if name is None:
        emit.emit(workspace.registers.overview(), output)
        return
    day = common.day(as_of, "--as-of") if as_of else None
    narrowing = {k: common.conditions(v) for k, v in chosen.items() if v}
    emit.emit(workspace.registers.table(name, as_of=day, **narrowing), output)
