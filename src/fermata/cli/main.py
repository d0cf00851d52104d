"""`fermata`: the command and what all of its subcommands share.

Only click is loaded here; each command lives in a module that is imported when it is called.
"""

from __future__ import annotations

import gc
import importlib
import inspect
import os
import re
import sys
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

import click

from fermata._version import __version__
from fermata.cli import common
from fermata.errors import FermataError

__all__ = ["cli", "main", "plainer"]

SECTIONS: dict[str, dict[str, str]] = {  # what one wants to do -> commands, in the order people work
    "Bring in": {
        "demo": "make the sample workspace and show five steps",
        "new": "make an empty workspace",
        "map": "look at a file and propose how its records become events; list the kinds of log",
        "import": "bring log files into the archive",
        "survey": "say whether a log can be trusted: coverage, gaps, fields, unknown names, rejects",
    },
    "Look": {
        "events": "list events, or the whole record behind one",
        "trace": "all that a person, device, place or shared id did in every log",
        "people": "who is inside, who was near whom, what is more than somebody's usual",
        "register": "list a register as of a day, or find people, devices, places by part of a name",
    },
    "Report": {
        "report": "run a report, or ask a log directly",
        "reports": "list the reports there are, search them, copy one, show a definition",
        "save": "save the last run as a report",
        "page": "put reports together on one page",
    },
    "Hand on": {
        "schedule": "show the timetable, or put a report on it",
        "send": "run and deliver what is due",
        "shelf": "finished outputs: list, copy, label, send again, drop",
    },
    "Keep safe": {
        "archive": "verify what is stored, check all files, undo an import, delete old events, ask in SQL",
        "evacuation": "clear a house: who is not accounted for, until nobody is missing",
    },
}
COMMANDS = {name: what for commands in SECTIONS.values() for name, what in commands.items()}
GROUPS: dict[str, dict[str, str]] = {  # commands of a group -> module and name
    "people": {
        "inside": "presence_cmd:inside", "contacts": "presence_cmd:contacts", "unusual": "presence_cmd:unusual",
    },
    "register": {"list": "people_cmd:register", "find": "people_cmd:find"},
    "archive": {
        "verify": "shelf_cmd:verify", "undo-import": "remove_cmd:undo_import", "expire": "remove_cmd:expire",
        "compact": "remove_cmd:compact", "check": "archive_cmd:check", "sql": "archive_cmd:sql",
    },
}  # fmt: skip
PLACES = {
    "save": "reports_cmd:save", "trace": "reports_cmd:trace", "schedule": "deliver_cmd:schedule",
    "send": "deliver_cmd:send",
}  # fmt: skip


class Lazy(common.Group):
    """Subcommands by name, each loaded from its `module:name` when called."""

    def __init__(self, *arguments: Any, places: Mapping[str, str] = MappingProxyType({}), **more: Any) -> None:
        super().__init__(*arguments, **more)
        self.places = places

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order people work."""
        return list(self.places)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command's module, imported now."""
        if cmd_name in GROUPS and self.name == "cli":
            does = COMMANDS[cmd_name]
            return Lazy(cmd_name, places=GROUPS[cmd_name], help=f"{does[0].upper()}{does[1:]}.")
        if cmd_name not in self.places:
            return None
        module, _, own = self.places[cmd_name].partition(":")
        command: click.Command = getattr(importlib.import_module(f"fermata.cli.{module}"), own)
        for one in (command, *(command.commands.values() if isinstance(command, click.Group) else ())):
            _arranged(one)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """At the top by what one wants to do, one line each."""
        if self.name != "cli":
            super().format_commands(ctx, formatter)
            return
        for title, commands in SECTIONS.items():
            with formatter.section(title):
                formatter.write_dl(list(commands.items()))

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[Any, Any, list[str]]:
        """The subcommand; another word is answered with what is meant."""
        known = self.list_commands(ctx)
        if self.name == "cli" and args and args[0] not in known and not args[0].startswith("-"):
            from fermata.cli import meant

            within = {own: group for group, several in GROUPS.items() for own in several}
            ctx.fail(meant.another_command(ctx, args[0], known, within))
        return super().resolve_command(ctx, args)


RARE = {  # options that are shown by --help-all alone
    "report": ("same_as", "log", "zero_rows", "rounding", "date_field", "full_period", "rows", "checks", "warn",
               "measures", "chart_of", "each", "keys", "part", "totals", "label", "dry_run", "as_known", "zone",
               "any_of"),
    "events": ("as_known", "zone", "any_of", "drop_filter", "step"),
    "schedule": ("at", "starts", "webhook", "cc", "subject", "text", "way", "zip_above", "no_data_for", "quiet",
                 "seen_by", "keep", "units", "wait"),
    "import": ("complete_to", "complete", "corrected", "wait"),
    "send": ("loop", "every", "quiet", "wait"),
}  # fmt: skip


def _arranged(command: click.Command) -> None:
    """Puts the examples of a command's help first, and its rare options behind --help-all."""
    if getattr(command, "arranged", False):
        return
    command.arranged = True  # type: ignore[attr-defined]  # once is enough
    text = inspect.cleandoc(command.help or "")
    before, mark, examples = text.partition("\b\n")
    if mark:
        shown, _, after = examples.partition("\n\n")
        command.help = f"\b\n{shown}\n\n{before.strip()}\n\n{after}".rstrip()
        command.short_help = before.strip().partition("\n\n")[0]
    if rare := RARE.get(command.name or ""):
        for option in command.params:
            if isinstance(option, click.Option) and option.name in rare:
                option.hidden = True
        every = click.Option(["--help-all"], is_flag=True, is_eager=True, expose_value=False, callback=_help_all,
            help="Show the rare options, too.")  # fmt: skip
        command.params.append(every)


