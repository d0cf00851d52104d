"""The access matrix: every method and every command, for every kind of viewer. Whatever comes back is searched for what
they may not see.

What is there to be found is planted: names, badges, logins, a hidden field and attribute, long texts, a group of one. A
new method,
command or option without a stated way to call it here fails.
"""

from __future__ import annotations

import contextlib
import dataclasses
import shutil
import stat
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import click
import pytest
from click.testing import CliRunner

import fermata
from fermata.api.question import Question
from fermata.api.registers import Registers
from fermata.api.reports import Catalogue, Reports
from fermata.api.result import Result
from fermata.api.workspace import ViewerWorkspace, Workspace
from fermata.cli.main import COMMANDS, GROUPS, cli
from fermata.errors import FermataError, NotForViewers
from fermata.reports.result import Page, Records
from tests.conftest import DEEP, NOW, sample
from tests.test_viewers import unpacked

CONFIG = sample("houses/access.toml")
TEAM = [("Ownda Seen", "ownbadge", "ownlogin"), ("Teamo Canary", "teambadge", "teamlogin")]
OTHERS = [(f"Otherby{n} Canary", f"xbadge{n}", f"xlogin{n}") for n in range(6)]
SECRET, RATE, TAIL, CELLAR = "SECRETCANARY", "RATECANARY", "TAILCANARY", "CellarCanary"
NAMES_OF_TEAM = {*TEAM[1], TEAM[1][1].upper()}
NAMES_OF_OTHERS = {t for one in OTHERS for t in one} | {t.upper() for _, t, _ in OTHERS}
OWN = {*TEAM[0], TEAM[0][1].upper()}
FORBIDDEN = {  # viewer -> what nothing they get may hold
    "own": NAMES_OF_TEAM | NAMES_OF_OTHERS,
    "team": NAMES_OF_OTHERS,
    "desk": NAMES_OF_TEAM | NAMES_OF_OTHERS | OWN | {SECRET, RATE, TAIL},
    "hiding": {SECRET, RATE, TAIL}
    | {b.upper() for _, b, _ in (*TEAM, *OTHERS)},  # as written: the user is hidden, the editor is not
    "cutting": {TAIL, TAIL.lower()},
    "study": NAMES_OF_TEAM | NAMES_OF_OTHERS | OWN,
    "groups": NAMES_OF_TEAM | NAMES_OF_OTHERS | OWN | {CELLAR},
}


def furnish(hall: Workspace) -> None:
    """Reports, a last run, the shelf, the timetable and an evacuation, in which people are named."""
    hall.reports.save("by-place", fermata.Report.of(title="By place", log="doors", by=["place"], columns=["count"]))
    hall.reports.save(
        "named", fermata.Report.of(title="One person", log="doors", only={"user": OTHERS[1][0]}, by=["day"])
    )
    hall.reports.save("mine", fermata.Report.of(title="Own", log="doors", only={"user": TEAM[0][0]}, by=["user"]))
    hall.reports.remember(fermata.Report.of(title="Last", log="doors", only={"user": OTHERS[2][0]}))
    hall.shelf.keep(fermata.Report.of(log="doors", by=["user"]), ["csv"])
    hall.deliveries.schedule("daily", report="named", when="daily at 07:00", formats=["csv"], to=[{"folder": "out"}])
    hall.evacuation("house").prepare(log="doors", outer="every")


