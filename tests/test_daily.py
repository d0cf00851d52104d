"""The daily flow without a text editor: columns in words, pages, targets, finding, the timetable, notes."""

from __future__ import annotations

import ast
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click
import pytest
from matplotlib.image import imread

from fermata.analysis.measures import MEASURES
from fermata.api.workspace import Workspace, open_workspace
from fermata.cli.completion import proposed
from fermata.cli.main import cli
from fermata.errors import DataError, RequestError, UnknownName
from fermata.notes import KINDS, Note, ordered, shortened
from fermata.reports.definition.catalogue import entries
from fermata.reports.definition.changes import with_columns, without_filters
from fermata.reports.definition.report import Report
from fermata.reports.definition.search import SAME, ranked
from fermata.reports.definition.wording import column_of
from fermata.timeline.recurrence import recurrence
from tests.conftest import NOW, ROOT, Maker, fermata, sample


@pytest.fixture
def here(hall: Workspace, tmp_path: Path) -> Workspace:
    """The sample, to be changed."""
    shutil.copytree(hall.path, tmp_path / "hall")
    return open_workspace(tmp_path / "hall", now=NOW)


@pytest.mark.parametrize(
    ("words", "keys"),
    [
        ("count", {"measure": "count"}),
        ("share count of parent", {"measure": "share count of parent"}),
        ("Free = 6 - peak", {"label": "Free", "formula": "6 - peak"}),
        ("Out: count of calls where direction is out",
         {"measure": "count", "log": "calls", "only": {"direction": ["out"]}, "label": "Out"}),
        ("N: time of visits during night where place is not 'Stage and side' and user like 'A*' or 'B*'",
         {"measure": "time", "log": "visits", "hours": "night", "label": "N",
          "without": {"place": ["Stage and side"]}, "only": {"user": {"like": ["A*", "B*"]}}}),
        ("count where pages from 10 to 50 and title has 'big band' and colour is empty",
         {"measure": "count", "only": {"pages": {"from": "10", "to": "50"}, "title": {"words": "big band"},
                                       "colour": {"empty": True}}}),
        ("p95 duration of door access where action = in",
         {"measure": "p95 duration", "log": "door access", "only": {"action": ["in"]}}),
    ],
)  # fmt: skip
def test_a_column_in_words(words: str, keys: dict[str, Any]) -> None:
    """Label, measure, log or kind, hours and conditions, as a report file has them."""
    assert column_of(words) == keys


@pytest.mark.parametrize("words", ["A: count of calls where direction out", "A: count where a is 1 and a is 2"])
def test_words_that_are_no_column_say_what_would_be(words: str) -> None:
    """What is wrong, and how it is written."""
    with pytest.raises(RequestError, match=r"write|is named twice"):
        column_of(words)


@pytest.mark.deep
@pytest.mark.parametrize(
    "measure", sorted(set(MEASURES) - {"share", "peak time", "at", "over", "capacity", "utilisation"})
)
def test_every_measure_can_stand_in_words(hall: Workspace, measure: str) -> None:
    """A column in words gives the figure of the same measure asked plainly."""
    field = {"distinct": " user", "present": " user", "percentile": " 90 duration"}.get(measure, "")
    field = " duration" if measure in ("total", "mean", "median", "min", "max") else field
    asked = f"{measure}{field}"
    plain = Report.of(log="calls", period="2026-03-02", by=["device"], columns=[asked])
    worded = plain.changed(columns=[f"X: {asked} of calls"])
    assert [r.cells for r in hall.run(worded).table.rows] == [r.cells for r in hall.run(plain).table.rows]


