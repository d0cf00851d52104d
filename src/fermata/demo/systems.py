"""Logs of the hall's computers and networks: logins, software, network sessions, web requests, the spooler's page
log.
"""

from __future__ import annotations

import gzip
import json
import os
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random

from fermata.demo.clock import END, ZONE, at_hour, busy, days
from fermata.demo.people import HOSTS, PROGRAMS, Person

__all__ = ["logins", "pages", "sessions", "software", "web"]

Line = tuple[datetime, str]
STRANGERS = ("admin", "root", "quillroot", "test user", "guest")


def logins(target: Path, staff: list[Person], random: Random) -> None:
    """Syslog of three hosts without years, rotated twice: the oldest packed, sessions over the edges, guessing from
    outside.
    """
    lines: list[Line] = []
    users = [p for p in staff[:90] if p.department in ("office", "library", "house")]
    for day in days():
        if day < date(2025, 12, 1):
            continue
        for person in random.sample(users, min(len(users), round(24 * busy(day, random)))):
            host, pid = random.choice(HOSTS), random.randrange(900, 29000)
            begin = at_hour(day, random.gauss(9.6, 1.4))
            finish = begin + timedelta(seconds=round(random.lognormvariate(8.9, 0.7)))
            login = person.login.upper() if random.random() < 0.01 else person.login
            if random.random() < 0.08:
                lines.append(
                    (
                        begin - timedelta(seconds=9),
                        f"{host} sshd[{pid}]: Failed password for {login} from 192.0.2.{pid % 200} port {pid} ssh2",
                    )
                )
            lines.append(
                (begin, f"{host} sshd[{pid}]: Accepted password for {login} from 192.0.2.{pid % 200} port {pid} ssh2")
            )
            if random.random() < 0.97:  # the others never log out
                lines.append((finish, f"{host} sshd[{pid}]: pam_unix(sshd:session): session closed for user {login}"))
        lines += [(at_hour(day, h), f"{HOSTS[0]} CRON[{h + 700}]: (root) CMD (backup --quiet)") for h in (2, 14)]
        if day.day in (5, 19):
            for i in range(40):
                at = at_hour(day, 3.1) + timedelta(seconds=4 * i)
                lines.append(
                    (
                        at,
                        f"{HOSTS[1]} sshd[{3000 + i}]: Failed password for invalid user {random.choice(STRANGERS)} "
                        f"from 203.0.113.77 port {4000 + i} ssh2",
                    )
                )
    lines = sorted(one for one in lines if one[0] <= END)
    edges = [datetime(2026, 1, 25, tzinfo=ZONE), datetime(2026, 3, 1, tzinfo=ZONE), END + timedelta(seconds=1)]
    begin = lines[0][0]
    for name, edge in zip(("auth.log.2.gz", "auth.log.1", "auth.log"), edges, strict=True):
        held = [one for one in lines if begin <= one[0] < edge]
        text = "".join(f"{_stamp(at)} {rest}\n" for at, rest in held).encode()
        data = gzip.compress(text, mtime=0) if name.endswith(".gz") else text
        (target / name).write_bytes(data)
        written = (held[-1][0] + timedelta(minutes=1)).timestamp()
        os.utime(target / name, (written, written))  # the year of such lines is told by when the file was written
        begin = edge


def _stamp(at: datetime) -> str:
    local = at.astimezone(ZONE)
    return f"{local:%b} {local.day:2d} {local:%H:%M:%S}"


def software(target: Path, staff: list[Person], random: Random) -> None:
    """JSON Lines, one packed file a month: programs in use, epoch milliseconds, the user nested, some without a
    licence.
    """
    months: dict[str, list[str]] = {}
    users = [p for p in staff[:70] if p.department in ("office", "library", "stage")]
    for day in days():
        for person in random.sample(users, min(len(users), round(30 * busy(day, random)))):
            for _ in range(random.randrange(1, 4)):
                begin = at_hour(day, random.gauss(13, 2.6))
                if begin > END:
                    continue
                program, pool = random.choice(PROGRAMS)
                denied = pool and random.random() < 0.04
                record = {
                    "at": int(begin.timestamp() * 1000),
                    "who": {"login": person.login, "host": f"edit-{1 + hash_of(person.login) % 9}"},
                    "app": program,
                    "event": "no licence" if denied else "used",
                    "secs": 0 if denied else round(random.lognormvariate(7.9, 0.9)),
                }
                if pool:
                    record["licence"] = {"pool": pool}
                months.setdefault(f"{begin.astimezone(ZONE):%Y-%m}", []).append(json.dumps(record))
    months["2026-02"][700] = months["2026-02"][700][:-12]  # a line cut by a full disk
    for name, lines in months.items():
        data = gzip.compress(("\n".join(lines) + "\n").encode(), mtime=0)
        (target / f"software-{name}.jsonl.gz").write_bytes(data)


def hash_of(text: str) -> int:
    """A number that is the same in every process."""
    return sum(ord(c) * (i + 3) for i, c in enumerate(text))


