"""Whose view a run gives: nothing in any output, note or error tells a viewer of others."""

from __future__ import annotations

import base64
import csv
import dataclasses
import io
import json
import re
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path

import pytest
from pypdf import PdfReader

import fermata
from fermata import ConfigError, RequestError, UnknownName, Workspace
from fermata.registers.scope import pseudonym
from fermata.reports.result import ALL
from tests.conftest import DEEP, NOW, Maker, plain, raw
from tests.conftest import fermata as command

OWN, TEAM = "Zelda Bellwether", "stage"
FORMS = ("txt", "csv", "json", "jsonl", "xml", "md", "html", "pdf", "xlsx", "parquet")


def opened(hall: Workspace, viewer: str) -> Workspace:
    return fermata.open(hall.path, now=NOW, viewer=viewer)


def staff(hall: Workspace) -> list[dict[str, str]]:
    return list(csv.DictReader((hall.path / "registers/people.csv").read_text(encoding="utf-8").splitlines()))


def others(hall: Workspace, *, team: str = "") -> set[str]:
    """Names, badges, logins and mail addresses of everybody the viewer may not see, at any time."""
    people = staff(hall)
    ours = {r["Staff no"] for r in people if (r["Department"] == team if team else r["Name"] == OWN)}
    theirs = [r for r in people if r["Staff no"] not in ours]
    seen = {v for r in people if r["Staff no"] in ours for v in r.values()}
    return {r[k] for r in theirs for k in ("Name", "Badge", "Login", "Mail") if r[k]} - seen


def unpacked(path: Path) -> str:
    """All text there is in a file: members of archives, streams of a document, tables embedded in a page."""
    data = path.read_bytes()
    if path.suffix in (".xlsx", ".zip"):
        with zipfile.ZipFile(io.BytesIO(data)) as z:
            return "\n".join(z.read(n).decode("utf-8", "replace") for n in z.namelist())
    if path.suffix == ".pdf":
        reader = PdfReader(io.BytesIO(data))
        return " ".join("\n".join([*(p.extract_text() for p in reader.pages), str(reader.metadata)]).split())
    if path.suffix == ".parquet":
        import pyarrow.parquet as pq

        return json.dumps(pq.read_table(path).to_pylist(), default=str) + str(pq.read_schema(path).metadata)
    text = data.decode("utf-8", "replace")
    return text + "\n".join(_embedded(text))


def _embedded(text: str) -> Iterator[str]:
    for found in re.findall(r"[A-Za-z0-9+/]{200,}={0,2}", text):
        packed = base64.b64decode(found + "=" * (-len(found) % 4))
        for wbits in (31, 15, -15):
            try:
                yield zlib.decompress(packed, wbits).decode("utf-8", "replace")
            except zlib.error:
                continue
        yield packed.decode("utf-8", "replace")


def test_the_search_finds_what_is_there(hall: Workspace, tmp_path: Path) -> None:
    """The search that the tests below rest on finds a name in every form, also behind a page's figures."""
    for form in FORMS:
        path = hall.log("doors").during("2026-03-05").by("user").measure("count").save(tmp_path / f"all.{form}")
        text = unpacked(path)
        assert len([n for n in others(hall) if n in text]) > 20, form


@pytest.mark.parametrize("viewer", [pytest.param("zelda", marks=pytest.mark.deep), "stage-lead"])
def test_no_output_holds_anybody_else(hall: Workspace, tmp_path: Path, viewer: str) -> None:
    """Tables, listings, trails and pages of a narrowed view hold nobody else's name, badge or login, in any form."""
    mine = opened(hall, viewer)
    theirs = others(hall, team=TEAM if viewer == "stage-lead" else "")
    theirs -= {r["Corrected by"] for r in raw(hall, "time-entries-corrected.csv")}  # stands in an entry of one's own
    assert len(theirs) > 200
    made = {
        "users": mine.log("doors").during("2026-03").by("user", "device").measure("count", "share").run(),
        "refused": mine.report("refused-entries"),
        "people": mine.report("person-by-person"),
        "required": mine.report("worked-and-required"),
        "trail": mine.trace(OWN, period="2026-03-05"),
    }
    for turn, (name, result) in enumerate(made.items()):
        assert name == "refused" or any(p.rows for p in result.parts), name
        assert result.context.view != ALL
        for form in FORMS if DEEP else FORMS[turn :: len(made)]:
            if form in ("csv", "jsonl", "parquet") and len(result.parts) > 1:
                continue  # parts of different columns are not one table
            text = unpacked(result.save(tmp_path / f"{viewer}-{name}.{form}"))
            told = {n for n in theirs if n in text and not re.search(rf"\w{re.escape(n)}|{re.escape(n)}\w", text)}
            assert not told, (name, form, sorted(told)[:3])
            assert form in ("csv", "jsonl", "parquet") or result.context.view in text, (name, form)


