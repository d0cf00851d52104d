"""The command line as a process: what people type, what comes back, how it fails."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import re
import runpy
import shlex
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click
import duckdb
import pytest

from fermata.api.workspace import Workspace
from fermata.cli.common import Beside
from fermata.errors import FermataError
from tests.conftest import ROOT, fermata, some
from tests.soak.commands import commands, said

NOW = "2026-04-01T08:12"


def ask(hall: Workspace, *arguments: str, code: int = 0) -> str:
    done = fermata("-w", str(hall.path), "--now", NOW, *arguments, code=code)
    return done.stdout if code == 0 else done.stderr


def table(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


@pytest.mark.deep
def test_the_demonstration_shows_five_steps(tmp_path: Path) -> None:
    """`fermata demo` prints each command before its output and what to type next; every line of it works as printed."""
    shown = fermata("demo", "hall", cwd=tmp_path).stdout
    assert shown.count("\n$ ") == 5
    assert len(shown.splitlines()) < 120
    assert "Refused entries by door" in shown
    for line in (line for line in shown.splitlines() if " -w hall " in line and not line.startswith("$")):
        fermata(*shlex.split(line.partition("#")[0])[1:], cwd=tmp_path)
    assert "is not empty" in fermata("demo", "hall", cwd=tmp_path, code=2).stderr
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "precious").write_text("x")
    assert "is no demo workspace; nothing is removed" in fermata("demo", "mine", "--fresh", cwd=tmp_path, code=2).stderr


def test_new_import_report(tmp_path: Path) -> None:
    """From an empty directory to a figure, with the file's own words."""
    fermata("new", "office", "--zone", "Europe/Lisbon", cwd=tmp_path)
    place = tmp_path / "office"
    (place / "incoming" / "d.csv").write_text("When,Badge\n2026-03-01 10:00,B-1\n2026-03-02 10:00,B-2\nlate,B-2\n")
    with (place / "fermata.toml").open("a") as f:
        f.write(
            '[logs.doors]\nfiles = "incoming/*.csv"\nreject_limit = 0\n[logs.doors.fields]\nstart = "When"\nuser = '
            '"Badge"\n'
        )
    done = fermata("import", cwd=place, code=1)
    assert done.stdout.splitlines()[1].split(maxsplit=4) == ["doors", "1", "3", "2", "1 rejected"]
    assert "more rejected records than its reject_limit of 0" in done.stderr
    (reject,) = table(fermata("survey", "doors", "--part", "rejects", "--output", "csv", cwd=place).stdout)
    assert (reject["Record"], reject["Line"], reject["Reason"]) == (
        "3",
        "4",
        "start: 'late' is not a time written as ISO 8601",
    )
    assert "import 1" in fermata("import", "--list", cwd=place).stdout
    assert table(fermata("report", "doors", "--by", "user", "--output", "csv", cwd=place).stdout) == [
        {"User": "B-1", "Count": "1"}, {"User": "B-2", "Count": "1"}
    ]  # fmt: skip
    assert "exists already" in fermata("new", "office", cwd=tmp_path, code=2).stderr


def test_by_user_across_month(hall: Workspace) -> None:
    """The grid's columns are the period's months and their total; piped output is neither cut nor coloured."""
    text = ask(hall, "report", "doors", "--period", "2026-Q1", "--by", "user", "--across", "month")
    assert text.splitlines()[3].split() == ["Count"]
    assert text.splitlines()[4].split() == ["User", "2026-01", "2026-02", "2026-03", "Total"]
    assert "\x1b" not in text
    unknown = [line.split()[0] for line in text.splitlines() if line.startswith("B-")]
    assert unknown == ["B-1050"]
    assert "B-1050 (badge)" in text  # whose validity ended in January: not resolved, and shown as what it is
    assert len(text.splitlines()) > 100


