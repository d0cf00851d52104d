"""fermata demo"""

from __future__ import annotations

import shlex
import shutil
import sys
from pathlib import Path

import click

from fermata.cli import common

__all__ = ["command"]

STEPS = (  # what one remembers: brought in, a report, one thing changed, a figure followed, handed on
    ("1 of 5. Bring the logs in: every record is accounted for", "import"),
    ("2 of 5. A ready report", "report refused-entries"),
    ("3 of 5. The same with one thing changed", "report last --period 2026-02"),
    (
        "4 of 5. A figure followed to the events behind it",
        "report refused-entries --events --cell place=Library --cell 'device=Score vault' --limit 5",
    ),
    (
        "5 of 5. Handed on: a page, a document and a workbook",
        "report refused-entries --output {}/refused.html --output {}/refused.pdf --output {}/refused.xlsx",
    ),
)
NEXT = (
    "report payroll-check                      # one verdict before hours are paid",
    'trace "Ada Umberlin" --period 2026-03-05  # all that one person did on a day',
    "reports --search licence                  # the ready reports about something",
)
TOUR = (
    ("Can these logs be trusted? One line each; all of one: fermata survey doors", "survey"),
    ("Refused entries at the doors last month", "report refused-entries"),
    (
        "Where those of the score vault come from: the events themselves",
        "report refused-entries --events --cell place=Library --cell 'device=Score vault' --limit 8",
    ),
    ("How long people talk, by line", "report calls-by-line"),
    ("Hours by person and month, the ten with most", "report hours-by-person --top 10"),
    (
        "Hours by department, as it was on the day: people move in January",
        "report timesheets --period 2025-12/2026-02 --by user.department --across month --columns time",
    ),
    ("Visits paired from the readers: time added up, time once, most at once", "report room-use"),
    ("Worked, required, excused and the balance", "report worked-and-required"),
    ("What calls cost, by class and the rates of their day", "report call-charges"),
    ("Is the change more than chance?", "report calls-compared"),
    ("Who is inside at a time", "people inside doors --at 2026-03-05T14:00 --limit 8"),
    ("Licences and who used them, those nobody used included", "report licence-use"),
    ("Pages and cost by printer", "report pages-by-printer"),
    ("When people come in", "report busiest-hours"),
    (
        "A question of your own, asked of a log directly",
        "report doors --period 2026-03 --without action=in,out --by device,action --columns "
        "'count,distinct user,last' --explain",
    ),
    ("Ready reports by what is asked; all of them: fermata reports", "reports --search 'not used'"),
    ("One row a person over all logs", "report person-by-person --limit 8"),
    ("One verdict before hours are paid", "report payroll-check --limit 3"),
    ("Everything one person did on a day, in every log", "trace 'Ada Umberlin' --period 2026-03-05"),
    ("Who is meant? Candidates by part of a name", "register find fenwick"),
    (
        "One report to hand on: a page that leads to the events, a document, a workbook, a chart",
        "report refused-entries --output {}/refused.html --output {}/refused.pdf --output "
        "{}/refused.xlsx --output {}/refused.png",
    ),
    (
        "A run kept with what proves it",
        "report worked-and-required --keep 'for the works council' --output pdf --output xlsx",
    ),
    ("Proved: nothing stored was changed, and the same figures come out again", "verify"),
    ("What goes out by itself, when, and to whom; fermata send runs what is due", "schedule"),
)


@click.command(name="demo")
@click.argument("directory", type=click.Path(path_type=Path), default=Path("quillmere"))
@click.option("--fresh", is_flag=True, help="Replace a demo workspace that is there already.")
@click.option("--tour", is_flag=True, help="Show everything, in some two dozen reports, and not the five steps alone.")
def command(directory: Path, fresh: bool, tour: bool) -> None:
    """Make the sample workspace in DIRECTORY (./quillmere), import its logs and show five steps.

    Quillmere Hall is invented: half a year of logs in many formats and registers of people, things and rates, with the
    faults real logs have. Its clock stands still at 1 April 2026, 08:12.
    """
    from fermata import demo

    demo.make(directory, fresh=fresh)
    common.note(f"made {directory}: fermata.toml, incoming/, registers/, reports/")
    for title, arguments in (*STEPS[:1], *TOUR) if tour else STEPS:
        click.secho(f"\n── {title}", bold=True)
        _run(directory, shlex.split(arguments), quiet=not tour)
    click.echo("\nThree things to try next:\n")
    for line in NEXT:
        click.echo(f"  {_program()} -w {shlex.quote(str(directory))} {line}")
    click.echo(f"\nMore: {_program()} demo --tour, and --help of every command.")


def _program() -> str:
    """How the command is typed here: by its name where the shell finds it."""
    return "fermata" if shutil.which("fermata") else shlex.quote(sys.argv[0])


def _run(directory: Path, arguments: list[str], *, quiet: bool) -> None:
    from fermata.cli.main import cli

    whole = ["-w", str(directory), *(a.replace("{}", str(directory)) for a in arguments)]
    click.secho(f"$ {_program()} {shlex.join(whole)}\n", dim=True)
    if quiet and arguments == ["import"]:
        _import(directory)
        return
    cli.main(whole, standalone_mode=False, prog_name="fermata")


def _import(directory: Path) -> None:
    """The import in one line: the command says a line a file, which is much for so many logs."""
    from fermata.api.workspace import open_workspace

    hall = open_workspace(directory)
    logs = [log for log in hall.archive.logs if not hall.base.schemas[log].derivation]
    files = [o.file for log in logs for o in hall.archive.import_log(log) if o.file]
    read, stored = sum(f.read for f in files), sum(f.stored for f in files)
    click.echo(f"{len(files)} files: {read:,} records read, {stored:,} stored; the others are repeats, rejects and")
    click.echo("old versions, each with its reason: fermata survey")
