"""Texts that programs write and that give themselves away by their shape: what their parts are, and what they mean.

A shape is data. Each was written from the program's own documentation and from files that it wrote.
"""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

__all__ = ["BY_LINE", "BY_MESSAGE", "DATABASE_SERVER", "REQUESTS", "Shape", "of_journal", "of_messages", "of_text"]

LOGIN = {"names": "login"}


@dataclass(frozen=True)
class Shape:
    """What a text is called, its kind, how it is told (`sign`, a regular expression that most of its lines match),
    and how it is read: the format with its settings, the fields in TOML terms, doubts, and the TOML of a log made
    from it, with `{log}` for its name.
    """

    name: str
    kind: str
    sign: str
    fields: dict[str, dict[str, Any]]
    settings: dict[str, Any] = field(default_factory=dict)
    unsure: tuple[str, ...] = ()
    below: str = ""


PAIRED = """
[logs.{log}-sessions]
from = "{log}"
pairing = {{ opening = "login", closing = "logout", by = {by}, reach = "24 hours" }}
"""
BY_LINE = (  # lines of one program, each a record by its own pattern
    Shape(
        "error log of a web server", "",
        r"\d{4}/\d\d/\d\d \d\d:\d\d:\d\d \[\w+\] \d+#\d+: ",
        {
            "start": {"column": "time", "form": "%Y/%m/%d %H:%M:%S"}, "device": {"column": "client"},
            "action": {"column": "level"},
            "other": {"column": "request"}, "message": {"column": "text"},
        },
        {"pattern": r'^(?P<time>\d{4}/\d\d/\d\d \d\d:\d\d:\d\d) \[(?P<level>\w+)\] \d+#\d+: (?:\*\d+ )?(?P<text>.*?)'
            r'(?:, client: (?P<client>[^,]+))?(?:, server: [^,]*)?(?:, request: "(?P<request>.*?)")?(?:, '
            r'(?:upstream|host|referrer): .*)?$'},
    ),
    Shape(
        "access log of a web proxy", "web access",
        r"\d{10}\.\d{3} +\d+ \S+ \w+/\d{3} \d+ \S+ \S+ \S+ \S+/\S+ \S+",
        {
            "finish": {"column": "time", "form": "epoch s"}, "duration": {"column": "took", "form": "milliseconds"},
            "user": {"column": "user", **LOGIN}, "device": {"column": "client"}, "action": {"column": "method"},
            "other": {"column": "url"},
            "outcome": {"column": "status"}, "size": {"column": "size", "type": "number", "unit": "bytes"},
            "result": {"column": "result"},
        },
        {"pattern": r"^(?P<time>\d{10}\.\d{3}) +(?P<took>\d+) (?P<client>\S+) (?P<result>\w+)/(?P<status>\d{3}) "
                    r"(?P<size>\d+) "
            r"(?P<method>\S+) (?P<url>\S+) (?:-|(?P<user>\S+)) (?P<peer>\S+) (?P<type>\S+)"},
    ),
    Shape(
        "list of logins", "logins",
        r"\S+ +(?:\S+|system boot) +(?:\S+ +)?\w{3} \w{3} [ \d]\d \d\d:\d\d(?::\d\d \d{4})? .*|(?:\w+ begins .*)",
        {
            "start": {"column": "time", "form": "%a %b %d %H:%M:%S %Y"}, "finish": {"column": "until",
            "form": "%a %b %d %H:%M:%S %Y"},
            "user": {"column": "user", **LOGIN}, "device": {"column": "tty"}, "other": {"column": "host"},
            "outcome": {"column": "ended"},
        },
        {"pattern": r"^(?P<user>\S+) +(?P<tty>\S+|system boot) +(?:(?P<host>\S+) +)?(?P<time>\w{3} \w{3} [ \d]\d "
                    r"\d\d:\d\d:\d\d \d{4}) +"
            r"(?:- +)?(?:(?P<until>\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d \d{4})|(?P<ended>still logged in|still "
            r"running|crash|down|gone.*)).*$",
            "unmatched": "skip"},
        ("the list needs full times: last -F",),
    ),
)  # fmt: skip

