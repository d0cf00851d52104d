"""fermata evacuation"""

from __future__ import annotations

import sys
import time
from typing import Any

import click

from fermata.cli import common, emit, meant

__all__ = ["command"]

BY = click.option(
    "--by", required=True, metavar="NAME", envvar="FERMATA_WARDEN", show_envvar=True, help="Who accounts for them."
)


@click.group(cls=common.Group, name="evacuation")
def command() -> None:
    """Clear a house: who is not accounted for, until nobody is missing.

    \b
    fermata evacuation prepare house --log doors --outer 'device=Stage door,Loading dock'
    fermata evacuation begin house --since 06:00
    fermata evacuation mark house 3 7-9 'Ada Umberlin' --by 'Warden north'
    fermata evacuation show house --import --watch
    fermata evacuation end house --by 'Warden north'
    """


@command.command()
@click.argument("name")
@click.option("--log", metavar="LOG", default="", help="The log of readings.")
@click.option("--title", default="", metavar="TITLE", help="What stands above the list.")
@click.option("--opening", default="in", metavar="ACTION,...", show_default=True, help="Actions that are ways in.")
@click.option("--closing", default="out", metavar="ACTION,...", show_default=True, help="Actions that are ways out.")
@click.option(
    "--outer",
    multiple=True,
    metavar="FIELD=VALUE,...",
    help="Readings of the doors that lead out of the house; 'every' where each way out leaves it.",
)
@click.option("--assembly", multiple=True, metavar="FIELD=VALUE,...", help="Readings that account for somebody.")
@click.option(
    "--only", multiple=True, metavar="FIELD=VALUE,...", help="Only these readings count, as in fermata report."
)
@click.option(
    "--back",
    default="7 days",
    metavar="LENGTH",
    show_default=True,
    help="How far back a way in without a way out still counts.",
)
@click.option("--replace", is_flag=True, help="Replace what was prepared under that name.")
@click.pass_context
def prepare(ctx: click.Context, /, name: str, **options: Any) -> None:
    """Prepare the evacuation NAME as a file, and try it. On a terminal, what is not given is asked.

    \b
    fermata evacuation prepare house --log doors --outer 'device=Stage door,Loading dock'
    fermata evacuation prepare house
    """
    workspace = common.open_workspace(ctx)
    if not (options["log"] and options["outer"]):
        if not sys.stdin.isatty():
            raise click.UsageError(meant.missing(ctx, "--outer" if options["log"] else "--log"))
        options |= _asked(workspace, name, options["log"])
    data = {k: options[k] for k in ("log", "title", "opening", "closing", "back")}
    data |= {k: common.conditions(options[k]) for k in ("assembly", "only") if options[k]}
    data["outer"] = "every" if options["outer"] == ("every",) else common.conditions(options["outer"])
    path, told = workspace.evacuation(name).prepare(over=options["replace"], **data)
    for line in told:
        common.note(line)
    common.note(f"written: {path}; begin it with: fermata evacuation begin {name} --since 06:00")


def _asked(workspace: Any, name: str, log: str) -> dict[str, Any]:
    """The log, the doors that lead out and the assembly point, by question and answer."""
    kinds = {n: s.kind for n, s in workspace.base.schemas.items() if s.derivation is None}
    likely = next((n for n, kind in kinds.items() if kind == "door access"), next(iter(kinds)))
    log = log or click.prompt("Which log has the readings", default=likely, type=click.Choice(list(kinds)))
    doors = workspace.evacuation(name).doors(log)
    for number, (door, ways_in, ways_out) in enumerate(doors, 1):
        click.echo(f"{number:>3}  {door:<28} {ways_in:>8,} in  {ways_out:>8,} out")
    outer = click.prompt("Which lead out of the house (numbers, 1,3-4; all)")
    assembly = click.prompt("Which reader stands at the assembly point (numbers; none)", default="none")
    field = next(f for f in ("device", "place", "user") if f in workspace.base.schemas[log].by_name)
    found: dict[str, Any] = {"log": log}
    found["outer"] = ("every",) if outer == "all" else (f"{field}={_chosen(outer, doors)}",)
    return {**found, "assembly": () if assembly == "none" else (f"{field}={_chosen(assembly, doors)}",)}


def _chosen(text: str, doors: list[tuple[str, int, int]]) -> str:
    """The names of the numbers, as a filter has them."""
    names = []
    for part in text.replace(" ", "").split(","):
        low, _, high = part.partition("-")
        if not (low.isdigit() and (high or low).isdigit() and 0 < int(low) <= int(high or low) <= len(doors)):
            raise click.UsageError(f"{part!r} is no number of the list; write 1,3-4")
        names += [f'"{doors[n - 1][0]}"' for n in range(int(low), int(high or low) + 1)]
    return ",".join(names)


