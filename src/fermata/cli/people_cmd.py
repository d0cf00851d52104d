"""fermata register find, fermata register list"""

from __future__ import annotations

from datetime import date
from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["find", "register"]


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
@click.option("--as-of", metavar="DATE", help="The day whose rows to list; today unless given.")
@click.option("--only", multiple=True, metavar="FIELD=VALUE", help="Keep only rows with this value.")
@click.option("--without", multiple=True, metavar="FIELD=VALUE", help="Leave out rows with this value.")
@emit.output
@click.pass_context
def register(
    ctx: click.Context, /, name: str | None, as_of: str | None, output: tuple[str, ...], **chosen: Any
) -> None:
    """List a register (people, devices, projects, assignments) as of a day; without NAME, the registers there are.

    \b
    fermata register list people
    fermata register list people --only 'department=Stage'
    """
    from fermata.errors import RequestError

    workspace = common.open_workspace(ctx)
    if name is None:
        emit.emit(workspace.registers.overview(), output)
        return
    try:
        day = date.fromisoformat(as_of) if as_of else None
    except ValueError:
        raise RequestError(f"--as-of {as_of!r} is no date; write 2026-03-01") from None
    narrowing = {k: common.conditions(v) for k, v in chosen.items() if v}
    emit.emit(workspace.registers.table(name, as_of=day, **narrowing), output)