def test_outputs_agree(hall: Workspace, tmp_path: Path) -> None:
    """Terminal, CSV and JSON hold the same figures, and a file is written whole."""
    asked = ["report", "pages-by-printer"]
    rows = table(ask(hall, *asked, "--output", "csv"))
    data = json.loads(ask(hall, *asked, "--output", "json"))
    body = [r["values"] for r in data["rows"] if r["level"] == 2]
    assert [[r["Printer"], r["Colour"], r["Jobs"], r["Cost"]] for r in rows] == [
        [v[0], v[1], str(v[2]), v[5]] for v in body
    ]
    text = ask(hall, *asked)
    for row in rows:
        assert f"{int(row['Pages']):,}" in text
        assert f"{float(row['Cost']):,.2f}" in text
    path = tmp_path / "pages.csv"
    ask(hall, *asked, "--output", str(path))
    assert table(path.read_text()) == rows
    assert "has the ending '.xyz', which names no form" in ask(
        hall, *asked, "--output", str(tmp_path / "a.xyz"), code=2
    )
    assert not list(tmp_path.glob("*.xyz"))


def test_records_add_up_to_the_cell(hall: Workspace) -> None:
    """`--records` lists the events behind a cell with file, record number and contribution; the source can be shown."""
    asked = [
        "report",
        "hours-by-person",
        "--output",
        "json",
        "--events",
        "--cell",
        "user=Wanda São-Brás",
        "--cell",
        "month=2025-10",
    ]
    data = json.loads(ask(hall, *asked))
    seconds = sum(r["values"][-1] for r in data["rows"])
    grid = table(ask(hall, "report", "hours-by-person", "--output", "csv"))
    shown = next(r["2025-10 Time"] for r in grid if r["User"] == "Wanda São-Brás")
    assert f"{seconds // 3600}:{seconds // 60 % 60:02d}:00" == shown
    names = [c["name"] for c in data["columns"]]
    record = data["rows"][0]["values"][names.index("record")]
    whole = ask(hall, "events", "timesheets", "--show", record)
    assert "Wanda São-Brás" in whole
    assert "Remark" in whole


def test_sql_gives_the_same_rows_in_every_form(hall: Workspace, tmp_path: Path) -> None:
    """To standard output or to a file; an unknown form, or a file that cannot be written, leaves nothing."""
    query = "SELECT place, count(*) AS n FROM doors WHERE place IS NOT NULL GROUP BY place ORDER BY place"
    rows = [(r["place"], int(r["n"])) for r in table(ask(hall, "archive", "sql", query, "--output", "csv"))]
    assert len(rows) > 3
    assert [
        tuple(json.loads(line).values()) for line in ask(hall, "archive", "sql", query, "--output", "json").splitlines()
    ] == rows
    shown = ask(hall, "archive", "sql", query).splitlines()[1:]
    assert [(p, int(n)) for p, n in (line.rsplit(maxsplit=1) for line in shown)] == rows
    ask(hall, "archive", "sql", query, "--output", str(tmp_path / "rows.parquet"))
    assert list(duckdb.sql(f"FROM '{tmp_path / 'rows.parquet'}'").fetchall()) == rows
    for wrong, code in (("rows.doc", 2), ("nowhere/rows.csv", 1)):
        ask(hall, "archive", "sql", query, "--output", str(tmp_path / wrong), code=code)
    assert [p.name for p in tmp_path.iterdir()] == ["rows.parquet"]


def test_explain_and_dry_run(hall: Workspace) -> None:
    """What each filter took away; what a run would do, without running it."""
    text = ask(
        hall,
        "report",
        "doors",
        "--period",
        "2026-03",
        "--only",
        "action=refused",
        "--without",
        "place=Library",
        "--explain",
    )
    assert "16,273  in the period" in text
    assert "83  only action is refused  (16,190 removed)" in text
    assert "64  without place is Library  (19 removed)" in text
    dry = ask(hall, "report", "refused-entries", "--dry-run")
    assert "2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00, the end excluded; Europe/London" in dry
    assert "moves with the clock" in dry
    assert re.search(r"at most 16,2\d\d events in 1 file, 0\.\d MB", dry)


