"""Texts of lines, or of records of several lines, that one program writes."""

from __future__ import annotations

from fermata.intake.guess.shape import ABBREVIATED, DATABASE_WORDS, LOGIN, STAMP, Pairs, Shape

__all__ = ["BY_LINE", "DATABASE_SERVER", "LEASES"]

LEVELS = "TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|ERR|CRITICAL|CRIT|FATAL|SEVERE|ALERT"
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
        "error log of a web server", "",
        r"\[\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d\.\d+ \d{4}\] \[\w*:\w+\] ",
        {
            "start": {"column": "time", "form": "%a %b %d %H:%M:%S.%f %Y"}, "device": {"column": "client"},
            "action": {"column": "level"}, "module": {"column": "module"}, "message": {"column": "text"},
        },
        {"pattern": r"^\[(?P<time>\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d\.\d+ \d{4})\] \[(?P<module>\w*):(?P<level>\w+)\] "
            r"(?:\[pid [^\]]*\] )?(?:\[(?:client|remote) (?P<client>\[?[0-9a-fA-F.:]+\]?):\d+\] )?(?P<text>.*)$"},
    ),
    Shape(
        "list of logins with times of ISO 8601", "logins",
        r"\S+ +(?:\S+|system boot) +(?:\S+ +)?\d{4}-\d\d-\d\dT[\d:]+[+-]\d\d:\d\d .*|(?:\w+ begins .*)",
        {
            "start": {"column": "time"}, "finish": {"column": "until"}, "user": {"column": "user", **LOGIN},
            "device": {"column": "tty"}, "other": {"column": "host"}, "outcome": {"column": "ended"},
        },
        {"pattern": r"^(?P<user>\S+) +(?P<tty>\S+|system boot) +(?:(?P<host>\S+) +)?(?P<time>\d{4}-\d\d-\d\dT[\d:]+"
            r"[+-]\d\d:\d\d) +(?:- +)?(?:(?P<until>\d{4}-\d\d-\d\dT[\d:]+[+-]\d\d:\d\d)"
            r"|(?P<ended>still logged in|still running|crash|down|gone.*)).*$",
            "unmatched": "skip"},
    ),
    Shape(
        "login records as text", "logins", r"\[\d\] \[\d+\] \[[^\]]*\] \[[^\]]*\] \[[^\]]*\] \[[^\]]*\] \[",
        {
            "start": {"column": "time", "form": "%Y-%m-%dT%H:%M:%S,%f%z"}, "user": {"column": "user", **LOGIN},
            "device": {"column": "tty"}, "other": {"column": "host"},
            "action": {"column": "type", "patterns": {"^7": "login", "^8": "logout", "^2": "boot", "^6": "failed",
            "": "other"}},
        },
        {"pattern": r"^\[(?P<type>\d)\] \[\d+\] \[[^\]]*\] \[(?P<user>\S*) *\] \[(?P<tty>\S*) *\] \[(?P<host>\S*) *\] "
            r"\[[^\]]*\] \[(?P<time>[^\]]+)\]$"},
        pairs=Pairs(("device",)),
    ),
    Shape(
        "list of everybody's last login", "logins",
        r"Username +Port +From +Latest"
        r"|\S+ +.*(?:\*\*Never logged in\*\*|\w{3} \w{3} [ \d]\d [\d:]{8} [+-]\d{4} \d{4})$",
        {
            "start": {"column": "time", "form": "%a %b %d %H:%M:%S %z %Y"}, "user": {"column": "user", **LOGIN},
            "device": {"column": "tty"}, "other": {"column": "host"},
        },
        {"pattern": r"^(?P<user>\S+) +(?P<tty>\S+) +(?:(?P<host>\S+) +)?"
            r"(?P<time>\w{3} \w{3} [ \d]\d [\d:]{8} [+-]\d{4} \d{4})$",
            "unmatched": "skip"},
        ("it holds the last login of each only; who never logged in is skipped",),
    ),
    Shape(
        "log of a package manager", "changes", r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d (?:status|startup|configure|install|"
        r"upgrade|remove|purge|trigproc|conffile) ",
        {
            "start": {"column": "time", "form": "%Y-%m-%d %H:%M:%S"}, "action": {"column": "what"},
            "other": {"column": "package"}, "old": {"column": "old"}, "new": {"column": "new"},
        },
        {"pattern": r"^(?P<time>\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (?P<what>install|upgrade|remove|purge) "
            r"(?P<package>\S+) (?:<none>|(?P<old>\S+)) (?:<none>|(?P<new>\S+))$",
            "unmatched": "skip"},
    ),
    Shape(
        "transfers of files", "",
        r"\w{3} \w{3} [ \d]\d [\d:]{8} \d{4} \d+ \S+ \d+ .+ [ab] \S+ [oid] [agr] \S+ \S+ [01] ",
        {
            "finish": {"column": "time", "form": "%a %b %d %H:%M:%S %Y"}, "duration": {"column": "took",
            "form": "seconds"},
            "user": {"column": "user", **LOGIN}, "device": {"column": "host"}, "other": {"column": "file"},
            "action": {"column": "way", "values": {"o": "fetched", "i": "put", "d": "deleted"}},
            "size": {"column": "size", "type": "number", "unit": "bytes"},
            "outcome": {"column": "whole", "values": {"c": "complete", "i": "incomplete"}},
        },
        {"pattern": r"^(?P<time>\w{3} \w{3} [ \d]\d [\d:]{8} \d{4}) (?P<took>\d+) (?P<host>\S+) (?P<size>\d+) "
            r"(?P<file>.+) [ab] \S+ (?P<way>[oid]) [agr] (?P<user>\S+) \S+ [01] \S+ (?P<whole>[ci])$"},
    ),
    Shape(
        "log of an accounting server", "logins",
        r"\w{3} \w{3} [ \d]\d [\d:]{8} \d{4} : (?:Auth|Info|Error|Warn\w*|Debug|Proxy|Acct): ",
        {
            "start": {"column": "time", "form": "%a %b %d %H:%M:%S %Y"}, "user": {"column": "user", **LOGIN},
            "device": {"column": "client"}, "reason": {"column": "why"},
            "action": {"column": "outcome", "values": {"OK": "login", "incorrect": "failed"}},
        },
        {"pattern": r"^(?P<time>\w{3} \w{3} [ \d]\d [\d:]{8} \d{4}) : Auth: (?:\(\d+\) )?Login "
            r"(?P<outcome>OK|incorrect)(?: \((?P<why>.*?)\))?: \[(?P<user>[^\]/]*)[^\]]*\] "
            r"\(from client (?P<client>\S+) .*$",
            "unmatched": "skip"},
    ),
    Shape(
        "addresses lent, with when each ends", "network sessions",
        r"\d{10} (?:[0-9a-f]{2}:){5}[0-9a-f]{2} \S+ \S+ \S+$",
        {
            "finish": {"column": "until", "form": "epoch s"}, "user": {"column": "name", **LOGIN},
            "device": {"column": "mac", "spelling": "mac"}, "other": {"column": "address"},
        },
        {"pattern": r"^(?P<until>\d{10}) (?P<mac>\S+) (?P<address>\S+) (?:\*|(?P<name>\S+)) \S+$"},
        ("the file holds when each lending ends, not when it began: an event is that end",),
    ),
    Shape(
        "log of a database server, in lines", "logins",
        r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)? \w+ \[\d+\] (?:\S*@\S* )?"
        r"(?:LOG|FATAL|ERROR|WARNING|STATEMENT|DETAIL|HINT|NOTICE|PANIC):  |\t",  # a statement goes on
        {
            "start": {"column": "time"}, "user": {"column": "user", **LOGIN}, "place": {"column": "database"},
            "action": {"column": "message", "patterns": DATABASE_WORDS}, "level": {"column": "level"},
            "session": {"column": "session"}, "message": {"column": "message"},
        },
        {"pattern": r"^(?P<time>\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?) \w+ \[(?P<session>\d+)\] "
            r"(?:(?P<user>[^@ ]*)@(?P<database>\S*) )?(?P<level>[A-Z]+):  (?P<message>.*)$", "unmatched": "skip",
            "ambiguous": "order"},
        (ABBREVIATED,),
        pairs=Pairs(("session",)),
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
    Shape(
        "log of a program, with a level", "", rf"{STAMP} +(?:\S+ +){{0,3}}?\[?(?:{LEVELS})\b",
        {
            "start": {"column": "time"}, "action": {"column": "level"}, "message": {"column": "text"},
        },
        {"begins": rf"^{STAMP} ", "unmatched": "skip",
         "pattern": rf"(?s)^(?P<time>{STAMP}) +(?:[^\n]*?\b)??(?P<level>{LEVELS})\b(?P<text>.*)$"},
        ('who and what stand inside the text: user = { column = "text", part = "User (\\\\S+)" }',),
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
DATABASE_SERVER = Shape(
    "log of a database server", "logins",
    r'\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d+ \w+,("[^"]*")?,("[^"]*")?,\d*,("[^"]*")?,[0-9a-f]+\.[0-9a-f]+,\d+,',
    {
        "start": {"column": "1", "part": r"^(.*) [A-Za-z]+$", "form": "iso"}, "user": {"column": "2", **LOGIN},
        "place": {"column": "3"},
        "device": {"column": "5", "part": r"^\"?([^:\"]+)"},
        "action": {
            "column": "14",
            "patterns": DATABASE_WORDS,
        },
        "level": {"column": "12"}, "session": {"column": "6"}, "message": {"column": "14"},
        "line": {"column": "7", "type": "number"},
    },
    {"header": False, "key": ["session", "line"], "ambiguous": "order"},
    (ABBREVIATED,),
    pairs=Pairs(("session",)),
)  # fmt: skip
