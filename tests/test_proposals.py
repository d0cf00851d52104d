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
from fermata.registers.proposal import propose_register
from fermata.workspace.proposing import Trial, add_log, propose
from tests.conftest import DEEP, NOW, some
from tests.conftest import fermata as command

SSHD = """Mar 28 08:01:12 gate sshd[1201]: Accepted publickey for anna from 10.0.0.7 port 51514 ssh2: ED25519 SHA256:abc
Mar 28 08:05:44 gate sshd[1210]: Failed password for invalid user oracle1 from 10.0.0.9 port 4022 ssh2
Mar 28 09:17:03 gate sshd[1201]: pam_unix(sshd:session): session closed for user anna
Mar 28 09:18:03 gate sudo:   anna : TTY=pts/0 ; COMMAND=/usr/bin/apt update
"""
RFC5424 = """<38>1 2026-03-28T08:01:12+01:00 gate sshd 1201 - -  Accepted publickey for anna from 10.0.0.7 port 51514 ssh2
<86>1 2026-03-28T09:17:03+01:00 gate sshd 1201 - -  pam_unix(sshd:session): session closed for user anna
"""
JOURNAL = """{"__REALTIME_TIMESTAMP":"1774681272000000","__MONOTONIC_TIMESTAMP":"812","_HOSTNAME":"gate","SYSLOG_IDENTIFIER":"sshd","_PID":"12","MESSAGE":"Accepted publickey for anna from 10.0.0.7 port 5 ssh2"}
{"__REALTIME_TIMESTAMP":"1774685823000000","__MONOTONIC_TIMESTAMP":"858","_HOSTNAME":"gate","SYSLOG_IDENTIFIER":"sshd","_PID":"12","MESSAGE":"pam_unix(sshd:session): session closed for user anna"}
"""
DATABASE = '''2026-03-28 08:01:12.000 CET,"anna","shop",311,"10.0.0.7:40112",69c77c58.137,1,"authentication",2026-03-28 08:01:12 CET,3/2,0,LOG,00000,"connection authorized: user=anna database=shop",,,,,,,,,"","client backend",,0
2026-03-28 08:09:12.000 CET,"anna","shop",311,"10.0.0.7:40112",69c77c58.137,2,"idle",2026-03-28 08:01:12 CET,,0,LOG,00000,"disconnection: session time: 0:08:00.000 user=anna database=shop host=10.0.0.7 port=40112",,,,,,,,,"psql","client backend",,0
2026-03-28 08:10:00.000 CET,"bert","shop",312,"10.0.0.8:40113",69c77c90.138,1,"authentication",2026-03-28 08:10:00 CET,3/2,0,FATAL,28P01,"password authentication failed for user ""bert""",,,,,,,,,"","client backend",,0
'''
ACCOUNTING = """Sat Mar 28 01:01:12 2026
\tUser-Name = "anna"
\tAcct-Status-Type = Stop
\tAcct-Session-Id = "0001"
\tAcct-Unique-Session-Id = "u1"
\tAcct-Session-Time = 3600
\tNAS-IP-Address = 10.0.0.1
\tTimestamp = 1774684872

Sat Mar 28 01:02:00 2026
\tAcct-Status-Type = Accounting-On
\tNAS-IP-Address = 10.0.0.1
\tTimestamp = 1774684920

"""
PAGES = """office-a4 anna 101 [28/Mar/2026:08:01:12 +0100] total 3 - localhost Report draft.pdf A4 one-sided
office-a4 bert 102 [28/Mar/2026:08:40:11 +0100] total 12 - 10.0.0.7 a "quoted" name with total 9 A4 two-sided-long-edge
"""
CALLS = """Date,Time,Extension,Number,Duration,Direction,Status
28/03/2026,08:01:12,201,+441632960001,2:16,Outgoing,ANSWERED
28/03/2026,08:05:02,202,+441632960002,0:00,Outgoing,NO ANSWER
28/03/2026,08:15:40,203,+441632960003,12:41,Incoming,BUSY
"""
DOORS = """Türsteuerung Nord
Zeitraum 01.03.2026 bis 31.03.2026

Zeit;Karte;Tür;Ereignis
28.03.2026 08:01:12;1001;Haupteingang;Zutritt gewährt
28.03.2026 08:03:02;1002;Haupteingang;Zutritt verweigert
28.03.2026 17:01:12;1001;Haupteingang;Austritt
Summe: 3
"""
PROXY = """1774681272.123    123 10.0.0.7 TCP_MISS/200 4512 GET http://example.org/ anna HIER_DIRECT/192.0.2.1 text/html
1774681273.001     12 10.0.0.8 TCP_DENIED/403 1200 CONNECT example.net:443 - HIER_NONE/- text/html
"""
ERRORS = """2026/03/28 08:01:12 [error] 77#77: *1 open() "/srv/x" failed (2: No such file or directory), client: 10.0.0.8, server: house, request: "GET /x HTTP/1.1", host: "house"
2026/03/28 08:02:01 [warn] 77#77: *2 response is buffered, client: 10.0.0.7, server: house, request: "GET / HTTP/1.1", host: "house"
"""
FIREWALL = """Mar 28 08:01:12 gate kernel: [12345.678] DROP IN=eth0 OUT= MAC=aa:bb SRC=10.0.0.9 DST=10.0.0.1 LEN=60 TTL=64 PROTO=TCP SPT=4022 DPT=22 WINDOW=64240
Mar 28 08:01:13 gate kernel: [12346.678] ACCEPT IN=eth0 OUT= MAC=aa:bb SRC=10.0.0.7 DST=10.0.0.1 LEN=60 TTL=64 PROTO=UDP SPT=4023 DPT=443
"""
MAIL = """Mar 28 08:01:12 mx postfix/smtp[99]: 4F1A2: to=<bert@example.org>, relay=mx.example.org[192.0.2.1]:25, delay=1.2, dsn=2.0.0, status=sent (250 ok)
Mar 28 08:01:13 mx postfix/qmgr[98]: 4F1A2: from=<anna@house.example>, size=4312, nrcpt=1 (queue active)
Mar 28 08:01:14 mx postfix/smtp[99]: 4F1A3: to=<x@example.org>, relay=none, delay=1.2, dsn=4.4.1, status=deferred (timed out)
"""
SIP = """Mar 28 08:01:12 sip kamailio[77]: NOTICE: acc [acc.c:287]: ACC: transaction answered: timestamp=1774681272;method=INVITE;from_tag=a1;to_tag=b1;call_id=c1@10.0.0.1;code=200;reason=OK;src_user=201;dst_user=301
Mar 28 08:04:12 sip kamailio[77]: NOTICE: acc [acc.c:287]: ACC: call missed: timestamp=1774681452;method=INVITE;from_tag=a2;to_tag=;call_id=c2@10.0.0.1;code=486;reason=Busy Here;src_user=202;dst_user=301
"""
WEB = """{"time_local":"28/Mar/2026:08:01:12 +0100","remote_addr":"10.0.0.7","remote_user":"anna","request":"GET / HTTP/1.1","status":"200","body_bytes_sent":"512"}
{"time_local":"28/Mar/2026:08:01:13 +0100","remote_addr":"10.0.0.8","remote_user":"","request":"GET /x HTTP/1.1","status":"404","body_bytes_sent":"12"}
"""
LAST = """anna     pts/0        10.0.0.7         Sat Mar 28 08:01:12 2026 - Sat Mar 28 09:17:03 2026  (01:15)
bert     pts/1        10.0.0.8         Sat Mar 28 10:00:00 2026   still logged in

wtmp begins Sat Mar 28 07:55:01 2026
"""
LEASES = """# written by a server
authoring-byte-order little-endian;

lease 10.0.0.50 {
  starts 6 2026/03/28 07:01:12;
  ends 6 2026/03/28 19:01:12;
  cltt 6 2026/03/28 07:01:12;
  binding state active;
  next binding state free;
  hardware ethernet 52:54:00:aa:bb:01;
  client-hostname "anna-laptop";
}
lease 10.0.0.51 {
  starts 6 2026/03/28 09:01:12;
  ends never;
  binding state free;
  hardware ethernet 52:54:00:aa:bb:02;
}
"""
PRINTED = """<?xml version="1.0" encoding="UTF-8"?>
<Events>
<Event xmlns="http://schemas.example/event"><System><EventID>307</EventID>
<TimeCreated SystemTime="2026-03-28T08:01:12+01:00"/></System><EventData><Data Name="Document">Programme</Data>
<Data Name="Owner">anna</Data><Data Name="Printer">Front</Data><Data Name="Pages">12</Data></EventData></Event>
<Event xmlns="http://schemas.example/event"><System><EventID>307</EventID>
<TimeCreated SystemTime="2026-03-28T08:05:00+01:00"/></System><EventData><Data Name="Document">Score</Data>
<Data Name="Owner">bert</Data><Data Name="Printer">Vault</Data><Data Name="Pages">3</Data></EventData></Event>
</Events>
"""
LISTED = """Jobs of the week
User         When                 Printer   Pages

anna         2026-03-28 08:01:12  Front     12
Bert Ølsen   2026-03-28 08:05:00  Vault     3
chris        2026-03-28 09:05:00            7
"""
NAMED = """time=2026-03-28T08:01:12+01:00 user=anna action=login src=10.0.0.7 host=gate
time=2026-03-28T08:02:12+01:00 user="A \\"B\\" C" action=logout src=10.0.0.7 host=gate
time=2026-03-28T08:03:12+01:00 user=bert action=login host=gate
"""
TWICE = """When,Who,Door,Who
2026-03-28 08:01:12,anna,North,guard
2026-03-28 08:03:12,bert,North,guard
"""
FAILED = """[Sat Mar 28 08:01:12.000000 2026] [auth_basic:error] [pid 77:tid 78] [client 10.0.0.8:40112] AH01618: user bert not found: /x
[Sat Mar 28 08:01:13.500000 2026] [mpm_event:notice] [pid 77:tid 77] AH00489: configured -- resuming normal operations
"""
DUMPED = """[7] [00077] [ts/0] [anna    ] [pts/0       ] [10.0.0.7            ] [10.0.0.7       ] [2026-03-28T07:01:12,000000+00:00]
[8] [00077] [    ] [        ] [pts/0       ] [                    ] [0.0.0.0        ] [2026-03-28T08:17:03,000000+00:00]
"""
LATEST = """Username         Port     From                                       Latest
root                                                                **Never logged in**
anna             pts/0    10.0.0.7                                  Sat Mar 28 07:01:12 +0000 2026
"""
PACKAGES = """2026-03-28 08:01:10 startup archives unpack
2026-03-28 08:01:12 install hall-one:all <none> 1.0
2026-03-28 08:01:12 status installed hall-one:all 1.0
2026-03-28 08:09:12 upgrade hall-one:all 1.0 1.1
"""
TRANSFERS = """Sat Mar 28 08:01:12 2026 0 10.0.0.7 5000 /srv/a plan.txt b _ o r anna ftp 0 * c
Sat Mar 28 08:02:12 2026 2 10.0.0.7 10 /srv/b.txt b _ i r bert ftp 0 * i
"""
ADMITTED = """Sat Mar 28 08:01:02 2026 : Info: Ready to process requests
Sat Mar 28 08:01:12 2026 : Auth: (28) Login OK: [anna] (from client gate port 0)
Sat Mar 28 08:01:13 2026 : Auth: (30) Login incorrect (pap: wrong): [bert/<via Auth-Type = PAP>] (from client gate port 0)
"""
BALANCED = """Mar 28 08:01:12 gate haproxy[77]: 10.0.0.7:49884 [28/Mar/2026:08:01:12.000] hall pages/one 0/0/0/1/1 200 203 - - ---- 1/1/0/0/0 0/0 "GET /a HTTP/1.1"
Mar 28 08:01:13 gate haproxy[77]: 10.0.0.7:49885 [28/Mar/2026:08:01:13.000] hall hall/<NOSRV> -1/-1/-1/-1/0 400 0 - - CR-- 2/2/0/0/0 0/0 "<BADREQ>"
"""
SERVER = """2026-03-28 08:01:12.000 CET [311] anna@shop LOG:  connection authorized: user=anna database=shop
2026-03-28 08:09:12.000 CET [311] anna@shop LOG:  disconnection: session time: 0:08:00.000 user=anna database=shop
	of a statement of two lines
"""
OWN_PAGES = """anna\toffice\t101\t[28/Mar/2026:08:01:12 +0100]\ttotal\t3\tReport draft.pdf
bert\toffice\t102\t[28/Mar/2026:08:40:11 +0100]\ttotal\t12\ta "quoted" name
carl\toffice\t103\t[28/Mar/2026:08:41:11 +0100]\ttotal\t1\ta third name
"""
CALLS_TABLE = """id,method,from_tag,to_tag,callid,sip_code,sip_reason,time,src_user,dst_user,src_ip
1,INVITE,a1,b1,c1,200,OK,2026-03-28 08:01:12,201,301,10.0.0.7
2,BYE,a1,b1,c1,200,OK,2026-03-28 08:04:12,201,301,10.0.0.7
3,INVITE,a2,,c2,486,Busy Here,2026-03-28 08:06:12,202,301,10.0.0.7
"""
FIRST = "2026-03-28 08:01:12+01:00"
CASES: list[tuple[str, str, int, int, dict[str, Any]]] = [  # file, text, stored, records read, the first event
    ("auth.log", SSHD, 3, 4, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    ("auth-new.log", RFC5424, 2, 2, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    ("journal.json", JOURNAL, 2, 2, {"user": "anna", "device": "gate", "action": "login", "other": "10.0.0.7"}),
    ("database.csv", DATABASE, 3, 3, {"user": "anna", "device": "10.0.0.7", "place": "shop", "action": "login"}),
    ("detail", ACCOUNTING, 1, 2, {"user": "anna", "device": "10.0.0.1", "action": "stop", "session": "u1"}),
    ("page_log", PAGES, 2, 2, {"user": "anna", "device": "office-a4", "pages": 3, "title": "Report draft.pdf"}),
    ("calls.csv", CALLS, 3, 3, {"user": "201", "other": "+441632960001", "action": "answered", "direction": "out"}),
    ("doors.csv", DOORS, 3, 4, {"user": "1001", "device": "Haupteingang", "action": "granted"}),
    ("proxy.log", PROXY, 2, 2, {"user": "anna", "device": "10.0.0.7", "action": "GET", "outcome": "200", "size": 4512}),
    ("error.log", ERRORS, 2, 2, {"device": "10.0.0.8", "action": "error", "other": "GET /x HTTP/1.1"}),
    (
        "kern.log",
        FIREWALL,
        2,
        2,
        {"user": "10.0.0.9", "action": "DROP", "other": "10.0.0.1", "port": 22, "protocol": "TCP"},
    ),
    ("mail.log", MAIL, 2, 3, {"user": "bert@example.org", "action": "sent", "other": "mx.example.org"}),
    (
        "sip.log",
        SIP,
        2,
        2,
        {"user": "201", "other": "301", "action": "INVITE", "outcome": "200", "call": "c1@10.0.0.1"},
    ),
    ("web.jsonl", WEB, 2, 2, {"user": "anna", "device": "10.0.0.7", "action": "GET", "outcome": "200", "size": 512}),
    ("leases.txt", LEASES, 2, 3, {"user": "anna-laptop", "device": "52:54:00:aa:bb:01", "other": "10.0.0.50"}),
    ("events.xml", PRINTED, 2, 2, {"user": "anna", "device": "Front", "pages": 12, "title": "Programme"}),
    ("jobs.txt", LISTED, 3, 4, {"user": "anna", "device": "Front", "pages": 12}),
    ("named.log", NAMED, 3, 3, {"user": "anna", "device": "gate", "action": "login", "src": "10.0.0.7"}),
    ("twice.csv", TWICE, 2, 2, {"user": "anna", "device": "North", "who_2": "guard"}),
    ("last.txt", LAST, 2, 4, {"user": "anna", "device": "pts/0", "other": "10.0.0.7"}),
    ("failed.log", FAILED, 2, 2, {"device": "10.0.0.8", "action": "error", "module": "auth_basic"}),
    ("dump.txt", DUMPED, 2, 2, {"user": "anna", "device": "pts/0", "action": "login", "other": "10.0.0.7"}),
    ("latest.txt", LATEST, 1, 3, {"user": "anna", "device": "pts/0", "other": "10.0.0.7"}),
    ("packages.log", PACKAGES, 2, 4, {"action": "install", "other": "hall-one:all", "new": "1.0"}),
    ("transfers.log", TRANSFERS, 2, 2, {"user": "anna", "action": "fetched", "other": "/srv/a plan.txt", "size": 5000}),
    ("admitted.log", ADMITTED, 2, 3, {"user": "anna", "device": "gate", "action": "login"}),
    ("balanced.log", BALANCED, 1, 2, {"device": "10.0.0.7", "action": "GET", "outcome": "200", "server": "pages/one"}),
    ("server.log", SERVER, 2, 3, {"user": "anna", "place": "shop", "action": "login", "session": "311"}),
    (
        "table.csv",
        CALLS_TABLE,
        3,
        3,
        {"user": "201", "other": "301", "action": "INVITE", "outcome": "200", "call": "c1"},
    ),
    ("own_pages", OWN_PAGES, 3, 3, {"user": "anna", "device": "office", "pages": 3, "title": "Report draft.pdf"}),
]


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
    (hall / "auth.log").write_text(SSHD)
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
    shown = command("-w", str(three), "--now", NOW.isoformat(), "reports", "--here")
    assert "pages-by-printer" in shown.stdout
    assert "this needs a log of the kind 'logins'" in shown.stderr


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


OWN = {  # odd exports of one's own: file, text, what is asked of it, what the table says
    "Zeiten März.csv": (
        "Mitarbeiter;Datum;Von;Bis;Projekt\nAnna Beispiel;02.03.2026;08:00;12:30;Umbau\n"
        "Anna Beispiel;02.03.2026;13:00;17:00;Umbau\nBert Muster;03.03.2026;22:00;02:00;Wartung\n",
        {"by": ["user"], "columns": ["time"]}, {"Anna Beispiel": 8.5, "Bert Muster": 4.0},
    ),
    "appels.tsv": (
        "Date\tHeure\tPoste\tNuméro\tDurée\tSens\n02/03/2026\t08:01:12\t201\t+441632960001\t00:02:16\tsortant\n"
        "13/03/2026\t09:01:12\t202\t+441632960002\t00:00:00\tentrant\n",
        {"by": ["user"], "columns": ["count"]}, {"201": 1, "202": 1},
    ),
    "banner.csv": (
        "Door controller 3\nprinted 2026-04-01\n\nTime,Card,Reader,Event\n2026-03-02 08:01:12,1001,North,Granted\n"
        "2026-03-02 08:02:12,1002,North,Refused\n2026-03-02 08:03:12,1001,South,Granted\nTotal,3,,\n",
        {"by": ["device"], "columns": ["count"]}, {"North": 2, "South": 1},
    ),
    "american.csv": (
        "User,Printed at,Printer,Pages\nanna,03/28/2026 01:37:01 PM,office,3\nbert,03/02/2026 01:37:01 AM,office,4\n",
        {"by": ["user"], "columns": ["total pages"]}, {"anna": 3, "bert": 4},
    ),
    "epoch.csv": (
        "ts,login,host,event\n1774681272,anna,gate,login\n1774685823,anna,gate,logout\n1774685900,bert,gate,login\n",
        {"by": ["user"], "columns": ["count"]}, {"anna": 2, "bert": 1},
    ),
    "utf16.txt": (
        "When\tWho\tDoor\n2026-03-02 08:01\tÅsa\tNorth\n2026-03-02 08:02\tÖrjan\tNorth\n",
        {"by": ["user"], "columns": ["count"]}, {"Åsa": 1, "Örjan": 1},
    ),
    "pipes.log": (
        "# exported\ntime|badge|reader|result\n2026-03-02T08:01:12Z|7|A|NA\n2026-03-02T08:02:12Z|7|B|OK\n",
        {"by": ["device"], "columns": ["count"]}, {"A": 1, "B": 1},
    ),
    "nested.json": (
        '{"export": {"rows": [{"at": "2026-03-02T08:01:12+01:00", "who": {"id": "anna"}, "printer": "lobby", "pages": 3},'
        ' {"at": "2026-03-02T09:01:12+01:00", "who": {"id": "bert"}, "printer": "lobby", "pages": 5}]}}',
        {"by": ["device"], "columns": ["total pages"]}, {"lobby": 8},
    ),
    "listed.txt": (
        "Login    From              Until\nanna     2026-03-02 08:00  2026-03-02 09:30\n"
        "bert     2026-03-02 10:00  2026-03-02 10:15\n",
        {"by": ["user"], "columns": ["time"]}, {"anna": 1.5, "bert": 0.25},
    ),
    "pairs.log": (
        'time=2026-03-02T08:01:12Z user=anna door="North 1" action=entry\n'
        'time=2026-03-02T08:05:12Z user=bert door="North 1" action=exit\n',
        {"by": ["device"], "columns": ["count"]}, {"North 1": 2},
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", some(OWN))
def test_an_own_file_gives_a_right_report_after_two_commands(tmp_path: Path, name: str) -> None:
    """`fermata map FILE --add` and `fermata import`, no edit; the figures are those of the file."""
    text, asked, wanted = OWN[name]
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


EXPORTS: dict[str, tuple[str, str, dict[str, Any]]] = {  # exports of trades: file -> text, kind, its first event
    "direction.csv": (
        "Event Time,Card Number,Cardholder Name,Door Name,Direction,Event Type\n"
        '11/27/2026 6:58:12 AM,00451,"Brandt, Ole",Main,IN,Access Granted\n'
        "11/27/2026 7:01:03 AM,00460,,Store,IN,Access Denied - Card Expired\n"
        '11/27/2026 5:05:20 PM,00451,"Brandt, Ole",Main,OUT,Access Granted\n',
        "door access", {"user": "00451", "device": "Main", "action": "in", "start": "2026-11-27 06:58:12+01:00"},
    ),
    "gates.csv": (
        "Timestamp,Employee ID,Gate,Dir.,Access result\n2026-11-27 07:58,0042,North,Entry,Not permitted\n"
        "2026-11-27 08:03,0043,North,Exit,Permitted\n",
        "door access", {"user": "0042", "device": "North", "action": "refused"},
    ),
    "codes.csv": (  # what a result means is not known: nothing is taken for an entry
        "Timestamp,Card,Gate,Dir.,Access result\n2026-11-27 07:58,0042,North,Entry,Code 1\n"
        "2026-11-27 08:03,0043,North,Exit,Code 7\n",
        "door access", {"action": "Entry Code 1"},
    ),
    "camel.csv": (
        "EventTime,CardNo,PersonName,DoorName,EventDescription\n2026-11-27 06:58:12,0451,Ole,Main,Valid Card Exit\n"
        "2026-11-27 07:01:03,0460,Asa,Store,Invalid Card\n2026-11-27 07:02:03,,,Store,Door Forced Open\n",
        "door access", {"user": "0451", "device": "Main", "action": "out", "personname": "Ole"},
    ),
    "porte.csv": (
        "Date;Heure;N° badge;Nom;Porte;Sens;Résultat\n27/11/2026;06:58:12;0012;Durand;Entrée nord;Entrée;Accès refusé\n"
        "27/11/2026;17:02:12;0012;Durand;Entrée nord;Sortie;Accès autorisé\n",
        "door access", {"user": "0012", "device": "Entrée nord", "action": "refused", "nom": "Durand"},
    ),
    "buchungen.csv": (
        "Buchungszeit;Personalnummer;Personalname;Terminal;Buchungsart\n27.11.2026 06:58;0815;Ole;T1;Kommen\n"
        "27.11.2026 12:01;0815;Ole;T1;Gehen\n",
        "door access", {"user": "Ole", "device": "T1", "action": "in", "personalnummer": "0815"},
    ),
    "cdr.csv": (
        "calldate,clid,src,dst,duration,billsec,disposition,uniqueid\n2026-11-27 08:01:10,Desk,201,02071234567,65,58,"
        "ANSWERED,1.1\n2026-11-27 08:05:44,,077009,201,30,0,NO ANSWER,1.2\n",
        "calls", {"user": "201", "other": "02071234567", "action": "answered", "duration": "0 days 00:00:58"},
    ),
    "anrufe.csv": (
        "Datum;Startzeit;Endzeit;Nebenstelle;Zielrufnummer;Gesprächsdauer;Kosten (EUR);Richtung\n"
        "27.11.2026;08:01:10;08:02:15;201;02071234567;00:01:05;0,05;ausgehend\n"
        "27.11.2026;08:05:44;08:06:14;205;030123456;00:00:30;0,00;eingehend\n",
        "calls", {"start": "2026-11-27 08:01:10+01:00", "other": "02071234567", "direction": "out", "charge": "0.05"},
    ),
    "trunk.csv": (
        "Date,Time,From,To,Minutes,Cost,Status\n27/11/2026,08:01,201,02071234567,1.2,0.05,Completed\n"
        "27/11/2026,08:05,077009,201,0,0.00,No Answer\n",
        "calls", {"user": "201", "duration": "0 days 00:01:12", "action": "answered", "charge": "0.05"},
    ),
    "druck.csv": (
        "Zeitpunkt;Benutzername;Druckername;Dokumentname;Seitenzahl;Farbe;Kosten\n"
        "27.11.2026 09:00;kaya;HP;Angebot;1.204;Nein;1,20 €\n27.11.2026 09:14;ole;HP;Schein;1.204.000;Ja;0,25 €\n",
        "printing", {"title": "Angebot", "pages": "1204", "colour": "False", "cost": "1.20", "device": "HP"},
    ),
    "jobs.csv": (
        "Time,User,Pages,Printer,Document Name,Client,Grayscale\n2026-11-27 09:00,kaya,12,hp,Plan,WS,NOT GRAYSCALE\n"
        "2026-11-27 09:14,ole,1,hp,Note,WS,GRAYSCALE\n",
        "printing", {"user": "kaya", "title": "Plan", "colour": "True", "client": "WS", "pages": "12"},
    ),
    "jobs.txt": (
        '2026-11-27T09:00:01Z printer=hp job=118 owner=kaya title="Plan, v2" pages=12 color=no\n'
        "2026-11-27T09:14:55Z printer=hp job=119 owner=ole title=Note pages=1 color=yes\n",
        "printing", {"start": "2026-11-27 10:00:01+01:00", "user": "kaya", "title": "Plan, v2", "job": "118"},
    ),
    "security.csv": (
        "TimeCreated,EventID,TargetUserName,WorkstationName,IpAddress\n2026-11-27T08:00Z,4624,kaya,WS,10.0.0.1\n"
        "2026-11-27T17:00Z,4634,kaya,WS,-\n",
        "logins", {"start": "2026-11-27 09:00:00+01:00", "user": "kaya", "action": "login", "other": "10.0.0.1"},
    ),
    "vpn.csv": (
        "Username,Assigned IP,Login Time,Logout Time,Duration,Bytes Tx\nkaya,10.9.0.4,2026-11-27 08:00:01 +0100,"
        '2026-11-27 12:00:01 +0100,4:00:00,"183,422"\nole,10.9.0.5,2026-11-27 09:00:01 +0100,,,\n',
        "network sessions", {"duration": "0 days 04:00:00", "other": "10.9.0.4", "bytes_tx": "183422"},
    ),
    "gate.log": (
        'date=2026-11-27 time=09:00:01 devname="gate" srcip=10.0.0.4 dstip=203.0.113.7 action="deny" sentbyte=60\n'
        'date=2026-11-27 time=09:00:02 devname="gate" srcip=10.0.0.4 dstip=203.0.113.7 action="accept" sentbyte=61\n',
        "network sessions", {"device": "gate", "other": "10.0.0.4", "action": "deny", "sent": "60"},
    ),
    "seats.csv": (
        "Checkout,Checkin,Feature,User,Host,Version\n2026-11-27 08:00,2026-11-27 12:00,cad-pro,kaya,WS,24.1\n",
        "software use", {"duration": "0 days 04:00:00", "other": "cad-pro", "version": "24.1"},
    ),
    "hours.csv": (
        'Date,Name,Project,Hours,Billable\n23/11/2026,Kaya,Bridge,7:30,Y\n24/11/2026,Kaya,Bridge,"4,25",N\n',
        "time entries", {"user": "Kaya", "project": "Bridge", "duration": "0 days 07:30:00", "charged": "True"},
    ),
    "bookings.csv": (
        "User,Start Date,Start Time,End Date,End Time,Room\nkaya,27/11/2026,09:00,29/11/2026,10:30,Big\n"
        "ole,27/11/2026,23:00,28/11/2026,01:00,Small\n",
        "", {"finish": "2026-11-29 10:30:00+01:00", "place": "Big"},
    ),
    "audit.csv": (
        "Timestamp (UTC),Actor,Operation,Target Object,Old Value,New Value\n2026-11-27 09:00,ole,Update user,kaya,201,"
        "205\n2026-11-27 09:10,ole,Delete group,temps,,\n",
        "changes", {"start": "2026-11-27 10:00:00+01:00", "action": "changed", "other": "kaya", "old": "201"},
    ),
    "service.log": (
        "2026-11-27 09:00:01,123 INFO  [auth] User kaya logged in\n2026-11-27 09:00:02,123 ERROR [db] away\n"
        "2026-11-27 09:00:03,123 WARN slow\n2026-11-27 09:00:04,123 INFO back\n2026-11-27 09:00:05,123 ERROR x\n"
        "  at line 7\n",
        "", {"start": "2026-11-27 09:00:01.123000+01:00", "action": "INFO"},
    ),
    "named-zone.csv": (
        "time,user,host,event\n2026-11-27 09:00:01 UTC,kaya,ws,login\n2026-11-27 17:00:01 UTC,kaya,ws,logout\n",
        "logins", {"start": "2026-11-27 10:00:01+01:00", "action": "login"},
    ),
    "synced.csv": (
        "Date,Time,Last sync,User,Door\n27/11/2026,09:00,2026-11-28 01:00:00,kaya,Main\n"
        "27/11/2026,10:00,2026-11-28 01:00:00,ole,Main\n",
        "door access", {"start": "2026-11-27 09:00:00+01:00", "last_sync": "2026-11-28 01:00:00+01:00"},
    ),
    "packed.csv": (
        "date;time;user;door\n20261127;090001;kaya;Main\n20261127;170001;kaya;Main\n",
        "door access", {"start": "2026-11-27 09:00:01+01:00", "device": "Main"},
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", some(EXPORTS))
def test_an_export_of_a_trade_is_understood(tmp_path: Path, name: str) -> None:
    """The kind, who, where, what and how long, from headings in several languages and ways of writing; digits that name
    something keep their zeros, and whatever is not one of these is kept under its own name.
    """
    text, kind, first = EXPORTS[name]
    opened, trial = brought_in(tmp_path / "hall", name, text)
    log = opened.archive.logs[0]
    assert trial.stored == trial.read
    assert opened.base.schemas[log].kind == kind
    event = opened.log(log).listing().to_pandas().iloc[0]
    assert {k: str(event[k]) for k in first} == first


SHIFTS = {  # a day's comings and goings in one row -> hours in all
    "twice.csv": (
        "Employee,Date,In,Out,In,Out,Total\nOle,13/11/2026,08:58,12:31,13:15,17:40,7:58\n"
        "Ole,14/11/2026,09:10,12:45,,,3:35\nOle,15/11/2026,22:00,02:00,02:45,06:10,7:25\nOle,17/11/2026,,,,,\n", "18:58"
    ),
    "pause.csv": (
        "Name;Datum;Kommen;Pause von;Pause bis;Gehen\nOle;13.11.2026;08:58;12:31;13:15;17:40\nOle;14.11.2026;8:00;;;9:00\n",
        "8:58",
    ),
    "apart.csv": (
        "Date,Name,Clock In,Clock Out,Break Start,Break End\n2026-11-13,Ole,22:00,06:10,02:00,02:45\n"
        "2026-11-14,Kaya,22:05,06:00,02:01,02:40\n", "14:41"
    ),
    "lunch.csv": (
        "Date,Name,First In,Lunch Out,Lunch In,Last Out\n2026-11-13,Ole,9:00 AM,12:30 PM,1:00 PM,5:30 PM\n", "8:00"
    ),
    "odd.csv": (  # no comings and goings
        "Date,Employee,Start,Signed,Checked,End\n2026-11-13,Ole,09:00,09:01,09:02,09:30\n", "0:30"
    ),
    "absent.csv": (  # who did not come is no time, and who is still there has no finish
        "Date,Employee,In,Left on,Out\n2026-11-13,Ole,09:00,2026-11-13,17:00\n2026-11-13,Kaya,,2026-11-13,\n"
        "2026-11-14,Kaya,08:00,2026-11-14,\n", "8:00"
    ),
    "meant.csv": (
        "Employee,Date,Planned start,Planned end,Actual start,Actual end\nOle,2026-11-13,09:00,17:30,08:58,17:40\n", "8:42"
    ),
}  # fmt: skip


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
    text, hours = SHIFTS[name]
    opened, _ = brought_in(tmp_path / "hall", f"{name.removesuffix('csv')}{form}", text)
    assert "hours-by-person" in [e.name for e in opened.reports.useful(opened.archive.logs[0])]
    table = opened.report("hours-by-person", period="2026-11").table
    assert table.total is not None
    assert [f"{c // 3_600_000_000}:{c // 60_000_000 % 60:02}" for c in table.total.cells[-1:]] == [hours]


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