def test_four_logs_in_one_row_equal_each_alone(hall: Workspace) -> None:
    """Columns of several logs, by log and by kind, have the figures of each asked apart; renaming keeps formulas."""
    report = Report.of(log="calls", period="2026-03", by=["user"], columns=["Out: count where direction is out"])
    more = ["In: count of door access where action is in", "Pages: total pages of prints", "Hours: time of timesheets",
            "Both = Out + In"]  # fmt: skip
    whole = with_columns(report, more, (), ("In = Came in",))
    assert [c.heading for c in whole.columns] == ["Out", "Came in", "Pages", "Hours", "Both"]
    total = dict(zip([c.heading for c in whole.columns], hall.run(whole).table.total.cells, strict=True))  # type: ignore[union-attr]  # there is one
    for log, label, column, only in (("doors", "Came in", "count", {"action": "in"}), ("prints", "Pages", "total pages", {}),
                                     ("timesheets", "Hours", "time", {})):  # fmt: skip
        assert total[label] == hall.run(Report.of(log=log, period="2026-03", columns=[column], only=only)).cell()
    assert total["Both"] == total["Out"] + total["Came in"]
    with pytest.raises(RequestError, match="Both needs it"):
        with_columns(whole, (), ("Out",))
    with pytest.raises(UnknownName, match="did you mean 'Pages'"):
        with_columns(whole, (), ("Pagse",))


def test_filters_are_taken_away_again(hall: Workspace) -> None:
    """Without its filter a report counts what a report that never had it counts, and its title says so."""
    report = hall.reports.definition("refused-entries").changed(period="2026-03")
    plain = without_filters(report, ["action"])
    assert "without its filter on action" in plain.title
    assert hall.run(plain).cell() == hall.run(report.changed(only={})).cell() > hall.run(report).cell()
    with pytest.raises(UnknownName, match="action"):
        without_filters(report, ["acton"])


def test_a_page_is_made_and_changed_by_command(here: Workspace) -> None:
    """Parts are added and taken away; the page says what each says alone."""
    here.reports.page("security", "refused-entries", "doors-forced", period="2026-03", layout=[2])
    _, page = here.reports.page("security", "failed-logins", drop=["doors-forced"])
    assert [p.report for p in page.parts] == ["refused-entries", "failed-logins"]
    first = here.run("security").parts[0]
    assert first.cell() == here.report("refused-entries", period="2026-03").cell()
    with pytest.raises(UnknownName):
        here.reports.page("security", "nonsense")
    with pytest.raises(UnknownName):
        here.reports.page("security", drop=["9"])


def test_runs_are_kept_to_go_back_to(here: Workspace) -> None:
    """The last one first; the same run twice is kept once."""
    for only in ("Library", "Workshop", "Workshop"):
        here.reports.remember(Report.of(log="doors", only={"place": only}))
    names = [(n, str(r.selection)) for n, r in here.reports.recent()]
    assert names[:2] == [("last", "only place is Workshop"), ("last-2", "only place is Library")]
    assert here.reports.definition("last-2") == Report.of(log="doors", only={"place": "Library"})
    (here.base.path / "recent" / "1.json").write_text("{")
    with pytest.raises(DataError, match="delete the file"):
        here.reports.definition("last")


def test_every_ready_report_is_kept_as_it_is(here: Workspace) -> None:
    """A run kept and read again is the report that ran."""
    for name in entries():
        report = here.reports.definition(name)
        here.reports.remember(report)
        assert here.reports.definition("last") == report, name


TARGET = sample("houses/daily-target.toml")


@pytest.mark.parametrize(
    ("more", "wanted"),
    [
        ('amount = 3\nper = "day"', {"Ann": 12, "Ben": 12}),  # four days have ended of the fifth's morning
        ('amount = 3\nper = "day"\nworking_days = true', {"Ann": 9, "Ben": 9}),  # 1 March is a Sunday
        ('amount = 70\nper = "week"', {"Ann": 40, "Ben": 40}),  # the Sunday is of the week before: 10, then 3 of 7 days
        ('amount = 3\nper = "day"\nwho = { team = "x" }', {"Ann": 12}),
        ('amount = 3\nper = "day"\namounts = { Ben = 1 }', {"Ann": 12, "Ben": 4}),
        ('amounts = { Ben = 100 }\nper = "once"\nfrom = 2026-03-02', {"Ben": 100}),
    ],
)
def test_targets_add_up_to_the_days_that_have_ended(make: Maker, more: str, wanted: dict[str, int]) -> None:
    """An amount per unit counts for the days that have ended, up to what the log holds; done is what the log counts."""
    rows = "When,Who\n" + "".join(f"2026-03-0{d} 10:00,{b}\n" for d in (1, 2, 3, 4, 5) for b in ("a", "b"))
    people = "Id,Name,Badge,Team\n1,Ann,a,x\n2,Ben,b,y\n"
    hall = make(TARGET.format(more=more), datetime(2026, 3, 5, 9, tzinfo=UTC), doors=rows, people=people)
    hall.archive.import_log("doors")
    found = hall.run(hall.reports.with_target(Report.of(log="doors", period="2026-03", by=["user"]), "visits"))
    told = {r["User"]: (r["Done"], r["Target"]) for r in found.to_dicts()}
    assert {u: t for u, (_, t) in told.items() if t} == wanted
    assert {u: d for u, (d, _) in told.items()} == {"Ann": 5, "Ben": 5}


