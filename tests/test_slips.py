"""Typical slips on the command line, each with the whole message: what is wrong, where, what would be right."""

from __future__ import annotations

import json
import re
import shlex

import click
import pytest
from click.testing import CliRunner

from fermata.api.workspace import Workspace
from fermata.cli.main import cli, plainer
from fermata.errors import FermataError
from tests.conftest import ROOT

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


@pytest.mark.parametrize(
    "typed", [s if i % 4 == 0 else pytest.param(s, marks=pytest.mark.deep) for i, s in enumerate(SLIPS)], ids=str
)
def test_a_slip_is_answered_with_what_would_be_right(hall: Workspace, typed: str) -> None:
    """The whole message, as the table has it."""
    assert said(hall, typed) == SLIPS[typed]


def test_no_message_has_the_words_of_a_validator() -> None:
    """At least sixty slips, none answered in words of a library."""
    assert len(SLIPS) >= 60
    assert not [m for m in SLIPS.values() if FOREIGN.search(m.replace("Parser Error:", ""))]
