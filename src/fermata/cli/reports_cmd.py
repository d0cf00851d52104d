"""fermata reports, save and trace"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from fermata.cli import common, emit
from fermata.errors import counted

if TYPE_CHECKING:
    from fermata.api.reports import Need

__all__ = ["command", "save", "trace"]

SAMPLE = 5  # rows that show what a report looks like
MOST_FOUND = 15


@click.command(name="reports")
@click.argument("name", metavar="[NAME]", nargs=-1)
@click.option("--search", metavar="WORDS", default="", help="Only those found by these words, the best first.")
@click.option("--category", metavar="NAME", default="", help="Only this category.")
@click.option("--here", is_flag=True, help="Only those that run on the logs there are, and what the others need.")
@click.option(
    "--copy",
    "copy",
    metavar="NEW",
    help="Copy NAME into the workspace under a new name, to be changed there; the original stays.",
)
@common.beside("--copy")("--replace", is_flag=True, help="replace a report of that name.")
@click.option("--recent", is_flag=True, help="The last runs, to go back to: last, last-2 ...")
@click.option("--definition", is_flag=True, help="Print the file of NAME.")
@click.option("--schema", is_flag=True, help="The JSON Schema of report files, for editors.")
@click.pass_context
def command(
    ctx: click.Context,
    name: tuple[str, ...],
    search: str,
    category: str,
    here: bool,
    copy: str | None,
    replace: bool,
    recent: bool,
    definition: bool,
    schema: bool,
) -> None:
    """List reports by category, those of the workspace first; or show what NAME tells, with its first rows.

    \b
    fermata reports
    fermata reports --search 'unused licences'
    fermata reports refused-entries
    fermata reports refused-entries --definition
    fermata reports refused-entries --copy refused-at-night
    """
    for option in ("schema", "recent"):
        common.alone(ctx, option)
    common.alone(ctx, "definition", but=("name",))
    common.alone(ctx, "copy", but=("name", "replace"))
    if not search:
        common.alone(ctx, "name", "category", "here")
    if schema:
        import json

        from fermata.reports.definition.report import Report

        click.echo(json.dumps(Report.model_json_schema(), indent=1))
        return
    workspace = common.open_workspace(ctx)
    if (copy or definition) and not name:
        raise click.UsageError(f"--{'copy' if copy else 'definition'} needs the NAME of a report")
    if name and not search:
        if len(name) > 1:
            raise click.UsageError(f"one NAME at a time; to search: fermata reports --search '{' '.join(name)}'")
        _one(workspace, name[0], copy, replace, definition)
        return
    if recent:
        _recent(workspace)
        return
    search = " ".join((search, *name))
    needs = workspace.reports.needs() if here else []
    _listed(workspace, search, category, {name for need in needs for name in need.reports})
    if needs:
        _needed(needs)


def _one(workspace: Any, name: str, copy: str | None, replace: bool, definition: bool) -> None:
    """One report: copied, printed, or what it tells, with its first rows."""
    if copy:
        common.note(f"written: {workspace.reports.copy(name, copy, over=replace)}; run it with: fermata report {copy}")
        return
    if definition:
        click.echo(workspace.reports.text(name), nl=False)
        return
    from fermata.errors import FermataError
    from fermata.outputs import text

    for what, words in workspace.reports.about(name):
        click.echo(f"{what:<11}{words}")
    report = workspace.reports.definition(name)
    if not report.must_name:
        try:
            answer = workspace.run(report, limit=SAMPLE).answer
            click.echo(f"\n{text.render(answer, look=text.Look(most_rows=SAMPLE, notes='none'))}", nl=False)
        except FermataError as e:
            click.echo(f"\nNot possible here: {e}")
    common.note(f"\nRun it with: fermata report {name}; its file: fermata reports {name} --definition")


def _recent(workspace: Any) -> None:
    """The last runs with what tells them apart."""
    runs = workspace.reports.recent()
    if not runs:
        common.note("no report was run here yet")
    for name, report in runs:
        words = [report.title or report.log or report.register_name, report.period]
        words += [f"by {', '.join(report.by)}"] if report.by else []
        words += [str(report.selection)] if report.selection.conditions else []
        click.echo(f"{name:<9}{'; '.join(words)}")
    if runs:
        common.note("\nrun one again with: fermata report NAME; change one thing: fermata report NAME --period 2026-03")


def _needed(needs: list[Need]) -> None:
    """What the reports that do not run here need, the need of most first."""
    count = sum(len(need.reports) for need in needs)
    common.note(f"{count} more need what is not here; what one needs: fermata reports NAME")
    for need in needs:
        parts = f": {_few(need.parts, 6)}" if need.parts else ""
        common.note(f"  {need.what}{parts} ({_few(need.reports, 3)})")


def _few(names: Sequence[str], most: int) -> str:
    """The first of the names, and how many there are besides."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return f"{', '.join(names[:most])}{more}"


