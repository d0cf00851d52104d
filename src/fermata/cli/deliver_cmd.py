"""fermata schedule, fermata send"""

from __future__ import annotations

import shutil
import signal
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fermata.cli import common, emit

if TYPE_CHECKING:
    from fermata.deliveries.outcome import Sent

__all__ = ["schedule", "send"]

FAILED = 1
ADD = common.beside("--add")
MAIL = common.beside("--mail", "--recipient")
TRY = common.beside("--try")


@click.command(name="schedule")
@click.argument("name", default="")
@common.beside("NAME")(
    "--next",
    "count",
    type=common.Whole(1, 100),
    default=5,
    show_default=True,
    help="how many runs to show.",
)
@click.option("--add", is_flag=True, help="Put a report on the timetable as NAME; writes deliveries/NAME.toml.")
@ADD("--report", metavar="REPORT", help="what is sent; `last` is the last run, kept under NAME first.")
@ADD(
    "--when",
    metavar="WHEN",
    help="'every Monday at 7', 'daily at 07:00', 'monthly on the 1st at 07:00', 'first working day at "
    "08:00', or an RFC 5545 rule.",
)
@ADD("--at", metavar="HH:MM", help="the time of day for a rule that tells none.")
@ADD(
    "--from",
    "starts",
    metavar="DATE",
    help="the day that counting begins on, for every second week and the like.",
)
@ADD("--period", metavar="PERIOD", help="another period than the report's ('last month').")
@ADD(
    "--form",
    "forms",
    multiple=True,
    metavar="FORM",
    help="pdf, xlsx, html, csv ...; several. pdf by default.",
)
@ADD("--mail", multiple=True, metavar="WHO", help="an address, or part of the name of somebody with one.")
@ADD("--folder", metavar="DIR", help="a folder it goes into.")
@ADD("--webhook", metavar="URL", help="an address that takes JSON by POST.")
@MAIL("--cc", multiple=True, metavar="WHO", help="who gets a copy.")
@MAIL("--subject", metavar="TEXT", help="the subject; {{ title }} and the like are filled in.")
@MAIL("--text", metavar="TEXT", help="the text instead of the usual one.")
@MAIL(
    "--as",
    "way",
    type=click.Choice(["attached", "zipped", "link", "in the text"]),
    help="how the result goes; a link leads to the share of [mail].",
)
@MAIL("--zip-above", metavar="SIZE", help="files larger than this together are zipped (5 MB).")
@ADD("--split", metavar="FIELD", help="one report for each value of a field (user, user.department ...).")
@common.beside("--split")(
    "--recipient", metavar="ATTRIBUTE", help="each part goes to this attribute of the register (mail)."
)
@ADD("--alert", metavar="CONDITION", help="only while a row is so: 'Refused > 20', 'rows > 0'.")
@ADD("--no-data-for", metavar="LENGTH", help="only when the log has had no record for so long: '2 hours'.")
@common.beside("--alert", "--no-data-for")(
    "--quiet", metavar="LENGTH", help="not again for so long after it went out (1 day)."
)
@ADD("--hold", multiple=True, metavar="REPORT", help="held back until this report's checks are in order.")
@ADD("--wait", metavar="LENGTH", help="wait so long at most until the logs cover the period: '2 days'.")
@ADD("--only", multiple=True, metavar="FIELD=VALUE,...", help="the report narrowed so.")
@ADD("--seen-by", metavar="VIEWER", help="as this viewer of fermata.toml may see it.")
@ADD("--keep", metavar="LENGTH", help="how long outputs stay on the shelf (90 days).")
@click.option("--pause", "change", flag_value="pause", help="NAME goes out no more until it is resumed.")
@click.option("--resume", "change", flag_value="resume", help="NAME goes out again.")
@click.option("--skip-next", "change", flag_value="skip", help="Leave the next run of NAME out.")
@click.option("--remove", "change", flag_value="remove", help="Take NAME off the timetable.")
@ADD("--replace", is_flag=True, help="replace the delivery of that name.")
@click.option("--units", type=click.Choice(["systemd", "cron"]), help="Print ready-made lines that run what is due.")
@emit.output
@click.pass_context
def schedule(ctx: click.Context, /, name: str, **options: Any) -> None:
    """Show the timetable: each delivery, its next runs, how the last one ended, what is wrong with it; of NAME, its
    next runs.

    \b
    fermata schedule
    fermata schedule refused-monthly --next 12
    fermata schedule refused-weekly --add --report last --when 'every Monday at 7' --mail ada@quillmere.example
    fermata schedule own-hours --add --report own-hours --when 'monthly at 07:00' --split user --recipient mail
    fermata schedule vault --add --report refused-entries --when hourly --alert 'Refused > 5' --mail 'Ada Umb'
    fermata schedule refused-weekly --skip-next
    fermata schedule --units systemd
    """
    common.alone(ctx, "units")
    common.alone(ctx, "change", but=("name",))
    workspace = common.open_workspace(ctx)
    if options["units"]:
        click.echo(workspace.deliveries.units(shutil.which("fermata") or sys.argv[0], options["units"]), nl=False)
        return
    if options["add"]:
        _add(workspace, name, options)
        return
    if options["change"]:
        if not name:
            raise click.UsageError(f"--{options['change'].replace('skip', 'skip-next')} needs the NAME of a delivery")
        _changed(workspace, name, options["change"])
        return
    found = workspace.deliveries.table(name, count=options["count"])
    emit.emit(found, options["output"])
    told = [c.name for c in found.columns]
    wrong = [f"{row[0]}: {row[-1]}" for row in found.rows if "problem" in told and row[-1]]
    if wrong:
        from fermata.errors import RequestError

        raise RequestError("\n".join(["some deliveries cannot go out as they are:", *wrong]))