@pytest.mark.parametrize(
    ("words", "first"),
    [
        ("environmental", "print-footprint"), ("licence take back", "unused-licences"), ("by-person", "entries-by-person"),
        ("hunt group", "calls-of-a-group"), ("payrol", "payroll-check"), ("unusal printing", "unusual-printing"),
        ("who is on site", "who-is-inside"), ("color", "colour-and-mono"), ("customer statement", None),
    ],
)  # fmt: skip
def test_reports_are_found_by_what_people_call_things(words: str, first: str | None) -> None:
    """Other words for the same, slips, hyphens and plurals lead to the report; nonsense to none."""
    found = [e.name for e in ranked(entries().values(), words)]
    assert found
    assert first is None or first in found[:3]
    assert not ranked(entries().values(), "xyzzy")
    assert all(len(set(same)) == len(same) for same in SAME)


@pytest.mark.parametrize(
    ("said", "form"),
    [
        ("every Monday at 7", "weekly on Monday at 07:00"), ("monthly at 14:00", "monthly on the 1st at 14:00"),
        ("each working day at 5 pm", "working days at 17:00"), ("Mondays at 7.30", "weekly on Monday at 07:30"),
        ("every month on the 2nd at 8", "monthly on the 2nd at 08:00"), ("every day at 7am", "daily at 07:00"),
    ],
)  # fmt: skip
def test_times_are_read_as_people_write_them(said: str, form: str) -> None:
    """The same moments as the plain form."""
    start, end = datetime(2026, 3, 1, tzinfo=UTC), datetime(2026, 5, 1, tzinfo=UTC)
    assert recurrence(said, "Europe/London").between(start, end) == recurrence(form, "Europe/London").between(
        start, end
    )


def test_a_delivery_is_made_tried_and_changed_by_options(here: Workspace) -> None:
    """Recipients by part of a name, what would go to whom, one run left out, paused, removed; nothing is sent by it."""
    given = {"report": "refused-entries", "when": "every Monday at 7", "period": "last month"}
    with pytest.raises(RequestError, match="may mean 6 people"):
        here.deliveries.schedule("weekly", **given, to=[{"mail": ["Umberlin"]}])
    _, notes = here.deliveries.schedule("weekly", **given, to=[{"mail": ["Ada Umb"], "subject": "{{ period }}"}])
    assert "runs tell of the same period" in notes[0]
    assert "'last week' fits" in notes[0]
    shelf = here.shelf.items(gone=True)
    shown, told = here.deliveries.trial("weekly", into=here.path / "tried")
    assert [(s.to, s.subject, s.files) for s in shown] == [
        ("a.umberlin@quillmere.example", "1 to 31 March 2026", ("weekly-2026-03.pdf",))
    ]
    assert told == []
    assert here.shelf.items(gone=True) == shelf
    tried = here.path / "tried" / "all"
    assert "<table" in (tried / "mail.html").read_text()
    assert "Subject: 1 to 31 March 2026\n" in (tried / "mail.txt").read_text()
    assert imread(tried / "mail.png").shape[1] >= 800  # as wide as a mail is read
    left = here.deliveries.skip_next("weekly")
    rows = here.deliveries.table("weekly", count=1).rows
    assert f"{left:%Y-%m-%d}" == "2026-04-06" and "2026-04-13" in rows[0][2]  # noqa: PT018  # one is told by the other
    here.deliveries.change("weekly", paused=True)
    assert "paused" in here.deliveries.table("weekly", count=1).rows[0][6]
    here.deliveries.remove("weekly")
    assert "weekly" not in here.deliveries.names()


