"""fermata survey"""

from __future__ import annotations

import dataclasses
from pathlib import Path

import click

from fermata.cli import common, emit

__all__ = ["command"]

AT_ONCE = 12  # rows of a part that the whole survey shows
PARTS = ("overview", "fields", "gaps", "imports", "values", "unresolved", "rejects")
LOG = common.beside("LOG")
WHOLE = ("fields", "gaps", "values", "unresolved")


@click.command(name="survey")
@click.argument("log", required=False)
@LOG("--part", type=click.Choice(PARTS), help="only this part, with all its rows.")
@LOG("--period", default="all", metavar="PERIOD", help="look at fields and names of this period only.")
@emit.output
@LOG(
    "--export",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="write the rejected records as they stand, to be corrected.",
)
@click.pass_context
def command(
    ctx: click.Context, log: str | None, part: str | None, period: str, output: tuple[str, ...], export: Path | None
) -> None:
    """Say whether LOG can be trusted: time covered, gaps, fields, unknown values and names, rejects.

    Without LOG, one line for each log.

    \b
    fermata survey doors
    fermata survey doors --part unresolved --output csv
    fermata survey doors --export mend.csv
    fermata import doors --corrected mend.csv
    """
    common.alone(ctx, "export", but=("log",))
    workspace = common.open_workspace(ctx)
    if log is None:
        emit.emit(workspace.archive.survey_all(), output)
        return
    if export:
        for path, count in workspace.archive.export_rejects(log, export):
            common.note(f"written: {path}, {count:,} records; once corrected: fermata import {log} --corrected {path}")
        return
    found = workspace.archive.survey(log, period=period)
    if part == "overview" and not output:
        emit.pairs(found.part(part))
    elif part:
        emit.emit(found.part(part), output)
    elif output:
        emit.emit(found.page, output)
    else:
        emit.pairs(found.part("overview"))
        for name in WHOLE:
            rows = found.part(name).rows
            most = AT_ONCE if name != "fields" else len(rows)
            if rows:
                click.echo()
                emit.emit(dataclasses.replace(found.part(name), rows=rows[:most], total=len(rows[:most])), ())
            if len(rows) > most:
                click.echo(f"... {len(rows) - most:,} more: fermata survey {log} --part {name}")