def _changed(workspace: Any, name: str, change: str) -> None:
    """Pauses, resumes, skips or removes a delivery."""
    if change == "remove":
        common.note(f"removed; its file is kept as {workspace.deliveries.remove(name)}")
        return
    if change == "skip":
        from fermata.timeline.words import stamp
        from fermata.timeline.zones import zone

        at = stamp(workspace.deliveries.skip_next(name), zone(workspace.config.workspace.zone))[:16]
        common.note(f"the run of {at} is left out")
    else:
        workspace.deliveries.change(name, paused=change == "pause")
    emit.emit(workspace.deliveries.table(name, count=2), ())


TARGET = {"cc": "cc", "subject": "subject", "text": "text", "way": "how", "zip_above": "zip_above"}  # of a mail
KEYS = ("report", "when", "at", "period", "wait", "keep")


def _add(workspace: Any, name: str, options: dict[str, Any]) -> None:
    if not name or not options["report"] or not options["when"]:
        raise click.UsageError("--add needs a NAME, --report and --when")
    data = {k: options[k] for k in KEYS if options[k]}
    data |= {"hold": list(options["hold"])} if options["hold"] else {}
    data |= {"viewer": options["seen_by"]} if options["seen_by"] else {}
    if options["starts"]:
        data["from"] = common.day(options["starts"], "--starts")
    if options["forms"]:
        data["formats"] = list(options["forms"])
    if options["only"]:
        data["set"] = {"only": common.conditions(options["only"])}
    if options["alert"] or options["no_data_for"]:
        asked = {"condition": options["alert"], "no_data_for": options["no_data_for"], "quiet": options["quiet"]}
        data["only_if"] = {k: v for k, v in asked.items() if v}
    if options["split"]:
        data["split"] = {"by": options["split"]}
        data["split"] |= {"recipient": options["recipient"]} if options["recipient"] else {}
    emit.refuse_unused(options["output"])
    path, notes = workspace.deliveries.schedule(name, over=options["replace"], **data, to=_targets(options))
    common.note(f"written: {path}; what it would send: fermata send {name} --try")
    for text in notes:
        common.note(f"Note  {text}")
    emit.emit(workspace.deliveries.table(name, count=options["count"]), options["output"])


def _targets(options: dict[str, Any]) -> list[dict[str, Any]]:
    """Where it goes, as the delivery's file has it."""
    whom = list(options["mail"]) or (["recipient"] if options["recipient"] else [])
    of_mail = {k: v for option, k in TARGET.items() if (v := options[option])}
    of_mail = {k: list(v) if isinstance(v, tuple) else v for k, v in of_mail.items()}
    to: list[dict[str, Any]] = [{"mail": whom, **of_mail}] if whom else []
    to += [{"folder": options["folder"]}] if options["folder"] else []
    to += [{"webhook": options["webhook"]}] if options["webhook"] else []
    if not to:
        raise click.UsageError("--add needs --mail, --folder, --webhook or --recipient: where does it go?")
    return to


@click.command(name="send")
@click.argument("name", default="")
@click.option("--now", "at_once", is_flag=True, help="Run and send NAME now, whatever its timetable.")
@click.option("--try", "tried", is_flag=True, help="Show what NAME would send to whom, and send nothing.")
@TRY("--to", metavar="ADDRESS", default="", help="send its mails to this address and nobody else.")
@TRY("--into", type=click.Path(path_type=Path), help="write the files and mails to look at here.")
@click.option("--retry", is_flag=True, help="Try again at once what could not be handed over before.")
@click.option("--loop", is_flag=True, help="Stay and send what comes due, until interrupted.")
@common.beside("--loop")(
    "--every",
    type=common.Whole(min=1),
    default=60,
    show_default=True,
    metavar="SECONDS",
    help="how often to look.",
)
@click.option("--quiet", is_flag=True, help="Say only what somebody should look at.")
@click.option(
    "--wait", type=common.Number(min=0), default=0, show_default=True, help="Seconds to wait for another send."
)
@click.pass_context
def send(
    ctx: click.Context, /, name: str, loop: bool, every: int, tried: bool, to: str, into: Path | None, **options: Any
) -> None:
    """Run and hand over what is due; for cron or a timer (fermata schedule --units).

    What failed before is tried again when it is time. Exit code 1 where somebody should look at it; the others go out
    all the same.

    \b
    fermata send
    fermata send refused-monthly --try
    fermata send refused-monthly --now
    fermata send --loop
    """
    common.alone(ctx, "tried", but=("name", "to", "into"))
    common.alone(ctx, "loop", but=("every", "quiet", "wait"))
    common.alone(ctx, "at_once", "retry")
    if tried:
        if not name:
            raise click.UsageError("--try shows one delivery: fermata send NAME --try")
        _try(common.open_workspace(ctx), name, to, into)
        return
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


def _try(workspace: Any, name: str, to: str, into: Path | None) -> None:
    """What a delivery would send."""
    shown, told = workspace.deliveries.trial(name, to=to, into=into)
    for one in shown:
        part = f"{one.part}: " if one.part else ""
        click.echo(f"\n{part}to {one.to} ({one.way}): {', '.join(one.files)}")
        if one.subject:
            click.echo(f"Subject: {one.subject}\n\n{one.text.rstrip()}")
        if one.into:
            click.echo(f"written: {one.into}")
    for one in told:
        click.echo(f"\nnot sent: {one.what}{f', {one.part}' if one.part else ''}{f'  {one.why}' if one.why else ''}")
    common.note("\nnothing was sent" if not to else f"\nsent to {to} only; nothing was recorded")


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
