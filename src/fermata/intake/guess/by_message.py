"""What programs write into the system's log, told by the program and its messages."""

from __future__ import annotations

from fermata.intake.guess.shape import LOGIN, Pairs, Shape

__all__ = ["BY_MESSAGE"]

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
        pairs=Pairs(("device", "session")),
    ),
    Shape(
        "delivery of mail", "", r"(?:\w+/)*(?:smtp|lmtp|local|virtual|pipe)",
        {
            "device": {"column": "host"}, "action": {"column": "message", "part": r"status=(\w+)"},
            "user": {"column": "message", "part": r"to=<([^>]*)>", "names": "mail"}, "other": {"column": "message",
            "part": r"relay=([^,\[]+)"},
            "letter": {"column": "message", "part": r"^(\w+):"},
        },
        {"keep": {"message": ["like:*status=*"]}},
    ),
    Shape(
        "packets at a firewall", "", "",
        {
            "device": {"column": "host"}, "action": {"column": "message", "part": r"^(?:\[[ \d.]+\] )?(\S.*?) +IN="},
            "user": {"column": "message", "part": r"SRC=(\S+)"}, "other": {"column": "message", "part": r"DST=(\S+)"},
            "protocol": {"column": "message", "part": r"PROTO=(\S+)"},
            "port": {"column": "message", "part": r"DPT=(\d+)", "type": "number"},
            "size": {"column": "message", "part": r" LEN=(\d+)", "type": "number", "unit": "bytes"},
        },
        {"keep": {"message": ["like:*SRC=*DST=*"]}},
    ),
    Shape(
        "requests at a load balancer", "web access", r"haproxy",
        {
            "start": {"column": "message", "part": r"^\S+ \[([^\]]+)\]", "form": "%d/%b/%Y:%H:%M:%S.%f"},
            "duration": {"column": "message", "part": r"^\S+ \[[^\]]+\] \S+ \S+ (?:[-+\d]+/){4}\+?(\d+) ",
            "form": "milliseconds"},
            "device": {"column": "message", "part": r"^(\S+):\d+ \["},
            "action": {"column": "message", "part": r'"(\S+) \S+ HTTP/[\d.]+"$'},
            "other": {"column": "message", "part": r'"\S+ (\S+) HTTP/[\d.]+"$'},
            "outcome": {"column": "message", "part": r"^\S+ \[[^\]]+\] \S+ \S+ \S+ (\d{3}) "},
            "size": {"column": "message", "part": r"^\S+ \[[^\]]+\] \S+ \S+ \S+ \d{3} \+?(\d+) ", "type": "number",
            "unit": "bytes"},
            "server": {"column": "message", "part": r"^\S+ \[[^\]]+\] \S+ (\S+) "},
        },
        {"keep": {"message": ["like:* HTTP/*\""]}},
    ),
    Shape(
        "addresses lent, as they are lent", "network sessions", r"dhcpd|dnsmasq-dhcp",
        {
            "device": {"column": "message", "part": r"([0-9a-f]{2}(?::[0-9a-f]{2}){5})", "spelling": "mac"},
            "other": {"column": "message", "part": r"(\d+\.\d+\.\d+\.\d+)"},
            "action": {"column": "message", "patterns": {"^DHCPACK": "start", "^DHCPRELEASE": "stop"}},
            "user": {"column": "message", "part": r"[0-9a-f:]{17} (?:\(([^)]+)\) via .*|([^ (].*))$", **LOGIN},
        },
        {"keep": {"message": ["like:DHCPACK*", "like:DHCPRELEASE*"]}},
    ),
    Shape(
        "finished calls at a proxy", "calls", r"kamailio|opensips|ser",
        {
            "start": {"column": "message", "part": r"start_time=([\d.]+)", "form": "epoch s"},
            "duration": {"column": "message", "part": r"duration=(\d+(?:\.\d+)?)", "form": "seconds"},
            "user": {"column": "message", "part": r"src_user=([^;]*)", "names": "extension"},
            "device": {"column": "host"}, "other": {"column": "message", "part": r"dst_user=([^;]*)"},
        },
        {"keep": {"message": ["like:*start_time=*duration=*"]}},
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
        {"keep": {"message": ["like:*method=*call_id=*"]}, "key": ["call", "action", "outcome", "start"]},
        ("an answered call is an INVITE with code 200, its end the BYE of the same call; a call that failed may be "
         "told twice, and counts once",),
        pairs=Pairs(("call",), "INVITE", "BYE"),
    ),
)  # fmt: skip
