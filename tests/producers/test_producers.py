"""Logs made by real daemons on this machine's loopback, each compared with what somebody else says of the same
events.
"""

from __future__ import annotations

import gc
import os
import re
import shutil
import subprocess
import tempfile
import threading
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

import fermata
from fermata.api.workspace import Workspace
from fermata.errors import SourceError
from tests.engines import postgres_server

pytestmark = pytest.mark.producers
SBIN = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"


def needs(*programs: str, root: bool = False) -> None:
    """Skips with a reason where a program is missing; where everything must run, fails instead."""
    missing = [p for p in programs if not shutil.which(p, path=SBIN) and not list(Path("/usr/lib").glob(f"{p}"))]
    missing += ["the rights of root"] if root and os.geteuid() != 0 else []
    if missing and os.environ.get("FERMATA_NO_SKIPS"):
        pytest.fail(f"missing: {', '.join(missing)}")
    if missing:
        pytest.skip(f"needs {', '.join(missing)}")


@contextmanager
def daemon(*arguments: str, ready: Callable[[], bool]) -> Iterator[None]:
    """A daemon in the foreground of its own process, stopped at the end."""
    with subprocess.Popen(
        arguments, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, "PATH": SBIN}
    ) as process:
        try:
            wait(ready)
            yield
        finally:
            process.terminate()
            process.wait(10)


def wait(ready: Callable[[], Any], seconds: float = 20) -> None:
    """Until something holds; fails after a while."""
    until = time.monotonic() + seconds
    while not ready():
        assert time.monotonic() < until, "the daemon did not answer in time"
        time.sleep(0.1)