@command.command()
@click.argument("name")
@click.option(
    "--since", required=True, metavar="TIME", help="Everybody read since then: 06:00 today, or 2026-03-05T06:00."
)
@click.option("--at", metavar="TIME", help="When it began; now by default.")
@emit.output
@click.pass_context
def begin(ctx: click.Context, /, name: str, since: str, at: str | None, output: tuple[str, ...]) -> None:
    """Begin the evacuation NAME: everybody with a reading since a time who is not clearly out.

    \b
    fermata evacuation begin house --since 06:00
    fermata evacuation begin house --since 06:00 --output house.pdf
    """
    workspace = common.open_workspace(ctx)
    zone = workspace.config.workspace.zone
    began = common.read_now(at, zone, "--at") or workspace.now()
    emit.refuse_unused(output)
    workspace.evacuation(name).begin(common.clock_time(since, began, zone), began)
    _show(workspace, name, output)


@command.command()
@click.argument("name")
@click.argument("people", nargs=-1, required=True)
@BY
@click.option("--note", "remark", default="", metavar="TEXT", help="A remark.")
@click.option("--undo", is_flag=True, help="Take a mark back.")
@click.option("--add", is_flag=True, help="Somebody who is not on the list.")
@click.pass_context
def mark(
    ctx: click.Context, /, name: str, people: tuple[str, ...], by: str, remark: str, undo: bool, add: bool
) -> None:
    """Account for PEOPLE by hand: names, parts of them, or numbers of the list (3, 7-9). Several may do so at once.

    \b
    fermata evacuation mark house 3 7-9 --by 'Warden north'
    fermata evacuation mark house 'Ada Umberlin' --by 'Warden north' --undo
    """
    common.alone(ctx, "undo", "add")
    clearing = common.open_workspace(ctx).evacuation(name)
    for person in clearing.mark(people, by, note=remark, undo=undo, add=add):
        click.echo(f"{'not accounted for any more' if undo else 'accounted for'}: {person}")
    found = clearing.state()[0]
    click.echo(f"{found.missing} still missing" if found.missing else "nobody is missing")


@command.command()
@click.argument("name")
@click.option("--import", "bring", is_flag=True, help="Import the log's new files first.")
@click.option("--watch", is_flag=True, help="Show it again and again until nobody is missing.")
@common.beside("--watch")("--every", type=common.Number(min=1), default=10, show_default=True, help="seconds.")
@emit.output
@click.pass_context
def show(ctx: click.Context, /, name: str, bring: bool, watch: bool, every: float, output: tuple[str, ...]) -> None:
    """Show how the evacuation NAME stands: the missing first, the doubtful apart. Exit code 1 while somebody is
    missing.

    \b
    fermata evacuation show house
    fermata evacuation show house --import --watch
    """
    while watch:
        click.clear()
        if not _stands(ctx, name, bring, output):
            sys.exit(0)
        time.sleep(every)
    sys.exit(1 if _stands(ctx, name, bring, output) else 0)


def _stands(ctx: click.Context, name: str, bring: bool, output: tuple[str, ...]) -> int:
    """Shows how it stands, in a workspace read anew; how many are missing."""
    workspace = common.open_workspace(ctx)
    if bring:
        for log in workspace.base.known(workspace.evacuation(name).prepared.log).stored_logs:
            _import(workspace, log)
    return _show(workspace, name, output)


@command.command()
@click.argument("name")
@click.option("--by", default="", metavar="NAME", help="Who ends it.")
@emit.output
@click.pass_context
def end(ctx: click.Context, /, name: str, by: str, output: tuple[str, ...]) -> None:
    """End the evacuation NAME; its list stays as it was.

    \b
    fermata evacuation end house --by 'Warden north'
    fermata evacuation show house --output house.pdf
    """
    workspace = common.open_workspace(ctx)
    emit.refuse_unused(output)
    found, records = workspace.evacuation(name).end(by)
    emit.emit(records, output)
    common.note(f"ended; {found.missing} were not accounted for" if found.missing else "ended; nobody was missing")


def _import(workspace: Any, log: str) -> None:
    """Brings a log's new files in; the list is shown all the same where that fails, for somebody waits for it."""
    from fermata.errors import FermataError

    try:
        workspace.archive.import_log(log)
    except FermataError as e:
        common.note(f"warning: {log} is not up to date, the list stands as of the import before: {e}")


def _show(workspace: Any, name: str, output: tuple[str, ...]) -> int:
    found, records = workspace.evacuation(name).state()
    emit.emit(records, output)
    missing: int = found.missing
    return missing
