"""Tables and objects whose columns give them away."""

from __future__ import annotations

from fermata.intake.guess.shape import ABBREVIATED, DATABASE_WORDS, LOGIN, Pairs, Shape

__all__ = ["BY_COLUMN", "JOURNAL"]

JOURNAL = Shape(
    "journal of the system", "logins", "",
    {
        "start": {"column": "__REALTIME_TIMESTAMP", "form": "epoch us"}, "device": {"column": "_HOSTNAME"},
        "other": {"column": "SYSLOG_IDENTIFIER"}, "process": {"column": "_PID"}, "message": {"column": "MESSAGE"},
        "priority": {"column": "PRIORITY", "type": "number"},
    },
)  # fmt: skip
BY_COLUMN = (
    Shape(  # a web server's log as objects: their names are its variables
        "requests as JSON", "web access", "request status remote_addr",
        {
        "user": {"column": "remote_user", **LOGIN}, "device": {"column": "remote_addr"},
        "action": {"column": "request", "part": r"^(\S+) "},
        "other": {"column": "request", "part": r"^\S+ (\S+)"}, "outcome": {"column": "status"},
        "size": {"column": "body_bytes_sent", "type": "number", "unit": "bytes"},
    },
    ),
    Shape(
        "table of accounting", "network sessions", "acctstarttime acctsessiontime username acctuniqueid",
        {
            "start": {"column": "acctstarttime"}, "duration": {"column": "acctsessiontime", "form": "seconds"},
            "user": {"column": "username", **LOGIN}, "device": {"column": "nasipaddress"},
            "other": {"column": "callingstationid", "spelling": "mac"}, "outcome": {"column": "acctterminatecause"},
            "session": {"column": "acctuniqueid"},
            "received": {"column": "acctoutputoctets", "type": "number", "unit": "bytes"},
            "sent": {"column": "acctinputoctets", "type": "number", "unit": "bytes"},
            "network": {"column": "calledstationid"},
        },
        {"key": ["session"]},
        ("a session that goes on has the length it had at its last message",),
    ),
    Shape(
        "table of calls at a proxy", "calls", "method callid sip_code time",
        {
            "start": {"column": "time"}, "user": {"column": "src_user", "names": "extension"},
            "other": {"column": "dst_user"}, "action": {"column": "method"}, "outcome": {"column": "sip_code"},
            "reason": {"column": "sip_reason"}, "call": {"column": "callid"}, "device": {"column": "src_ip"},
        },
        {},
        ("an answered call is an INVITE with code 200, its end the BYE of the same call",),
        pairs=Pairs(("call",), "INVITE", "BYE"),
    ),
    Shape(
        "log of a database server as objects", "logins", "timestamp dbname session_id line_num message",
        {
            "start": {"column": "timestamp", "part": r"^(.*) [A-Za-z]+$", "form": "iso"},
            "user": {"column": "user", **LOGIN}, "place": {"column": "dbname"}, "device": {"column": "remote_host"},
            "action": {"column": "message", "patterns": DATABASE_WORDS},
            "level": {"column": "error_severity"}, "session": {"column": "session_id"},
            "message": {"column": "message"}, "line": {"column": "line_num", "type": "number"},
        },
        {"key": ["session", "line"], "ambiguous": "order"},
        (ABBREVIATED,),
        pairs=Pairs(("session",)),
    ),
)  # fmt: skip
