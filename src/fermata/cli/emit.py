"""How results reach the reader: on the terminal, through a pipe, into files of any form."""

from __future__ import annotations

import contextlib
import dataclasses
import functools
import os
import shutil
import signal
import sys
import textwrap
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click
from click.core import ParameterSource

from fermata.cli.common import keys, note

if TYPE_CHECKING:
    from fermata.outputs.writing import Progress
    from fermata.reports.definition.display import Display
    from fermata.reports.definition.report import Report
    from fermata.reports.result import Answer, Records

__all__ = ["as_displayed", "author", "emit", "most", "output", "pairs", "refuse_unused"]

F = TypeVar("F", bound=Callable[..., Any])
LOOKED_AT = 1000  # events nobody reads to the end on a terminal
LARGE = 20_000  # rows from which on the size is said before and progress while writing
OUTPUT = click.option(
    "--output",
    multiple=True,
    metavar="FORM|FILE",
    help="A file, its form by its ending (txt, csv, tsv, json, jsonl, xml, md, html, pdf, xlsx, parquet, png, svg), "
    "or a form for "
    "standard output; several at once.",
)
DISPLAY = click.option(
    "--display",
    multiple=True,
    metavar="KEY=VALUE",
    expose_value=False,
    callback=lambda ctx, _, given: ctx.obj.update(display=_read(given)),
    help="clock=12, seconds=no, times=start, durations=hours, decimal=comma, dates='day first', columns=A,B, "
    "pages=1-3, "
    "orientation=landscape, paper=A3, author=NAME, spreadsheet=yes.",
)

NOTES = click.option(
    "--notes",
    type=click.Choice(["all", "few", "none"]),
    default="few",
    show_default=True,
    expose_value=False,
    callback=lambda ctx, _, given: ctx.obj.update(notes=given),
    help="Below the table: all notes, or the few that change the figures.",
)


def _read(given: Sequence[str]) -> dict[str, Any]:
    """The display choices of the command line. Raises UsageError, RequestError before anything is done."""
    found = keys(tuple(given), "--display")
    if found:
        from fermata.reports.definition.display import Display

        Display.of(**found)
    return found


def output(command: F) -> F:
    """Adds the options that say where a result goes and how it is shown. What has no effect there is refused before the
    command begins; a report that is itself for a spreadsheet is known later, when the result is given.
    """

    @functools.wraps(command)
    def asked_first(*args: Any, **given: Any) -> Any:
        from fermata.reports.definition.display import Display

        forms = given["output"] or (("pdf",) if given.get("label") is not None else ())
        refuse_unused(forms, Display(spreadsheet=True))
        return command(*args, **given)

    decorated: Any = OUTPUT(DISPLAY(NOTES(asked_first)))
    return cast("F", decorated)


def emit(item: Answer, wanted: Sequence[str], limit: int | None = None, *, how: Display | None = None) -> None:
    """Gives a result: to files, in named forms to standard output, or as a table cut to the terminal.

    `how` is the report's own display; the workspace's unless given. Raises RequestError, UnknownName, DataError.
    """
    from fermata import outputs

    refuse_unused(wanted, how)
    chosen = _display(how)
    item = _cut(item, wanted, limit)
    files = [(text, outputs.form_of(Path(text))) for text in wanted if not outputs.known(text)]
    for text in wanted or ("txt",):
        if outputs.known(text):
            _print(item, text, chosen, limit, looked_at=not wanted)
    for text, form in files:
        path = _save(item, Path(text), form, chosen)
        note(f"written: {path}")


def refuse_unused(wanted: Sequence[str], how: Display | None = None) -> None:
    """Raises RequestError, UsageError for a choice of the command line that has no effect where the result goes, and
    for a form there is none of. A command that changes something asks this first.
    """
    from fermata import outputs

    ctx = click.get_current_context()
    for text in wanted:
        each = text.split(",")
        if len(each) > 1 and all(outputs.known(one) or Path(one).suffix for one in each) and not Path(text).exists():
            raise click.UsageError(f"--output takes one; write {' '.join(f'--output {one.strip()}' for one in each)}")
    if len(streams := [text for text in wanted if outputs.known(text)]) > 1:
        raise click.UsageError(f"standard output takes one form, not {', '.join(streams)}; name files for the others")
    if wanted and ctx.get_parameter_source("notes") == ParameterSource.COMMANDLINE:
        raise click.UsageError("--notes chooses what is shown below a table here; with --output leave it out")
    asked = [
        *ctx.obj.get("display", {}),
        *(["chart"] if ctx.params.get("chart") not in (None, "none") else []),
    ]
    forms = [text if outputs.known(text) else outputs.form_of(Path(text)) for text in wanted or ("txt",)]
    outputs.refuse_unused(asked, forms, spreadsheet=_display(how).spreadsheet)


def _cut(item: Answer, wanted: Sequence[str], limit: int | None) -> Answer:
    """A listing's first rows. Raises RequestError where a table of figures would be cut without saying so."""
    from fermata.errors import RequestError
    from fermata.reports.result import Page, Records, RunResult

    parts = [p.item for p in item.parts] if isinstance(item, Page) else [item]
    whole = [text for text in wanted if text != "txt"]
    if limit and whole and any(isinstance(one, RunResult) for one in parts):
        raise RequestError(
            f"--limit cuts what is shown here; {', '.join(whole)} holds all rows of a table; "
            f"--top {limit} keeps the highest"
        )
    if limit and isinstance(item, Records) and len(item.rows) > limit:
        return dataclasses.replace(item, rows=item.rows[:limit])
    return item


