"""fermata report"""

from __future__ import annotations

import re
from typing import Any

import click

from fermata.cli import common, emit

__all__ = ["command"]

APART = re.compile(r"(?:'[^']*'|\"[^\"]*\"|\([^)]*\)|[^,])+")  # between commas, but not those in brackets and quotes


OF_ONE = "--explain goes with one table of figures; of a page, ask the report of a part"
UNSET = {"by": (), "across": None, "zero_rows": None, "hours": None, "rounding": None, "date_field": None,
    "compare": None, "each": ""}  # fmt: skip  # what `none` takes away


@click.command(name="report")
@click.argument("name")
@common.narrowing
@click.option(
    "--same-as",
    metavar="NAME",
    help="With the period and zone of another report, or of the last run, and its filters on fields this one does "
    "not filter itself.",
)
@click.option("--log", metavar="LOG", help="Of this log instead of the report's own.")
@click.option(
    "--by",
    metavar="DIM,...",
    help="Group by fields and calendar units (day, month, weekday ...), outermost first; none for no groups.",
)
@click.option("--across", metavar="DIM", help="Lay one dimension out over the columns; none for none.")
@click.option(
    "--columns",
    metavar="MEASURE,...",
    help="count, time, 'total duration', 'distinct user', 'distinct call' (a call that rings several phones once), "
    "'distinct day' "
    "(days used), 'mean duration', 'p95 duration', 'share count of parent', or 'Label = formula'.",
)
@click.option(
    "--add-column",
    multiple=True,
    metavar="WORDS",
    help="One more column, of any log: 'Calls out: count of calls where direction is out', 'Night: time of "
    "timesheets during night', 'A day = time / days'.",
)
@click.option("--target", metavar="NAME", help="What was done towards a target of fermata.toml, and the part in %.")
@click.option("--drop-column", multiple=True, metavar="COLUMN", help="Without this column.")
@click.option("--rename", multiple=True, metavar="'OLD = NEW'", help="Another heading for a column.")
@click.option("--sort", metavar="COLUMN,...", help="Order by columns or dimensions; -COLUMN for downwards.")
@click.option(
    "--top",
    type=common.Whole(min=1),
    metavar="N",
    help="The N highest of the first dimension; the rest in one row.",
)
@click.option(
    "--zero-rows", metavar="FIELD", help="Rows also for users, devices, actions or an assignment without any event."
)
@click.option(
    "--hours",
    metavar="HOURS",
    help="Only these hours: a name of the workspace (office, 'outside office'), or days and times "
    "('sunday', '22:00-06:00').",
)
@click.option(
    "--rounding", metavar="HOW", help="Round each entry's length first: 'up 15 minutes', 'nearest 6 minutes'."
)
@click.option("--date-field", metavar="FIELD", help="The period goes by this time instead of the start.")
@click.option(
    "--compare",
    metavar="PERIOD",
    help="Set beside: before, 'year ago', '52 weeks ago', 'weekdays before', or a period.",
)
@click.option(
    "--full-period", is_flag=True, default=None, help="Compare with all of it, though this period is not over."
)
@click.option(
    "--rows",
    multiple=True,
    metavar="CONDITION",
    help="Only rows with 'Count = 0', 'Time >= 8h', 'First > 09:00', 'Reached < 90 %'.",
)
@click.option("--check", "checks", multiple=True, metavar="EQUALITY", help="What must hold: 'Colour + Mono = Pages'.")
@click.option("--warn", multiple=True, metavar="LIMIT", help="Say which rows cross a limit: 'Refused > 20'.")
@click.option(
    "--measures",
    type=click.Choice(["across", "down"]),
    help="Columns beside each other, or below each other under each group.",
)
@click.option(
    "--chart",
    metavar="KIND",
    help="What a chart draws as: bar, stacked, ranked, line, area, share, panels, 'heat map'; none for no chart. A "
    "terminal shows bars.",
)
@click.option("--chart-of", metavar="COLUMN", help="Which column a chart draws; the first by default.")
@click.option("--each", metavar="FIELD", help="One part for each value of a field, as for statements.")
@click.option(
    "--set",
    "keys",
    multiple=True,
    metavar="KEY=VALUE",
    help="Any other key of the definition: as_of=2026-01-01, 'ask.back=8 hours', listing.most=50.",
)
@click.option("--part", metavar="N|TITLE", help="Of a page of several parts, only this one.")
@click.option("--totals/--no-totals", default=None, help="With or without subtotals and grand total.")
@emit.output
@click.option(
    "--keep",
    "label",
    is_flag=False,
    flag_value="",
    metavar="LABEL",
    help="Put it on the shelf in the forms of --output (pdf), with what proves it.",
)
@click.option("--limit", type=common.Whole(min=1), metavar="N", help="Show at most N rows; the cut is stated.")
@click.option("--explain", is_flag=True, help="Say how many events each filter removed.")
@click.option("--dry-run", is_flag=True, help="Say period, zone, filters, coverage and expected size; run nothing.")
@click.option("--events", is_flag=True, help="List the events behind a figure, with file, record and contribution.")
@common.beside("--events")("--cell", multiple=True, metavar="GROUP=VALUE", help="the group whose figure is meant.")
@common.beside("--events")("--column", metavar="COLUMN", help="the column whose figure is meant; the first by default.")
@click.pass_context
def command(ctx: click.Context, /, name: str, **options: Any) -> None:
    """Run the report NAME, or ask the log NAME directly; `last` is the last run, `last-2` the one before it.

    Every option changes the report for this run only.

    \b
    fermata report refused-entries
    fermata report last --only place='Stage side'
    fermata report entries-by-day --same-as last
    fermata report doors --period 2026-03 --by user --across month
    fermata report calls --only action=answered --by device --columns count,time,'mean duration'
    fermata report doors --by place --events --cell place='Stage side'
    fermata report timesheets --by user --hours night --columns time,'A day = time / days' --compare before
    """
    common.alone(ctx, "label", "events", "explain", "limit", "notes", "part")
    common.alone(ctx, "events", "part", "explain", "chart")
    workspace = common.open_workspace(ctx)
    report = workspace.reports.definition(name)
    if options["same_as"]:
        report = report.narrowed_as(workspace.reports.definition(options["same_as"]))
    report = report.with_keys(common.keys(options["keys"], "--set")) if options["keys"] else report
    report = workspace.reports.with_target(report, options["target"]) if options["target"] else report
    report = common.narrowed(workspace, _shaped(report, options), options)
    if options["dry_run"]:
        for what, words in workspace.reports.describe(report):
            click.echo(f"{what:<12}{words}")
        return
    if options["label"] is not None:
        report = emit.as_displayed(report, options["output"])
        named = "" if options["same_as"] or report != workspace.reports.definition(name) else name
        forms = options["output"] or ("pdf",)
        item = workspace.shelf.keep(report, forms, named=named, label=options["label"], author=emit.author())
        common.note(f"on the shelf: item {item.number}, {', '.join(item.outputs)}")
        return
    if options["explain"] and report.parts:
        raise click.UsageError(OF_ONE)
    result = workspace.run(report, explain=options["explain"], limit=emit.most(options["limit"], options["output"]))
    if not ctx.obj["viewer"]:
        workspace.reports.remember(report)
    if options["events"]:
        records = result.events(of=options["column"], at=_pairs(options["cell"]), limit=options["limit"])
        emit.emit(records, options["output"], options["limit"], how=result.display)
        return
    answer = result.part(options["part"]) if options["part"] else result.answer
    steps = getattr(answer, "steps", ())
    if options["explain"] and not steps:
        raise click.UsageError(OF_ONE)
    emit.emit(answer, options["output"], options["limit"], how=result.display)
    if options["explain"]:
        _explain(steps, apart=bool(options["output"]))