LEASES = Shape(
    "addresses lent by a DHCP server", "network sessions", r"lease (?:\d{1,3}\.){3}\d{1,3} \{",
    {
        "start": {"column": "starts", "form": "%Y/%m/%d %H:%M:%S"},
        "finish": {"column": "ends", "form": "%Y/%m/%d %H:%M:%S"},
        "user": {"column": "name", **LOGIN}, "device": {"column": "mac", "spelling": "mac"},
        "other": {"column": "address"}, "action": {"column": "state"},
    },
    {"begins": r"^lease ", "zone": "UTC", "unmatched": "skip",
     "pattern": r"(?ms)^lease (?P<address>\S+) \{\n.*?starts \d (?P<starts>\S+ [\d:]+);\n"
                r"(?:.*?ends \d (?P<ends>\S+ [\d:]+);\n)?(?:.*?^ +binding state (?P<state>\w+);\n)?"
                r"(?:.*?hardware ethernet (?P<mac>[0-9a-f:]+);)?(?:.*?client-hostname \"(?P<name>[^\"]*)\";)?.*"},
    ("times of this file are UTC; an address is lent anew by a record of its own, so spans overlap",),
)  # fmt: skip
FOR = r"for (?:invalid user |user )?(.+?)(?:\(uid=\d+\)|$| from | by )"
BY_MESSAGE = (  # what programs write into the system's log
    Shape(
        "login daemon", "logins", r"sshd",
        {
            "user": {"column": "message",
            "part": r"(?:for|user) (?:invalid user |user )?([^ (]+)(?:\(uid=\d+\))?(?: from .*| by .*|)$", **LOGIN},
            "device": {"column": "host"},
            "action": {"column": "message", "patterns": {"^Accepted": "login", "^Failed": "failed",
            "session closed": "logout"}},
            "other": {"column": "message", "part": r"from (\S+) port"},
            "session": {"column": "pid"},
        },
        {"keep": {"app": "like:sshd*", "message": ["like:Accepted *", "like:Failed *", "like:*session closed*"]}},
        below=PAIRED.format(log="{log}", by='["device", "session"]'),
    ),
    Shape(
        "delivery of mail", "", r"postfix/(?:smtp|lmtp|local|virtual|pipe)",
        {
            "device": {"column": "host"}, "action": {"column": "message", "part": r"status=(\w+)"},
            "user": {"column": "message", "part": r"to=<([^>]*)>", "names": "mail"}, "other": {"column": "message",
            "part": r"relay=([^,\[]+)"},
            "letter": {"column": "message", "part": r"^(\w+):"},
        },
        {"keep": {"message": ["like:*status=*"]}},
    ),
    Shape(
        "packets at a firewall", "", r"kernel",
        {
            "device": {"column": "host"}, "action": {"column": "message", "part": r"^(?:\[[ \d.]+\] )?(\S.*?) IN="},
            "user": {"column": "message", "part": r"SRC=(\S+)"}, "other": {"column": "message", "part": r"DST=(\S+)"},
            "protocol": {"column": "message", "part": r"PROTO=(\S+)"},
            "port": {"column": "message", "part": r"DPT=(\d+)", "type": "number"},
            "size": {"column": "message", "part": r" LEN=(\d+)", "type": "number", "unit": "bytes"},
        },
        {"keep": {"message": ["like:*SRC=*DST=*"]}},
    ),
    Shape(
        "calls at a proxy", "calls", r"kamailio|opensips|ser",
        {
            "start": {"column": "message", "part": r"timestamp=(\d+)", "form": "epoch s"},
            "user": {"column": "message", "part": r"src_user=([^;]*)", "names": "extension"},
            "device": {"column": "host"},
            "other": {"column": "message", "part": r"dst_user=([^;]*)"}, "action": {"column": "message",
            "part": r"method=(\w+)"},
            "outcome": {"column": "message", "part": r"code=(\d+)"}, "reason": {"column": "message",
            "part": r"reason=([^;]*)"},
            "call": {"column": "message", "part": r"call_id=([^;]*)"},
        },
        {"keep": {"message": ["like:*method=*call_id=*"]}},
        ("an answered call is an INVITE with code 200; its end is the BYE of the same call",),
    ),
)  # fmt: skip
JOURNAL = Shape(
    "journal of the system", "logins", "",
    {
        "start": {"column": "__REALTIME_TIMESTAMP", "form": "epoch us"}, "device": {"column": "_HOSTNAME"},
        "other": {"column": "SYSLOG_IDENTIFIER"}, "process": {"column": "_PID"}, "message": {"column": "MESSAGE"},
        "priority": {"column": "PRIORITY", "type": "number"},
    },
)  # fmt: skip
REQUESTS = Shape(  # a web server's log as objects: their names are its variables
    "requests as JSON", "web access", "",
    {
        "user": {"column": "remote_user", **LOGIN}, "device": {"column": "remote_addr"},
        "action": {"column": "request", "part": r"^(\S+) "},
        "other": {"column": "request", "part": r"^\S+ (\S+)"}, "outcome": {"column": "status"},
        "size": {"column": "body_bytes_sent", "type": "number", "unit": "bytes"},
    },
)  # fmt: skip
DATABASE_SERVER = Shape(
    "log of a database server", "logins",
    r'\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d+ \w+,("[^"]*")?,("[^"]*")?,\d*,("[^"]*")?,[0-9a-f]+\.[0-9a-f]+,\d+,',
    {
        "start": {"column": "1", "part": r"^(.*) [A-Za-z]+$", "form": "iso"}, "user": {"column": "2", **LOGIN},
        "place": {"column": "3"},
        "device": {"column": "5", "part": r"^\"?([^:\"]+)"},
        "action": {
            "column": "14",
            "patterns": {"^connection authorized": "login", "authentication failed": "failed",
            "^disconnection": "logout", "": "other"},
        },
        "level": {"column": "12"}, "session": {"column": "6"}, "message": {"column": "14"},
        "line": {"column": "7", "type": "number"},
    },
    {"header": False, "key": ["session", "line"], "ambiguous": "order"},
    ("times carry a zone's abbreviation, which may mean several: they are read in the zone of the workspace, or zone "
     "= ... here",),
    below=PAIRED.format(log="{log}", by='"session"'),
)  # fmt: skip
MOST = 0.8  # of the lines must match