def as_displayed(report: Report, forms: Sequence[str]) -> Report:
    """The report with the display choices of the command line as its own. Raises as `emit` does."""
    from fermata.reports.definition.display import Display

    own = click.get_current_context().obj.get("display", {})
    chosen = (report.display or Display()).merged(Display.of(**own))
    refuse_unused(forms or ("pdf",), chosen)
    return report.changed(display=chosen) if own else report


def _display(how: Display | None) -> Display:
    """The display choices in force: the workspace's, the report's, those of the command line; the author is the login
    by default.
    """
    from fermata.reports.definition.display import Display

    given = click.get_current_context().obj
    chosen = (how or given.get("house") or Display()).merged(Display.of(**given.get("display", {})))
    if chosen.author:
        return chosen
    return chosen.merged(Display(author=author()))


def author() -> str:
    """The login of whoever is at it."""
    return os.environ.get("LOGNAME", "") or os.environ.get("USER", "")


def _print(item: Answer, form: str, how: Display, limit: int | None, *, looked_at: bool) -> None:
    from fermata import outputs
    from fermata.outputs import text

    terminal = sys.stdout.isatty()
    if form != "txt":
        if terminal and form in outputs.BINARY:
            raise click.UsageError(f"--output {form}: a terminal cannot show it; name a file, or pipe it on")
        out = sys.stdout.buffer
        if terminal:
            shown = outputs.render(item, form, how).splitlines(keepends=True)
            out.write("".join(_harmless(line) for line in shown).encode())
        else:
            with contextlib.suppress(BrokenPipeError):  # a reader that has enough
                outputs.write(item, out, form, how)
                out.flush()
                return
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return
    size = shutil.get_terminal_size()
    most_rows = limit if limit is not None else (max(size.lines * 5, 100) if terminal else None)
    colour = terminal and "NO_COLOR" not in os.environ
    width = size.columns if terminal else None
    notes = click.get_current_context().obj.get("notes", "few") if looked_at else None
    told = text.render(item, how, text.Look(colour, most_rows, width, notes), made=not looked_at)
    click.echo(told, nl=False, color=True if colour else None)


def _harmless(line: str) -> str:
    """A line that does nothing to a terminal but show."""
    from fermata.outputs.formats import clean

    body = line.rstrip("\r\n")
    return "\t".join(clean(part) for part in body.split("\t")) + line[len(body) :].replace("\r", "")


def _save(item: Answer, path: Path, form: str, how: Display) -> Path:
    """Writes a file; of a large one the size is said before, and how far it is meanwhile, on standard error."""
    from fermata import outputs
    from fermata.outputs.sizes import expected, rows_of

    rows = rows_of(item)
    with _ended_by_signals():
        if rows < LARGE:
            return outputs.save(item, path, form, how)
        note(f"{path}: {rows:,} rows, {expected(item, form, how)}")
        with _told(rows) as progress:
            return outputs.save(item, path, form, how, progress)


@contextlib.contextmanager
def _told(rows: int) -> Iterator[Progress]:
    """A line on standard error that says how far it is: rewritten on a terminal, every ten seconds elsewhere."""
    done, last, live = 0, time.monotonic(), sys.stderr.isatty()

    def progress(more: int) -> None:
        nonlocal done, last
        done += more
        if time.monotonic() - last < (0.2 if live else 10):
            return
        last = time.monotonic()
        share = f"{done:,} of {rows:,} rows ({100 * done // max(rows, 1)} %)"
        click.echo(f"\r{share}" if live else share, err=True, nl=not live)

    yield progress
    if live:
        click.echo("\r\x1b[K", err=True, nl=False)


@contextlib.contextmanager
def _ended_by_signals() -> Iterator[None]:
    """A request to end takes the way of an interrupt, so that nothing half written stays."""

    def stop(_: int, __: Any) -> None:
        raise KeyboardInterrupt

    before = signal.signal(signal.SIGTERM, stop)
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)


def most(limit: int | None, wanted: Sequence[str]) -> int | None:
    """How many events of a listing to fetch: as many as asked for, enough for a terminal, all for a file or a pipe."""
    return limit or (LOOKED_AT if not wanted and sys.stdout.isatty() else None)


def pairs(item: Records) -> None:
    """A listing of two columns as paragraphs: the first column beside the second, wrapped to the terminal."""
    from fermata.outputs.formats import clean

    refuse_unused(())
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else None
    heading = f"{item.title}\n{item.context.period}, {item.context.zone}\n"
    click.echo(click.style(item.title, bold=True) + heading[len(item.title) :] if sys.stdout.isatty() else heading)
    left = max(len(str(row[0])) for row in item.rows) + 2
    for what, value in item.rows:
        text = clean(str(value))
        lines = textwrap.wrap(text, max(width - left, 30)) if width else [text]
        click.echo("\n".join(f"{what if n == 0 else '':<{left}}{line}" for n, line in enumerate(lines)))
