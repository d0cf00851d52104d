"""fermata kinds"""

from __future__ import annotations

import json

import click

__all__ = ["command"]


@click.command(name="kinds")
@click.argument("name", required=False)
@click.option("--output", type=click.Choice(["txt", "json"]), default="txt", help="The form.")
def command(name: str | None, output: str) -> None:
    """List the kinds of log, or of one kind the fields and the values of action and outcome that reports expect."""
    from fermata.errors import UnknownName
    from fermata.kinds import KINDS

    if name is not None and name not in KINDS:
        raise UnknownName.of("kind of log", name, KINDS)
    chosen = {name: KINDS[name]} if name else KINDS
    if output == "json":
        click.echo(json.dumps({n: vars(k) for n, k in chosen.items()}, ensure_ascii=False, indent=1))
        return
    for one, kind in chosen.items():
        click.echo(f"{one:<20}{kind.about}")
        if name:
            parts = (
                ("Fields", kind.fields), ("Actions", kind.actions), ("Outcomes", kind.outcomes),
                ("Fields that single ready reports ask for", kind.further),
            )  # fmt: skip
            for title, words in parts:
                if words:
                    click.echo(f"\n{title}")
                    for word, meaning in words.items():
                        click.echo(f"  {word:<18}{meaning}")
            if kind.cannot:
                click.echo(f"\nCannot appear\n  {kind.cannot}")
