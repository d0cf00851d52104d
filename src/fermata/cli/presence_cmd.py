"""fermata people inside, contacts and unusual"""

from __future__ import annotations

from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["contacts", "inside", "unusual"]

LIMIT = click.option("--limit", type=common.Whole(min=1), metavar="N", help="Show at most N rows; the cut is stated.")


@click.command(name="inside")
@click.argument("log")
@click.option("--at", metavar="TIME", help="At this time (2026-03-05T14:00, in the workspace's zone); now by default.")
@click.option("--opening", default="in", metavar="ACTION,...", show_default=True, help="Actions that are entries.")
@click.option("--closing", default="out", metavar="ACTION,...", show_default=True, help="Actions that are exits.")
@click.option(
    "--back", default="24 hours", metavar="LENGTH", show_default=True, help="How far back a last reading may lie."
)
@click.option("--only", multiple=True, metavar="FIELD=VALUE,...", help="Only these readings, as in fermata report.")
@emit.output
@LIMIT
@click.pass_context
def inside(ctx: click.Context, /, log: str, **options: Any) -> None:
    """Who is inside by the readings of LOG: whose last reading is an entry.

    \b
    fermata people inside doors
    fermata people inside doors --at 2026-03-05T14:00 --only place='Stage side'
    """
    workspace = common.open_workspace(ctx)
    at = common.read_now(options["at"], workspace.config.workspace.zone, "--at")
    names = {k: tuple(p.strip() for p in options[k].split(",")) for k in ("opening", "closing")}
    found = workspace.inside(log, at=at, back=options["back"], only=common.conditions(options["only"]), **names)
    emit.emit(found, options["output"], options["limit"])


@click.command(name="contacts")
@click.argument("log")
@click.argument("person")
@click.option(
    "--within", default="15 minutes", metavar="LENGTH", show_default=True, help="How far apart in time; 0 for at once."
)
@click.option(
    "--place", "at", default="place", metavar="FIELD", show_default=True, help="The field that must be the same."
)
@common.narrowing
@emit.output
@LIMIT
@click.pass_context
def contacts(ctx: click.Context, /, log: str, person: str, **options: Any) -> None:
    """Who was at the same place as PERSON within a time, by the events of LOG.

    \b
    fermata people contacts doors B-1008 --period 'last week' --within '5 minutes'
    fermata people contacts doors 'Ada Umberlin' --period 2026-03 --place device --within 0
    """
    from fermata.reports.definition.report import Report

    workspace = common.open_workspace(ctx)
    workspace.base.known(log)
    report = common.narrowed(workspace, Report(log=log), options)
    found = workspace.contacts(report, person, within=options["within"], at=options["at"])
    emit.emit(found, options["output"], options["limit"])


@click.command(name="unusual")
@click.argument("name")
@common.narrowing
@click.option("--by", metavar="DIM,...", help="Whose own history; user by default.")
@click.option("--measure", default="count", metavar="MEASURE", show_default=True, help="What is looked at.")
@click.option("--unit", default="day", metavar="UNIT", show_default=True, help="Per day, week or month.")
@click.option(
    "--history", type=common.Whole(min=2), default=28, metavar="N", show_default=True, help="Units of history needed."
)
@click.option(
    "--factor",
    type=common.Number(min=1),
    default=2.0,
    metavar="X",
    show_default=True,
    help="How many times the usual.",
)
@emit.output
@LIMIT
@click.pass_context
def unusual(ctx: click.Context, /, name: str, **options: Any) -> None:
    """What in NAME, a log or a report, is more than somebody's own usual, with the evidence: in the last month, or in
    another period, against all before it.

    \b
    fermata people unusual logins --only action=failed --period 2026-03
    fermata people unusual prints --measure 'total pages' --unit week --period 2026-03
    """
    workspace = common.open_workspace(ctx)
    asked = workspace.reports.definition(name)
    if asked.period == "all":  # before which there is nothing
        asked = asked.changed(period="last month")
    report = common.narrowed(workspace, asked, options)
    report = report.changed(columns=[options["measure"]], **({"by": options["by"]} if options["by"] else {}))
    found = workspace.unusual(report, **{k: options[k] for k in ("unit", "history", "factor")})
    emit.emit(found, options["output"], options["limit"])
