"""Formats whose columns are known beforehand, and the kinds that formats are of."""

from __future__ import annotations

from typing import Any

__all__ = ["BY_FORMAT", "KNOWN", "SLASHED"]

BY_FORMAT = {
    "web access": "web access", "page log": "printing", "radius detail": "network sessions", "login records": "logins",
    "icalendar": "plans", "xes": "activities", "syslog": "logins",
}  # fmt: skip
SLASHED = "%d/%b/%Y:%H:%M:%S %z"
KNOWN: dict[str, dict[str, dict[str, Any]]] = {  # formats whose columns are known beforehand
    "web access": {
        "start": {"column": "time", "form": SLASHED}, "user": {"column": "user", "names": "login"},
        "device": {"column": "host"},
        "action": {"column": "method"}, "other": {"column": "path"}, "outcome": {"column": "status"},
        "size": {"column": "bytes", "type": "number", "unit": "bytes"},
    },
    "page log": {
        "start": {"column": "time", "form": SLASHED}, "user": {"column": "user", "names": "login"},
        "device": {"column": "printer"},
        "title": {"column": "job-name"}, "job": {"column": "job", "type": "number"}, "page": {"column": "page"},
        "pages": {"column": "pages", "type": "number"}, "copies": {"column": "copies", "type": "number"},
        "paper": {"column": "media"},
    },
    "radius detail": {
        "finish": {"column": "time", "form": "%a %b %d %H:%M:%S %Y"}, "duration": {"column": "Acct-Session-Time",
        "form": "seconds"},
        "user": {"column": "User-Name", "names": "login"}, "device": {"column": "NAS-Identifier"},
        "action": {"column": "Acct-Status-Type", "values": {"Start": "start", "Stop": "stop",
        "Interim-Update": "interim"}},
        "outcome": {"column": "Acct-Terminate-Cause"}, "other": {"column": "Calling-Station-Id", "spelling": "mac"},
        "session": {"column": "Acct-Session-Id"}, "received": {"column": "Output-Octets", "type": "number",
        "unit": "bytes"},
        "sent": {"column": "Input-Octets", "type": "number", "unit": "bytes"},
    },
    "login records": {
        "start": {"column": "time", "form": "epoch s"}, "user": {"column": "user", "names": "login"},
        "device": {"column": "line"},
        "action": {"column": "event"}, "other": {"column": "host"}, "process": {"column": "pid"},
    },
    "icalendar": {
        "start": {"column": "start"}, "finish": {"column": "finish"}, "title": {"column": "summary"},
        "place": {"column": "location"},
        "action": {"column": "status", "values": {"TENTATIVE": "tentative", "CANCELLED": "cancelled",
        "CONFIRMED": "planned"}},
    },
    "xes": {
        "start": {"column": "time:timestamp"}, "user": {"column": "org:resource"}, "action": {"column": "concept:name"},
        "other": {"column": "case:concept:name"},
    },
}  # fmt: skip
