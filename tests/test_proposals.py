"""Proposals for texts as programs write them: brought in without a hand, right in time, user, device, action and
length.
"""

from __future__ import annotations

import contextlib
import csv
import io
import tomllib
import zipfile
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import openpyxl
import pytest

from fermata import Report, Workspace
from fermata.api.workspace import open_workspace
from fermata.errors import RequestError
from fermata.intake.texts import MONTHS
from fermata.registers.proposal import propose_register
from fermata.workspace.proposing import Trial, add_log, propose
from tests.conftest import DEEP, NOW, sample, some
from tests.conftest import fermata as command

FIRST = "2026-03-28 08:01:12+01:00"
READ: dict[str, tuple[int, int, dict[str, Any]]] = {  # a program's file: stored, records read, the first event
    "auth.log": (3, 4, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    "auth-new.log": (2, 2, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    "journal.json": (2, 2, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    "database.csv": (3, 3, {"user": "anna", "device": "10.0.0.7", "place": "shop", "action": "login"}),
    "detail": (1, 2, {"user": "anna", "device": "10.0.0.1", "action": "stop", "session": "u1"}),
    "page_log": (2, 2, {"user": "anna", "device": "office-a4", "pages": 3, "title": "Report draft.pdf"}),
    "calls.csv": (3, 3, {"user": "201", "other": "+441632960001", "action": "answered", "direction": "out"}),
    "doors.csv": (3, 4, {"user": "1001", "device": "Haupteingang", "action": "granted"}),
    "proxy.log": (2, 2, {"user": "anna", "device": "10.0.0.7", "action": "GET", "outcome": "200", "size": 4512}),
    "error.log": (2, 2, {"device": "10.0.0.8", "action": "error", "other": "GET /x HTTP/1.1"}),
    "kern.log": (2, 2, {"user": "10.0.0.9", "action": "DROP", "other": "10.0.0.1", "port": 22, "protocol": "TCP"}),
    "mail.log": (2, 3, {"user": "bert@example.org", "action": "sent", "other": "mx.example.org"}),
    "sip.log": (2, 2, {"user": "201", "other": "301", "action": "INVITE", "outcome": "200", "call": "c1@10.0.0.1"}),
    "web.jsonl": (2, 2, {"user": "anna", "device": "10.0.0.7", "action": "GET", "outcome": "200", "size": 512}),
    "leases.txt": (2, 3, {"user": "anna-laptop", "device": "52:54:00:aa:bb:01", "other": "10.0.0.50"}),
    "events.xml": (2, 2, {"user": "anna", "device": "Front", "pages": 12, "title": "Programme"}),
    "jobs.txt": (3, 4, {"user": "anna", "device": "Front", "pages": 12}),
    "named.log": (3, 3, {"user": "anna", "device": "gate", "action": "login", "src": "10.0.0.7"}),
    "twice.csv": (2, 2, {"user": "anna", "device": "North", "who_2": "guard"}),
    "last.txt": (2, 4, {"user": "anna", "device": "pts/0", "other": "10.0.0.7"}),
    "failed.log": (2, 2, {"device": "10.0.0.8", "action": "error", "module": "auth_basic"}),
    "dump.txt": (2, 2, {"user": "anna", "device": "pts/0", "action": "login", "other": "10.0.0.7"}),
    "latest.txt": (1, 3, {"user": "anna", "device": "pts/0", "other": "10.0.0.7"}),
    "packages.log": (2, 4, {"action": "install", "other": "hall-one:all", "new": "1.0"}),
    "transfers.log": (2, 2, {"user": "anna", "action": "fetched", "other": "/srv/a plan.txt", "size": 5000}),
    "admitted.log": (2, 3, {"user": "anna", "device": "gate", "action": "login"}),
    "balanced.log": (1, 2, {"device": "10.0.0.7", "action": "GET", "outcome": "200", "server": "pages/one"}),
    "server.log": (2, 3, {"user": "anna", "place": "shop", "action": "login", "session": "311"}),
    "table.csv": (3, 3, {"user": "201", "other": "301", "action": "INVITE", "outcome": "200", "call": "c1"}),
    "own_pages": (3, 3, {"user": "anna", "device": "office", "pages": 3, "title": "Report draft.pdf"}),
}
CASES = [(name, sample(f"programs/{name}"), *said) for name, said in READ.items()]


def brought_in(hall: Path, name: str, text: str) -> tuple[Workspace, Trial]:
    """A workspace into which a text came by a proposal alone, and what the proposal was tried to give."""
    hall.mkdir(exist_ok=True)
    if not (hall / "fermata.toml").exists():
        (hall / "fermata.toml").write_text('[workspace]\nzone = "Europe/Berlin"\n')
    if name.endswith(".xlsx"):
        as_workbook(text).save(hall / name)
    elif name.endswith(".ods"):
        (hall / name).write_bytes(as_ods(text))
    else:
        (hall / name).write_text(text, encoding="utf-8")
    log, _, trial = add_log(open_workspace(hall, now=NOW).base, hall / name, None)
    assert trial
    opened = open_workspace(hall, now=NOW)
    opened.archive.import_log(log)
    return opened, trial


@pytest.mark.parametrize(
    ("name", "text", "stored", "read", "first"),
    [pytest.param(*c, id=c[0], marks=[pytest.mark.deep] if n % 3 else []) for n, c in enumerate(CASES)],
)
def test_a_text_comes_in_without_a_hand(
    tmp_path: Path, name: str, text: str, stored: int, read: int, first: dict[str, Any]
) -> None:
    """A proposal and an import alone: as many records as it says beforehand, and the first event as it was."""
    opened, trial = brought_in(tmp_path / "hall", name, text)
    assert (trial.read, trial.stored) == (read, stored)
    events = opened.log(opened.archive.logs[0]).listing().to_pandas()
    assert len(events) == stored
    event = events.iloc[0]
    assert {k: event[k] for k in first} == first
    start = event["start"] if name not in ("proxy.log", "detail") else event["finish"]
    shown = {"proxy.log": "2026-03-28 08:01:12.123000+01:00", "detail": "2026-03-28 09:01:12+01:00"}
    assert str(start) == shown.get(name, FIRST)


def test_a_folder_of_calendars_is_one_log(tmp_path: Path) -> None:
    """One event a file, and only the second says where: a proposal for the folder knows both, and all come in."""
    hall = tmp_path / "hall"
    command("new", str(hall), "--zone", "UTC")
    (hall / "plans").mkdir()
    for n, more in enumerate(("", "LOCATION:Great hall\r\n", "")):
        event = f"UID:{n}\r\nDTSTART:2026030{n + 1}T100000Z\r\nDTEND:2026030{n + 1}T113000Z\r\nSUMMARY:m{n}\r\n{more}"
        text = f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\n{event}END:VEVENT\r\nEND:VCALENDAR\r\n"
        (hall / "plans" / f"{n}.ics").write_text(text)
    told = command("-w", str(hall), "map", str(hall / "plans"), "--add").stderr
    assert "tried on 3 files: 3 records: 3 stored" in told
    command("-w", str(hall), "--now", NOW.isoformat(), "import")
    events = open_workspace(hall, now=NOW).log("plans").listing().to_pandas()
    assert [p or "" for p in events["place"].fillna("")] == ["", "Great hall", ""]
    assert "the folder holds no files" in command("map", str(tmp_path / "hall" / "reports"), code=1).stderr


def test_sessions_are_paired_where_a_log_has_logins_and_logouts(tmp_path: Path) -> None:
    """The proposal makes the log of sessions, too, with their length; the command shows what it made of the file."""
    hall = tmp_path / "hall"
    command("new", str(hall), "--zone", "Europe/Berlin")
    (hall / "auth.log").write_text(sample("programs/auth.log"))
    told = command("-w", str(hall), "map", str(hall / "auth.log"), "--add").stderr
    assert "tried on the file: 4 records: 3 stored, 1 skipped (outside the selection)" in told
    command("-w", str(hall), "--now", NOW.isoformat(), "import")
    opened = open_workspace(hall, now=NOW)
    assert opened.log("auth-sessions").measure("count", "time").run().table.total.cells == (1, 4_551_000_000)


def test_a_proposal_that_stores_nothing_is_none(tmp_path: Path) -> None:
    """A list without years cannot be read: said with the reason, and nothing is added."""
    hall = tmp_path / "hall"
    command("new", str(hall))
    before = (hall / "fermata.toml").read_text()
    (hall / "last.txt").write_text("anna     pts/0        10.0.0.7         Sat Mar 28 08:01 - 09:17  (01:16)\n" * 3)
    told = command("-w", str(hall), "map", str(hall / "last.txt"), "--add", code=2).stderr
    assert "nothing of" in told
    assert "outside the pattern" in told
    assert (hall / "fermata.toml").read_text() == before


THREE = {
    "doors.csv": "Time,Badge,Door,Event\n2026-03-02 08:01:12,1001,North door,Entry\n2026-03-02 08:03:02,1002,North "
                 "door,Access denied\n"
    "2026-03-02 17:01:12,1001,North door,Exit\n2026-03-03 08:11:12,1001,South door,Entry\n2026-03-03 "
    "12:11:12,1001,South door,Exit\n",
    "calls.csv": "Time,Extension,Number,Duration,Direction\n2026-03-02 08:01:12,201,+441632960001,0:02:16,out\n"
    "2026-03-02 09:01:12,202,+441632960002,0:00:00,in\n2026-03-03 08:01:12,201,+441632960001,0:12:16,in\n",
    "prints.csv": "Time,User,Printer,Pages\n2026-03-02 08:01:12,anna,office-a4,3\n2026-03-02 "
                  "09:01:12,bert,lobby,12\n2026-03-03 08:01:12,anna,lobby,1\n",
}  # fmt: skip


@pytest.fixture(scope="module")
def three(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace of three exports with no more than the plainest columns."""
    hall = tmp_path_factory.mktemp("three") / "hall"
    command("new", str(hall), "--zone", "Europe/Berlin")
    for name, text in THREE.items():
        opened, _ = brought_in(hall, name, text)
        assert opened.reports.useful(name.removesuffix(".csv"))  # what runs on it now
    return hall


def test_plain_exports_give_many_reports_at_once(three: Path) -> None:
    """Sixty ready reports run on them; each of the others says in a line what it needs."""
    hall = open_workspace(three, now=NOW)
    found = hall.reports.here()
    runs = [entry.name for entry, why in found if not why]
    assert len(runs) >= 60
    assert all(why and "\n" not in why for entry, why in found if entry.name not in runs)
    assert {"calls-by-line", "paper-sizes", "pages-by-department"}.isdisjoint(runs)  # they are about what is not there
    pages = [hall.report(n, period="2026-03").answer for n in ("overview", "security-overview")]
    lacking = [p.title for page in pages for p in page.parts if p.item is None]
    assert lacking
    assert not {e.name for e in hall.reports.catalogue()} & set(lacking)  # parts have titles, also without an answer
    shown = command("-w", str(three), "--now", NOW.isoformat(), "reports", "--here")
    assert "pages-by-printer" in shown.stdout
    assert "\n  a log of logins (accounts-not-used, " in shown.stderr
    assert len(shown.stderr.splitlines()) < 30


def test_what_is_said_to_run_runs(three: Path) -> None:
    """No ready report is offered that then refuses; only a name may have to be said."""
    hall = open_workspace(three, now=NOW)
    runs = [entry.name for entry, why in hall.reports.here() if not why]
    for name in runs if DEEP else runs[::9]:
        try:
            hall.report(name)
        except RequestError as e:
            assert "say which" in str(e), name  # noqa: PT017


@pytest.mark.parametrize(
    ("report", "cells", "note"),
    [
        ("pages-by-printer", {"Jobs": 3, "Pages": 16},
         "prints has no action, colour, cost, sheets: by colour, Sheets, Cost, Share of cost left out, and "
         "everything is taken for printed"),
        ("calls-by-person", {"Calls": 3, "Talked": 872_000_000, "Mean": 436_000_000},
         "calls with talking time are taken for answered"),
        ("refused-entries", {"Refused": 1}, "doors has no place: by place left out"),
        ("in-and-out", {"All": 3, "In": 2, "Answered": 1, "Missed": 1}, "it is by user in the place of device"),
        ("missed-calls", {"Missed": 1}, "others for not answered"),
    ],
)  # fmt: skip
def test_a_report_does_without_what_is_not_there(three: Path, report: str, cells: dict[str, int], note: str) -> None:
    """Groups, columns and filters that the log lacks drop out, and one note says which; the figures are those of what
    is left.
    """
    found = open_workspace(three, now=NOW).report(report, period="2026-03")
    assert {name: found.cell(of=name) for name in cells} == cells
    assert sum(note in n for n in found.notes) == 1


def test_a_way_that_no_record_has_is_said(tmp_path: Path) -> None:
    """A slip in the way to a value of a JSON record leaves the field empty, and the import says so."""
    hall = tmp_path / "hall"
    command("new", str(hall))
    (hall / "a.jsonl").write_text(
        '{"t":"2026-03-02T08:01:12Z","who":{"login":"anna"}}\n{"t":"2026-03-02T08:02:12Z","who":{}}\n'
    )
    with (hall / "fermata.toml").open("a") as f:
        f.write(
            '[logs.a]\nfiles = "a.jsonl"\nformat = "json lines"\n[logs.a.fields]\nstart = "t"\nuser = '
            '"who.name"\nother = "who.login"\n'
        )
    told = command("-w", str(hall), "--now", NOW.isoformat(), "import")
    assert "no record has who.name (user)" in told.stdout + told.stderr


OWN: dict[
    str, tuple[dict[str, Any], dict[str, Any]]
] = {  # an odd export of one's own: what is asked of it, what the table says
    "Zeiten März.csv": ({"by": ["user"], "columns": ["time"]}, {"Anna Beispiel": 8.5, "Bert Muster": 4.0}),
    "appels.tsv": ({"by": ["user"], "columns": ["count"]}, {"201": 1, "202": 1}),
    "banner.csv": ({"by": ["device"], "columns": ["count"]}, {"North": 2, "South": 1}),
    "american.csv": ({"by": ["user"], "columns": ["total pages"]}, {"anna": 3, "bert": 4}),
    "epoch.csv": ({"by": ["user"], "columns": ["count"]}, {"anna": 2, "bert": 1}),
    "utf16.txt": ({"by": ["user"], "columns": ["count"]}, {"Åsa": 1, "Örjan": 1}),
    "pipes.log": ({"by": ["device"], "columns": ["count"]}, {"A": 1, "B": 1}),
    "nested.json": ({"by": ["device"], "columns": ["total pages"]}, {"lobby": 8}),
    "listed.txt": ({"by": ["user"], "columns": ["time"]}, {"anna": 1.5, "bert": 0.25}),
    "pairs.log": ({"by": ["device"], "columns": ["count"]}, {"North 1": 2}),
}


@pytest.mark.parametrize("name", some(OWN))
def test_an_own_file_gives_a_right_report_after_two_commands(tmp_path: Path, name: str) -> None:
    """`fermata map FILE --add` and `fermata import`, no edit; the figures are those of the file."""
    text, (asked, wanted) = sample(f"own/{name}"), OWN[name]
    hall = tmp_path / "hall"
    command("new", str(hall), "--zone", "Europe/Berlin")
    (hall / name).write_text(text, encoding="utf-16" if name.startswith("utf16") else "utf-8")
    command("-w", str(hall), "--now", NOW.isoformat(), "map", str(hall / name), "--add")
    command("-w", str(hall), "--now", NOW.isoformat(), "import")
    opened = open_workspace(hall, now=NOW)
    log = opened.archive.logs[0]
    found = opened.run(Report.of(log=log, totals=False, **asked)).table
    hours = asked["columns"] == ["time"]
    assert {r.shown[0]: (r.cells[0] or 0) / (3_600_000_000 if hours else 1) for r in found.rows} == wanted


EXPORTS: dict[str, tuple[str, dict[str, Any]]] = {  # an export of a trade: its kind, its first event
    "direction.csv": (
        "door access",
        {"user": "00451", "device": "Main", "action": "in", "start": "2026-11-27 06:58:12+01:00"},
    ),
    "gates.csv": ("door access", {"user": "0042", "device": "North", "action": "refused"}),
    # what a result means is not known: nothing is taken for an entry
    "codes.csv": ("door access", {"action": "Entry Code 1"}),
    "camel.csv": ("door access", {"user": "0451", "device": "Main", "action": "out", "personname": "Ole"}),
    "porte.csv": ("door access", {"user": "0012", "device": "Entrée nord", "action": "refused", "nom": "Durand"}),
    "buchungen.csv": ("door access", {"user": "Ole", "device": "T1", "action": "in", "personalnummer": "0815"}),
    "cdr.csv": ("calls", {"user": "201", "other": "02071234567", "action": "answered", "duration": "0 days 00:00:58"}),
    "anrufe.csv": (
        "calls",
        {"start": "2026-11-27 08:01:10+01:00", "other": "02071234567", "direction": "out", "charge": "0.05"},
    ),
    "trunk.csv": ("calls", {"user": "201", "duration": "0 days 00:01:12", "action": "answered", "charge": "0.05"}),
    "druck.csv": ("printing", {"title": "Angebot", "pages": "1204", "colour": "False", "cost": "1.20", "device": "HP"}),
    "jobs.csv": ("printing", {"user": "kaya", "title": "Plan", "colour": "True", "client": "WS", "pages": "12"}),
    "jobs.txt": ("printing", {"start": "2026-11-27 10:00:01+01:00", "user": "kaya", "title": "Plan, v2", "job": "118"}),
    "security.csv": (
        "logins",
        {"start": "2026-11-27 09:00:00+01:00", "user": "kaya", "action": "login", "other": "10.0.0.1"},
    ),
    "vpn.csv": ("network sessions", {"duration": "0 days 04:00:00", "other": "10.9.0.4", "bytes_tx": "183422"}),
    "gate.log": ("network sessions", {"device": "gate", "other": "10.0.0.4", "action": "deny", "sent": "60"}),
    "seats.csv": ("software use", {"duration": "0 days 04:00:00", "other": "cad-pro", "version": "24.1"}),
    "hours.csv": (
        "time entries",
        {"user": "Kaya", "project": "Bridge", "duration": "0 days 07:30:00", "charged": "True"},
    ),
    "bookings.csv": ("", {"finish": "2026-11-29 10:30:00+01:00", "place": "Big"}),
    "audit.csv": (
        "changes",
        {"start": "2026-11-27 10:00:00+01:00", "action": "changed", "other": "kaya", "old": "201"},
    ),
    "service.log": ("", {"start": "2026-11-27 09:00:01.123000+01:00", "action": "INFO"}),
    "named-zone.csv": ("logins", {"start": "2026-11-27 10:00:01+01:00", "action": "login"}),
    "synced.csv": ("door access", {"start": "2026-11-27 09:00:00+01:00", "last_sync": "2026-11-28 01:00:00+01:00"}),
    "packed.csv": ("door access", {"start": "2026-11-27 09:00:01+01:00", "device": "Main"}),
    "serial.csv": ("door access", {"start": "2026-03-01 08:15:10+01:00", "action": "in"}),
}


@pytest.mark.parametrize("name", some(EXPORTS))
def test_an_export_of_a_trade_is_understood(tmp_path: Path, name: str) -> None:
    """The kind, who, where, what and how long, from headings in several languages and ways of writing; digits that name
    something keep their zeros, and whatever is not one of these is kept under its own name.
    """
    kind, first = EXPORTS[name]
    opened, trial = brought_in(tmp_path / "hall", name, sample(f"trades/{name}"))
    log = opened.archive.logs[0]
    assert trial.stored == trial.read
    assert opened.base.schemas[log].kind == kind
    event = opened.log(log).listing().to_pandas().iloc[0]
    assert {k: str(event[k]) for k in first} == first


def test_months_are_known_in_ten_languages(tmp_path: Path) -> None:
    """Every name of a month, in full and short, with a day of the week before it or not, is proposed and read."""
    named = [(month, name) for month, (own, more) in enumerate(MONTHS.items(), 1) for name in (own, *more.split())]
    rows = [f"{'sam. ' * (n % 2)}{n % 28 + 1}. {name.upper() if n % 3 else name}{'.' * (n % 5 == 0)} 2026 08:{n % 60:02}"
            for n, (_, name) in enumerate(named)]  # fmt: skip
    opened, trial = brought_in(tmp_path / "hall", "doors.csv", "Zeit;Karte;Tür\n" + "".join(f"{r};7;A\n" for r in rows))
    assert trial.stored == len(named) > 130
    found = opened.log(opened.archive.logs[0]).listing().to_pandas()
    wanted = {f"2026-{month:02}-{n % 28 + 1:02} 08:{n % 60:02}" for n, (month, _) in enumerate(named)}
    assert {str(at)[:16] for at in found["start"]} == wanted


SHIFTS = {  # a day's comings and goings in one row: hours in all
    "twice.csv": "18:58",
    "pause.csv": "8:58",
    "apart.csv": "14:41",
    "lunch.csv": "8:00",
    # no comings and goings
    "odd.csv": "0:30",
    # who did not come is no time, and who is still there has no finish
    "absent.csv": "8:00",
    "meant.csv": "8:42",
}


SAMPLED = ("twice.csv",)  # as workbooks each time, all of them when testing deeply


def as_workbook(text: str) -> openpyxl.Workbook:
    """A table whose dates and clock times are those of a workbook."""
    book = openpyxl.Workbook()
    for row in csv.reader(io.StringIO(text), delimiter=";" if ";" in text else ","):
        book.active.append([own(cell) for cell in row])
    return book


NAMES_OF_ODS = ("office", "table", "text", "calcext")


def as_ods(text: str) -> bytes:
    """The same as an OpenDocument spreadsheet."""
    rows = ""
    for row in as_workbook(text).active.iter_rows(values_only=True):
        rows += "<table:table-row>"
        for cell in row:
            kind, held = "string", escape(str(cell)) if cell is not None else ""
            if isinstance(cell, date):
                kind, held = f'date" office:date-value="{cell.isoformat()[:10]}', ""
            elif isinstance(cell, time):
                kind, held = f'time" office:time-value="{cell:PT%HH%MM%SS}', ""
            elif held.startswith("#"):
                kind = 'string" calcext:value-type="error'
            rows += f'<table:table-cell office:value-type="{kind}"><text:p>{held}</text:p></table:table-cell>'
        rows += "</table:table-row>"
    names = " ".join(f'xmlns:{n}="urn:oasis:names:tc:opendocument:xmlns:{n}:1.0"' for n in NAMES_OF_ODS)
    sheet = f'<table:table table:name="Sheet">{rows}</table:table>'
    held_in = io.BytesIO()
    with zipfile.ZipFile(held_in, "w") as packed:
        packed.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        packed.writestr("META-INF/manifest.xml", "<manifest/>")
        packed.writestr(
            "content.xml",
            f"<office:document-content {names}><office:body><office:spreadsheet>{sheet}</office:spreadsheet>"
            "</office:body></office:document-content>",
        )
    return held_in.getvalue()


def own(cell: str) -> Any:
    """A text as a workbook has it: dates and clock times as such."""
    for form in ("%d/%m/%Y", "%d.%m.%Y", "%Y-%m-%d", "%H:%M", "%I:%M %p"):
        with contextlib.suppress(ValueError):
            read = datetime.strptime(cell, form)
            return read.time() if ":" in form else read.date()
    return cell or None


@pytest.mark.parametrize(
    ("name", "form"),
    [
        pytest.param(n, form, marks=[] if form == "csv" or n in SAMPLED else [pytest.mark.deep])
        for n in SHIFTS
        for form in ("csv", "xlsx", "ods")
    ],
)
def test_comings_and_goings_in_one_row(tmp_path: Path, name: str, form: str) -> None:
    """Breaks are not worked, a shift goes past midnight, and what was planned is not what was."""
    opened, _ = brought_in(tmp_path / "hall", f"{name.removesuffix('csv')}{form}", sample(f"shifts/{name}"))
    assert "hours-by-person" in [e.name for e in opened.reports.useful(opened.archive.logs[0])]
    table = opened.report("hours-by-person", period="2026-11").table
    assert table.total is not None
    assert [f"{c // 3_600_000_000}:{c // 60_000_000 % 60:02}" for c in table.total.cells[-1:]] == [SHIFTS[name]]


def test_days_in_the_headings_are_said_to_be_what_is_wrong(tmp_path: Path) -> None:
    """A grid with a column a day is no log without a header."""
    with pytest.raises(RequestError, match=r"days stand in the headings \(02/11/2026, 03/11/2026 ...\), a column each"):
        brought_in(tmp_path / "hall", "grid.csv", "Employee,02/11/2026,03/11/2026\nOle,7:30,8:00\nKaya,8:00,\n")
    with pytest.raises(RequestError, match="was added: no time was found in it"):  # a format known beforehand
        brought_in(
            tmp_path / "hall", "case.xes", '<log><trace><event><string key="a" value="b"/></event></trace></log>'
        )


BY_HAND = {  # what the sample's own mapping knows that its files do not say
    ("helpdesk", "device"), ("logins", "start"), ("absences", "action"), ("timesheets", "action"), ("pages", "action"),
    ("pages", "pages"), ("calls", "place"), ("sessions", "finish"), ("absences", "kind"), ("meter", "pages"),
}  # fmt: skip
COMPARED = ("start", "finish", "duration", "user", "device", "action", "pages", "copies", "amount", "charged", "old")


def test_the_samples_own_files_are_understood(hall: Workspace) -> None:
    """Each log of the sample is proposed with the kind, the columns and the words that its own mapping has."""
    wrong = []
    for name, log in hall.base.config.logs.items():
        if log.database or not log.files:
            continue
        file = max(hall.path.glob(log.files[0]), key=lambda p: p.stat().st_size)
        proposed = tomllib.loads(propose(file, name)[0])["logs"][name]
        if proposed.get("kind", "") != log.kind and (name, "kind") not in BY_HAND:
            wrong.append(f"{name}: {proposed.get('kind')}, not {log.kind}")
        for field in COMPARED:
            if (own := log.fields.get(field)) is None or (name, field) in BY_HAND:
                continue
            found = proposed["fields"].get(field, {})
            found = {"column": found} if isinstance(found, str) else found
            if tuple(found.get("columns") or [found.get("column")]) != own.read_columns:
                wrong.append(f"{name}.{field}: {found}, not {own.read_columns}")
            meant = found.get("values", {})
            wrong += [f"{name}: {v} is not {meant[v]}" for v, w in (own.values or {}).items() if meant.get(v, w) != w]
    assert wrong == []


STAFF = (
    "Personnel No;First name;Last name;Card;Ext;Department;Groups;Joined;Left\n"
    "0815;Ole;Brandt;00451;201;Stores;first aid|fire;01.03.2019;\n4711;Kaya;Özdemir;00452;205;Office;;15.06.2021;\n"
    "4712;Åsa;Lind;00460;;Stores;fire;01.01.2020;31.10.2026\n"
)


def test_a_list_becomes_a_register_without_a_hand(tmp_path: Path) -> None:
    """Who they are, by which names logs call them, what they belong to and since when; names of logs are theirs."""
    hall = tmp_path / "hall"
    doors = "Time,Card,Name,Door,Event\n2026-11-27 08:00,00451,Ole Brandt,Main,Entry\n2026-11-27 09:00,99,,Main,Entry\n"
    hours = "Date,Employee,Hours,Project\n2026-11-27,Kaya Özdemir,7:30,Bridge\n"
    brought_in(hall, "doors.csv", doors)
    brought_in(hall, "hours.csv", hours)
    (hall / "staff.csv").write_text(STAFF, encoding="utf-8")
    told = command("-w", str(hall), "map", str(hall / "staff.csv"), "--register", "people", "--add").stderr
    assert "added [registers.people] with 3 rows" in told
    opened = open_workspace(hall, now=datetime(2026, 11, 30, tzinfo=UTC))
    by = opened.log("doors").by("user", "user.department").measure("count").run().table
    assert [r.shown for r in by.body] == [("99 (badge)", "(none)"), ("Ole Brandt", "Stores")]
    groups = opened.log("doors").by("user.groups").measure("count").run().table
    assert [(r.shown, r.cells) for r in groups.body][:2] == [(("fire",), (1,)), (("first aid",), (1,))]
    assert opened.log("hours").by("user").measure("time").run().table.body[0].shown == ("Kaya Özdemir",)


LISTS = {  # a list as offices have it -> what of the register is proposed
    "Personalnr.,Nachname,Vorname,Karte,Eintritt,Austritt\n001,Lind,Ute,0077,01.02.2019,\n002,Brandt,Jan,0078,15.03.2020,30.06.2026\n":
        {"id": "Personalnr.", "names": {"badge": "Karte", "name": ["Vorname", "Nachname"]}, "until": "Austritt"},
    "ID,Name,Department,Valid from,Valid to\n1,Ann,Stores,2025-01-01,2025-12-31\n1,Ann,Office,2026-01-01,\n":
        {"id": "ID", "from": "Valid from", "until": "Valid to", "attributes": {"department": "Department"}},
    "ID,Name,Cards,Phone\n1,Ann,001;002,201\n2,Bob,003,202\n":
        {"names": {"badge": {"column": "Cards", "separator": ";"}, "extension": "Phone", "name": "Name"}},
    "No,Name,Card,Office\n1,Ann,001,Stores\n1,Ann,002,Stores\n2,Bob,003,Yard\n": {"id": "No", "names": {"badge": "Card", "name": "Name"}},
    "ID,Name,Status\n1,Ann,Active\n2,Bob,Inactive\n": {"archived": "Status", "attributes": None},
    "Name,Durchwahl\nUte,201\nJan,202\n": {"id": "Durchwahl", "names": {"extension": "Durchwahl", "name": "Name"}},
}  # fmt: skip


def test_a_list_of_who_holds_what_becomes_an_assignment(tmp_path: Path) -> None:
    """Several rows for each of both sides; of a list of things with another name, the field is called as one of them."""
    text = "Login,Program,Seats,From,Until\nann,Draw,1,2026-01-01,\nann,Calc,1,2026-01-01,\nbob,Draw,1,2026-02-01,2026-05-31\n"
    (tmp_path / "fermata.toml").write_text('[workspace]\nzone = "Europe/Berlin"\n')
    (tmp_path / "held.csv").write_text(text)
    told = command("-w", str(tmp_path), "map", str(tmp_path / "held.csv"), "--register", "licences", "--add").stderr
    assert "with 3 rows" in told
    assert "taken for a list of who holds what" in told
    register = open_workspace(tmp_path, now=NOW).registers.register("licences")
    assert [a.links for a in register.assignments][1:] == [
        {"user": "ann", "other": "Calc"}, {"user": "bob", "other": "Draw"},
    ]  # fmt: skip
    (tmp_path / "rooms.csv").write_text("Room,Phone,Building\nR1,201,North\nR2,202,North\n")
    found = tomllib.loads(propose_register(tmp_path / "rooms.csv", "rooms", "rooms.csv")[0])["registers"]["rooms"]
    assert (found["id"], found["names"]) == ("Room", {"extension": "Phone", "room": "Room"})
    (tmp_path / "vans.csv").write_text("Van,Plate\nV1,AB1\nV2,AB2\n")
    found = tomllib.loads(propose_register(tmp_path / "vans.csv", "vans", "vans.csv")[0])["registers"]["vans"]
    assert found == {"files": "vans.csv", "id": "Van", "names": {"van": "Van"}, "attributes": {"plate": "Plate"}}


@pytest.mark.parametrize("text", LISTS, ids=lambda t: t.partition("\n")[0])
def test_a_list_is_understood(tmp_path: Path, text: str) -> None:
    """Whose number tells the rows apart, by which names logs call them, and from when to when a row is true."""
    (tmp_path / "list.csv").write_text(text, encoding="utf-8")
    found = tomllib.loads(propose_register(tmp_path / "list.csv", "people", "list.csv")[0])["registers"]["people"]
    assert {k: found.get(k) for k in LISTS[text]} == LISTS[text]


@pytest.mark.parametrize(
    ("name", "text", "code", "said"),
    [
        ("people", "2026-01-02 08:00;a;b\n2026-01-02 08:00;a;b\n", 1, "a line of headings"),
        ("people", "Name,Department\nA,x\nA,x\n", 1, "no column tells its rows apart"),
        ("Staff list", STAFF, 2, "use small letters"),
        ("people", "No,Name,From\n1,A,2026-02-30\n", 2, "is not a date"),
        ("people", "", 1, "is empty"),
    ],
)
def test_a_list_that_is_no_register_is_refused(tmp_path: Path, name: str, text: str, code: int, said: str) -> None:
    """With the reason, and nothing is added."""
    hall = tmp_path / "hall"
    command("new", str(hall))
    before = (hall / "fermata.toml").read_text()
    (hall / "list.csv").write_text(text, encoding="utf-8")
    told = command("-w", str(hall), "map", str(hall / "list.csv"), "--register", name, "--add", code=code).stderr
    assert said in told
    assert (hall / "fermata.toml").read_text() == before


def test_the_largest_sheet_of_a_workbook_is_proposed(tmp_path: Path) -> None:
    """A page in front of the table is no log; the other sheets are named."""
    book = openpyxl.Workbook()
    book.active.append(["Overview"])
    data = book.create_sheet("Data")
    for row in (["When", "Who", "Door"], ["2026-03-02 08:00", "Ann", "North"], ["2026-03-02 09:00", "Bob", "North"]):
        data.append(row)
    book.save(tmp_path / "doors.xlsx")
    text, doubts = propose(tmp_path / "doors.xlsx", "doors")
    assert tomllib.loads(text)["logs"]["doors"]["sheet"] == "Data"
    assert doubts[0] == "the sheets are Sheet, Data; the largest was taken"


ODD = {  # file -> its first line, a line for each day, its last lines; hours of all, events
    "hours.csv": ("Tag;Beginn;Ende;Mitarbeiter", "{d:02}.03.2026;16:00;24:00;Ann", "", 64, 8),
    "use.csv": ("Started;Ended;User;Program", "{d} Sept 2026 1:05 a.m.;{d} Sept 2026 1:05 p.m.;ann;Draw", "", 96, 8),
    "calls.csv": ("Call start,From,To,Duration,Status", "2026-03-0{d} 10:00:00,201,0044{d}79460,1h 30m 00s,Answered", "", 12, 8),
    "doors.csv": ("Date,Time,Employee,Door,End", "2026-03-0{d},10:00,Ann,Gate,10:30",
        "\nPage 1\nDate,Time,Employee,Door,End\n2026-03-09,10:00,Ann,Gate,10:30\nTotal,,,,9\n*** End ***", 4.5, 9),
    "gates.csv": ("EntryDate,EntryTime,ExitTime,Card,Door", "3/{d}/2026 0:00:00,12/30/1899 8:00:00,12/30/1899 9:00:00,7,A", "", 8, 8),
    "shifts.csv": ("Date,Name,In,Out", "2026-03-0{d} 00:00:00.000,Ann,1900-01-01 22:00:00.000,1900-01-01 06:00:00.000",
        "2026-03-09 00:00:00.000,Ann,,", 64, 8),
    "rooms.csv": ("Room,From,Until,Booked by", "R1,2026-03-0{d} 00:00:00,2026-03-0{d} 24:00,Ann", "", 192, 8),
    "states.csv": ("Timestamp,Name,Area,Duration", "Mon Mar  2 10:0{d}:00 2026,Ann,Lab,60", "", 8 / 60, 8),
}  # fmt: skip


@pytest.mark.parametrize("name", some(ODD, 2))
def test_what_people_and_printers_write_is_read(tmp_path: Path, name: str) -> None:
    """The end of a day as 24:00, Sept and a.m., lengths in words, pages with their headings, days with two blanks, dates
    and clock times as databases have them.
    """
    head, line, foot, hours, events = ODD[name]
    text = "\n".join([head, *(line.format(d=d) for d in range(1, 9)), foot])
    opened, _ = brought_in(tmp_path / "hall", name, text)
    found = opened.log(name.removesuffix(".csv")).measure("count", "time").run()
    assert (found.figure("count"), found.figure("time")) == (events, timedelta(hours=hours))


def test_pairs_in_the_text_of_a_programs_log_are_fields(tmp_path: Path) -> None:
    """Who and what, where most lines say them; a log without them keeps its doubt."""
    lines = "".join(f'2026-03-01 10:0{n}:00,5 INFO  [m] user="Ann Lee" action=login n={n}\n' for n in range(9))
    opened, _ = brought_in(tmp_path / "hall", "app.log", lines)
    assert opened.log("app").only(user="Ann Lee", action="login", level="INFO").measure("count").figure() == 9
    (tmp_path / "other.log").write_text(lines.replace("=", " "))
    assert "stand inside the text" in propose(tmp_path / "other.log", "other")[1][0]
    assert "stand inside the text" not in " ".join(propose(tmp_path / "hall" / "app.log", "app")[1])


def test_counters_are_not_added_up(tmp_path: Path) -> None:
    """Readings of counters are told from amounts: what was counted between them is a log of its own."""
    text = "Device,Serial,Reading Date,Total Pages\nHP,V1,2026-11-01,120033\nHP,V1,2026-11-27,121500\n"
    opened, _ = brought_in(tmp_path / "hall", "meter.csv", text)
    used = opened.log("meter-used").measure("total total_pages").run()
    assert used.table.total.cells == (1467,)


@pytest.mark.parametrize(
    ("value", "word"),
    some([("NO ENTRY", "refused"), ("ENTRY OK", "in"), ("not granted", "refused"),
     ("sans entrée", "refused"), ("EXIT", "out"), ("No exit", "refused")], 3),
)  # fmt: skip
def test_a_value_that_denies_is_not_taken_for_the_opposite(tmp_path: Path, value: str, word: str) -> None:
    """An entry that was none is never proposed as one."""
    rows = "".join(f"2026-03-01 0{n}:00:00,B-{n},Gate,{value}\n" for n in range(1, 9))
    (tmp_path / "doors.csv").write_text(f"When,Badge,Door,Event\n{rows}", encoding="utf-8")
    proposed = command("map", str(tmp_path / "doors.csv")).stdout
    assert tomllib.loads(proposed)["logs"]["doors"]["fields"]["action"]["values"] == {value: word}
