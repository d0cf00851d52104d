"""Writes what the code itself says: docs/commands.md, the JSON Schemas of report and delivery files, and
docs/reports.md with samples from the demo.

`--check` only says whether they are current.
"""

from __future__ import annotations

import inspect
import json
import re
import sys
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import click
from pydantic import BaseModel

from fermata import demo
from fermata._version import __version__
from fermata.analysis.filters import conditions
from fermata.analysis.measures import MEASURES, ONWARDS, WITH_FIELD
from fermata.api.workspace import Workspace, open_workspace
from fermata.cli.main import COMMANDS, SECTIONS, cli
from fermata.config.workspace_file import Config
from fermata.deliveries.model import Delivery
from fermata.notes import KINDS
from fermata.people.evacuation import Prepared
from fermata.reports.definition.catalogue import CATEGORIES, Entry, entries
from fermata.reports.definition.report import Report

sys.path.insert(0, str(Path(__file__).parent))
from rooms import drawing  # beside this file

HERE = Path(__file__).parent
NOW = datetime(2026, 4, 1, 7, 12, tzinfo=UTC)
GIVEN = {"user": "Ada Umberlin", "device": "Score vault", "place": "Library", "other": "+441632960170"}
LINES, WIDTH = 11, 116


def commands() -> str:
    """The command reference as Markdown."""
    context = click.Context(cli, info_name="fermata")
    said = "Made from the code by `make docs`. Rare options are in it, too (`--help-all`)."
    parts = ["# Commands", "", said, "", "```", cli.get_help(context), "```", ""]
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command
        parts += _help(command, context, f"fermata {name}", name)
    return "\n".join(parts)


def _help(command: click.Command, parent: click.Context, title: str, name: str) -> Iterator[str]:
    sub = click.Context(command, info_name=name, parent=parent, max_content_width=100)
    for option in command.params:
        if isinstance(option, click.Option):
            option.hidden = False
    yield from (f"## {title}", "", "```", command.get_help(sub), "```", "")
    for name in command.list_commands(sub) if isinstance(command, click.Group) else ():
        own = command.get_command(sub, name)
        assert own
        yield from _help(own, sub, f"{title} {name}", name)


def manual() -> str:
    """The manual page, in the macros of man(7)."""
    context = click.Context(cli, info_name="fermata")
    lines = [f'.TH FERMATA 1 "" "fermata {__version__}" "User Commands"', ".SH NAME",
        "fermata \\- counts and durations from timestamped logs", ".SH SYNOPSIS", ".B fermata",
        "[OPTIONS] COMMAND [ARGS]...", ".SH DESCRIPTION", _troff(inspect.cleandoc(cli.help or "")),
        ".SH OPTIONS"]  # fmt: skip
    lines += _options(cli)
    for title, commands_ in SECTIONS.items():
        lines.append(f".SH {title.upper()}")
        for name in commands_:
            command = cli.get_command(context, name)
            assert command
            inner = click.Context(command, info_name=name, parent=context)
            below = command.list_commands(inner) if isinstance(command, click.Group) else []
            for one, of in [(name, command), *((f"{name} {n}", command.get_command(inner, n)) for n in below)]:
                assert of
                lines += [f".SS fermata {one}", _troff((of.help or "").replace("\b\n", "")), *_options(of)]
    return "\n".join([*lines, ""])


def _options(command: click.Command) -> Iterator[str]:
    for option in command.params:
        if isinstance(option, click.Option):
            yield from (
                ".TP",
                ".B " + _troff(", ".join(option.opts + option.secondary_opts)),
                _troff(option.help or ""),
            )


def _troff(text: str) -> str:
    """A text that means itself in a manual page, its empty lines as breaks between paragraphs."""
    plain = text.replace("\\", "\\\\").replace("-", "\\-")
    lines = [f"\\&{line}" if line.startswith((".", "'")) else line for line in plain.splitlines()]
    return "\n".join(".PP" if not line.strip() else line.strip() for line in lines)


