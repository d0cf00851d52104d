"""Options that mean the same on every command, and how results reach the reader."""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Callable
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, TypeVar

import click
from click.core import ParameterSource

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace
    from fermata.reports.definition.report import Report

__all__ = [
    "Beside",
    "Group",
    "Opened",
    "Whole",
    "alone",
    "beside",
    "clock_time",
    "conditions",
    "day",
    "given",
    "keys",
    "narrowed",
    "narrowing",
    "note",
    "open_workspace",
    "read_now",
]


F = TypeVar("F", bound=Callable[..., Any])


class Group(click.Group):
    """A command of several; an unknown one is answered with those there are."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[Any, Any, list[str]]:
        """The subcommand that the first word names."""
        from fermata.errors import UnknownName

        known = self.list_commands(ctx)
        if args and args[0] not in known and not args[0].startswith("-"):
            if self.invoke_without_command and args[0] in ("list", "ls"):
                ctx.fail(f"there is no command {args[0]!r}; fermata {self.name} alone lists them")
            from fermata.cli import meant

            if typed := meant.shown_by(ctx, self.name or "", args[0]):
                ctx.fail(f"there is no command {args[0]!r}; did you mean: {typed}")
            ctx.fail(str(UnknownName.of("command", args[0], known)))
        return super().resolve_command(ctx, args)


def _in_words(kind: type[click.ParamType[Any]], called: str) -> Callable[..., Any]:
    """A number in a range as `kind` reads it, with a message in plain words."""

    def convert(self: Any, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        with contextlib.suppress(click.BadParameter):
            found = kind.convert(self, value, param, ctx)
            if abs(found) < 2**63:  # no infinity, and not NaN
                return found
        least = "" if self.min is None else f", {self.min:,} or more"
        fits = f", {self.min:,} to {self.max:,}" if self.max is not None else least
        return self.fail(f"write a {called}{fits}, instead of {value!r}", param, ctx)

    return convert


def _range(self: Any) -> str:
    """The range as the help has it; nothing where there is none."""
    if self.min is None:
        return ""
    return f"{self.min:,} or more" if self.max is None else f"{self.min:,} to {self.max:,}"


class Whole(click.IntRange):
    """A whole number in a range."""

    convert = _in_words(click.IntRange, "whole number")
    _describe_range = _range


class Number(click.FloatRange):
    """A number in a range, with a fraction or without."""

    convert = _in_words(click.FloatRange, "number")
    _describe_range = _range


class Beside(click.Option):
    """An option that has an effect only with one of others, or with an argument: those named in `beside`, as they are
    written. Its help begins with them, and without any of them it is refused.
    """

    def __init__(self, *arguments: Any, beside: tuple[str, ...], **more: Any) -> None:
        super().__init__(*arguments, **more)
        self.beside = beside
        self.help = f"With {' or '.join(beside)}: {self.help}"

    def handle_parse_result(self, ctx: click.Context, opts: Any, args: list[str]) -> tuple[Any, list[str]]:
        """The value. Raises click.UsageError where the option has no effect."""
        named = {n: p.name for p in ctx.command.params for n in (*p.opts, p.human_readable_name.strip("[]."))}
        others = [opts.get(named[n]) for n in self.beside]
        there = any(one for one in others if isinstance(one, str | bool | list | tuple))  # not given: of click's own
        if self.name in opts and not there and not ctx.resilient_parsing:
            raise click.UsageError(f"{self.opts[0]} has no effect without {' or '.join(self.beside)}", ctx)
        return super().handle_parse_result(ctx, opts, args)


def beside(*others: str) -> Callable[..., Callable[[F], F]]:
    """`click.option` for options that have an effect only with one of others; see Beside."""
    return functools.partial(click.option, cls=Beside, beside=others)


SPLIT = re.compile(r",(?=(?:[^\"]*\"[^\"]*\")*[^\"]*$)")

NARROWING = (
    click.option("--period", metavar="PERIOD", help="2026-03, 2026-W14, 2026-03-01/2026-03-15, 'last month', all ..."),
    click.option("--step", type=Whole(), metavar="N", help="Move the period N steps: -1 is the one before."),
    click.option("--as-known", metavar="DATE", help="As it was known at the end of this date, or at a time."),
    click.option("--zone", metavar="ZONE", help="Days and months of this zone (Europe/Lisbon)."),
    click.option(
        "--only",
        multiple=True,
        metavar="FIELD=VALUE,...",
        help="Keep events with one of the values. FIELD= is empty, FIELD~Ann* a pattern, FIELD=10..50 a range, "
        "FIELD:'two words' words in a text; put a value that holds a comma in double quotes.",
    ),
    click.option("--without", multiple=True, metavar="FIELD=VALUE,...", help="Drop events with one of the values."),
    click.option(
        "--any-of",
        multiple=True,
        metavar="'A=1 or B=1'",
        help="Keep events for which one of the alternatives holds.",
    ),
    click.option("--drop-filter", multiple=True, metavar="FIELD", help="Take the report's filter on a field away."),
)


def narrowing(command: F) -> F:
    """Adds the options that choose events."""
    for option in reversed(NARROWING):
        command = option(command)
    return command


class Opened:
    """A workspace kept open between the commands of a prompt, until its `fermata.toml` changes."""

    def __init__(self) -> None:
        self.key: Any = None
        self.workspace: Any = None

    def get(self, key: Any, make: Callable[[], Any]) -> Any:
        """The workspace that is open, or one made anew where it is another or its file has changed."""
        path = self.workspace.path / "fermata.toml" if self.workspace else None
        now = (key, path.stat().st_mtime_ns if path else None)
        if self.workspace is None or self.key != now:
            self.workspace = make()
            self.key = (key, (self.workspace.path / "fermata.toml").stat().st_mtime_ns)
        return self.workspace


def open_workspace(ctx: click.Context) -> Workspace:
    """The workspace the command line names."""
    opened: Opened | None = ctx.obj.get("opened")
    key = tuple(ctx.obj[k] for k in ("workspace", "now", "viewer"))
    workspace: Workspace = opened.get(key, lambda: _opened(ctx)) if opened else _opened(ctx)
    ctx.obj["house"] = workspace.config.display
    return workspace


def workspace_here(ctx: click.Context) -> Workspace | None:
    """The workspace the command line names or stands in, where there is one that can be read."""
    from fermata.errors import RequestError

    try:
        return open_workspace(ctx)
    except RequestError:
        return None


def _opened(ctx: click.Context) -> Workspace:
    from fermata.api.workspace import open_workspace

    opened: Callable[..., Workspace] = open_workspace  # a viewer's says what it does not have
    workspace = opened(ctx.obj["workspace"], now=ctx.obj["now"], viewer=ctx.obj["viewer"])
    workspace.base.say = note
    if ctx.obj.get("own process") and workspace.config.workspace.engine.name != "spark":  # whose driver needs pandas
        from fermata.cli.arrow import without_pandas

        without_pandas()
    return workspace


def read_now(text: str | None, zone: str, option: str = "--now") -> datetime | None:
    """`--now`, or another option, as an aware time; without an offset it is on the workspace's clock."""
    from fermata.timeline.zones import instant
    from fermata.timeline.zones import zone as known

    return instant(text, known(zone), option) if text else None