@pytest.fixture(scope="module")
def planted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace with something to be found in every corner."""
    path = tmp_path_factory.mktemp("planted")
    (path / "fermata.toml").write_text(CONFIG, encoding="utf-8")
    (path / "key.txt").write_text("a key of enough letters")
    (path / "key.txt").chmod(stat.S_IRUSR)
    people = [
        f"{n},{name},{badge},{login},{'Stage' if n < 2 else 'House'},{RATE}{n}"
        for n, (name, badge, login) in enumerate((*TEAM, *OTHERS))
    ]
    (path / "people.csv").write_text("No,Name,Badge,Login,Dept,Rate\n" + "\n".join(people) + "\n")
    rows, logins = [], []
    for day in range(1, 11):
        for n, (_, badge, login) in enumerate((*TEAM, *OTHERS)):
            at = datetime(2026, 3, day, 8 + n)
            editor = OTHERS[n % 6][1]
            place = CELLAR if n == 7 and day == 3 else "Hall"
            rows += [
                f"{at.isoformat()},{badge.upper()},{editor},{place},in,abcd{TAIL},{SECRET},3,{day}-{n}-a",
                f"{(at + timedelta(hours=2)).isoformat()},{badge},{editor},{place},out,,{SECRET},,{day}-{n}-b",
            ]
            logins.append(f"{at.isoformat()},{(at + timedelta(hours=1)).isoformat()},{login},host{n},login")
    rows.append(f"never,{OTHERS[0][1]},,Hall,in,,{SECRET},,rejected")
    (path / "doors.csv").write_text("When,Who,Editor,Area,What,Note,Secret,Pages,No\n" + "\n".join(rows) + "\n")
    (path / "logins.csv").write_text("When,Until,Who,Host,What\n" + "\n".join(logins) + "\n")
    (path / f"doors-{OTHERS[0][0]}.csv").write_text(
        f"When,Who,Editor,Area,What,Note,Secret,Pages,No\n2026-03-12T09:00,{OTHERS[0][1]},,Hall,in,,{SECRET},2,1-2-a\n"
    )
    hall = fermata.open(path, now=NOW)
    hall.archive.import_log("doors")
    hall.archive.import_log("logins")
    furnish(hall)
    return path


def told(found: Any, folder: Path) -> str:
    """All text there is in what came back."""
    if isinstance(found, Result):
        answer = found.answer
        forms = ("html", "json", "xlsx") if isinstance(answer, Page) else ("html", "csv", "parquet", "pdf")
        forms = forms if DEEP else ("json",)
        texts = [str(found), str(answer)]
        for form in forms:
            with contextlib.suppress(FermataError):
                texts.append(unpacked(found.save(folder / f"x.{form}")))
        return "\n".join(texts)
    if isinstance(found, Question):
        return told(found.run(), folder)
    if isinstance(found, Records):
        return "\n".join(
            [
                found.title,
                str(found.context),
                str(found.columns),
                str(list(found.rows)),
                str(found.notes),
                str(list(found.earlier)),
            ]
        )
    if hasattr(found, "to_csv"):
        return str(found.to_csv())
    if isinstance(found, list | tuple):
        return "\n".join(told(f, folder) for f in found)
    if isinstance(found, Workspace | ViewerWorkspace):
        return ""
    return str(found)


def doors(w: Any, **changes: Any) -> fermata.Report:
    """A report over the doors."""
    return fermata.Report.of(**{"log": "doors", **changes})


PAGES = ("needs-attention", "names-not-known", "person-by-person", "overview") if DEEP else ()  # they take long
FILTERED = {"only": {"user": OTHERS[0][0]}}
CALLS: dict[str, list[Callable[[Any], Any]]] = {  # method -> ways to call it
    "log": [lambda w: w.log("doors"), lambda w: w.log("logins").by("user").measure("count", "time"),
    lambda w: w.log("nosuch")],
    "report": [lambda w, n=n: w.report(n) for n in ("by-place", "named", "mine", "last", "doors", "edited-entries",
    "refused-entries", "where-somebody-went", "no-such", *PAGES)],
    "run": [
        lambda w: w.run(doors(w, by=["user", "user.rate"])), lambda w: w.run(doors(w, by=["user", "user_written",
        "editor"])),
        lambda w: w.run(doors(w, by=["user.department"], columns=["count", "distinct user", "max pages"])),
        lambda w: w.run(doors(w, by=["place"], top=1)), lambda w: w.run(doors(w, by=["day"], compare="before",
        period="2026-03-05")),
        lambda w: w.run(doors(w, by=["note", "secret"])), lambda w: w.run(doors(w, **FILTERED), explain=True),
        lambda w: w.run(doors(w, only={"user": "Otherby"})), lambda w: w.run(doors(w, only={"secret": "x"})),
        lambda w: w.run(doors(w, zero_rows="user", by=["user"])), lambda w: w.run(doors(w, each="user")),
        lambda w: w.run(doors(w, listing={})), lambda w: w.run(doors(w, listing={"fields": ["start", "user_written",
        "user.rate"]})),
        lambda w: w.run(fermata.Report.of(register="people")), lambda w: w.run(fermata.Report.of(ask="logs")),
        lambda w: w.run(fermata.Report.of(ask="cannot")), lambda w: w.run(fermata.Report.of(ask="unresolved")),
        lambda w: w.run(fermata.Report.of(title="Page", log="doors", parts=[{"by": ["user"]}, {"register": "people"},
        {"report": "named"}])),
        lambda w: w.run(fermata.Report.of(log="visits", by=["user"], columns=["count", "time"])),
        lambda w: w.run(doors(w, columns=[{"measure": "count", "only": {"user": OTHERS[0][0]}}])),
        lambda w: w.run(doors(w, rows=["Count > 1"], by=["user"])), lambda w: w.run(doors(w, by=["user"],
        warn=["Count > 2"])),
    ],
    "listing": [lambda w: w.listing(doors(w)), lambda w: w.listing(doors(w), 3, skip=1, sort=("-secret",))],
    "trace": [lambda w: w.trace(OTHERS[0][0]), lambda w: w.trace(TEAM[0][0]), lambda w: w.trace("Canary"),
    lambda w: w.trace("Hall", field="place")],
    "inside": [lambda w: w.inside("doors", at=datetime(2026, 3, 5, 12, tzinfo=NOW.tzinfo))],
    "contacts": [lambda w: w.contacts("doors", TEAM[0][0], period="2026-03"), lambda w: w.contacts("doors",
    OTHERS[0][0], period="2026-03")],
    "unusual": [lambda w: w.unusual(doors(w, period="2026-03"), history=2)],
    "with_steps": [lambda w: w.with_steps("doors")],
    "at": [lambda w: w.at(NOW - timedelta(days=20)).log("doors").by("user")],
    "now": [lambda w: w.now()],
    "reports.names": [lambda w: w.reports.names()],
    "reports.catalogue": [lambda w: [(e.name, e.title) for e in w.reports.catalogue()]],
    "reports.here": [lambda w: w.reports.here()],
    "reports.needs": [lambda w: w.reports.needs()],
    "reports.useful": [lambda w: w.reports.useful("doors")],
    "reports.definition": [lambda w, n=n: w.reports.definition(n) for n in ("named", "mine", "last", "by-place",
    "refused-entries")],
    "reports.text": [lambda w, n=n: w.reports.text(n) for n in ("named", "mine", "last", "by-place",
    "refused-entries")],
    "reports.step": [lambda w: w.reports.step(doors(w, period="2026-03"), -1)],
    "reports.about": [lambda w, n=n: w.reports.about(n) for n in ("named", "mine", "by-place", "overview")],
    "reports.log_of": [lambda w: w.reports.log_of("named"), lambda w: w.reports.log_of("by-place")],
    "reports.with_target": [lambda w: w.run(w.reports.with_target(doors(w), "nosuch"))],
    "reports.period_words": [lambda w: w.reports.period_words(doors(w))],
    "reports.describe": [lambda w: w.reports.describe(doors(w)), lambda w: w.reports.describe(doors(w, **FILTERED)),
        lambda w: w.reports.describe(w.reports.definition("refused-entries")),
        lambda w: w.reports.describe(fermata.Report.of(ask="attention"))],
    "registers.register": [lambda w: w.registers.register("people")],
    "registers.table": [lambda w: w.registers.table("people"), lambda w: w.registers.table("people",
    only={"label": OTHERS[0][0]})],
    "registers.find": [lambda w: w.registers.find("a")],
    "registers.found": [lambda w: w.registers.found("a")],
    "registers.overview": [lambda w: w.registers.overview()],
    "result.events": [lambda w: w.log("doors").measure("count").run().events(),
    lambda w: w.report("by-place").events()],
    "result.cell": [lambda w: w.log("doors").by("user").run().cell(at={"user": OTHERS[0][0]})],
    "question.events": [lambda w: list(w.log("doors").events())],
    "question.listing": [lambda w: w.log("doors").listing()],
}  # fmt: skip
ASKED_OF = {
    "path",
    "config",
    "base",
    "reports",
    "registers",
}  # what leads to one of the above, or is the workspace's own file
RESULT = {  # what a result and a question have is all of what was asked for
    *(n for n in dir(Result) if not n.startswith("_")), *(n for n in dir(Question) if not n.startswith("_")), "answer",
    "place", "display",
    "workspace", "report",
}  # fmt: skip
WRITES = ("archive", "shelf", "deliveries", "evacuation", "seen_by")
QUICK = ("desk", "groups")  # the others are as deep tests
VIEWERS = [v if v in QUICK else pytest.param(v, marks=pytest.mark.deep) for v in FORBIDDEN]


def public(kind: type) -> set[str]:
    """The public members of a class, fields too."""
    return {n for n in dir(kind) if not n.startswith("_")} | {f.name for f in dataclasses.fields(kind)}


def test_every_method_has_a_stated_way_to_be_called() -> None:
    """A method that nobody thought of could tell anything."""
    stated = {n for n in CALLS if "." not in n}
    assert public(ViewerWorkspace) == stated | ASKED_OF
    assert public(Workspace) - public(ViewerWorkspace) == set(WRITES)
    assert public(Catalogue) - {"base"} == {n.removeprefix("reports.") for n in CALLS if n.startswith("reports.")}
    assert public(Registers) - {"base"} == {n.removeprefix("registers.") for n in CALLS if n.startswith("registers.")}
    assert public(Reports) - public(Catalogue) == {"copy", "page", "recent", "remember", "save"}


def found_in(text: str, viewer: str) -> list[str]:
    """The planted texts that a viewer may not see."""
    return sorted(c for c in FORBIDDEN[viewer] if c in text)


@pytest.mark.deep
def test_the_search_finds_what_is_planted(planted: Path, tmp_path: Path) -> None:
    """Without a viewer the same calls hold everything that is planted."""
    hall = fermata.open(planted, now=NOW)
    text = "\n".join(
        _called(hall, call, tmp_path)[0] for name in ("run", "listing", "registers.table") for call in CALLS[name]
    )
    assert not [c for wanted in FORBIDDEN.values() for c in wanted if c not in text]


def _called(w: Any, call: Callable[[Any], Any], folder: Path) -> tuple[str, bool]:
    try:
        return told(call(w), folder), True
    except FermataError as e:
        return str(e), False


def leaks_nothing(path: Path, folder: Path, viewer: str) -> int:
    """Calls every method as a viewer; how many gave an answer. Fails where one holds what the viewer may not see, or
    where something writes.
    """
    w = fermata.open(path, now=NOW, viewer=viewer)
    answered = 0
    asked = {OTHERS[0][0], TEAM[0][0]}  # an error, or what a filter would do, repeats the name asked for
    for name, calls in CALLS.items():
        for number, call in enumerate(calls):
            text, well = _called(w, call, folder)
            answered += well
            echoed = asked if not well or name == "reports.describe" else set()
            leaked = [c for c in found_in(text, viewer) if c not in echoed]
            assert not leaked, (name, number, leaked, text[:400])
    for name in WRITES:
        with pytest.raises(NotForViewers, match="is not for"):
            getattr(w, name)
    return answered


@pytest.mark.parametrize("viewer", VIEWERS)
def test_no_method_tells_a_viewer_more(planted: Path, tmp_path: Path, viewer: str) -> None:
    """Answers, errors, notes, frames and files of every method hold nothing that the viewer may not see; what writes is
    not there.
    """
    assert leaks_nothing(planted, tmp_path, viewer) > (8 if viewer in ("desk", "groups") else 20)


LOOKS = {  # options that change how something looks or how long is waited, and nothing of what is shown
    "output", "limit", "totals", "chart", "chart_of", "zone", "step", "as_known", "sort", "numbers", "skip", "part",
    "measures", "hours", "rounding",
    "category", "date_field", "compare", "full_period", "checks", "warn", "rows", "zero_rows", "keys", "label", "of", "across", "top", "same_as",
    "without", "any_of",
    "opening", "closing", "back", "column", "cell", "within", "history", "factor", "unit", "measure", "field", "overlapping", "help",
    "display", "notes", "drop_filter", "recent", "definition", "target", "help_all",
}  # fmt: skip
LINES: dict[str, list[list[str]]] = {  # command -> ways to give it
    "survey": [[], ["doors"], ["doors", "--part", "rejects"], ["doors", "--period", "2026-03"], ["doors", "--export",
    "OUT"]],
    "import": [[], ["doors"], ["--list"]],
    "register find": [["a"], ["Canary"]],
    "register list": [[], ["people"], ["people", "--as-of", "2026-03-01", "--only", "department=House"]],
    "events": [["doors"], ["doors", "--show", "1:1"], ["doors", "--steps"], ["doors", "--fields",
    "user,user_written,editor,secret", "--totals"],
        ["doors", "--period", "2026-03-05", "--only", "place=Hall"]],
    "report": [["doors", "--by", "user"], ["doors", "--by", "user,user_written"], ["named"], ["last"], ["doors",
    "--dry-run"], ["named", "--dry-run"],
        ["refused-entries", "--dry-run"], ["by-place", "--events", "--cell", "place=Hall"], ["doors", "--events"],
        ["doors", "--explain", "--only", "place=Hall"],
        ["doors", "--log", "logins", "--columns", "count,time"], ["overview"], ["doors", "--each", "user"], ["doors",
        "--keep", "x"],
        ["doors", "--by", "place", "--add-column", "Mail: count of changes", "--drop-column", "Count", "--rename",
        "Mail = Post"],
        ["by-place", "--drop-filter", "place"], ["last-2"],
        ["by-place", "--add-column", "Others: count of doors where user is '" + OTHERS[0][0] + "'"],
        ["doors", "--by", "user", "--output", "html"], ["doors", "--period", "2026-03"]],
    "reports": [[], ["named"], ["mine"], ["last"], ["refused-entries"], ["--search", "person"], ["--category",
    "doors"], ["named", "--copy", "other"],
        ["--schema"], ["--here"], ["--recent"], ["named", "--definition"], ["doors", "--copy", "by-place", "--replace"]],
    "page": [["stolen", "refused-entries", "named"], ["named", "--drop", "1", "--title", "x", "--period", "2026-03",
    "--only", "place=Hall", "--layout", "1", "--replace"]],
    "save": [["stolen"], ["stolen", "--from", "named"], ["stolen", "--from", "doors", "--title", "x", "--fixed",
    "--replace"]],
    "trace": [[OTHERS[0][0]], ["Hall"], ["user=" + TEAM[0][0]], ["Canary", "--log", "doors", "--period", "2026-03"]],
    "people inside": [["doors", "--at", "2026-03-05T12:00"], ["doors", "--only", "place=Hall"]],
    "people contacts": [["doors", TEAM[0][0], "--period", "2026-03"], ["doors", OTHERS[0][0], "--period", "2026-03", "--only",
    "place=Hall", "--place", "place"]],
    "people unusual": [["doors", "--period", "2026-03", "--by", "user", "--only", "place=Hall"]],
    "evacuation": [["begin", "house", "--since", "2026-03-01"], ["show", "house"]],
    "schedule": [[], ["daily"], ["x", "--add", "--report", "named", "--when", "daily at 07:00", "--folder", "out"]],
    "send": [[], ["daily", "--now"]],
    "shelf": [["list"], ["show", "1"], ["copy", "1", "OUT"], ["send", "1", "--mail", "a@b.example"], ["drop", "1"],
    ["expire"], ["label", "1", "x"]],
    "archive verify": [[], ["1"]],
    "archive undo-import": [["1", "--dry-run"]],
    "archive expire": [["doors", "--older-than", "1 day", "--dry-run"]],
    "archive compact": [["doors", "--dry-run"]],
    "archive check": [[]],
    "archive sql": [[], ["SELECT * FROM doors"], ["SELECT * FROM register_people", "--output", "csv"]],
    "map": [["doors.csv", "--add"], ["--kinds"]],
}  # fmt: skip
APART = {"demo", "new"}  # they look into no workspace


def commands() -> Iterator[tuple[str, click.Command]]:
    """Every command by name, those inside a group after their group."""
    context = click.Context(cli)
    for name in COMMANDS:
        command = cli.get_command(context, name)
        assert command
        if name in GROUPS:
            assert isinstance(command, click.Group)
            for own in GROUPS[name]:
                inner = command.get_command(context, own)
                assert inner
                yield f"{name} {own}", inner
        else:
            yield name, command


def test_every_command_and_option_has_a_stated_way_to_be_called() -> None:
    """So that a new one is thought of."""
    assert {name for name, _ in commands()} == {*LINES, *APART}
    for name, command in commands():
        if name in APART or isinstance(command, click.Group):
            continue
        given = {a for line in LINES[name] for a in line}
        for option in command.params:
            used = isinstance(option, click.Argument) or given & {*option.opts, *option.secondary_opts}
            assert (
                used
                or option.name in LOOKS
                or name
                in {"import", "map", "schedule", "send", "archive undo-import", "archive expire", "archive compact"}
            ), (name, option.name)


@pytest.mark.deep
@pytest.mark.parametrize("viewer", FORBIDDEN)
def test_no_command_tells_a_viewer_more(planted: Path, tmp_path: Path, viewer: str) -> None:
    """What every command prints holds nothing that the viewer may not see, and nothing in the workspace changes."""
    copy = tmp_path / "copy"
    shutil.copytree(planted, copy)
    before = {p: p.read_bytes() for p in sorted(copy.rglob("*")) if p.is_file()}
    for name, lines in LINES.items():
        for line in lines:
            given = [
                a.replace("OUT", str(tmp_path / "out")).replace("doors.csv", str(copy / "doors.csv")) for a in line
            ]
            done = CliRunner().invoke(
                cli, ["-w", str(copy), "--now", NOW.isoformat(), "--viewer", viewer, *name.split(), *given]
            )
            error = done.exception
            assert error is None or isinstance(error, SystemExit | FermataError), (name, line, error)
            text = done.output + (str(error) if isinstance(error, FermataError) else "")
            leaked = [c for c in found_in(text, viewer) if not (error and any(c in a for a in line))]
            assert not leaked, (name, line, leaked, text[:400])
    after = {p: p.read_bytes() for p in sorted(copy.rglob("*")) if p.is_file()}
    assert {p for p in before if before[p] != after.get(p)} | (after.keys() - before.keys()) == set()