def notes() -> str:
    """Each kind of note: what causes it, what it does to the figures, what to do."""
    told = {
        "figures": "These come first, and are shown by default: something is missing from the figures, is wrong, or is "
        "watched.",
        "explains": "These say how the figures came about. `--notes all` shows them.",
        "upkeep": "These are about the workspace; the figures are right without them. `--notes all` shows them.",
    }
    titles = {"figures": "Notes that change figures", "explains": "Notes that explain", "upkeep": "Notes about upkeep"}
    parts = ["# Notes", "", "A note is a sentence below a result. Each has one of these kinds.", ""]
    for weight, words in told.items():
        parts += [f"## {titles[weight]}", "", words, "", "| kind | why it is there | the figures | what to do |",
            "|---|---|---|---|"]  # fmt: skip
        parts += [
            f"| {name} | {k.cause} | {k.effect} | {k.do} |" for name, k in sorted(KINDS.items()) if k.weight == weight
        ]
        parts.append("")
    return "\n".join(parts)


def measures() -> str:
    """Each measure: what it is, and how the events behind a figure of it relate to it."""
    records = {
        "contributors": "each adds its part to the figure",
        "representatives": "one stands for each value",
        "witnesses": "they have the value shown",
        "none": "none",
    }
    parts = ["# Measures", "", "What a column can be; `--columns` and `measure` take them. FIELD is a field of "
        "the log.",
        "", "| measure | is | events behind it |", "|---|---|---|"]  # fmt: skip
    for name, kind in MEASURES.items():
        field = " FIELD" if name in WITH_FIELD else " MEASURE" if name in (*ONWARDS, "share", "rank") else ""
        parts.append(f"| `{name}{field}` | {kind.means} | {records[kind.records]} |")
    return "\n".join([*parts, ""])


def reports(hall: Workspace) -> str:
    """The catalogue as Markdown: each report with its purpose, what it needs, and how it looks on the sample."""
    ready = entries()
    parts = [
        "# Ready reports", "",
        f"{len(ready)} reports, made from the catalogue by `make docs`; the samples are those of the demo, cut to a "
        "few lines.",
        "`fermata reports` lists them, `fermata reports --search WORDS` finds them, `fermata report NAME` runs one, "
        "`fermata reports NAME` prints",
        "its definition, `fermata reports NAME --copy NEW` makes a copy to change. What they are written in: "
        "[report-files.md](report-files.md).", "",
    ]  # fmt: skip
    for category, title in CATEGORIES.items():
        listed = [e for e in ready.values() if e.category == category]
        parts += [f"## {title}", ""]
        for entry in listed:
            parts += [
                f"### {entry.name}",
                "",
                f"**{entry.title}.** {entry.about}{_needs(entry)}",
                "",
                "```",
                *_sample(hall, entry),
                "```",
                "",
            ]
    return "\n".join(parts)


def _needs(entry: Entry) -> str:
    asked = (
        f" Run it with {' '.join(f'`--only {f}=...`' for f in entry.data.get('must_name', ()))}."
        if entry.data.get("must_name")
        else ""
    )
    return (f" Needs {', '.join(entry.needs)}." if entry.needs else "") + asked


def _sample(hall: Workspace, entry: Entry) -> Iterator[str]:
    """The first lines of what it prints, notes left out."""
    report = entry.load()
    report = report.changed(only=report.only + conditions({f: GIVEN[f] for f in report.must_name}))
    lines = [line for line in str(hall.run(report)).replace("\f", "").splitlines() if not line.startswith("Note")]
    while lines and not lines[-1]:
        lines.pop()
    shown = lines[:LINES]
    yield from (line if len(line) <= WIDTH else line[: WIDTH - 1].rstrip() + "…" for line in shown)
    if len(lines) > LINES:
        yield f"... {len(lines) - LINES:,} more lines"


def pages() -> dict[str, str]:
    """Every generated file by name."""
    with tempfile.TemporaryDirectory() as place:
        hall = open_workspace(demo.make(Path(place) / "quillmere"), now=NOW)
        for log in hall.config.logs:
            hall.archive.import_log(log)
        catalogue = re.sub(r"(?m)[ \t]+$", "", reports(hall))
    models: dict[str, type[BaseModel]] = {
        "fermata": Config, "report": Report, "delivery": Delivery, "evacuation": Prepared,
    }  # fmt: skip
    schemas = {f"{n}.schema.json": json.dumps(m.model_json_schema(), indent=1) + "\n" for n, m in models.items()}
    return {
        "commands.md": commands(), "fermata.1": manual(), "notes.md": notes(), "measures.md": measures(),
        "rooms.svg": drawing(), "reports.md": catalogue, **schemas,
    }  # fmt: skip


if __name__ == "__main__":
    for name, text in pages().items():
        if "--check" not in sys.argv:
            (HERE / name).write_text(text)
        elif (HERE / name).read_text() != text:
            sys.exit(f"{name} is not what the code says; run: make docs")