def run(*arguments: str, stdin: str = "", **env: str) -> str:
    done = subprocess.run(
        arguments, input=stdin, capture_output=True, text=True, check=False, env={**os.environ, "PATH": SBIN, **env}
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def workspace(path: Path, text: str) -> Workspace:
    (path / "fermata.toml").write_text('[workspace]\nzone = "UTC"\n' + text)
    return fermata.open(path)


def rows(made: Workspace, *fields: str) -> list[tuple[Any, ...]]:
    """Imports, and lists the fields of every event."""
    outcomes = made.archive.import_log("log")
    assert all(o.file and o.file.rejected == 0 for o in outcomes), made.archive.rejects("log")
    table = made.listing(fermata.Report(log="log"))
    at = {c[0]: i for i, c in enumerate(table.columns)}
    return [tuple(r[at[f]] for f in fields) for r in table.rows]


CSVLOG = """
[logs.log]
files = "*.csv"
header = false
zones = { UTC = "+00:00" }
[logs.log.fields]
start = { column = 1, form = "%Y-%m-%d %H:%M:%S.%f %Z" }
user = { column = 2, names = "login" }
device = 3
action = { column = 14, patterns = { "^connection authorized" = "login", "^disconnection" = "logout", "." = "other" } }
message = 14
query = 20
"""


def test_database_server_log_and_query(tmp_path: Path) -> None:
    """Sessions of the csvlog, with newlines inside fields, equal the server's own count; a query equals its table."""
    needs("postgresql/*/bin/postgres")
    import psycopg

    place = Path(tempfile.mkdtemp())  # the server's own user must get at it
    settings = {"logging_collector": "on", "log_destination": "csvlog", "log_directory": str(place / "data"),
    "log_connections": "on",
                "log_disconnections": "on", "log_timezone": "UTC", "log_file_mode": "0644",
                "log_filename": "server.log"}  # fmt: skip
    with postgres_server(place, settings) as dsn:
        for i in range(9):
            with psycopg.connect(**{**dsn, "user": "reader" if i % 3 else "owner"}) as con:
                con.execute("SELECT 1")
        with psycopg.connect(**dsn) as con, pytest.raises(psycopg.Error):
            con.execute('SELECT 1 /* first line\nsecond, "quoted" line */ FROM missing')
        with psycopg.connect(**dsn, autocommit=True) as con:
            con.execute("CREATE TABLE moves AS SELECT g AS id, timestamptz '2026-03-01 00:00Z' + g * interval '1 "
                        "minute' AS at, "
                        "'u' || g % 7 AS who, (g % 50) / 100.0::numeric AS amount FROM generate_series(1, 30000) "
                        "g")  # fmt: skip
            con.execute("GRANT SELECT ON moves TO reader")
            opened = con.execute("SELECT sessions FROM pg_stat_database WHERE datname = 'postgres'").fetchone()
            truth = dict(con.execute("SELECT who, sum(amount * 100)::int FROM moves GROUP BY 1").fetchall())
        log = tmp_path / "workspace"
        log.mkdir()
        time.sleep(0.5)
        shutil.copy(place / "data" / "server.csv", log / "server.csv")
        found = rows(workspace(log, CSVLOG), "action", "user", "query")
        logins = Counter(user for action, user, _ in found if action == "login")
        assert logins["reader"] == 6
        assert opened
        assert sum(logins.values()) in (opened[0], opened[0] + 1)  # the counting session itself may not be counted yet
        assert any(q and "first line\nsecond" in q for _, _, q in found)
        _query(tmp_path, dsn, truth)
    shutil.rmtree(place)


QUERY = """
[logs.log]
format = "sql"
[logs.log.database]
address_env = "MOVES"
query = "{query}"
growing = "id"
[logs.log.fields]
start = "at"
user = "who"
amount = {{ column = "amount", type = "money", unit = "EUR" }}
"""


def _query(path: Path, dsn: dict[str, Any], truth: dict[str, int]) -> None:
    import psycopg

    os.environ["MOVES"] = f"postgresql://reader@/postgres?host={dsn['host']}"
    asked = path / "asked"
    asked.mkdir()
    made = workspace(asked, QUERY.format(query="SELECT id, at, who, amount FROM moves"))
    made.archive.import_log("log")
    result = made.run(fermata.Report.of(log="log", by=("user",), columns=("total amount",)))
    assert {r.shown[0]: r.cells[0] for r in result.table.body} == truth
    assert made.archive.import_log("log") == []
    dying = path / "dying"
    dying.mkdir()
    slow = workspace(
        dying,
        QUERY.format(query="SELECT id, at, who, amount + 0 * length(pg_sleep(0.0005)::text) AS amount FROM moves"),
    )

    def end() -> None:
        time.sleep(1.5)
        with psycopg.connect(**dsn, autocommit=True) as con:
            con.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'reader'")

    killer = threading.Thread(target=end)
    killer.start()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # the driver complains of the cursor it lost with its connection
        with pytest.raises(SourceError, match=r"the query failed: .*; nothing was imported"):
            slow.archive.import_log("log")
        gc.collect()
    killer.join()
    assert slow.base.archive.snapshot().manifest.log("log").files == {}
    assert list((dying / "received").rglob("*.p*")) == []


CUPS = """LogLevel warn
Listen {place}/sock
PageLogFormat %p %u %j %T %P %C %{{job-billing}} %{{job-originating-host-name}} %{{job-name}} %{{media}} %{{sides}}
DefaultAuthType None
Browsing Off
WebInterface No
MaxLogSize 0
<Location />
Order allow,deny
Allow all
</Location>
<Policy default>
<Limit All>
Order deny,allow
</Limit>
</Policy>
"""
CUPS_FILES = """FileDevice Yes
ServerRoot {place}
RequestRoot {place}/spool
CacheDir {place}/cache
StateDir {place}/state
TempDir {place}/tmp
AccessLog {place}/access_log
ErrorLog {place}/error_log
PageLog {place}/page_log
"""
PAGES = """
[logs.log]
files = "page_log"
format = "page log"
[logs.log.fields]
start = { column = "time", form = "%d/%b/%Y:%H:%M:%S %z" }
user = "user"
device = "printer"
job = "job"
title = "job-name"
"""
TITLES = ('Programme [draft] "x"; total 99 - localhost x', "two words", "plain", "é, Réglage")


def test_print_spooler(tmp_path: Path) -> None:
    """Every job of the spooler's own list stands in the page log under its user, whatever its title holds."""
    needs("cupsd", "lp", "lpadmin", "lpstat", root=True)
    for name in ("spool", "cache", "state", "tmp", "ppd", "ssl"):
        (tmp_path / name).mkdir()
    tmp_path.chmod(0o755)
    (tmp_path / "tmp").chmod(0o1777)
    (tmp_path / "cupsd.conf").write_text(CUPS.format(place=tmp_path))
    (tmp_path / "files.conf").write_text(CUPS_FILES.format(place=tmp_path))
    (tmp_path / "job.txt").write_text("some text\n")
    server = {"CUPS_SERVER": str(tmp_path / "sock")}
    with daemon(
        "cupsd", "-f", "-c", f"{tmp_path}/cupsd.conf", "-s", f"{tmp_path}/files.conf", ready=(tmp_path / "sock").exists
    ):
        for printer in ("office-1", "office-2"):
            run("lpadmin", "-p", printer, "-E", "-v", "file:/dev/null", "-m", "raw", **server)
        for i in range(12):
            user = ("mira vale", "jon", "ann's")[i % 3]
            run("lp", "-d", f"office-{1 + i % 2}", "-U", user, "-t", TITLES[i % 4], str(tmp_path / "job.txt"), **server)
        wait(lambda: (tmp_path / "page_log").exists() and len((tmp_path / "page_log").read_text().splitlines()) >= 12)
        listed = run("lpstat", "-W", "completed", "-o", **server)
    truth = {(m[1], m[2], m[3].strip()) for m in re.finditer(r"(?m)^(office-\d)-(\d+) +(.+?) +\d+ +\w{3} ", listed)}
    found = rows(workspace(tmp_path, PAGES), "device", "job", "user", "title")
    assert len(truth) == 12
    assert {(d, j, u) for d, j, u, _ in found} == truth
    assert Counter(t for *_, t in found) == dict.fromkeys(TITLES, 3)


RADIUSD = """prefix = /usr
logdir = {place}
run_dir = {place}
pidfile = {place}/pid
name = freeradius
security {{
    allow_core_dumps = no
}}
client loop {{
    ipaddr = 127.0.0.1
    secret = testing
}}
modules {{
    detail {{
        filename = {place}/detail
        permissions = 0600
    }}
}}
server accounting {{
    listen {{
        type = acct
        ipaddr = 127.0.0.1
        port = 18130
    }}
    accounting {{
        detail
    }}
}}
"""
ACCOUNTING = """
[logs.log]
files = "detail"
format = "radius detail"
key = ["session", "action"]
[logs.log.fields]
finish = { column = "time", form = "%a %b %d %H:%M:%S %Y" }
duration = { column = "Acct-Session-Time", form = "seconds" }
user = "User-Name"
action = { column = "Acct-Status-Type", values = { Start = "start", Stop = "stop" } }
session = "Acct-Session-Id"
received = { column = "Output-Octets", type = "number" }
"""


def test_accounting_server(tmp_path: Path) -> None:
    """What clients sent is what is counted: retransmitted stops once, counters beyond 2^32, quotes in names."""
    needs("freeradius", "radclient")
    (tmp_path / "radiusd.conf").write_text(RADIUSD.format(place=tmp_path))
    sent: dict[str, tuple[str, int, int]] = {}
    packets = []
    for i in range(30):
        user, seconds, octets = ('mira "m" vale', "Mira", "mira")[i % 3], 60 * i, 3 * i * 2**30 + i
        common = (
            f'User-Name = "{user}"'.replace('"m"', '\\"m\\"')
            + f'\nAcct-Session-Id = "S{i}"\nNAS-IP-Address = 127.0.0.1\n'
        )
        packets.append(f"{common}Acct-Status-Type = Start\n")
        if i % 10 != 9:
            stop = (
                f"{common}Acct-Status-Type = Stop\nAcct-Session-Time = {seconds}\nAcct-Output-Octets = "
                f"{octets % 2**32}\nAcct-Output-Gigawords = {octets >> 32}\n"
            )
            packets += [stop, stop + "Acct-Delay-Time = 5\n"] if i % 4 == 0 else [stop]
            sent[f"S{i}"] = (user, seconds, octets)
    with daemon("freeradius", "-X", "-d", str(tmp_path), ready=lambda: _listens(18130)):
        run("radclient", "-q", "-p", "1", "127.0.0.1:18130", "acct", "testing", stdin="\n".join(packets))
    made = workspace(tmp_path, ACCOUNTING)
    stops = [r for r in rows(made, "action", "session", "user", "duration", "received") if r[0] == "stop"]
    assert {s: (u, d // 1_000_000, n) for _, s, u, d, n in stops} == sent
    assert len(stops) == len(sent)
    (file,) = made.base.archive.snapshot().manifest.log("log").files.values()
    assert file.read == len(packets)


def _listens(port: int) -> bool:
    return f":{port:04X} " in Path("/proc/net/udp").read_text()


SSHD = r"""set -e
cd "$1"
ssh-keygen -q -t ed25519 -N '' -f host
ssh-keygen -q -t ed25519 -N '' -f key
cp key.pub authorized
touch wtmp btmp utmp /var/log/wtmp /var/log/btmp /run/utmp   # without the last no way out is recorded
mount --bind utmp /run/utmp
mount --bind wtmp /var/log/wtmp
mount --bind btmp /var/log/btmp
mkdir -p /run/sshd
printf '%s\n' "Port 22022" "ListenAddress 127.0.0.1" "HostKey $1/host" "AuthorizedKeysFile $1/authorized" "StrictModes no" \
    "UsePAM no" "PermitRootLogin prohibit-password" "PasswordAuthentication no" "PidFile $1/pid" > conf
/usr/sbin/sshd -f conf -E log
call() { ssh -tt -p 22022 -i key -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR "$@"; }
for i in 1 2 3; do call root@127.0.0.1 "sleep 0.2" </dev/null >/dev/null; done
call -o BatchMode=yes nobodyhere@127.0.0.1 true </dev/null >/dev/null 2>&1 || true
kill "$(cat pid)"
"""
WTMP = """
[logs.log]
files = "wtmp"
format = "login records"
[logs.log.fields]
start = { column = "time", form = "epoch s" }
user = "user"
device = "line"
action = "event"
other = "host"
"""


def test_login_records_of_a_login_daemon(tmp_path: Path) -> None:
    """The logins in the records are those the system's own listing tool shows; in a mount namespace of its own."""
    needs("sshd", "ssh", "ssh-keygen", "last", "unshare", root=True)
    (tmp_path / "logins.sh").write_text(SSHD)
    run("unshare", "-m", "bash", str(tmp_path / "logins.sh"), str(tmp_path))
    listed = run("last", "-F", "-w", "-f", str(tmp_path / "wtmp"), TZ="UTC")
    truth = {
        (m[1], m[2], m[3])
        for m in re.finditer(r"(?m)^(\S+) +(pts/\S+) +\S+ +\w{3} (\w{3} +\d+ \d\d:\d\d:\d\d \d{4})", listed)
    }
    found = rows(workspace(tmp_path, WTMP), "action", "user", "device", "start", "other")
    logins = {(u, d, f"{s:%b %e %H:%M:%S %Y}") for a, u, d, s, _ in found if a == "login"}
    assert logins == truth
    assert Counter(a for a, *_ in found) == {"login": 3, "logout": 3}
    assert {o for a, _, _, _, o in found if a == "login"} == {"127.0.0.1"}
