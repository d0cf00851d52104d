"""The docs hold what they say: blocks of the first hour run, every link leads somewhere, every page is found."""

from __future__ import annotations

import inspect
import json
import re
import shlex
import shutil
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
import pytest

from fermata import tomlfile
from fermata.analysis.measures import MEASURES
from fermata.api.workspace import Workspace
from fermata.cli.main import cli
from fermata.deliveries.model import Delivery
from fermata.people.evacuation import Prepared
from fermata.reports.definition.display import Display
from fermata.reports.definition.report import Report
from tests.conftest import ROOT, fermata, some
from tests.soak.commands import commands

PAGES = sorted((ROOT / "docs").rglob("*.md"))


@pytest.mark.deep
def test_the_first_hour_runs_as_written(hall: Workspace, tmp_path: Path) -> None:
    """From the sample's files to a report that goes out by itself, without a text editor."""
    (tmp_path / "quillmere").symlink_to(hall.path)
    here = tmp_path
    for block in (ROOT / "docs" / "first-hour.md").read_text().split("```")[1::2]:
        for line in block.strip().splitlines():
            if line.startswith("cd "):
                here = here / line.removeprefix("cd ")
                continue
            fermata("--now", "2026-04-01T08:12", *shlex.split(line)[1:], cwd=here)
    assert {p.suffix for p in here.glob("refused.*")} == {".html", ".pdf", ".xlsx"}


def test_every_link_leads_somewhere_and_every_page_is_found() -> None:
    """No page of the docs is an orphan, and no link is dead."""
    found = set()
    for page in (ROOT / "README.md", ROOT / "CHANGELOG.md", *PAGES):
        for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", page.read_text()):
            if not target.startswith("http"):
                assert (page.parent / target).exists(), (page, target)
                found.add((page.parent / target).resolve())
    assert {p.resolve() for p in PAGES} <= found


MADE = {"reports.md", "commands.md", "notes.md", "measures.md", "benchmarks.md", "needs.md", "scaling.md"}


def prose(path: Path) -> list[list[str]]:
    """The paragraphs of a page: neither code, tables, lists nor headings."""
    outside = "\n".join(path.read_text().split("```")[::2])
    blocks = [re.split(r"(?m)^\s*[*-] ", block)[0].splitlines() for block in outside.split("\n\n")]
    blocks = [[x for x in block if x] for block in blocks]
    return [
        b for b in blocks if b and not b[0].lstrip().startswith(("|", "*", "-", "#", "!", "1.")) and b[0][:4] != "    "
    ]


def test_nothing_is_denser_than_one_can_read_at_once() -> None:
    """No line of prose over 100 characters, no paragraph over five lines."""
    for path in (ROOT / "README.md", *(p for p in PAGES if p.name not in MADE)):
        for block in prose(path):
            assert all(len(line) <= 100 for line in block), (path.name, block)
            assert len(block) <= 5, (path.name, block[0])
    assert len((ROOT / "README.md").read_text().splitlines()) < 150


def _model(table: dict[str, Any]) -> type | None:
    """The model a file of these keys follows."""
    if {"report", "when"} <= set(table):
        return Delivery
    if {"opening", "closing"} <= set(table):
        return Prepared
    if set(table) & {"log", "kind", "by", "parts"}:
        return Report
    return None


def test_files_and_options_in_the_docs_are_those_there_are() -> None:
    """Every whole file shown fits its model, and every option named is one of some command."""
    known = {"--help", "--exclude"}  # the second is of the system's own tools
    todo: list[click.Command] = [cli]
    while todo:
        command = todo.pop()
        known |= {o for p in command.params for o in (*p.opts, *p.secondary_opts)}
        if isinstance(command, click.Group):
            ctx = click.Context(command)
            todo += [c for n in command.list_commands(ctx) if (c := command.get_command(ctx, n))]
    shown = 0
    for page in (ROOT / "README.md", *PAGES):
        text = page.read_text()
        assert not set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", text)) - known, page
        for block in re.findall(r"```toml\n(.*?)```", text, re.DOTALL):
            table = tomllib.loads(block)
            if model := _model(table):
                tomlfile.parse(model, table, page, block)
                shown += 1
    assert shown >= 4


def test_commands_that_are_named_exist() -> None:
    """In the docs, in messages and in files of reports: each is a command, and each of a group one of it."""
    known = {words for words, _ in commands()} | {("demo",), ("new",)}
    groups = {words[0] for words in known if len(words) > 1}
    named = re.compile(
        r"(?:`|^|: )fermata (?:(?:-w|--(?:workspace|now|viewer)) \S+ )*([a-z][a-z-]+)(?: ([a-z][a-z-]+))?", re.M
    )
    told = [p for kind in ("py", "toml") for p in (ROOT / "src").rglob(f"*.{kind}")]
    for page in (ROOT / "README.md", *PAGES, *told):
        for first, second in named.findall(page.read_text()):
            assert ((first, second) if first in groups and second else (first,)) in known | {(g,) for g in groups}, page


def test_every_command_begins_its_help_with_two_examples_that_it_takes() -> None:
    """Each command shows at least two lines to type first, and its own options and arguments take each of them."""
    found = 0
    for words, command in commands():
        text = inspect.cleandoc(command.help or "")
        examples = [shlex.split(line.strip()) for line in text.splitlines() if line.strip().startswith("fermata ")]
        assert text.startswith("\b\nfermata"), words
        assert len(examples) >= 2, words
        for example in examples:
            typed = example[3:] if example[1] == "-w" else example[1:]
            if tuple(typed[: len(words)]) == words:
                context = click.Context(cli, info_name="fermata", obj={})
                command.make_context(words[-1], typed[len(words) :], parent=context)
                found += 1
    assert found > 50