def _shaped(report: Any, options: dict[str, Any]) -> Any:
    from fermata.reports.definition.changes import with_columns

    single = (
        "log", "by", "across", "zero_rows", "sort", "top", "totals", "hours", "rounding", "date_field", "compare",
        "full_period",
        "measures",
        "chart", "each",
    )  # fmt: skip
    changes = {k: options[k] for k in single if options[k] is not None}
    changes |= {k: v for k, v in UNSET.items() if changes.get(k) == "none"}
    if options["chart_of"]:
        changes["chart"] = f"{changes.get('chart', report.charted[0])} of {options['chart_of']}".strip()
    changes |= {k: options[k] for k in ("rows", "checks", "warn") if options[k]}
    if options["columns"]:
        changes["columns"] = [c.strip() for c in APART.findall(options["columns"])]
        changes |= {
            "sort": options["sort"] or (),
            "warn": options["warn"],
            "checks": options["checks"],
            "rows": options["rows"],
        }
    if changes.keys() & {"by", "across", "columns"} and "title" not in changes:
        changes["title"] = report.title and report.title + _regrouped(changes)
    report = report.changed(**changes) if changes else report
    return with_columns(report, options["add_column"], options["drop_column"], options["rename"])


def _regrouped(changes: dict[str, Any]) -> str:
    """What a title says of other groups than the report's own."""
    told = [f"{key} {changes[key]}" for key in ("by", "across") if changes.get(key)]
    return f" · {', '.join(told)}" if told else ""


def _pairs(texts: tuple[str, ...]) -> dict[str, str]:
    pairs = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals:
            raise click.UsageError(f"--cell {text!r}: write DIM=VALUE as the report shows them")
        pairs[name.strip()] = value.strip()
    return pairs


def _explain(steps: Any, *, apart: bool) -> None:
    """Says what each filter left, apart from an output that another program reads."""
    for log, counted in steps:
        click.echo(f"\nEvents of {log}", err=apart)
        for step in counted:
            taken = f"  ({step.removed:,} removed)" if step.removed else ""
            click.echo(f"{step.left:>12,}  {step.text}{taken}", err=apart)
