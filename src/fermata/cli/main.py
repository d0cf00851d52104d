"""`fermata`: the command and what all of its subcommands share.

Only click is loaded here; each subcommand lives in a module of its own that is imported when it is called.
"""

from __future__ import annotations

import importlib
import os
import sys
from pathlib import Path
from typing import Any

import click

from fermata._version import __version__
from fermata.errors import FermataError

__all__ = ["cli", "main"]

COMMANDS = {  # name -> what it does, in the order people work
    "demo": "make the sample workspace and walk through its reports",
    "new": "make an empty workspace",
    "map": "look at a file and propose how its records become events",
    "import": "bring log files into the archive",
    "survey": "say whether a log can be trusted: coverage, gaps, fields, unknown names, rejects",
    "find": "find people, devices, places and projects by part of a name",
    "register": "list a register as of a day",
    "records": "list events, or the whole record behind one",
    "report": "run a report, or ask a log directly",
    "reports": "list the reports there are by category, search them, copy one, show a definition",
    "save": "save the last run as a report",
    "trace": "all that a person, device, place or shared id did in every log",
    "inside": "who is inside at a time, by place",
    "evacuation": "clear a house: who is not accounted for, until nobody is missing",
    "contacts": "who was at the same place as somebody within a time",
    "unusual": "what is more than somebody's own usual",
    "kinds": "list the kinds of log and the words their reports expect",
    "schedule": "show the timetable, or put a report on it",
    "send": "run and deliver what is due",
    "shelf": "finished outputs: list, copy, label, send again, drop",
    "verify": "prove that kept runs give the same figures again, and that nothing stored was changed",
    "take-back": "take an import out again",
    "expire": "drop events older than a log keeps them",
    "compact": "put the many small files of daily imports together",
}
PLACES = {
    "save": "reports_cmd",
    "trace": "reports_cmd",
    "inside": "looking_cmd",
    "contacts": "looking_cmd",
    "unusual": "looking_cmd",
    "find": "people_cmd",
    "register": "people_cmd",
    "schedule": "deliver_cmd",
    "send": "deliver_cmd",
    "verify": "shelf_cmd",
    "take-back": "remove_cmd",
    "expire": "remove_cmd",
    "compact": "remove_cmd",
}


class Lazy(click.Group):
    """Subcommands by name, loaded when called; `--help` needs none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order people work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command's module, imported now."""
        if cmd_name not in COMMANDS:
            return None
        module = importlib.import_module(f"fermata.cli.{PLACES.get(cmd_name, cmd_name + '_cmd')}")
        own = cmd_name.replace("-", "_") if cmd_name in PLACES else "command"
        command: click.Command = getattr(module, own)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """One line each, from the table above."""
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[Any, Any, list[str]]:
        """An unknown command is answered with those there are."""
        from fermata.errors import UnknownName

        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            ctx.fail(str(UnknownName.of("command", args[0], COMMANDS)))
        return super().resolve_command(ctx, args)


@click.group(cls=Lazy, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="fermata")
@click.option(
    "-w",
    "--workspace",
    type=click.Path(path_type=Path),
    default=None,
    envvar="FERMATA_WORKSPACE",
    show_envvar=True,
    help="The workspace's directory; otherwise the one this directory is in.",
)
@click.option(
    "--now",
    metavar="TIME",
    help="Count relative periods from this time instead of the clock (2026-04-01T09:00).",
)
@click.option(
    "--viewer",
    metavar="NAME",
    default="",
    envvar="FERMATA_VIEWER",
    show_envvar=True,
    help="Show only what this viewer of fermata.toml may see.",
)
@click.option(
    "--log-level",
    type=click.Choice(["debug", "info", "warning", "error"]),
    default=None,
    envvar="FERMATA_LOG_LEVEL",
    show_envvar=True,
    help="Say on standard error, a line of JSON each, what is done; only debug names persons and addresses.",
)
@click.option(
    "--log-file",
    type=click.Path(path_type=Path, dir_okay=False),
    default=None,
    envvar="FERMATA_LOG_FILE",
    show_envvar=True,
    help="Add these lines to a file instead (level info unless told).",
)
@click.pass_context
def cli(
    ctx: click.Context,
    workspace: Path | None,
    now: str | None,
    viewer: str,
    log_level: str | None,
    log_file: Path | None,
) -> None:
    """Counts and durations per user, device and period, from the logs you already have.

    Begin with: fermata demo
    """
    if log_level or log_file:
        from fermata import telling

        try:
            telling.begin(log_level or "info", log_file)
        except OSError as e:
            raise click.UsageError(f"--log-file {log_file}: cannot be written: {e.strerror}") from None
    ctx.obj = {"workspace": workspace or Path(), "now": now, "viewer": viewer}


def main() -> None:
    """The entry point: errors become one message on standard error and an exit code.

    0 done, 1 the data failed, 2 the request was wrong, 130 interrupted.
    """
    sys.unraisablehook = _interrupts_come_again
    try:
        code = cli.main(standalone_mode=False, prog_name="fermata")
        sys.exit(code if isinstance(code, int) else 0)
    except click.exceptions.Abort:
        click.echo("interrupted", err=True)
        sys.exit(130)
    except click.ClickException as e:
        e.show()
        sys.exit(e.exit_code)
    except FermataError as e:
        click.echo(f"fermata: {e}", err=True)
        sys.exit(e.exit_code)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except Exception as e:
        if "FERMATA_DEBUG" in os.environ:
            raise
        click.echo(f"fermata: internal error, {type(e).__name__}: {e} (for the details set FERMATA_DEBUG=1)", err=True)
        sys.exit(1)


def _interrupts_come_again(lost: sys.UnraisableHookArgs) -> None:
    """An interrupt that falls where Python can only drop it (an object being thrown away) is given once more, a moment later."""
    if not (lost.exc_type and issubclass(lost.exc_type, KeyboardInterrupt)):
        sys.__unraisablehook__(lost)
        return
    import signal
    import threading

    again = threading.Timer(0.05, signal.pthread_kill, (threading.main_thread().ident, signal.SIGINT))
    again.daemon = True
    again.start()
