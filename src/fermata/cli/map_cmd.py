"""fermata map"""

from __future__ import annotations

from pathlib import Path

import click

from fermata.cli import common

__all__ = ["command"]


@click.command(name="map")
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--log", metavar="NAME", help="What the log is to be called; the file's name unless told.")
@click.option("--add", is_flag=True, help="Add the proposal to the workspace's fermata.toml.")
@click.pass_context
def command(ctx: click.Context, file: Path, log: str | None, add: bool) -> None:
    """Look at FILE and propose how its records become events, as TOML with comments.

    What could be read two ways is marked `unsure`; look at these lines before the first import.
    """
    from fermata.api.proposing import add_log, log_name, propose

    if add:
        name, doubts = add_log(common.open_workspace(ctx), file, log)
        common.note(f"added [logs.{name}] to fermata.toml; look it over, then: fermata import {name}")
    else:
        text, doubts = propose(file, log or log_name(file))
        click.echo(text, nl=False)
    for doubt in doubts:
        common.note(f"unsure: {doubt}")
