"""Typical slips on the command line, each with the whole message: what is wrong, where, what would be right."""

from __future__ import annotations

import itertools
import json
import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from fermata import tomlfile
from fermata.api.workspace import Workspace
from fermata.cli import meant
from fermata.cli.main import cli, plainer
from fermata.deliveries.model import Delivery
from fermata.errors import ConfigError, FermataError
from fermata.intake.field_map import FieldMap
from fermata.intake.mapping import LogMap
from fermata.registers.model import RegisterMap
from fermata.reports.definition import catalogue
from fermata.reports.definition.report import Report
from tests.conftest import ROOT, some

SLIPS = {s["typed"]: s["said"] for s in json.loads((ROOT / "tests" / "slips.json").read_text())}
FOREIGN = re.compile(
    r"requires an argument|unexpected extra|valid (?:integer|dictionary|string)|instance of|Input should|NoneType|Traceback|pydantic|Error:"
)


def said(hall: Workspace, typed: str) -> str:
    """The message that a command line is answered with."""
    line = ["-w", str(hall.path), "--now", "2026-04-01T08:12", *shlex.split(typed)]
    error = CliRunner().invoke(cli, line, standalone_mode=False).exception
    assert isinstance(error, click.ClickException | FermataError), (typed, error)
    return plainer(error) if isinstance(error, click.ClickException) else str(error)


@pytest.mark.parametrize("typed", some(SLIPS, 5), ids=str)
def test_a_slip_is_answered_with_what_would_be_right(hall: Workspace, typed: str) -> None:
    """The whole message, as the table has it."""
    assert said(hall, typed) == SLIPS[typed]


def test_no_message_has_the_words_of_a_validator() -> None:
    """At least sixty slips, none answered in words of a library."""
    assert len(SLIPS) >= 60
    assert not [m for m in SLIPS.values() if FOREIGN.search(m.replace("Parser Error:", ""))]


def test_what_a_command_lacks_is_named_with_an_example_of_it(hall: Workspace) -> None:
    """Of every command that cannot do without an argument; where a log is to be named, with the logs there are."""
    tried = 0
    for path, command in every_command(cli, click.Context(cli)):
        needed = [p for p in command.params if isinstance(p, click.Argument) and p.required]
        for lacking in needed:
            told = said(hall, " ".join([path, *("1" for _ in needed[: needed.index(lacking)])]))
            what = lacking.make_metavar(click.Context(command)).removesuffix("...")
            wrong = "there is no log '1', and " if path == "people contacts" and what == "PERSON" else ""
            assert told.startswith(f"{wrong}{what} is missing, as in: fermata {path} "), (path, told)
            assert ("\n  logs: doors, calls," in told) is (what == "LOG" or bool(wrong))
            tried += 1
    assert tried > 15


def test_a_workspace_without_anything_is_told_of(tmp_path: Path) -> None:
    """Of every command that needs no argument, and of every ready report: something is said, and no check succeeds."""
    (tmp_path / "fermata.toml").write_text("")
    alone = [path for path, c in every_command(cli, click.Context(cli))
             if path not in ("demo", "new") and not any(p.required for p in c.params)]  # fmt: skip
    for line in [*alone, *(f"report {name}" for name in list(catalogue.entries())[::9])]:
        done = CliRunner().invoke(cli, ["-w", str(tmp_path), *line.split()])
        told = f"{done.output}{done.exception or ''}"
        assert len(told.split()) > 2, line
        assert not re.search("logs  hold|internal error", told), line
    assert len(alone) > 12
    assert CliRunner().invoke(cli, ["-w", str(tmp_path), "archive", "verify"]).exit_code == 1


def test_what_is_meant_by_a_word_of_the_trade_is_there() -> None:
    """Every command and option that a message names exists; no option of a command is taken for another."""
    ctx = click.Context(cli)
    commands = dict(every_command(cli, ctx))
    for words in meant.COMMANDS:
        typed = [w for w in re.split(r"[ ,]", words) if w]
        assert typed[0].startswith("--") or typed[0] in commands, words
        own = commands[" ".join(typed[:2])] if " ".join(typed[:2]) in commands else commands.get(typed[0], cli)
        assert all(any(w in p.opts for p in own.get_params(ctx)) for w in typed if w.startswith("--")), words
    for option, words in meant.OPTIONS.items():
        holding = [c for c in (cli, *commands.values()) if any(option in p.opts for p in c.params)]
        assert holding, option
        for command, word in itertools.product(holding, words.split()):
            own = {n for p in command.params for n in p.opts}
            asked = click.NoSuchOption(f"--{word}", ctx=ctx if command is cli else click.Context(command, ctx))
            _, _, message = meant.another_option(asked).partition(";")
            assert any(f"'{o}" in message for o in own) or f"--{word}" in own, (command.name, word, message)
    for word, written in meant.SPELT.items():
        asked = click.NoSuchOption(f"--{word}", ctx=click.Context(commands["report"], ctx))
        assert meant.another_option(asked).endswith(f"; did you mean {written}"), word


def test_what_others_call_a_key_is_answered_with_the_key() -> None:
    """In every file that has the key: logs and their fields, registers, reports, deliveries."""
    tried = set()
    for model in (LogMap, FieldMap, RegisterMap, Report, Delivery):
        keys = {field.alias or name for name, field in model.model_fields.items()}
        for key, words in tomlfile.MEANT.items():
            for word in words.split() if key in keys else ():
                if word in keys:
                    continue
                tried.add(key)
                with pytest.raises(ConfigError, match=rf"{word}: there is no such key; did you mean (\w+ or )?{key}\b"):
                    tomlfile.parse(model, {word: 1}, "x.toml", f"{word} = 1\n")
    assert tried == {*tomlfile.MEANT}


def every_command(group: click.Group, ctx: click.Context, before: str = "") -> Iterator[tuple[str, click.Command]]:
    """Every command by its words."""
    for name in group.list_commands(ctx):
        command = group.get_command(ctx, name)
        assert command
        yield f"{before}{name}", command
        if isinstance(command, click.Group):
            yield from every_command(command, ctx, f"{before}{name} ")
