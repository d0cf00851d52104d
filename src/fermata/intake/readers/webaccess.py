r"""Web server access logs: the Common Log Format and its Combined form.

    192.0.2.7 - mira [28/Mar/2026:13:37:01 +0000] "GET /scores/12 HTTP/1.1" 200 5120 "-" "Reader/1.0"

The request is quoted with `\"` or `\x22` inside and may be anything a client sent, `-` included. Source: the
format strings of the server programs' documentation, `%h %l %u %t "%r" %>s %b` with `"%{Referer}i" "%{User-agent}i"`.
"""

from __future__ import annotations

from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import matched

__all__ = ["open"]

QUOTED = r'"((?:[^"\\]|\\.)*)"'
PATTERN = rf"^(\S+) (\S+) (.+?) \[([^\]]+)\] {QUOTED} (\d{{3}}|-) (\d+|-)(?: {QUOTED} {QUOTED})?"
NAMES = ("host", "ident", "user", "time", "request", "status", "bytes", "referer", "agent")
REQUEST = r"^([A-Z]+) (\S+)(?: (HTTP/[0-9.]+))?$"
PARTS = {"method": 1, "path": 2, "protocol": 3}


def open(job: Job) -> Records:
    """Opens an access log; `method`, `path` and `protocol` are the parts of a well-formed request."""
    parts = {name: f"nullif(regexp_extract(g4, '{REQUEST}', {group}), '')" for name, group in PARTS.items()}
    quoted = ("request", "referer", "agent", "user")
    return matched(job, PATTERN, NAMES, shape="access log line", unquote=quoted, derived=parts)
