"""fermata events"""

from __future__ import annotations

import sys
from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["command"]


@click.command(name="events")
@click.argument("log")
@common.narrowing
@click.option("--limit", type=common.Whole(min=1), metavar="N", help="List at most N events; the cut is stated.")
@emit.output
@click.option("--fields", metavar="FIELD,...", help="Only these fields, in this order (file and record too).")
@click.option("--sort", metavar="FIELD,...", help="Order by fields; -FIELD for downwards. Oldest first by default.")
@click.option("--skip", type=common.Whole(0, 10**12), default=0, metavar="N", help="Pass over the first N.")
@click.option("--numbers", is_flag=True, help="With running numbers.")
@click.option("--overlapping", is_flag=True, help="Also what began before the period and lasts into it.")
@click.option("--totals", is_flag=True, help="With the totals of all amounts, those not listed too.")
@click.option(
    "--steps", is_flag=True, help="Of a log that puts records together: the records, each with the one it counts as."
)
@click.option("--show", metavar="FILE:NUMBER", help="The whole record behind an event, unmapped columns too.")
@click.pass_context
def command(ctx: click.Context, /, log: str, **options: Any) -> None:
    """List the events of LOG, oldest first, each with its file and record number.

    \b
    fermata events doors --period 2026-03-02 --only user=B-1330
    fermata events doors --show 3:1042
    fermata events doors --as-known 2026-03-01
    fermata events prints --sort -pages --limit 10 --fields start,user,title,pages,cost --numbers --totals
    """
    common.alone(ctx, "show", but=("log",))
    workspace = common.open_workspace(ctx)
    if options["show"]:
        for name, value in workspace.archive.source_record(log, options["show"]).items():
            click.echo(f"{name:<20}{value}")
        return
    workspace.base.known(log)
    if options["steps"]:
        workspace = workspace.with_steps(log)
    from fermata.reports.definition.report import Report

    report = common.narrowed(workspace, Report(log=log), options)
    limit = options["limit"]
    if limit is None and not options["output"] and sys.stdout.isatty():
        limit = 100
    layout = {k: options[k] for k in ("fields", "sort", "numbers", "totals", "overlapping") if options[k]}
    found = workspace.listing(report, limit, skip=options["skip"], **layout)
    emit.emit(found, options["output"], limit)
