"""fermata map"""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fermata.cli import common

if TYPE_CHECKING:
    from fermata.workspace.proposing import Trial

__all__ = ["command"]


@click.command(name="map")
@click.argument("file", required=False, type=click.Path(path_type=Path))
@click.option("--log", metavar="NAME", help="What the log is to be called; the file's name by default.")
@click.option("--register", metavar="NAME", help="FILE is a list (of people, devices ...): propose a register.")
@click.option("--add", is_flag=True, help="Add the proposal to the workspace's fermata.toml.")
@click.option("--kinds", is_flag=True, help="List the kinds of log, or all words of the KIND named instead of FILE.")
@click.pass_context
def command(
    ctx: click.Context, file: Path | None, log: str | None, register: str | None, add: bool, kinds: bool
) -> None:
    """Look at FILE (or a folder, or a pattern) and propose how its records become events, as TOML with comments; or
    how a list of people, devices, places or projects becomes a register.

    What could be read two ways is marked `unsure`; look at these lines before the first import.

    \b
    fermata map ../export.csv --add
    fermata map ../staff.xlsx --register people --add
    fermata map --kinds 'door access'
    """
    common.alone(ctx, "kinds", but=("file",))
    common.alone(ctx, "register", but=("file", "add"))
    if kinds:
        _kinds(str(file) if file else None)
        return
    if file is None:
        raise click.UsageError("name the FILE to look at, or give --kinds")
    if register is not None:
        _register(ctx, file, register, add)
        return
    from fermata.errors import FermataError
    from fermata.workspace.proposing import add_log, log_name, propose, tried

    added = ""
    if add:
        workspace = common.open_workspace(ctx)
        name, doubts, trial = add_log(workspace.archive.base, file, log)
        common.note(f"added [logs.{name}] to fermata.toml; look it over, then: fermata import {name}")
        added = name
    else:
        here = common.workspace_here(ctx)
        text, doubts = propose(file, log or log_name(file), here.path if here else None)
        click.echo(text, nl=False)
        try:
            trial = tried(text, log or log_name(file), file, here.config.workspace.zone if here else "UTC")
        except FermataError as e:
            doubts, trial = [*doubts, f"as it stands the file cannot be read: {e}"], None
    for doubt in doubts:
        common.note(f"unsure: {doubt}")
    if trial:
        _shown(trial)
    if added:
        opened = common.open_workspace(ctx)  # with the new log
        useful = opened.reports.useful(added)
        if useful:
            common.note("reports that run on it once it is imported (all: fermata reports --here):")
        for entry in useful:
            common.note(f"  fermata report {entry.name:<24} {entry.title}")


def _register(ctx: click.Context, file: Path, name: str, add: bool) -> None:
    """The proposal of a register, or what came of adding it."""
    from fermata.workspace.proposing import add_register, propose_list

    if add:
        doubts, rows = add_register(common.open_workspace(ctx).archive.base, file, name)
        common.note(f"added [registers.{name}] with {rows:,} rows to fermata.toml; look: fermata register list {name}")
        common.note("names of a log that are in no register: fermata survey LOG --part unresolved")
    else:
        here = common.workspace_here(ctx)
        text, doubts = propose_list(file, name, here.path if here else None)
        click.echo(text, nl=False)
    for doubt in doubts:
        common.note(f"unsure: {doubt}")


def _kinds(name: str | None) -> None:
    """The kinds of log, or of one kind the fields and the values that reports expect."""
    from fermata.errors import UnknownName
    from fermata.kinds import KINDS

    if name is not None and name not in KINDS:
        raise UnknownName.of("kind of log", name, KINDS)
    for one, kind in ({name: KINDS[name]} if name else KINDS).items():
        click.echo(f"{one:<20}{kind.about}")
        parts = (
            ("Fields", kind.fields), ("Actions", kind.actions), ("Outcomes", kind.outcomes),
            ("Fields that single ready reports ask for", kind.further),
        ) if name else ()  # fmt: skip
        for title, words in parts:
            if words:
                click.echo(f"\n{title}")
                for word, meaning in words.items():
                    click.echo(f"  {word:<18}{meaning}")
        if name and kind.cannot:
            click.echo(f"\nCannot appear\n  {kind.cannot}")


def _shown(trial: Trial) -> None:
    """What the proposal made of the file."""
    from fermata.outputs import text

    common.note(f"tried on {trial.words}")
    if trial.events:
        common.note(text.render(dataclasses.replace(trial.events, notes=(), title="Its first events")))
