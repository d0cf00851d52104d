"""fermata records"""

from __future__ import annotations

import sys
from typing import Any

import click

from fermata.cli import common, giving

__all__ = ["command"]


@click.command(name="records")
@click.argument("log")
@common.narrowing
@click.option("--limit", type=click.IntRange(min=1), metavar="N", help="List at most N events; the cut is stated.")
@giving.output
@click.option("--fields", metavar="FIELD,...", help="Only these fields, in this order (file and record too).")
@click.option("--sort", metavar="FIELD,...", help="Order by fields; -FIELD for downwards. Oldest first unless told.")
@click.option("--skip", type=click.IntRange(min=0), default=0, metavar="N", help="Pass over the first N.")
@click.option("--numbers", is_flag=True, help="With running numbers.")
@click.option("--totals", is_flag=True, help="With the totals of all amounts, those not listed too.")
@click.option(
    "--steps", is_flag=True, help="Of a log that puts records together: the records, each with the one it counts as."
)
@click.option("--show", metavar="FILE:NUMBER", help="The whole record behind an event, unmapped columns too.")
@click.pass_context
def command(ctx: click.Context, /, log: str, **options: Any) -> None:
    """List the events of LOG, oldest first, each with its file and record number.

    \b
    fermata records doors --period 2026-03-02 --only user=B-1042
    fermata records doors --show 3:1042
    fermata records doors --known 2026-03-01
    fermata records prints --sort -pages --limit 10 --fields start,user,title,pages,cost --numbers --totals
    """
    workspace = common.open_workspace(ctx)
    if options["show"]:
        for name, value in workspace.source_record(log, options["show"]).items():
            click.echo(f"{name:<20}{value}")
        return
    workspace.known(log)
    if options["steps"]:
        workspace = workspace.with_steps(log)
    from fermata.reports.listing import Layout
    from fermata.reports.model import Report

    report = common.narrowed(workspace, Report(log=log), options)
    limit = options["limit"]
    if limit is None and not options["output"] and sys.stdout.isatty():
        limit = 100
    names = {k: tuple(p.strip() for p in options[k].split(",")) if options[k] else () for k in ("fields", "sort")}
    layout = Layout(names["fields"], names["sort"], options["skip"], options["numbers"], options["totals"])
    giving.emit(workspace.listing(report, limit, layout), options["output"], limit)