def of_text(lines: Sequence[str]) -> Shape | None:
    """The shape that most lines have."""
    if any(re.match(LEASES.sign, line) for line in lines):
        return LEASES
    for shape in (DATABASE_SERVER, *BY_LINE):
        sign = re.compile(shape.sign)
        if lines and sum(bool(sign.match(line)) for line in lines) / len(lines) > MOST:
            return shape
    return None


def of_journal(columns: dict[str, list[str]]) -> Shape:
    """A journal of the system in JSON: what its programs tell, by the same messages as in a log of lines."""
    names = {"app": "SYSLOG_IDENTIFIER", "message": "MESSAGE", "host": "_HOSTNAME", "pid": "_PID"}
    told = of_messages({line: columns.get(name, []) for line, name in names.items()})
    if told is None:
        return JOURNAL
    fields = {n: {**f, "column": names.get(f["column"], f["column"])} for n, f in told.fields.items()}
    keep = {names.get(c, c): patterns for c, patterns in told.settings["keep"].items()}
    start = {n: JOURNAL.fields[n] for n in ("start",) if n not in fields}
    return dataclasses.replace(told, fields={**start, **fields}, settings={"keep": keep})


def of_messages(columns: dict[str, list[str]]) -> Shape | None:
    """What a log of the system tells, by the program that wrote most of it and its messages."""
    apps, messages = columns.get("app", []), columns.get("message", [])
    for shape in BY_MESSAGE:
        told = re.compile(shape.sign)
        kept = [m.removeprefix("like:").split("*") for m in shape.settings["keep"]["message"]]
        ours = sum(bool(told.match(a)) for a in apps)
        if ours * 3 >= len(apps) > 0 and any(all(p in m for p in kept[0]) for m in messages):
            return shape
    return None
