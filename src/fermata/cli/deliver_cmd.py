"""fermata schedule, fermata send"""

from __future__ import annotations

import shutil
import signal
import sys
import threading
from typing import TYPE_CHECKING, Any

import click

from fermata.cli import common, emit

if TYPE_CHECKING:
    from fermata.deliveries.outcome import Sent

__all__ = ["schedule", "send"]

FAILED = 1


@click.command(name="schedule")
@click.argument("name", default="")
@click.option(
    "--next",
    "count",
    type=click.IntRange(1, 100),
    default=5,
    show_default=True,
    help="With NAME: how many runs to show.",
)
@click.option("--add", is_flag=True, help="Put a report on the timetable as NAME; writes deliveries/NAME.toml.")
@click.option(
    "--report", metavar="REPORT", help="With --add: what is sent; `last` is the last run, kept under NAME first."
)
@click.option(
    "--when",
    metavar="WHEN",
    help="With --add: 'daily at 07:00', 'monthly on the 1st at 07:00', 'first working day at 08:00', or an RFC 5545 "
    "rule.",
)
@click.option("--at", metavar="HH:MM", help="With --add: the time of day for a rule that tells none.")
@click.option(
    "--from",
    "starts",
    metavar="DATE",
    help="With --add: the day that counting begins on, for every second week and the like.",
)
@click.option("--period", metavar="PERIOD", help="With --add: another period than the report's ('last month').")
@click.option(
    "--form",
    "forms",
    multiple=True,
    metavar="FORM",
    help="With --add: pdf, xlsx, html, csv ...; several. pdf by default.",
)
@click.option("--mail", multiple=True, metavar="ADDRESS", help="With --add: who gets it by mail; several.")
@click.option("--folder", metavar="DIR", help="With --add: a folder it goes into.")
@click.option("--replace", is_flag=True, help="With --add: replace the delivery of that name.")
@click.option("--units", type=click.Choice(["systemd", "cron"]), help="Print ready-made lines that run what is due.")
@emit.output
@click.pass_context
def schedule(ctx: click.Context, /, name: str, **options: Any) -> None:
    """Show the timetable: each delivery, its next runs, how the last one ended, what is wrong with it; of NAME, its
    next runs.

    \b
    fermata schedule
    fermata schedule refused-monthly --next 12
    fermata schedule refused-weekly --add --report last --when 'weekly on Monday at 07:00' --mail ada@quillmere.example
    fermata schedule --units systemd
    """
    workspace = common.open_workspace(ctx)
    if options["units"]:
        click.echo(workspace.deliveries.units(shutil.which("fermata") or sys.argv[0], options["units"]), nl=False)
        return
    if options["add"]:
        _add(workspace, name, options)
        return
    given = [o for o in ("report", "when", "mail", "folder") if options[o]]
    if given:
        raise click.UsageError(f"--{given[0]} goes with --add")
    found = workspace.deliveries.table(name, count=options["count"])
    emit.emit(found, options["output"])
    told = [c.name for c in found.columns]
    wrong = [f"{row[0]}: {row[-1]}" for row in found.rows if "problem" in told and row[-1]]
    if wrong:
        from fermata.errors import RequestError

        raise RequestError("\n".join(["some deliveries cannot go out as they are:", *wrong]))


def _add(workspace: Any, name: str, options: dict[str, Any]) -> None:
    if not name or not options["report"] or not options["when"]:
        raise click.UsageError("--add needs a NAME, --report and --when")
    to: list[dict[str, Any]] = [{"mail": list(options["mail"])}] if options["mail"] else []
    to += [{"folder": options["folder"]}] if options["folder"] else []
    if not to:
        raise click.UsageError("--add needs --mail or --folder: where does it go?")
    data = {k: options[k] for k in ("report", "when", "at", "period") if options[k]}
    if options["starts"]:
        data["from"] = common.day(options["starts"], "--from")
    if options["forms"]:
        data["formats"] = list(options["forms"])
    path, notes = workspace.deliveries.schedule(name, over=options["replace"], **data, to=to)
    common.note(f"written: {path}")
    for text in notes:
        common.note(f"Note  {text}")
    emit.emit(workspace.deliveries.table(name, count=2), ())


@click.command(name="send")
@click.argument("name", default="")
@click.option("--now", "at_once", is_flag=True, help="Run and send NAME now, whatever its timetable.")
@click.option("--retry", is_flag=True, help="Try again at once what could not be handed over before.")
@click.option("--loop", is_flag=True, help="Stay and send what comes due, until interrupted.")
@click.option(
    "--every",
    type=click.IntRange(min=1),
    default=60,
    show_default=True,
    metavar="SECONDS",
    help="With --loop: how often to look.",
)
@click.option("--quiet", is_flag=True, help="Say only what somebody should look at.")
@click.option("--wait", type=float, default=0, show_default=True, help="Seconds to wait for another send.")
@click.pass_context
def send(ctx: click.Context, /, name: str, loop: bool, every: int, **options: Any) -> None:
    """Run and hand over what is due; for cron or a timer (fermata schedule --units).

    What failed before is tried again when it is time. Exit code 1 where somebody should look at it; the others go out
    all the same.

    \b
    fermata send
    fermata send refused-monthly --now
    fermata send --loop
    """
    if loop and (name or options["at_once"] or options["retry"]):
        raise click.UsageError("--loop sends whatever is due; leave NAME, --now and --retry out")
    if options["at_once"] and options["retry"]:
        raise click.UsageError("--now makes a new run, --retry takes up one that was made; give one of them")
    if not loop:
        if _once(ctx, name, **options):
            ctx.exit(FAILED)
        return
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    common.note(f"sending what comes due, looking every {every} s; stop with Ctrl-C")
    while not stop.is_set():
        _once(ctx, "", **options)
        stop.wait(every)


def _once(ctx: click.Context, name: str, *, at_once: bool, retry: bool, quiet: bool, wait: float) -> bool:
    """One pass, in a workspace read anew; whether somebody should look at it."""
    from fermata.errors import ArchiveBusy

    try:
        told = common.open_workspace(ctx).deliveries.send(name, at_once=at_once, retry=retry, wait=wait)
    except ArchiveBusy as e:
        if at_once:
            raise
        common.note(str(e))
        return False
    for one in told:
        if one.failed or not quiet:
            _line(one)
    if not told and not quiet:
        common.note("nothing is due")
    return any(one.failed for one in told)


def _line(one: Sent) -> None:
    """What became of one, on standard output; of a failure, on standard error."""
    from fermata.outputs.formats import clean

    subject = clean(f"{one.delivery}{f', {one.part}' if one.part else ''}")
    words = (
        f"{one.what:<12}{subject}{f'  to {clean(one.to)}' if one.to else ''}{f'  {clean(one.why)}' if one.why else ''}"
    )
    click.echo(words, err=one.failed)
