"""fermata records"""

from __future__ import annotations

import csv
import json
import sys
from typing import Any

import click

from fermata.cli import common

__all__ = ["command"]


@click.command(name="records")
@click.argument("log")
@common.narrowing
@click.option("--limit", type=click.IntRange(min=1), metavar="N", help="List at most N events; the cut is stated.")
@click.option("--output", metavar="FORM|FILE", help="txt, csv, tsv or json, or a file with such an ending.")
@click.option("--rejects", is_flag=True, help="List the records no import could use, with the reason.")
@click.option("--show", metavar="FILE:NUMBER", help="The whole record behind an event, unmapped columns too.")
@click.pass_context
def command(ctx: click.Context, /, log: str, **options: Any) -> None:
    """List the events of LOG, oldest first, each with its file and record number.

    \b
    fermata records doors --period 2026-03-02 --only user=B-1042
    fermata records doors --show 3:1042
    fermata records doors --rejects --output csv
    """
    workspace = common.open_workspace(ctx)
    if options["show"]:
        for name, value in workspace.source_record(log, options["show"]).items():
            click.echo(f"{name:<20}{value}")
        return
    if options["rejects"]:
        _rejects(workspace.rejects(log), options["output"])
        return
    workspace.mapping(log)
    from fermata.reports.model import Report

    report = common.narrowed(workspace, Report(log=log), options)
    limit = options["limit"]
    if limit is None and options["output"] is None and sys.stdout.isatty():
        limit = 100
    common.emit(workspace.listing(report, limit), options["output"], limit)


def _rejects(rows: list[dict[str, Any]], output: str | None) -> None:
    from fermata.outputs.formats import clean

    if output == "json":
        click.echo(json.dumps(rows, ensure_ascii=False, indent=1))
    elif output == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(["file", "record", "line", "reason", "text"])
        writer.writerows([r["file"], r["record_no"], r["line"] or "", r["reason"], r["whole"] or ""] for r in rows)
    elif output:
        raise click.UsageError("--rejects are listed as csv or json, or as text")
    else:
        for r in rows:
            line = f", line {r['line']:,}" if r["line"] else ""
            click.echo(clean(f"{r['file']}, record {r['record_no']:,}{line}: {r['reason']}"))
            if r["whole"]:
                click.echo(f"    {clean(r['whole'][:200])}")
        click.echo(f"{len(rows):,} rejected", err=True)