def test_own_figures_equal_those_filtered_from_all(hall: Workspace) -> None:
    """What somebody sees of themselves is what the whole holds of them; a share is of their own total."""
    mine, march = opened(hall, "zelda"), "2026-03"
    for log in ("doors", "prints", "timesheets", "software", "visits"):
        asked = hall.log(log).during(march).by("day").measure("count")
        narrow = mine.log(log).during(march).by("day").measure("count")
        assert narrow.run().rows == asked.only(user=OWN).run().rows, log
        assert narrow.run().cell() > 0
    shares = mine.log("doors").during(march).by("user").measure("share").run()
    assert [r[-1] for r in shares.rows] == [1.0]
    assert mine.log("doors").during(march).measure("distinct user").run().cell() == 1
    amounts = [
        r for r in raw(hall, "prints.csv") if r["Owner"].split("\\")[-1] == "z.bellwether" and r["Finished"][:2] == "03"
    ]
    assert mine.log("prints").during(march).measure("count").run().cell() == len(amounts) > 0


def test_a_team_is_the_one_of_its_day(hall: Workspace) -> None:
    """A lead sees people while they are in the team, and not what they did in another before."""
    people = staff(hall)
    lead = opened(hall, "stage-lead")
    seen = {r[0] for r in lead.log("doors").by("user").measure("count").run().rows}
    stage = {r["Name"] for r in people if r["Department"] == TEAM}
    assert seen <= stage
    whole = hall.log("doors").by("user").only(**{"user.department": TEAM}).measure("count").run()
    assert {r[0]: r[1] for r in lead.log("doors").by("user").measure("count").run().rows} == {
        r[0]: r[1] for r in whole.rows
    }


def test_errors_and_notes_suggest_nobody_else(hall: Workspace) -> None:
    """Unknown names, notes, explain counts and candidates know only what the viewer sees."""
    mine, theirs = opened(hall, "zelda"), others(hall)
    with pytest.raises(UnknownName) as wrong:
        mine.log("doors").during("2026-03").only(user="Zelda Vanterpol").run()
    assert not [n for n in theirs if n in str(wrong.value)]
    for part in ("Zelda", "B-10"):
        assert {f.label for f in mine.registers.find(part)} <= {OWN}
    explained = mine.run(mine.log("doors").during("2026-03").only(action="refused").report, explain=True)
    own = mine.log("doors").during("2026-03").measure("count").run().cell()
    assert explained.data.steps[0][1][0].left == own
    assert not [n for n in explained.notes if "rejected" in n or "no record of" in n]
    moments = [at.minute for _, at in explained.context.fresh]
    assert moments == [0] * len(moments)  # when the last of the others came is theirs


@pytest.mark.parametrize(
    ("ask", "why"),
    [
        (lambda w: w.log("states"), "the log states has no user, so it cannot be narrowed"),
        (lambda w: w.log("uptime"), "the log states has no user, so it cannot be narrowed"),
        (lambda w: w.archive.survey("doors"), "the archive is not for Zelda Bellwether (own): a viewer reads"),
        (lambda w: w.shelf.items(), "the shelf is not for"),
        (lambda w: w.deliveries.send(), "the timetable is not for"),
        (lambda w: w.seen_by("stage-lead"), "another view is not for"),
        (lambda w: w.reports.copy("doors", "x"), "writing reports is not for"),
        (lambda w: w.reports.save("x", w.log("doors").report), "writing reports is not for"),
        (lambda w: w.report("needs-attention"), "cannot be narrowed"),
        (lambda w: w.report("edited-entries"), "cannot be narrowed"),
        (lambda w: w.evacuation("fire"), "an evacuation is not for"),
        (lambda w: w.reports.definition("last"), "the last run is not for"),
    ],
)  # fmt: skip
def test_what_cannot_be_narrowed_is_refused_with_the_reason(hall: Workspace, ask: object, why: str) -> None:
    """Questions to whole logs, and logs that do not tell whose their events are."""
    with pytest.raises(RequestError, match=re.escape(why)):
        ask(opened(hall, "zelda"))  # type: ignore[operator]


