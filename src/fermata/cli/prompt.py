"""The prompt: commands one after the other in one process, so that all is loaded once, with completion."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import click
from prompt_toolkit import PromptSession
from prompt_toolkit.completion import CompleteEvent, Completer, Completion
from prompt_toolkit.document import Document
from prompt_toolkit.history import FileHistory, InMemoryHistory

from fermata.cli.completion import proposed

__all__ = ["prompt"]

ENDS = ("exit", "quit", "bye")
HISTORY = Path("recent") / "prompt-history"


class Words(Completer):
    """What can stand at the end of a line."""

    def __init__(self, group: click.Group, workspace: Any) -> None:
        self.group, self.workspace = group, workspace

    def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterable[Completion]:
        """The words that begin with what was typed."""
        for text, back, about in proposed(self.group, self.workspace, document.text_before_cursor):
            yield Completion(text, -back, display_meta=about)


def prompt(group: click.Group, workspace: Any, answer: Callable[[list[str]], int]) -> None:
    """Reads commands until the end of input; `answer` carries one out and says what is wrong with it itself."""
    path = workspace.path / HISTORY
    try:
        path.parent.mkdir(exist_ok=True)
        path.touch(mode=0o600)
        history: Any = FileHistory(str(path))
    except OSError:  # a workspace one may only read
        history = InMemoryHistory()
    session: PromptSession[str] = PromptSession(
        history=history, completer=Words(group, workspace), complete_while_typing=False
    )
    click.echo(
        f"{workspace.config.workspace.name or workspace.path.name}: type a command, Tab for what can follow, exit"
    )
    for line in _lines(session):
        try:
            words = shlex.split(line)
        except ValueError as e:
            click.echo(f"fermata: the line cannot be read: {e}", err=True)
            continue
        if words[:1] == ["fermata"]:
            words = words[1:]
        if words and words[0] in ENDS:
            return
        if words:
            answer(["--help"] if words == ["help"] else words)


def _lines(session: PromptSession[str]) -> Iterator[str]:
    """Lines until the end of input; an interrupt throws the line away."""
    while True:
        try:
            yield session.prompt("> ")
        except KeyboardInterrupt:
            continue
        except EOFError:
            return
