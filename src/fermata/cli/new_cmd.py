"""fermata new"""

from __future__ import annotations

from pathlib import Path

import click

from fermata.cli import common

__all__ = ["command"]


@click.command(name="new")
@click.argument("directory", type=click.Path(path_type=Path))
@click.option("--zone", default="UTC", show_default=True, help="The workspace's time zone.")
@click.option("--name", help="What the workspace is called; the directory's name by default.")
def command(directory: Path, zone: str, name: str | None) -> None:
    """Make an empty workspace in DIRECTORY, with a commented fermata.toml to fill in.

    \b
    fermata new hall --zone Europe/Lisbon
    """
    from fermata.config.starter import make

    path = make(directory, zone, name or directory.resolve().name)
    common.note(f"made {path} (its zone: {zone}); next, with a file of yours: fermata -w {directory} map FILE --add")