def _help_all(ctx: click.Context, _: click.Parameter, given: bool) -> None:
    """Shows the help with every option."""
    if not given:
        return
    hidden = [o for o in ctx.command.params if isinstance(o, click.Option) and o.hidden]
    for option in hidden:
        option.hidden = False
    click.echo(ctx.get_help())
    for option in hidden:
        option.hidden = True
    ctx.exit()


@click.group(
    cls=Lazy,
    name="cli",
    invoke_without_command=True,
    places={n: PLACES.get(n, f"{n}_cmd:command") for n in COMMANDS},
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
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
    help="Add these lines to a file instead (level info by default).",
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
        from fermata import run_log

        try:
            run_log.begin(log_level or "info", log_file)
        except OSError as e:
            raise click.UsageError(f"--log-file {log_file}: cannot be written: {e.strerror}") from None
    given = {k: (ctx.obj or {}).get(k) for k in ("opened", "own process")}
    ctx.obj = {**given, "workspace": workspace, "now": now, "viewer": viewer}
    if ctx.invoked_subcommand is None:
        _prompted(ctx)


def _prompted(ctx: click.Context) -> None:
    """Without a command: on a terminal the prompt, elsewhere the help."""
    if ctx.obj["opened"] is not None or not (sys.stdin.isatty() and sys.stdout.isatty()):
        click.echo(ctx.get_help())
        return
    from fermata.cli.prompt import prompt

    opened = common.Opened()
    ctx.obj["opened"] = opened
    workspace = common.open_workspace(ctx)
    given = [a for k in ("workspace", "now", "viewer") if ctx.obj[k] for a in (f"--{k}", str(ctx.obj[k]))]
    prompt(cli, workspace, lambda words: answered([*given, *words], {"opened": opened}))


def main() -> None:
    """The entry point."""
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # looking for some goes through all that is installed
    gc.set_threshold(100_000, 50, 50)  # what a command makes mostly lasts until its end
    sys.unraisablehook = _interrupts_come_again
    if sys.stdout is None:
        click.echo("fermata: standard output is closed; send it to a file or to /dev/null", err=True)
        sys.exit(1)
    code = answered(None, {"own process": True})
    gc.freeze()  # the end of a process would look through all that is left, for a fifth of a short command's time
    sys.exit(code)


def answered(words: list[str] | None, obj: dict[str, Any] | None = None) -> int:
    """Carries one command line out, that of the process without `words`: errors become one message on standard error
    and an exit code.

    0 done, 1 the data failed, 2 the request was wrong, 130 interrupted.
    """
    try:
        code = cli.main(words, standalone_mode=False, prog_name="fermata", obj=obj)
        sys.stdout.flush()
        return code if isinstance(code, int) else 0
    except (click.exceptions.Abort, KeyboardInterrupt):
        click.echo("interrupted", err=True)
        return 130
    except click.exceptions.NoArgsIsHelpError as e:
        e.show()  # the help itself, and no message around it
        return e.exit_code
    except click.ClickException as e:
        shown = click.UsageError(plainer(e), ctx=e.ctx) if isinstance(e, click.UsageError) else e
        shown.show()
        return e.exit_code
    except FermataError as e:
        click.echo(f"fermata: {e}", err=True)
        return e.exit_code
    except OSError as e:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        if isinstance(e, BrokenPipeError):
            return 0
        click.echo(f"fermata: {e.filename or 'the output'}: {e.strerror or e}", err=True)
        return 1
    except Exception as e:
        if "FERMATA_DEBUG" in os.environ:
            raise
        click.echo(f"fermata: internal error, {type(e).__name__}: {e} (for the details set FERMATA_DEBUG=1)", err=True)
        return 1


def plainer(error: click.ClickException) -> str:
    """What is wrong with a command line, where the library's own words say it to programmers."""
    if isinstance(error, click.BadOptionUsage) and "requires an argument" in error.message:
        return f"{error.option_name} needs a value behind it"
    if more := re.fullmatch(r"Got unexpected extra arguments? \((.*)\)", error.message):
        much = f"{more[1]!r} {'is' if len(more[1].split()) == 1 else 'are'} too much"
        return f"{much}; a name of several words stands in quotes: 'mean duration'"
    from fermata.cli import meant

    if isinstance(error, click.NoSuchOption):
        return meant.another_option(error)
    if isinstance(error, click.MissingParameter) and error.ctx and error.param:
        shown = error.param.opts[0] if isinstance(error.param, click.Option) else error.param.make_metavar(error.ctx)
        return meant.missing(error.ctx, shown)
    instead = meant.instead_of_value(error) if isinstance(error, click.BadParameter) else ""
    return error.format_message().removesuffix(".") + instead if instead else error.format_message()


def _interrupts_come_again(lost: sys.UnraisableHookArgs) -> None:
    """An interrupt that falls where Python can only drop it (an object being thrown away) is given once more, a moment
    later.
    """
    import signal

    known = lost.exc_type and issubclass(lost.exc_type, KeyboardInterrupt) and hasattr(signal, "pthread_kill")
    if not known:
        sys.__unraisablehook__(lost)
        return
    import threading

    again = threading.Timer(0.05, signal.pthread_kill, (threading.main_thread().ident, signal.SIGINT))
    again.daemon = True
    again.start()
