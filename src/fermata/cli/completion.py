"""What can follow on a command line: commands, options, reports, logs, fields, values, periods."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Iterator
from typing import Any

import click

from fermata.errors import FermataError

__all__ = ["proposed"]

PERIODS = (
    "today", "yesterday", "'this week'", "'last week'", "'this month'", "'last month'", "'last quarter'", "'this year'",
    "'last year'", "'last 7 days'", "all",
)  # fmt: skip
UNITS = ("hour", "day", "weekday", "week", "month", "quarter", "year", "'hour of day'")
FILTERS = ("--only", "--without", "--any-of")
OF_REPORTS = ("report", "reports", "schedule", "page", "save")
OF_LOGS = ("report", "events", "survey", "import", "inside", "contacts", "unusual")
MOST = 200
WORD = re.compile(r"(?:'[^']*'?|\"[^\"]*\"?|[^\s'\"])+")
Proposal = tuple[str, int, str]  # the text, how many characters before the cursor it replaces, what it is


def proposed(group: click.Group, workspace: Any, line: str) -> Iterator[Proposal]:
    """What can stand at the end of `line`, as (text, how many characters it replaces, what it is)."""
    typed = [w[0] for w in WORD.finditer(line)]
    typed = typed if typed and not line[-1:].isspace() else [*typed, ""]
    typed = typed[1:] if typed[:1] == ["fermata"] and len(typed) > 1 else typed
    last, before = typed[-1], typed[:-1]
    command = _command(group, before)
    known = _known(command, workspace, before, last)
    begun = last.rpartition("=")[2].rpartition(",")[2] if last.startswith(FILTERS) or "=" in last else last
    begun = last.rpartition(",")[2] if before[-1:] in (["--by"], ["--fields"], ["--sort"]) else begun
    for text, about in known:
        if text.lower().lstrip("'").startswith(begun.lower().lstrip("'")):
            yield text, len(begun), about


def _command(group: click.Group, words: list[str]) -> click.Command:
    """The command that the words name, of a group too."""
    found: click.Command = group
    for word in words:
        if not isinstance(found, click.Group):
            break
        inner = found.get_command(click.Context(found), word)
        if inner is None:
            break
        found = inner
    return found


def _known(command: click.Command, workspace: Any, before: list[str], last: str) -> Iterable[tuple[str, str]]:
    """What is known for the place at the end of the line, with what it is."""
    if isinstance(command, click.Group):
        context = click.Context(command)
        return [(n, _about(command.get_command(context, n))) for n in command.list_commands(context)]
    if last.startswith("-"):
        options = [p for p in command.params if isinstance(p, click.Option) and not p.hidden]
        return [(o.opts[-1], (o.help or "").partition(".")[0]) for o in options]
    option = before[-1] if before and before[-1].startswith("-") else ""
    if option in FILTERS:
        return _filters(workspace, before, last)
    if option == "--period":
        return [(p, "period") for p in PERIODS]
    if option in ("--by", "--across", "--fields", "--sort"):
        fields = [(f, "field") for f in _fields(workspace, before)]
        return [*fields, *((u, "unit") for u in UNITS)] if option in ("--by", "--across") else fields
    if option and not _is_flag(command, option):
        return [(str(c), "") for c in _choices(command, option)]
    found: list[tuple[str, str]] = []
    if command.name in OF_REPORTS:
        found += [(e.name, e.title) for e in workspace.reports.catalogue()]
    if command.name in OF_LOGS:
        found += [(n, "log") for n in workspace.base.schemas]
    if command.name == "trace":
        found += _people(workspace)
    return found


def _about(command: click.Command | None) -> str:
    return (command.help or "").strip().partition("\n")[0] if command else ""


def _is_flag(command: click.Command, option: str) -> bool:
    return any(isinstance(p, click.Option) and option in p.opts and p.is_flag for p in command.params)


def _choices(command: click.Command, option: str) -> Iterable[Any]:
    for p in command.params:
        if isinstance(p, click.Option) and option in p.opts and isinstance(p.type, click.Choice):
            return p.type.choices
    return ()


def _log(workspace: Any, before: list[str]) -> str:
    """The log that a command line is about."""
    for word in before[1:]:
        if word in workspace.base.schemas:
            return word
        if not word.startswith("-"):
            with contextlib.suppress(FermataError):
                return str(workspace.reports.log_of(word))
    return ""


def _fields(workspace: Any, before: list[str]) -> list[str]:
    log = _log(workspace, before)
    if not log:
        return []
    return [f.name for f in workspace.base.directory.widened(workspace.base.schemas[log]).fields]


def _filters(workspace: Any, before: list[str], last: str) -> Iterable[tuple[str, str]]:
    """Fields with their sign, or after it the commonest values."""
    field, equals, _ = last.partition("=")
    if not equals:
        return [(f"{f}=", "field") for f in _fields(workspace, before)]
    log = _log(workspace, before)
    if not log:
        return []
    try:
        rows = workspace.log(log).by(field).measure("count").sort("-count").run().data.table.body
    except FermataError:
        return []
    values = [(str(r.keys[0]), f"{r.cells[0]:,} events") for r in rows[:MOST] if r.keys[0] is not None]
    return [(f"'{v}'" if re.search(r"\s", v) else v, n) for v, n in values]


def _people(workspace: Any) -> list[tuple[str, str]]:
    """Labels of registers."""
    found = []
    for name, table in workspace.base.directory.tables.items():
        if not table.links:
            labels = workspace.base.directory.register(name).labels.values()
            found += [(f"'{v}'" if re.search(r"\s", v) else v, name) for v in sorted(labels)]
    return found