def test_nothing_found_says_why(hall: Workspace) -> None:
    """Which filter emptied the result, how far the log goes, and what lies around the period."""
    text = ask(
        hall, "report", "doors", "--period", "2026-03-15", "--only", "action=forced", "--only", "device=Score library"
    )
    assert "removed all" in text
    assert "the last such event before the period:" in text
    future = ask(hall, "report", "doors", "--period", "2027")
    assert "the period lies after the last record of doors" in future
    assert "nothing found: doors has no events in this period" in future


@pytest.mark.parametrize(
    ("arguments", "message"),
    some(
        [
            (["report", "refusd-entries"], "no report 'refusd-entries'; did you mean 'refused-entries' or"),
            (["report", "doors", "--by", "usr"], "no dimension 'usr' in the log doors; did you mean 'user'"),
            (
                ["report", "doors", "--only", "user=B-10011"],
                "no user 'B-10011' in the log doors; did you mean 'B-1001'",
            ),
            (["report", "doors", "--only", "colour=red"], "no field 'colour' in the log doors"),
            (["report", "doors", "--period", "lastmonth"], "cannot read the period 'lastmonth'"),
            (["report", "doors", "--columns", "cuont"], "no measure 'cuont'; did you mean 'count' or 'union'?"),
            (["report", "doors", "--columns", "time"], "the log doors has no finish and no duration"),
            (["report", "prints", "--columns", "total title"], "total title means nothing: title is a text"),
            (["report", "prints", "--only", "pages=many"], "pages: 'many' is not a number without decimals"),
            (["report", "doors", "--sort", "Cuont"], "no column 'Cuont' to sort by; did you mean 'Count'?"),
            (["report", "doors", "--zone", "CET+1"], "no time zone 'CET+1'"),
            (["report", "doors", "--perod", "2026"], "there is no option '--perod'; did you mean '--period'?"),
            (
                ["report", "doors", "--by", "user", "--events", "--cell", "user=Nobody"],
                "no user 'Nobody' in this result",
            ),
            (["report", "doors", "--cell", "user=B-1001"], "--cell has no effect without --events"),
            (["events", "dors"], "no log 'dors'; did you mean 'doors'?"),
            (["events", "doors", "--show", "99:1"], "there is no file 99 in this log"),
            (["repots"], "no command 'repots'; did you mean 'reports'"),
            (["shelf", "lst"], "no command 'lst' (commands: copy, drop,"),
            (["evacuation", "start"], "no command 'start' (commands: begin, end,"),
            (["expire"], "it is: fermata archive expire"),
            (
                ["report", "doors", "--by", "user", "--limit", "2", "--output", "csv"],
                "csv holds all rows of a table; --top 2",
            ),
            (
                ["report", "doors", "--by", "user", "--chart", "bar", "--output", "csv"],
                "chart has no effect in csv; it has",
            ),
            (
                ["report", "doors", "--notes", "all", "--output", "csv"],
                "--notes chooses what is shown below a table here",
            ),
            (["report", "doors", "--display", "paper=A3"], "paper has no effect in txt; it has in pdf, xlsx"),
            (
                ["report", "doors", "--keep", "x", "--explain"],
                "--explain has no effect with --keep; leave one of them out",
            ),
            (
                ["report", "doors", "--keep", "x", "--display", "clock=12", "--output", "json"],
                "clock has no effect in json",
            ),
            (["report", "overview", "--explain"], "--explain goes with one table of figures; of a page"),
            (["report", "doors", "--events", "--part", "1"], "--part has no effect with --events"),
            (["events", "doors", "--show", "1:1", "--limit", "3"], "--limit has no effect with --show"),
            (["survey", "--part", "fields"], "--part has no effect without LOG"),
            (["survey", "doors", "--export", "x.csv", "--part", "fields"], "--part has no effect with --export"),
            (
                ["report", "doors", "--output", "csv", "--output", "json"],
                "standard output takes one form, not csv, json",
            ),
            (["import", "doors", "--list", "--wait", "1"], "--wait has no effect with --list"),
            (["import", "dors", "--list"], "no log 'dors'; did you mean 'doors'?"),
            (["map", "--kinds", "--add"], "--add has no effect with --kinds"),
            (["reports", "--recent", "--here"], "--here has no effect with --recent"),
            (["schedule", "--cc", "ada@quillmere.example"], "--cc has no effect without --mail or --recipient"),
            (["schedule", "x", "--pause", "--add"], "--add has no effect with --pause"),
            (["reports", "refused-entries", "--recent"], "NAME has no effect with --recent"),
            (["reports", "refused-entries", "--category", "Doors"], "--category has no effect with NAME"),
            (["schedule", "vault", "--units", "cron"], "NAME has no effect with --units"),
            (["send", "vault", "--try", "--quiet"], "--quiet has no effect with --try"),
            (["shelf", "--gone", "show", "1"], "--gone is of the list alone; it has no effect with show"),
            (["page", "new", "doors", "--display", "paper=A3"], "paper has no effect in txt"),
            (["survey", "doors", "--part", "overview", "--display", "paper=A3"], "paper has no effect in txt"),
            (["report", "doors", "--only", "refused"], "cannot read the filter 'refused'; write FIELD=VALUE"),
        ],
        3,
    ),
)
def test_wrong_requests(hall: Workspace, arguments: list[str], message: str) -> None:
    """Exit code 2 and a sentence: what is wrong, what exists, the nearest match. Never a traceback."""
    assert message in ask(hall, *arguments, code=2)