def _found(found: list[Any], words: str) -> None:
    """The reports a search found, the best first."""
    width = max((len(e.name) for e in found), default=0)
    for entry in found[:MOST_FOUND]:
        click.echo(f"  {entry.name:<{width}}  {entry.title}")
    if not found:
        common.note(f"no report is found by {words.strip()!r}; all of them: fermata reports")
        return
    left = len(found) - MOST_FOUND
    more = f"; {left} more fit less well, name more words" if left > 0 else ""
    common.note(
        f"\n{counted(len(found), 'report')}{more}. What one tells: fermata reports NAME; run it: fermata report NAME"
    )


def _listed(workspace: Any, words: str, category: str, without: set[str]) -> None:
    from fermata.errors import UnknownName
    from fermata.reports.definition.catalogue import CATEGORIES

    found = [e for e in workspace.reports.catalogue(words) if e.name not in without]
    if words.strip() and not category:
        _found(found, words)
        return
    own = {e.category: e.category for e in found if e.category not in CATEGORIES}
    heads = {**own, "": "Reports of this workspace", **CATEGORIES}
    if category and category not in heads:
        raise UnknownName.of("category", category, [c for c in heads if c])
    width = max((len(e.name) for e in found), default=0)
    shown = 0
    for key in dict.fromkeys(["", *heads]):
        if category and key != category:
            continue
        listed = [e for e in found if e.category == key]
        if not listed:
            continue
        click.secho(
            ("\n" if shown else "")
            + (f"{key}: {heads[key].partition(': ')[2] or heads[key]}" if key in CATEGORIES else heads[key]),
            bold=True,
        )
        for entry in listed:
            click.echo(f"  {entry.name:<{width}}  {entry.title}")
            shown += 1
    if not shown:
        common.note("no reports")
        return
    common.note(f"\n{counted(shown, 'report')}; what one tells: fermata reports NAME; run it: fermata report NAME")


@click.command(name="save")
@click.argument("name")
@click.option(
    "--from",
    "source",
    metavar="REPORT",
    default="last",
    show_default=True,
    help="The report to save; the last run by default.",
)
@click.option("--title", metavar="TITLE", help="A title of its own.")
@click.option("--category", metavar="NAME", help="Where it is listed: a category there is, or a new one.")
@click.option("--fixed", is_flag=True, help="For the very period it has today instead of a moving one.")
@click.option("--replace", is_flag=True, help="Replace a report of that name.")
@click.pass_context
def save(
    ctx: click.Context, name: str, source: str, title: str | None, category: str | None, fixed: bool, replace: bool
) -> None:
    """Save the last run, with all that was changed in it, as the report NAME of the workspace.

    \b
    fermata report refused-entries --only place=Library --period 'last week'
    fermata save refused-at-library
    """
    workspace = common.open_workspace(ctx)
    report = workspace.reports.definition(source)
    if named := {k: v for k, v in {"title": title, "category": category}.items() if v is not None}:
        report = report.changed(**named)
    for what, words in workspace.reports.describe(report):
        common.note(f"{what:<12}{words}")
    moves, exact, words = workspace.reports.period_words(report)
    path = workspace.reports.save(name, report, fixed=fixed, over=replace)
    if fixed or not moves:
        common.note(f"written: {path}\nperiod: fixed, {words} ({exact}); it will show the same time whenever it is run")
    else:
        common.note(
            f"written: {path}\nperiod: relative, {report.period}; today that is {words} (--fixed keeps exactly that)"
        )


@click.command(name="trace")
@click.argument("name")
@click.option("--period", metavar="PERIOD", default="all", show_default=True, help="As in fermata report.")
@click.option("--zone", metavar="ZONE", help="Times of this zone.")
@click.option("--log", metavar="LOG", default="", help="In this log only.")
@emit.output
@click.option("--part", metavar="N|TITLE", help="Only the summary (1), or only the events (2).")
@click.option("--limit", type=common.Whole(min=1), metavar="N", help="List at most N events; the cut is stated.")
@click.pass_context
def trace(ctx: click.Context, /, name: str, **options: Any) -> None:
    """Follow a person, device, place or shared id through every log: a summary, then the events in time order.

    NAME is any name of theirs; where it may mean several, FIELD=NAME says which.

    \b
    fermata trace 'Ada Umberlin' --period 2026-03-05
    fermata trace B-1330 --period 'last week'
    fermata trace device='Score vault' --period 2026-03
    fermata trace case=C-306
    """
    workspace = common.open_workspace(ctx)
    field, equals, value = name.partition("=")
    asked = {"field": field.strip(), "name": value.strip()} if equals else {"name": name}
    chosen = {k: options[k] for k in ("period", "zone", "log") if options[k]}
    result = workspace.trace(**asked, limit=emit.most(options["limit"], options["output"]), **chosen)
    answer = result.part(options["part"]) if options["part"] else result.answer
    limit = options["limit"] and max(options["limit"], len(result.parts[0].rows))  # the summary is never cut
    emit.emit(answer, options["output"], limit)