def examples() -> dict[str, list[str]]:
    """What the help of each command shows to be typed, without what goes on until it is ended."""
    found: dict[str, list[str]] = {}
    for words, command in commands():
        for line in map(str.strip, inspect.cleandoc(command.help or "").splitlines()):
            if line.startswith(f"fermata {' '.join(words)}") and not re.search("--loop|--watch", line):
                found.setdefault(" ".join(words), []).append(line)
    return found


AWAITED = re.compile(
    r"there is no (?:file|item 3)|already|not under way|never begun|Connection refused|nobody on the list|--log is missing|[0-9]+ missing"
)


@pytest.fixture(scope="module")
def house(hall: Workspace, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The sample, in which commands may change what they like."""
    made = Path(shutil.copytree(hall.path, tmp_path_factory.mktemp("house") / "hall"))
    fermata("report", "refused-entries", "--period", "2026-03", cwd=made)
    return made


@pytest.mark.parametrize("command", some(examples(), 8))
def test_what_the_help_shows_works_on_the_sample(house: Path, command: str) -> None:
    """Each line as it stands, in order; it may say that what it is about is not there yet, or is there already."""
    for line in examples()[command]:
        wrong = ""
        try:
            fermata("--now", "2026-04-01T09:12", *shlex.split(line)[1:], cwd=house)
        except AssertionError as told:
            wrong = str(told)
        assert not wrong or AWAITED.search(wrong), (line, wrong)


PLAIN_WORDS = """
about above add any back begin begins condition data during each end env every export false find fixed
for from help here hour how id if in into is known lines listing made map max min
must named next no older on only optional over pair past prepare present put recorded remote remove rename
replace retry running same schema second seconds security seen sees send show since spreadsheet sql started table take
than trace true try type until unusual what when which who why without working closing list words level w
"""  # they mean here what they mean everywhere


def keys_of(schema: Any) -> Iterator[str]:
    """Every key of a schema for editors."""
    if isinstance(schema, dict):
        yield from schema.get("properties", {})
        for below in schema.values():
            yield from keys_of(below)
    elif isinstance(schema, list):
        for below in schema:
            yield from keys_of(below)


def test_every_word_of_options_keys_and_measures_stands_in_the_glossary() -> None:
    """Each word once, with a sentence and an example; those the examples use exist."""
    rows = [line.strip("|").split(" | ") for line in (ROOT / "docs" / "glossary.md").read_text().splitlines()[6:]]
    terms = [r[0].strip() for r in rows]
    assert all(len(r) == 3 and all(map(str.strip, r)) for r in rows)
    assert len(set(terms)) == len(terms)
    told = {w for t in terms for w in re.findall(r"[a-z]+", t.lower())} | set(PLAIN_WORDS.split())
    keys = {k for p in (ROOT / "docs").glob("*.schema.json") for k in keys_of(json.loads(p.read_text()))}
    every = [cli, *(c for _, c in commands())]
    options = {o for c in every for p in c.params if isinstance(p, click.Option) for o in (*p.opts, *p.secondary_opts)}
    used = {w for name in (*keys, *options, *MEASURES) for w in re.findall(r"[a-z]+", name)}
    used |= {w for words, _ in commands() for name in words for w in name.split("-")}
    wanted = {
        w for w in used if not told & {w, w.removesuffix("s"), w.removesuffix("es"), w + "s", w.removesuffix("ed")}
    }
    assert not wanted
    for *_, example in rows:
        for code in re.findall(r"`([^`]+)`", example):
            assert set(re.findall(r"(?<![\w-])--[a-z-]+", code)) <= options | {"--help-all"}, code
            for key in re.findall(r"^([a-z_]+) = ", code):
                assert key in keys or key in ("pay", "start"), code


def test_every_display_choice_in_the_docs_exists() -> None:
    """What is written behind --display, and in the option's own help, is a choice there is."""
    told = "\n".join(p.read_text() for p in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")))
    option = next(p for c in (cli, *(c for _, c in commands())) for p in c.params if "--display" in p.opts)
    named = re.findall(r"--display '?([a-z]+)=('[^']*'|[^\s'`]+)", told) + re.findall(
        r"(\w+)=('[^']*'|[^,]+)", option.help
    )
    assert len(named) > 15
    for key, value in named:
        Display.of(**{key: {"yes": True, "no": False, "12": 12}.get(value, value.strip("'."))})


def test_every_dependency_is_used_and_told() -> None:
    """What an installation brings stands in the docs with its reason, and some code path uses it."""
    wanted = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]
    names = [n[0] for d in wanted if (n := re.match(r"[\w-]+", d))]
    told = re.findall(r"(?m)^\| ([\w-]+) \| +\d+ \| \w.*\|$", (ROOT / "docs" / "dependencies.md").read_text())
    assert told == names
    code = "\n".join(p.read_text() for p in (ROOT / "src").rglob("*.py"))
    own = {"ibis-framework": "ibis", "python-calamine": "python_calamine", "python-dateutil": "dateutil"}
    for name in set(names) - {"sqlglot", "tzdata"}:  # a bound for another one, and data
        module = own.get(name, name.replace("-", "_"))
        assert re.search(rf"(?m)^\s*(import|from) {module}\b", code), name
