"""Command lines put together at random from the program's own commands and options: each ends by itself, with a
sentence where it fails and the exit code that belongs to it.
"""

from __future__ import annotations

import contextlib
import functools
import os
import random
import re
import shutil
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from fermata import demo
from fermata.api.workspace import open_workspace
from fermata.cli.main import answered, cli
from fermata.errors import FermataError
from tests.conftest import NOW
from tests.test_over_all import GIVEN, READY, asked

__all__ = ["BROKEN", "extreme", "hall", "one", "said"]

BROKEN = re.compile(r"internal error|Traceback|the engine failed")  # what no sentence of Fermata's own says
ENDLESS = {"loop", "every", "watch"}  # options that go on until they are interrupted
LEFT_OUT = {"demo", "new"}
WORDS = (
    "doors", "prints", "calls", "time-entries", "by-person", "refused-entries", "overview", "last", "month", "user",
    "device", "action=refused", "action=printed", "user=Ada Umberlin", "user=B-1050", "place=Library", "this month",
    "2026-03", "2026-03-01..2026-03-07", "2026-02-30", "yesterday", "last 7 days", "time", "count", "distinct user",
    "peak", "share of time", "median duration", "A = count / 2", "Mean < 4.1", "csv", "html", "json", "pdf", "xlsx",
    "text", "out.csv", "out.html", "3", "-1", "0", "99999999999999999999", "1:1", "1-3", "", " ", "'", '"', "%", "*", "[",
    "\u202e", "\U0001f4a9", "a" * 500, "=1+1", "../..", "/dev/null", "-", "--", "nosuch", "action=", "=x", "user==", "a,b,c",
    "2026-03-01T09:00", "Europe/Lisbon", "Mars/Olympus", "daily at 07:00", "every monday", "ada@house.example", "house",
    "x=y,z=1", "pages=1-3", "amount>5", "like:A*", "not empty", "staff", "front-desk", "study", "own", "10..50",
)  # fmt: skip


FITTING = {  # values that fit an option or argument, by its name
    "period": ("this month", "2026-03", "2026-03-01..2026-03-07", "yesterday", "last 7 days", "2026-02", "last month"),
    "only": ("action=refused", "action=printed", "user=Ada Umberlin", "user=B-1050", "place=Library", "device=Score vault",
             "result=solved", "direction=out", "project=Archive move"),
    "by": ("user", "device", "user,device", "day", "week", "month,user", "user department", "hour of day", "action"),
    "measures": ("count", "time", "distinct user", "peak", "share of count", "median duration", "first,last", "total pages"),
    "name": ("doors", "prints", "calls", "by-person", "refused-entries", "overview", "last", "hours", "pay", "licence-use",
             "pages-by-printer", "calls-by-line", "security-overview", "needs-attention", "who-was-inside", "unused-licences"),
    "log": ("doors", "prints", "calls", "time-entries", "sessions", "visits"), "output": ("out.csv", "out.html", "out.json"),
    "zone": ("Europe/London", "UTC"), "sort": ("count", "user", "-count"), "rows": ("count > 5", "time >= 1:00"),
    "across": ("month", "action", "day"), "top": ("3", "10"), "warn": ("count > 5",), "add_column": ("A = count / 2",),
    "rounding": ("up to 15 minutes", "nearest to 6 minutes"), "hours": ("monday to friday 09:00-17:00", "office"),
    "at": ("2026-03-05T14:00", "2026-03-05"), "back": ("24 hours", "3 days"), "part": ("gaps", "rejects", "1"),
    "step": ("-1", "1"), "limit": ("3",), "skip": ("2",), "show": ("3:1042",), "history": ("28",), "factor": ("2.5",),
    "compare": ("before", "year before", "2026-02"), "layout": ("2", "1,2"), "when": ("every 15 minutes", "daily at 07:00"),
    "checks": ("count < 5", "Count <= 100%"), "unit": ("day", "week"), "display": ("decimal=comma", "paper=A3", "dates=%d"),
    "keys": ("1", "a"), "count": ("3",), "wait": ("1",), "each": ("department",), "chart": ("bars", "lines"),
    "item": ("1", "2"), "number": ("1", "2"), "zip_above": ("5 MB",), "mail": ("ada@house.example",),
}  # fmt: skip
EXTREMES = (
    "0",
    "-1",
    "0.5",
    "00",
    "0001",
    "9999",
    "2147483648",
    "999999999",
    "99999999999999999999",
    "9" * 400,
    "1e999",
)


def extreme(text: str, chance: random.Random) -> str:
    """The text with one of its numbers as nobody means it."""
    found = list(re.finditer(r"\d+", text))
    if not found:
        return text
    at = chance.choice(found)
    return text[: at.start()] + chance.choice(EXTREMES) + text[at.end() :]


FITTING |= {
    "without": FITTING["only"],
    "any_of": FITTING["only"],
    "columns": FITTING["measures"],
    "report": FITTING["name"],
    "group_by": FITTING["by"],
    "names": FITTING["name"],
    "measure": FITTING["measures"],
    "items": FITTING["item"],
    **dict.fromkeys(("since", "as_of", "as_known", "complete_to", "starts"), FITTING["at"]),
    **dict.fromkeys(("within", "older_than", "no_data_for", "quiet", "hold", "keep", "alert"), FITTING["back"]),
}


@functools.cache
def pristine() -> Path:
    """The sample with its logs imported, made once a process."""
    path = Path(tempfile.mkdtemp(prefix="fermata-soak-")) / "hall"
    demo.make(path)
    house = open_workspace(path, now=NOW)
    for log in house.archive.logs:
        with contextlib.suppress(Exception):
            house.archive.import_log(log)
    return path