def test_each_part_of_a_split_is_tried_apart(here: Workspace) -> None:
    """Everybody's own figures go to their own address, and to nobody else."""
    here.deliveries.schedule("own", report="hours-by-person", when="monthly at 7", split={"by": "user", "recipient": "mail"},
                             to=[{"mail": ["recipient"]}], set={"only": {"user": ["Ada Ørskov", "Zelda Bellwether"]}})  # fmt: skip
    shown, _ = here.deliveries.trial("own", into=here.path / "tried")
    assert [s.part for s in shown] == ["Ada Ørskov", "Zelda Bellwether"]
    text = (here.path / "tried" / "Ada Ørskov" / "mail.html").read_text()
    assert "Ada Ørskov" in text
    assert "Zelda" not in text


def test_a_published_folder_holds_what_the_shelf_holds(here: Workspace, tmp_path: Path) -> None:
    """One page leads to all; what is dropped goes; what a viewer was given stays out."""
    report = here.reports.definition("refused-entries")
    one, two = (here.shelf.keep(report.changed(period=p), ["html"]) for p in ("2026-02", "2026-03"))
    here.shelf.publish(tmp_path / "out")
    page = (tmp_path / "out" / "index.html").read_text()
    assert page.index("1 to 31 March 2026") < page.index("1 to 28 February 2026")
    assert all(f"{i.number:06d}" in page for i in (one, two))
    here.shelf.drop([one.number], "not wanted")
    here.shelf.publish(tmp_path / "out")
    assert f"{one.number:06d}" not in (tmp_path / "out" / "index.html").read_text()
    assert len(list((tmp_path / "out").glob("*.html"))) == 2


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("rep", "report"), ("report refused-ent", "refused-entries"), ("report doors --only pl", "place="),
        ("report doors --only place=Lib", "Library"), ("report doors --by us", "user"), ("report doors --per", "--period"),
        ("people ins", "inside"), ("trace 'Ada Umb", "'Ada Umberlin'"), ("report doors --period last", "'last month'"),
    ],
)  # fmt: skip
def test_the_prompt_knows_what_can_follow(hall: Workspace, line: str, wanted: str) -> None:
    """Commands, reports, options, fields, values, people and periods."""
    assert isinstance(cli, click.Group)
    assert wanted in [text for text, _, _ in proposed(cli, hall, line)]


def test_without_a_command_and_a_terminal_help_is_shown() -> None:
    """The prompt is for terminals alone."""
    assert "Bring in:" in fermata().stdout


@pytest.mark.deep
def test_every_note_has_a_kind_that_the_reference_explains(hall: Workspace) -> None:
    """In the code and in all that ready reports say; no kind is left over; figures come first."""
    made = set()
    for path in {*(ROOT / "src").rglob("*.py")} - {ROOT / "src" / "fermata" / "notes.py"}:
        for call in ast.walk(ast.parse(path.read_text())):
            if isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id == "Note":
                kind = call.args[1]
                assert isinstance(kind, ast.Constant), path
                made.add(kind.value)
    assert made == set(KINDS)
    reference = (ROOT / "docs" / "notes.md").read_text()
    assert all(f"| {kind} |" in reference for kind in KINDS)
    for name in ("pay", "licence-pools", "calls-compared"):
        notes = hall.report(name).notes
        assert notes == ordered(notes)
        assert all(isinstance(n, Note) for n in notes)
        few = shortened(notes, "few")
        assert [n for n in few if "more about the data" not in n] == [
            f"{n} ({n.more})" if n.more else n for n in notes if n.weight == "figures"
        ] or len(few) == len(notes)


def test_a_category_of_ones_own(here: Workspace) -> None:
    """A saved report is listed where its owner puts it: in a category there is, or in a new one."""
    fermata("--now", NOW.isoformat(), "report", "refused-entries", "--limit", "1", cwd=here.path)
    for name, category in (("at-night", "night watch"), ("vault", "doors")):
        fermata("save", name, "--category", category, cwd=here.path)
    listed = fermata("reports", "--category", "night watch", cwd=here.path).stdout
    assert "at-night" in listed
    assert "vault" not in listed
    assert "vault" in fermata("reports", "--category", "doors", cwd=here.path).stdout
    assert "at-night" in fermata("reports", "--search", "night watch", cwd=here.path).stdout