def clock_time(text: str, near: datetime, zone: str) -> datetime:
    """A time as `read_now` reads it, or a clock time such as 06:00: the last such time at or before `near`."""
    from fermata.timeline.zones import local, to_utc
    from fermata.timeline.zones import zone as known

    if not re.fullmatch(r"\d{1,2}:\d\d", text):
        return read_now(text, zone, "--since") or near
    hour, minute = map(int, text.split(":"))
    here = local(near, known(zone))
    if hour > 23 or minute > 59:
        raise click.UsageError(f"--since {text!r} is no time of day")
    wanted = here.replace(tzinfo=None, hour=hour, minute=minute, second=0, microsecond=0)
    if wanted > here.replace(tzinfo=None):
        wanted = wanted.fromordinal(wanted.toordinal() - 1).replace(hour=hour, minute=minute)
    return to_utc(wanted, known(zone))


def day(text: str, option: str) -> date:
    """A date as an option gives it."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise click.UsageError(f"{option} {text!r} is no date; write 2026-01-05") from None


def narrowed(workspace: Workspace, report: Report, options: dict[str, Any]) -> Report:
    """The report with the narrowing options applied; filters add to those it has."""
    from fermata.reports.definition.changes import without_filters
    from fermata.reports.definition.report import Report as Model

    report = without_filters(report, options.get("drop_filter") or ())
    changes = {k: options[k] for k in ("period", "zone", "as_known") if options.get(k)}
    for key in ("only", "without"):
        if options.get(key):
            added = getattr(Model.of(**{"log": "any", key: conditions(options[key])}), key)
            changes[key] = getattr(report, key) + added
    if options.get("any_of"):
        groups = [[conditions((part,)) for part in re.split(r"\s+or\s+", text)] for text in options["any_of"]]
        changes["any_of"] = report.any_of + Model.of(log="any", any_of=groups).any_of
    report = report.changed(**changes)
    return workspace.reports.step(report, options["step"]) if options.get("step") else report


def conditions(texts: tuple[str, ...]) -> dict[str, list[Any]]:
    """Filters as written on the command line, in the form report files have them."""
    from fermata.errors import RequestError

    found: dict[str, list[Any]] = {}
    for text in texts:
        m = re.match(r"\s*([A-Za-z_][\w.]*)\s*([=~:])(?!=)\s*(.*?)\s*$", text, re.DOTALL)
        if not m:
            from fermata.cli import meant

            raise RequestError(f"cannot read the filter {text!r}; {meant.filter_written(text)}")
        field, sign, rest = m[1], m[2], m[3]
        values = [v.strip().strip('"') for v in SPLIT.split(rest)]
        listed = found.setdefault(field, [])
        if sign == "~":
            listed.append({"like": values})
        elif sign == ":":
            listed.append({"words": rest.strip('"')})
        else:
            listed += values
    return found


def given(ctx: click.Context) -> dict[str, str]:
    """The options and arguments given on the command line, as they are written, by their names."""
    found = {}
    for p in ctx.command.params:
        if not p.name or ctx.get_parameter_source(p.name) != ParameterSource.COMMANDLINE:
            continue
        if not isinstance(p, click.Option):
            found[p.name] = p.human_readable_name.strip("[].")
        elif not (isinstance(p.flag_value, str) and p.is_flag and p.flag_value != ctx.params.get(p.name)):
            found[p.name] = p.opts[0]  # of several flags for one choice, the one that was given
    return found


def alone(ctx: click.Context, option: str, *without: str, but: tuple[str, ...] = ()) -> None:
    """Raises UsageError where `option` is given with options or arguments that have no effect then: those named, or any
    other but some.
    """
    own = given(ctx)
    for name, other in own.items() if option in own else ():
        if name not in (option, *but) and (not without or name in without):
            raise click.UsageError(f"{other} has no effect with {own[option]}; leave one of them out")


def keys(texts: tuple[str, ...], option: str) -> dict[str, Any]:
    """Keys and their values, as TOML writes them; a value that is no TOML is a text."""
    import tomllib

    found: dict[str, Any] = {}
    for text in texts:
        key, equals, value = text.partition("=")
        if not equals:
            raise click.UsageError(f"{option} {text!r}: write KEY=VALUE, as in a report file")
        try:
            read = tomllib.loads(f"v = {value}")["v"]
        except tomllib.TOMLDecodeError:
            read = value.strip()
        found[key.strip()] = read if isinstance(read, bool | int | float | str | list | dict) else str(read)
    return found


def note(text: str) -> None:
    """A line for people, apart from the output."""
    click.echo(text, err=True)
