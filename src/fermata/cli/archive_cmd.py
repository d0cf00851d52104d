"""fermata archive check, fermata archive sql"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import IO, TYPE_CHECKING

import click

from fermata.cli import common
from fermata.errors import counted, none_declared

if TYPE_CHECKING:
    import pyarrow

__all__ = ["check", "sql"]

FORMS = ("txt", "csv", "json", "parquet")


@click.command(name="check")
@click.pass_context
def check(ctx: click.Context) -> None:
    """Read all files of the workspace and list every problem: fermata.toml, registers, viewers, reports, deliveries.

    \b
    fermata archive check
    fermata -w /srv/hall archive check
    """
    workspace = common.open_workspace(ctx)
    found = [(p.file, p.words) for p in workspace.archive.check()]
    for row in workspace.deliveries.table().rows:
        if isinstance(row[-1], str) and len(row) > 7 and row[-1]:
            found.append((f"deliveries/{row[0]}.toml", row[-1]))
    for file, words in found:
        click.echo(f"{file}: {words}")
    if found:
        common.note(counted(len(found), "problem"))
        ctx.exit(1)
    logs, registers = len(workspace.archive.logs), len(workspace.config.registers)
    reports, deliveries = len(workspace.reports.names()), len(workspace.deliveries.table().rows)
    common.note(
        f"no problem was found; looked at: {counted(logs, 'log')}, {counted(registers, 'register')}, "
        f"{counted(len(workspace.config.viewers), 'viewer')}, {counted(reports, 'report')}, "
        f"{counted(deliveries, 'delivery')}"
    )


@click.command(name="sql")
@click.argument("query", required=False)
@common.beside("QUERY")(
    "--output",
    default="txt",
    metavar="FORM|FILE",
    help="the form of its answer: txt, csv, json (a line a row) or parquet; or a file, its form by its ending.",
)
@click.pass_context
def sql(ctx: click.Context, query: str | None, output: str) -> None:
    """Ask one SELECT of the logs, derived logs and registers; without QUERY, list them with their columns.

    \b
    fermata archive sql
    fermata archive sql "SELECT place, count(*) FROM doors WHERE action = 'refused' GROUP BY place"
    """
    workspace = common.open_workspace(ctx)
    if query is None:
        if not workspace.archive.tables():
            raise none_declared("log")
        for name, columns in workspace.archive.tables().items():
            click.echo(f"{name}: {', '.join(columns)}")
        return
    form = output if output in FORMS else Path(output).suffix.removeprefix(".").lower()
    if form not in FORMS:
        raise click.UsageError(
            f"--output {output} names no form; there are {', '.join(FORMS)}, or a file ending in one"
        )
    table = workspace.archive.sql(query)
    if output in FORMS:
        _write(table, form, sys.stdout.buffer)
        return
    from fermata import outputs

    with outputs.whole(Path(output)) as out:
        _write(table, form, out)
    common.note(f"written: {output}")


def _write(table: pyarrow.Table, form: str, out: IO[bytes]) -> None:
    """The rows in a form."""
    if form == "csv":
        import pyarrow.csv

        pyarrow.csv.write_csv(_texts(table), out)
    elif form == "parquet":
        import pyarrow.parquet

        pyarrow.parquet.write_table(table, out)
    elif form == "json":
        import json

        for row in table.to_pylist():
            out.write(f"{json.dumps(row, ensure_ascii=False, default=str)}\n".encode())
    else:
        out.writelines(f"{line}\n".encode() for line in _lines(table))


def _texts(table: pyarrow.Table) -> pyarrow.Table:
    """The table with every column as text that CSV has no type for."""
    import pyarrow as pa

    columns = [
        pa.array([None if v is None else str(v) for v in c.to_pylist()], pa.string())
        if pa.types.is_nested(c.type) or pa.types.is_interval(c.type) or pa.types.is_duration(c.type)
        else c
        for c in table.columns
    ]
    return pa.table(columns, names=table.column_names)


def _lines(table: pyarrow.Table) -> Iterator[str]:
    """The rows in columns."""
    from fermata.outputs.formats import clean

    rows = [["" if v is None else clean(str(v)) for v in row.values()] for row in table.to_pylist()]
    heads = table.column_names
    widths = [max(len(h), *(len(r[i]) for r in rows)) if rows else len(h) for i, h in enumerate(heads)]
    for line in (heads, *rows):
        yield "  ".join(f"{text:<{w}}" for text, w in zip(line, widths, strict=True)).rstrip()