@functools.cache
def hall() -> Path:
    """A copy of it that commands may change."""
    copy = pristine().with_name("changed")
    shutil.copytree(pristine(), copy)
    return copy


@functools.cache
def commands() -> list[tuple[tuple[str, ...], click.Command]]:
    """Every command with the words it is called by."""
    found = []

    def walk(group: click.Group, above: tuple[str, ...]) -> None:
        context = click.Context(group)
        for name in group.list_commands(context):
            command = group.get_command(context, name)
            if isinstance(command, click.Group):
                walk(command, (*above, name))
            elif command and name not in LEFT_OUT:
                found.append(((*above, name), command))

    walk(cli, ())  # type: ignore[arg-type]  # the decorator hides that it is a group
    return found


CHANGED: tuple[tuple[list[str], dict[str, Any]], ...] = (
    ([], {}), (["--no-totals"], {"totals": False}), (["--top", "2"], {"top": 2}),
    (["--by", "user,day"], {"by": ("user", "day")}), (["--across", "weekday"], {"across": "weekday"}),
)  # fmt: skip


def followed(chance: random.Random) -> list[str]:
    """The words that ask for the events behind a figure there is; none for a report without figures."""
    name, (more, changed) = chance.choice(list(READY)), chance.choice(CHANGED)
    try:
        result = open_workspace(hall(), now=NOW).run(asked(name).changed(period="2026-03", **changed))
        table, plan = result.table, result.data.plan
    except FermataError:
        return []
    if not table.rows:
        return []
    row, head = chance.choice(table.rows), chance.choice(table.measures)
    keys = {d.name: shown for d, shown in zip(plan.by, row.shown, strict=False)}
    if plan.across and not head.across_total:
        keys[plan.across.name] = head.across_label
    cells = [w for key in keys.items() for w in ("--cell", "=".join(map(str, key)))]
    needed = [w for c in asked(name).only if c.field in GIVEN for w in ("--only", f"{c.field}={GIVEN[c.field]}")]
    column = ["--column", plan.columns[head.measure].label]
    form = chance.choice([[], ["--output", "csv"], ["--output", "out.html"], ["--output", "out.pdf"]])
    return ["report", name, "--period", "2026-03", *needed, *more, "--events", *cells, *column, *form]


def value(fitting: Sequence[str], chance: random.Random) -> str:
    """A value that may fit, one with a number far too great or small, or any word."""
    found = chance.choice(fitting if chance.random() < 0.9 else WORDS)
    return extreme(found, chance) if chance.random() < 0.15 else found


def line(chance: random.Random) -> list[str]:
    """A command line: mostly options that there are, with values that may fit."""
    now = NOW.isoformat()
    words = ["-w", str(hall()), "--now", extreme(now, chance) if chance.random() < 0.03 else now]
    if chance.random() < 0.03 and (found := followed(chance)):
        return words + found
    called, command = chance.choice(commands())
    if chance.random() < 0.2:
        words += ["--viewer", chance.choice(("front-desk", "study", "zelda", "nosuch"))]
    words += called
    options = [p for p in command.params if isinstance(p, click.Option) and not ENDLESS & {p.name}]
    for argument in (p for p in command.params if isinstance(p, click.Argument)):
        fitting = FITTING.get(argument.name or "", FITTING["name"])
        words += [value(fitting, chance) for _ in range(chance.choice((0, 1, 1, 1)))]
    for option in chance.sample(options, min(len(options), chance.choice((0, 1, 1, 2, 3, 6)))):
        words.append(chance.choice([*option.opts, *option.secondary_opts]))
        if not (option.is_flag or option.count):
            choices = list(option.type.choices) if isinstance(option.type, click.Choice) else []
            fitting = choices or FITTING.get(option.name or "", WORDS)
            words += [value(fitting, chance) for _ in range(option.nargs)]
    words += [chance.choice(WORDS)] if chance.random() < 0.1 else []
    return words


def said(words: list[str], folder: Path) -> tuple[int, str]:
    """Carries a command line out in this process; its exit code, and what it says on standard error."""
    kept = os.dup(0), os.dup(1), os.dup(2), sys.stdout, sys.stderr, Path.cwd()
    out, err = folder / "out.txt", folder / "err.txt"
    try:
        os.chdir(folder)
        for path, stream, mode in ((Path(os.devnull), 0, os.O_RDONLY), (out, 1, os.O_WRONLY), (err, 2, os.O_WRONLY)):
            os.dup2(os.open(path, mode | (os.O_CREAT | os.O_TRUNC if stream else 0)), stream)
        sys.stdout, sys.stderr = (open(n, "w", encoding="utf-8", closefd=False) for n in (1, 2))  # noqa: SIM115
        code = answered(words)
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        sys.stdout, sys.stderr = kept[3:5]
        for stream in range(3):
            os.dup2(kept[stream], stream)
            os.close(kept[stream])
        os.chdir(kept[5])
    return code, err.read_text("utf-8", "replace")


def one(seed: int) -> str:
    """What became of one command line: its exit code, or what is wrong."""
    words = line(random.Random(seed))
    with tempfile.TemporaryDirectory() as made:
        try:
            code, error = said(words, Path(made))
        except BaseException as e:
            return f"wrong: {words[4:]}: {type(e).__name__}: {e}"
    if BROKEN.search(error) and words[4:6] != ["archive", "sql"]:
        return f"wrong: {words[4:]}: {error.strip()[-300:]}"
    if code not in (0, 1, 2) or (code and not error.strip()):
        return f"wrong: {words[4:]}: exit code {code}, said {error.strip()[-200:]!r}"
    return f"exit code {code}"