def sessions(target: Path, staff: list[Person], random: Random) -> None:
    """RADIUS accounting of the guest network: starts and stops, retransmitted ones, counters that wrap, sessions never
    ended.
    """
    blocks: list[tuple[datetime, str]] = []
    number = 40_000
    for day in days():
        if day < date(2026, 1, 1):
            continue
        for _ in range(round(26 * busy(day, random))):
            number += 1
            begin = at_hour(day, min(max(random.gauss(19, 3), 8), 23.6))
            length = round(random.lognormvariate(8.2, 0.8))
            staffed = random.random() < 0.3
            name = random.choice(staff[:90]).login if staffed else f"guest-{random.randrange(400):03d}"
            mac = "-".join(f"{(number * k) % 256:02X}" for k in (3, 5, 7, 11, 13, 17))
            received, sent = round(random.lognormvariate(18.5, 1.6)), round(random.lognormvariate(16, 1.4))
            common = (
                f'\tUser-Name = "{name}"\n\tAcct-Session-Id = "{number:X}"\n\tNAS-Identifier = '
                f'"{random.choice(("ap-foyer", "ap-stage", "ap-library"))}"\n\tCalling-Station-Id = "{mac}"\n'
            )
            common += _network(number, staffed)
            blocks.append((begin, f"\tAcct-Status-Type = Start\n{common}"))
            finish = begin + timedelta(seconds=length)
            if random.random() < 0.03:
                continue  # the access point lost it
            stop = (
                f"\tAcct-Status-Type = Stop\n{common}\tAcct-Session-Time = {length}\n"
                f"\tAcct-Output-Octets = {received % 2**32}\n\tAcct-Output-Gigawords = {received // 2**32}\n"
                f"\tAcct-Input-Octets = {sent % 2**32}\n\tAcct-Terminate-Cause = "
                f"{random.choice(('User-Request', 'Idle-Timeout', 'Lost-Carrier'))}\n"
            )
            blocks.append((finish, stop))
            if random.random() < 0.045:  # sent again, since no answer came in time
                blocks.append(
                    (
                        finish + timedelta(seconds=5),
                        stop.replace("\tAcct-Terminate", "\tAcct-Delay-Time = 5\n\tAcct-Terminate"),
                    )
                )
    text = "".join(
        f"{at.astimezone(ZONE):%a %b} {at.astimezone(ZONE).day:2d} {at.astimezone(ZONE):%H:%M:%S %Y}\n{block}\n"
        for at, block in sorted(blocks)
        if at <= END
    )
    (target / "radius-detail").write_text(text, encoding="utf-8", newline="\n")


def _network(number: int, staffed: bool) -> str:
    """The wireless network by its name, the radio, and the virtual network somebody was put into."""
    network, vlan = ("Quillmere Staff", 20) if staffed else ("Quillmere Guests", 40)
    radio = ("802.11n", "802.11ac", "802.11ax")[number % 3]
    return (
        f'\tCalled-Station-Id = "02-00-5E-10-00-{number % 3:02X}:{network}"\n'
        f'\tConnect-Info = "CONNECT 54Mbps {radio}"\n\tTunnel-Private-Group-Id = "{vlan}"\n'
    )


def web(target: Path, staff: list[Person], random: Random) -> None:
    """Requests to the score library's pages in the Combined form, with a scanner's garbage among them."""
    lines: list[Line] = []
    for day in days():
        if day < date(2026, 3, 1):
            continue
        for _ in range(round(260 * busy(day, random))):
            at = at_hour(day, min(max(random.gauss(14, 4), 0.1), 23.9))
            user = random.choice(staff[:60]).login if random.random() < 0.5 else "-"
            request = (
                f"GET /scores/{random.randrange(900)} HTTP/1.1"
                if random.random() < 0.97
                else random.choice(("-", r"\x16\x03\x01\x02", r"GET /?q=\"x\" HTTP/1.0"))
            )
            status = 400 if not request.startswith("GET /s") else random.choices((200, 304, 404), (80, 15, 5))[0]
            size = "-" if status in (304, 400) else str(random.randrange(900, 90_000))
            lines.append(
                (
                    at,
                    f'192.0.2.{random.randrange(250)} - {user} [{{}}] "{request}" {status} {size} "-" '
                    f'"Reader/1.{random.randrange(9)}"',
                )
            )
    text = "".join(
        rest.replace("{}", f"{at.astimezone(ZONE):%d/%b/%Y:%H:%M:%S %z}") + "\n"
        for at, rest in sorted(lines)
        if at <= END
    )
    (target / "access.log.1.gz").write_bytes(gzip.compress(text.encode(), mtime=0))


def pages(target: Path, staff: list[Person], random: Random) -> None:
    """The page log of two reading-room printers in a layout of its own: unquoted titles, unset fields, raw jobs of 0
    pages.
    """
    titles = ("Parts, strings", "total 99 - localhost x", "Minutes [draft]", "Réglage", "list; final")
    out: list[Line] = []
    job = 300
    for day in days():
        if day < date(2026, 2, 1):
            continue
        for _ in range(round(14 * busy(day, random))):
            job += 1
            at = at_hour(day, min(max(random.gauss(14, 3), 8), 22))
            user = random.choice(staff[:60]).login if random.random() < 0.97 else "???"
            count = random.choices((0, random.randrange(1, 30)), (3, 97))[0]
            printer = random.choice(("reading-1", "reading-2"))
            out.append(
                (
                    at,
                    f"{printer} {user} {job} [{{}}] total {count} - localhost {random.choice(titles)} A4 "
                    f"{random.choice(('one-sided', 'two-sided-long-edge', '-'))}",
                )
            )
    text = "".join(
        rest.replace("{}", f"{at.astimezone(ZONE):%d/%b/%Y:%H:%M:%S %z}") + "\n"
        for at, rest in sorted(out)
        if at <= END
    )
    (target / "page_log").write_text(text, encoding="utf-8", newline="\n")