def test_hidden_fields_do_not_exist(hall: Workspace) -> None:
    """Behind a scope a hidden field is unknown, and so is all that is made of it; it is in no listing."""
    lead = opened(hall, "stage-lead")
    for log, field in (("prints", "cost"), ("calls", "other"), ("accounts", "amount"), ("doors", "user.groups")):
        with pytest.raises(UnknownName, match=f"there is no dimension '{re.escape(field)}'"):
            lead.log(log).by(field).measure("count").run()
    assert "Cost" not in lead.log("prints").during("2026-03-05").listing().names
    assert "cost" in hall.log("prints").during("2026-03-05").listing().names
    shown = lead.registers.table("people")
    assert shown.rows
    assert "groups" not in [c[0] for c in shown.columns]


def test_self_service(hall: Workspace) -> None:
    """Somebody's own history, days, hours, devices and credit need no name, and no other name will do."""
    mine = opened(hall, "zelda")
    march = [
        r
        for r in raw(hall, "prints.csv")
        if r["Owner"].split("\\")[-1] == "z.bellwether" and r["Status"] == "completed" and r["Finished"][:2] == "03"
    ]
    pages = sum(int(r["Pages"]) for r in march)
    for name in ("own-days", "own-hours"):
        assert mine.report(name).cell(of="Pages") == pages > 0
    assert mine.report("own-history").parts
    assert mine.report("own-devices").parts[0].rows
    assert len(mine.report("own-credit").rows) == 6
    with pytest.raises(RequestError, match="say which user"):
        hall.report("own-days")
    with pytest.raises(UnknownName):
        mine.report("own-days", only={"user": "Zelda Vanterpool"})


def test_only_the_reports_named(hall: Workspace) -> None:
    """A viewer of certain reports runs these for any period and narrowed further, and nothing else."""
    desk = opened(hall, "front-desk")
    assert desk.report("refused-entries", period="2026-02", only={"action": "refused", "place": "Library"}).rows
    for changes in ({"by": ["user"]}, {"columns": ["distinct user"]}, {"only": {"action": "in"}}):
        with pytest.raises(RequestError, match="may run only who-is-inside, refused-entries, busiest-hours"):
            desk.report("refused-entries", **changes)
    with pytest.raises(RequestError, match="a trail is not for front-desk"):
        desk.trace(OWN)
    for name in ("headcount", "project-budgts", "refused entries"):  # no report is proposed that is not theirs
        with pytest.raises(RequestError, match=r"\(reports: busiest-hours, refused-entries, who-is-inside\)$") as e:
            desk.report(name)
        assert not {"most-inside-by-hour", "project-budgets", "refused-by-person"} & {
            *re.findall(r"[\w-]+", str(e.value))
        }


def test_pseudonyms_are_stable_and_join(hall: Workspace, tmp_path: Path) -> None:
    """One pseudonym per person in every log and run; figures stay; no name is left; another key gives others."""
    study = opened(hall, "study")
    badge = pseudonym(b"the sample's key guards nothing", "people id", "Q-100")
    asked = study.log("doors").during("2026-03").by("user.department").measure("count").run()
    assert 0 < asked.cell() < hall.log("doors").during("2026-03").measure("count").run().cell()
    with pytest.raises(RequestError, match="events shows single events or people; study"):
        study.log("doors").during("2026-03").listing()
    text = (hall.path / "fermata.toml").read_text(encoding="utf-8")
    open_study = opened(hall, "study")
    open_study.base.__dict__["view"] = dataclasses.replace(study.base.view, smallest=0)
    assert "smallest = 5" in text
    doors = open_study.log("doors").during("2026-03").by("user").measure("count").run()
    prints = open_study.log("prints").during("2026-03").by("user").measure("count").run()
    assert badge in {r[0] for r in doors.rows} & {r[0] for r in prints.rows}
    own = hall.log("doors").during("2026-03").only(user=OWN).measure("count").run().cell()
    assert dict(doors.rows)[badge] == own
    listed = open_study.log("calls").during("2026-03-05").listing().to_pandas()
    assert all(len(v) <= 9 and (len(v) < 9 or v.endswith("…")) for v in listed["other"].dropna())
    texts = (
        unpacked(doors.save(tmp_path / "d.html"))
        + listed.to_csv()
        + open_study.log("doors").during("2026-03-05").listing().to_pandas().to_csv()
    )
    assert not [n for n in others(hall) | {OWN, "B-1001"} if n in texts]
    assert pseudonym(b"another key of sixteen", "people id", "Q-100") != badge


