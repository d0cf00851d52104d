"""Writes docs/commands.md from the commands themselves; `--check` only says whether it is current."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from fermata.cli.main import COMMANDS, cli

PAGE = Path(__file__).parent / "commands.md"


def page() -> str:
    """The command reference as Markdown."""
    context = click.Context(cli, info_name="fermata")
    parts = ["# Commands", "", "Made from the code by `make docs`.", "", "```", cli.get_help(context), "```", ""]
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command
        sub = click.Context(command, info_name=name, parent=context, max_content_width=100)
        parts += [f"## fermata {name}", "", "```", command.get_help(sub), "```", ""]
    return "\n".join(parts)


if __name__ == "__main__":
    text = page()
    if "--check" in sys.argv:
        if not PAGE.exists() or PAGE.read_text() != text:
            sys.exit(f"{PAGE.name} is not what the code says; run: make docs")
    else:
        PAGE.write_text(text)