@pytest.mark.parametrize("group", ["people", "evacuation"])
def test_a_group_of_commands_alone_shows_its_help(hall: Workspace, group: str) -> None:
    """On standard error, as nothing was done."""
    shown = ask(hall, group, code=2)
    assert shown.startswith(f"Usage: fermata {group}")
    assert "Commands:" in shown
    assert "Error" not in shown


def test_an_option_that_has_an_effect_only_with_another_is_refused_without() -> None:
    """Whatever command has one: its help says what it goes with, and nothing is done without that."""
    values = {"integer range": "3", "float range": "3", "choice": ""}
    seen = 0
    for words, command in commands():
        needed = ["x" for p in command.params if isinstance(p, click.Argument) and p.required]
        for option in command.params:
            if not isinstance(option, Beside):
                assert not (getattr(option, "help", None) or "").startswith("With --"), (words, option)
                continue
            kind = option.type
            value = kind.choices[0] if isinstance(kind, click.Choice) else values.get(kind.name, "x")
            typed = [*needed, option.opts[0], *([] if option.is_flag else [str(value)])]
            with pytest.raises(click.UsageError, match=f"{option.opts[0]} has no effect without"):
                command.make_context(words[-1], typed, obj={})
            seen += 1
    assert seen > 30


def test_an_unknown_display_choice_stops_every_command_before_it_does_anything() -> None:
    """Also those that write, and those that show no table."""
    seen = 0
    for words, command in commands():
        if "display" in {p.name for p in command.params}:
            needed = ["x" for p in command.params if isinstance(p, click.Argument) and p.required]
            with pytest.raises(FermataError, match="colour"):
                command.make_context(words[-1], [*needed, "--display", "colour=red"], obj={})
            seen += 1
    assert seen > 12


def test_reports_are_listed_and_shown(hall: Workspace) -> None:
    """Names with titles; a definition as its file says it."""
    assert "refused-entries" in ask(hall, "reports")
    assert 'title = "Refused entries by door"' in ask(hall, "reports", "refused-entries", "--definition")
    told = ask(hall, "reports", "refused-entries")
    assert "Columns    Refused (count); People (distinct user); Last" in told
    assert "Score vault" in told
    assert len([line for line in told.splitlines() if line.startswith((" ", "Stage", "Library"))]) <= 5


