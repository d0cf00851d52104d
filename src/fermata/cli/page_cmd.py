"""fermata page"""

from __future__ import annotations

from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["command"]


@click.command(name="page")
@click.argument("name")
@click.argument("reports", nargs=-1)
@click.option("--title", metavar="TITLE", help="The page's title.")
@click.option("--period", metavar="PERIOD", help="One period for all parts.")
@click.option("--only", multiple=True, metavar="FIELD=VALUE,...", help="One filter for all parts.")
@click.option("--drop", multiple=True, metavar="PART", help="Take a part away, by report, title or number.")
@click.option("--layout", metavar="N,N,...", help="How many parts stand beside each other in each row: 2,1,3.")
@click.option("--replace", is_flag=True, help="Make the page anew instead of adding to it.")
@emit.output
@click.pass_context
def command(ctx: click.Context, /, name: str, reports: tuple[str, ...], **options: Any) -> None:
    """Make the page NAME of REPORTS, or add them to it, and show it. Parts stand in the order they are named.

    \b
    fermata page monthly-security refused-entries doors-forced failed-logins --period 'last month'
    fermata page monthly-security licences-refused --drop doors-forced
    """
    workspace = common.open_workspace(ctx)
    keys = {k: options[k] for k in ("title", "period") if options[k]}
    if options["only"]:
        keys["only"] = common.conditions(options["only"])
    if options["layout"]:
        keys["layout"] = [int(n) if n.strip().isdigit() else n for n in options["layout"].split(",")]
    emit.refuse_unused(options["output"])
    path, page = workspace.reports.page(name, *reports, drop=options["drop"], over=options["replace"], **keys)
    common.note(f"written: {path}; run it with: fermata report {name}\n")
    result = workspace.run(page)
    emit.emit(result.answer, options["output"], how=result.display)
