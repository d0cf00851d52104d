"""fermata demo"""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from fermata.cli import common

__all__ = ["command"]

NOW = "2026-04-01T08:12"
WALK = (
    ("Can these logs be trusted? One line each; all of one: fermata survey doors", ["survey"]),
    ("Refused entries at the doors last month", ["report", "refused-entries"]),
    (
        "Where those of the score vault come from: the events themselves",
        [
            "report",
            "refused-entries",
            "--records",
            "--at",
            "place=Library",
            "--at",
            "device=Score vault",
            "--limit",
            "8",
        ],
    ),
    ("How long people talk, by line", ["report", "calls-by-line"]),
    ("Hours by person and month, the ten with most", ["report", "hours-by-person", "--top", "10"]),
    (
        "Hours by department, as it was on the day: people move in January",
        [
            "report",
            "entries",
            "--period",
            "2025-12/2026-02",
            "--by",
            "user.department",
            "--across",
            "month",
            "--columns",
            "time",
        ],
    ),
    ("Visits paired from the readers: time added up, time once, most at once", ["report", "room-use"]),
    ("Worked, required, excused and the balance", ["report", "worked-and-required"]),
    ("What calls cost, by class and the rates of their day", ["report", "call-charges"]),
    ("Is the change more than chance?", ["report", "calls-compared"]),
    ("Who is inside at a time", ["inside", "doors", "--at", "2026-03-05T14:00", "--limit", "8"]),
    ("Licences and who used them, those nobody used included", ["report", "licence-use"]),
    ("Pages and cost by printer", ["report", "pages-by-printer"]),
    ("When people come in", ["report", "busiest-hours"]),
    (
        "A question of your own, asked of a log directly",
        [
            "report",
            "doors",
            "--period",
            "2026-03",
            "--without",
            "action=in,out",
            "--by",
            "device,action",
            "--columns",
            "count,distinct user,last",
            "--explain",
        ],
    ),
    ("Ready reports by what is asked; all of them: fermata reports", ["reports", "--search", "not used"]),
    ("One row a person over all logs", ["report", "person-by-person", "--limit", "8"]),
    ("One verdict before hours are paid", ["report", "payroll-check", "--limit", "3"]),
    ("Everything one person did on a day, in every log", ["trace", "Ada Umberlin", "--period", "2026-03-05"]),
    ("Who is meant? Candidates by part of a name", ["find", "fenwick"]),
    (
        "One report to hand on: a page that leads to the events, a document, a workbook, a chart",
        [
            "report",
            "refused-entries",
            *(a for form in ("html", "pdf", "xlsx", "png") for a in ("--output", f"{{}}/refused.{form}")),
        ],
    ),
    (
        "A run kept with what proves it",
        ["report", "worked-and-required", "--keep", "for the works council", "--output", "pdf", "--output", "xlsx"],
    ),
    ("Proved: nothing stored was changed, and the same figures come out again", ["verify"]),
    ("What goes out by itself, when, and to whom; fermata send runs what is due", ["schedule"]),
)


@click.command(name="demo")
@click.argument("directory", type=click.Path(path_type=Path), default=Path("quillmere"))
@click.option("--fresh", is_flag=True, help="Replace a demo workspace that is there already.")
def command(directory: Path, fresh: bool) -> None:
    """Make the sample workspace in DIRECTORY (./quillmere), import its logs and walk through its reports.

    Quillmere Hall is invented: half a year of fifteen logs in nine formats and registers of people, things and rates, made from a seed, with
    the faults real logs have.
    """
    from fermata import demo

    demo.make(directory, fresh=fresh)
    common.note(f"made {directory}: fermata.toml, incoming/, registers/, reports/")
    for title, arguments in (("Bring the logs in; every record is accounted for", ["import"]), *WALK):
        click.secho(f"\n── {title}", bold=True)
        _run(directory, arguments)
    click.echo(
        f"\nNow change one thing and run it again; all options: fermata report --help. The workspace: {directory}"
    )


def _run(directory: Path, arguments: list[str]) -> None:
    from fermata.cli.main import cli

    whole = ["-w", str(directory), "--now", NOW, *(a.replace("{}", str(directory)) for a in arguments)]
    click.secho(f"$ fermata {shlex.join(whole)}\n", dim=True)
    cli.main(whole, standalone_mode=False, prog_name="fermata")
