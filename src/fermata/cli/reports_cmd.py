"""fermata reports"""

from __future__ import annotations

import click

from fermata.cli import common

__all__ = ["command"]


@click.command(name="reports")
@click.argument("name", required=False)
@click.pass_context
def command(ctx: click.Context, name: str | None) -> None:
    """List the reports of the workspace, or print the definition of NAME."""
    workspace = common.open_workspace(ctx)
    if name:
        workspace.definition(name)
        path = workspace.reports_path / f"{name}.toml"
        click.echo(
            path.read_text(encoding="utf-8") if path.exists() else f'log = "{name}"   # a log: its events counted\n',
            nl=False,
        )
        return
    names = workspace.reports()
    width = max((len(n) for n in names), default=0)
    for report in names:
        definition = workspace.definition(report)
        click.echo(f"{report:<{width}}  {definition.title or definition.log}")
    if not names:
        common.note(
            f"no reports in {workspace.reports_path}; ask a log directly: fermata report {next(iter(workspace.config.logs), 'LOG')}"
        )