def test_a_report_file_with_mistakes(tmp_path: Path) -> None:
    """All problems of a report file at once, each with line and key."""
    fermata("new", "w", cwd=tmp_path)
    place = tmp_path / "w"
    (place / "reports" / "bad.toml").write_text(
        'log = "doors"\nperiodd = "2026"\ntop = 0\n[[columns]]\nmeasure = "cuont"\n'
    )
    error = fermata("report", "bad", cwd=place, code=2).stderr
    assert "3 problems" in error
    assert "line 2, periodd: there is no such key; did you mean period" in error
    assert "line 3, top: should be greater than or equal to 1, not 0" in error
    assert "line 5, columns 1: there is no measure 'cuont'; did you mean 'count' or 'union'?" in error


def test_hostile_text_only_ever_shows(tmp_path: Path) -> None:
    """Escape sequences and direction overrides from a log do not reach the terminal."""
    fermata("new", "w", cwd=tmp_path)
    place = tmp_path / "w"
    with (place / "fermata.toml").open("a") as f:
        f.write('[logs.doors]\nfiles = "incoming/*.csv"\n[logs.doors.fields]\nstart = "When"\nuser = "Who"\n')
    (place / "incoming" / "d.csv").write_text("When,Who\n2026-03-01 10:00,\x1b[31mred\u202e'; DROP TABLE x --\n")
    fermata("import", cwd=place)
    done = fermata("report", "doors", "--by", "user", cwd=place)
    assert "[31mred'; DROP TABLE x --" in done.stdout
    assert not {"\x1b", "\u202e"} & set(done.stdout)
    again = fermata("report", "doors", "--by", "user", "--only", "user~*DROP*", "--output", "csv", cwd=place)
    assert again.stdout.count("\n") == 2


@pytest.mark.deep
def test_the_reader_may_leave_early(hall: Workspace) -> None:
    """`| head` ends quietly."""
    import subprocess
    import sys

    code = "from fermata.cli.main import main; main()"
    with subprocess.Popen(
        [
            sys.executable,
            "-c",
            code,
            "-w",
            str(hall.path),
            "events",
            "doors",
            "--period",
            "2026-03",
            "--output",
            "csv",
        ],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    ) as child:
        assert child.stdout
        assert child.stderr
        child.stdout.readline()
        child.stdout.close()
        errors = child.stderr.read().decode()
        child.wait()
    assert "Traceback" not in errors
    assert child.returncode in (0, 141)


@pytest.mark.deep
def test_two_days_of_the_timetable_of_the_sample(hall: Workspace, tmp_path: Path) -> None:
    """The example with a simulated clock, for its first days: the month's refusals, each department's own hours."""
    shutil.copytree(hall.path, tmp_path / "hall")
    example = runpy.run_path(str(ROOT / "examples" / "two_months_of_deliveries.py"))
    first = datetime(2026, 2, 1, 6, 0, tzinfo=UTC)
    with contextlib.redirect_stdout(io.StringIO()) as said:
        inbox = example["main"](
            tmp_path / "hall", first, first + timedelta(hours=25, minutes=30), timedelta(hours=12, minutes=45)
        )
    told = said.getvalue()
    assert "sent        refused-monthly to folder outbox/security  refused-2026-01.pdf, refused-2026-01.xlsx" in told
    assert "no address  hours-by-department, workshop  no mail in the register departments" in told
    subjects = [m["Subject"] for _, m in inbox.letters]
    assert "Hours of stage, 26 January to 1 February 2026" in subjects


def test_what_has_no_effect_is_refused_before_the_work(tmp_path: Path) -> None:
    """Every command that shows a table says it where there is nothing to work on yet, and a folder stays as it was."""
    shown = [(words, c) for words, c in commands() if any(p.name == "display" for p in c.params)]
    assert len(shown) > 12
    for words, command in shown:
        needed = ["x" for p in command.params if isinstance(p, click.Argument) and p.required]
        needed += ["--since", "2026-03-01"] if words[-1] == "begin" else []
        for given, told in (
            (["--display", "paper=A3"], "paper has no effect in txt"),
            (["--output", "x.doc"], "'.doc'"),
        ):
            code, error = said(["-w", str(tmp_path), *words, *needed, *given], tmp_path)
            assert (code, told in error) == (2, True), (words, given, error)
    assert {p.name for p in tmp_path.iterdir()} == {"out.txt", "err.txt"}