@pytest.mark.parametrize(
    ("table", "why"),
    [
        ('sees = "own"', "needs person: whose own?"),
        ('sees = "team"\nperson = "Ada"', "go together"),
        ('person = "Ada"\nsees = "own"\npseudonyms = ["user"]', "who sees own knows whom"),
        ("smallest = 5", "smallest and cube go together"),
        ('smallest = 5\ncube = { by = ["user"] }', "cube.by: user tells people apart"),
        ('smallest = 5\ncube = { only = ["colour"] }', "cube.only: no log has a field colour"),
        ('hidden = ["costs"]', "viewers.v.hidden: there is no costs"),
        ('hidden = ["log.costs"]', "there is no log.costs"),
        ('pseudonyms = ["usr"]', "no log has a field usr"),
        ('person = "Ada"\nsees = "own"', "the users of the logs are in no register"),
        ('pseudonyms = ["user"]', "pseudonyms need a key"),
        ('pseudonyms = ["user"]\n[privacy]\nkey_env = "NOT_SET_HERE"',
         "the environment variable NOT_SET_HERE is not set"),
        ('pseudonyms = ["user"]\n[privacy]\nkey_file = "key.csv"', "others may read this file"),
    ],
)  # fmt: skip
def test_viewers_that_make_no_sense(make: Maker, table: str, why: str) -> None:
    """A slip in what is to be kept back is an error, never a view of everything."""
    with pytest.raises((ConfigError, RequestError), match=re.escape(why)):
        fermata.open(make(plain() + f"\n[viewers.v]\n{table}\n", key="open to all").path, now=NOW, viewer="v")


def test_the_command_line_is_narrowed_too(hall: Workspace) -> None:
    """`--viewer`, or its variable, narrows every command; the output says whose view it is."""
    shown = command(
        "-w", str(hall.path), "--now", "2026-04-01T08:12", "--viewer", "zelda", "report", "doors", "--by", "user"
    ).stdout
    assert "Zelda Bellwether (own)" in shown
    assert not [n for n in others(hall) if n in shown]
    refused = command("-w", str(hall.path), "survey", code=2, FERMATA_VIEWER="zelda").stderr
    assert "is not for Zelda Bellwether (own)" in refused
    unknown = command("-w", str(hall.path), "--viewer", "zeldda", "report", "doors", code=2).stderr
    assert "there is no viewer 'zeldda'; did you mean 'zelda'?" in unknown


def test_what_broke_viewers_is_refused(hall: Workspace) -> None:
    """A report copied or saved over an allowed name, a dry run of another, and the names as written beside a
    spelling.
    """
    before = sorted(p.name for p in (hall.path / "reports").iterdir())
    desk = ("-w", str(hall.path), "--now", "2026-04-01T08:12", "--viewer", "front-desk")
    for given in (
        ["reports", "calls-by-person", "--copy", "who-is-inside", "--replace"],
        ["save", "busiest-hours", "--from", "calls-by-person", "--replace"],
        ["report", "calls-by-person", "--dry-run"],
        ["report", "refused-entries", "--events"],
        ["import", "--list"],
    ):
        assert "is not for front-desk" in command(*desk, *given, code=2).stderr, given
    assert sorted(p.name for p in (hall.path / "reports").iterdir()) == before
    study = opened(hall, "study")
    study.base.__dict__["view"] = dataclasses.replace(study.base.view, smallest=0)
    shown = study.log("prints").during("2026-03").by("user", "user_written").measure("count").run()
    assert len(shown.rows) > 20
    assert not [n for n in others(hall) | {OWN, "z.bellwether"} if n.lower() in str(shown).lower()]
