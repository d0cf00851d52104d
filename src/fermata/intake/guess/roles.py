"""What columns seem to mean: times and their forms, users, devices, durations, and the kind of the log."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fermata.intake.guess.sniff import Sniffed
from fermata.kinds import KINDS

__all__ = ["Guess", "guess"]

CLOCKS = ("%H:%M:%S", "%H:%M", "%I:%M:%S %p", "%I:%M %p")
DAYS = (
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%d.%m.%Y",
    "%d/%m/%y",
    "%m/%d/%y",
    "%Y/%m/%d",
    "%Y%m%d",
    "%d %b %Y",
    "%b %d %Y",
)
WHOLE = (
    "%d/%b/%Y:%H:%M:%S %z", "%a %b %d %H:%M:%S %Y", "%Y%m%d%H%M%S", "%a, %d %b %Y %H:%M:%S %z",
    *(f"{day} {clock}" for day in DAYS for clock in CLOCKS), *(f"{day}, {clock}" for day in DAYS for clock in CLOCKS),
)  # fmt: skip
SWAPPED = {"%d/%m": "%m/%d", "%d-%m": "%m-%d"}
ISO = re.compile(r"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?)?\s*(Z|[+-]\d\d(:?\d\d)?)?$")
CLOCK = re.compile(r"\d{1,2}:\d\d(:\d\d)?( ?[AaPp][Mm])?$")
LENGTH = re.compile(r"\d+:\d\d:\d\d$")
NUMBER = re.compile(r"-?\d+$")
DECIMAL = re.compile(r"-?\d+([.,]\d+)$")
ENOUGH = 0.97  # of the texts must read as a form

HINTS = {  # field -> words in a heading, the surest first
    "start": ("start", "begin", "when", "timestamp", "datetime", "time", "date", "logged", "from"),
    "finish": ("finish", "end", "until", "stop", "logout", "to"),
    "duration": ("duration", "talk", "seconds", "secs", "elapsed", "session-time", "length", "minutes"),
    "user": ("user", "badge", "administrator", "admin", "card", "person", "who", "login", "account", "owner", "employee", "extension", "operator", "name"),
    "device": ("device", "reader", "door", "printer", "queue", "computer", "host", "terminal", "station", "line", "nas-ip", "pc"),
    "place": ("place", "area", "room", "location", "site", "building", "where", "zone"),
    "action": ("action", "event", "movement", "change", "status", "type", "result", "state", "what"),
    "outcome": ("outcome", "success", "cause"),
    "other": ("other", "number", "target", "object", "document", "destination", "path", "called", "program", "app"),
}  # fmt: skip
NAMES = {
    "badge": "badge",
    "card": "badge",
    "ext": "extension",
    "login": "login",
    "account": "login",
    "user": "login",
    "mail": "mail",
}
SIGNS = {  # kind -> words of headings that speak for it
    "door access": ("door", "reader", "badge", "card", "entry", "area"),
    "calls": ("call", "extension", "talk", "ring", "number", "queue"),
    "printing": ("printer", "pages", "copies", "sheets", "job-name", "document"),
    "logins": ("login", "logout", "session", "tty"),
    "software use": ("program", "licence", "license", "app", "feature"),
    "time entries": ("project", "hours", "activity", "billable", "task"),
    "network sessions": ("acct", "nas", "octets", "bytes", "ssid", "mac"),
    "changes": ("old", "new", "changed", "object", "before", "after"),
    "credit movements": ("amount", "balance", "credit", "debit"),
    "states": ("state", "status"),
}
BY_FORMAT = {
    "web access": "web access", "page log": "printing", "radius detail": "network sessions", "login records": "logins",
    "icalendar": "plans", "xes": "activities", "syslog": "logins",
}  # fmt: skip
SLASHED = "%d/%b/%Y:%H:%M:%S %z"
KNOWN: dict[str, dict[str, dict[str, Any]]] = {  # formats whose columns are known beforehand
    "web access": {
        "start": {"column": "time", "form": SLASHED}, "user": {"column": "user", "names": "login"}, "device": {"column": "host"},
        "action": {"column": "method"}, "other": {"column": "path"}, "outcome": {"column": "status"},
        "size": {"column": "bytes", "type": "number", "unit": "bytes"},
    },
    "page log": {
        "start": {"column": "time", "form": SLASHED}, "user": {"column": "user", "names": "login"}, "device": {"column": "printer"},
        "title": {"column": "job-name"}, "job": {"column": "job", "type": "number"}, "page": {"column": "page"},
        "copies": {"column": "copies", "type": "number"}, "paper": {"column": "media"},
    },
    "radius detail": {
        "finish": {"column": "time", "form": "%a %b %d %H:%M:%S %Y"}, "duration": {"column": "Acct-Session-Time", "form": "seconds"},
        "user": {"column": "User-Name", "names": "login"}, "device": {"column": "NAS-Identifier"},
        "action": {"column": "Acct-Status-Type", "values": {"Start": "start", "Stop": "stop", "Interim-Update": "interim"}},
        "outcome": {"column": "Acct-Terminate-Cause"}, "other": {"column": "Calling-Station-Id", "spelling": "mac"},
        "session": {"column": "Acct-Session-Id"}, "received": {"column": "Output-Octets", "type": "number", "unit": "bytes"},
        "sent": {"column": "Input-Octets", "type": "number", "unit": "bytes"},
    },
    "login records": {
        "start": {"column": "time", "form": "epoch s"}, "user": {"column": "user", "names": "login"}, "device": {"column": "line"},
        "action": {"column": "event"}, "other": {"column": "host"},
    },
    "icalendar": {
        "start": {"column": "start"}, "finish": {"column": "finish"}, "title": {"column": "summary"}, "place": {"column": "location"},
        "action": {"column": "status", "values": {"TENTATIVE": "tentative", "CANCELLED": "cancelled", "CONFIRMED": "planned"}},
    },
    "xes": {
        "start": {"column": "time:timestamp"}, "user": {"column": "org:resource"}, "action": {"column": "concept:name"},
        "other": {"column": "case:concept:name"},
    },
}  # fmt: skip


@dataclass
class Guess:
    """Fields in TOML terms (`{ column = ..., form = ... }`), the kind, what is unsure of each field ("" for all), and
    the values seen of a field that wants words of its kind."""

    fields: dict[str, dict[str, Any]] = field(default_factory=dict)
    kind: str = ""
    unsure: dict[str, str] = field(default_factory=dict)
    seen: dict[str, str] = field(default_factory=dict)


def guess(sniffed: Sniffed) -> Guess:
    """The likeliest meaning of the columns; every doubt is noted."""
    found = Guess()
    if sniffed.format in KNOWN:
        held = KNOWN[sniffed.format]
        found.fields = {n: dict(f) for n, f in held.items() if f["column"] in sniffed.columns}
        found.kind = BY_FORMAT[sniffed.format]
        return found
    times = {n: f for n, texts in sniffed.columns.items() if texts and (f := _form(n, texts, found)) is not None}
    _times(sniffed.columns, times, found)
    used = {c for f in found.fields.values() for c in (f.get("columns") or [f.get("column")])}
    for name in ("user", "device", "place", "action", "outcome", "other"):
        column = _named(name, [c for c in sniffed.columns if c not in used and c not in times and sniffed.columns[c]])
        if column is None:
            continue
        used.add(column)
        found.fields[name] = {"column": column}
        low = column.lower()
        if name == "user" and (kind := next((k for w, k in NAMES.items() if w in low), "")):
            found.fields[name]["names"] = kind
        if name == "action":
            values = Counter(sniffed.columns[column]).most_common(12)
            found.seen[name] = ", ".join(f'"{v}" ({n:,})' for v, n in values)
    for column, texts in sniffed.columns.items():
        if column not in used and texts:
            name = re.sub(r"[^a-z0-9]+", "_", column.lower()).strip("_")
            if re.fullmatch(r"[a-z][a-z0-9]*(_[a-z0-9]+)*", name) and name not in (
                *found.fields,
                "person",
                "start_utc",
                "finish_utc",
            ):
                found.fields[name] = {"column": column, **_type(texts)}
    found.kind = _kind(sniffed, found)
    return found


def _form(name: str, texts: list[str], found: Guess) -> list[str] | None:
    """The form of a column of times; None where it is none. A choice between day and month first is noted."""
    sample = texts[:: max(len(texts) // 400, 1)]
    if all(ISO.match(t) for t in sample):
        return []
    if all(NUMBER.fullmatch(t) for t in sample):
        values = [int(t) for t in sample]
        for form, scale in (("epoch s", 1), ("epoch ms", 1000), ("epoch us", 1_000_000)):
            if all(946_684_800 * scale < v < 4_102_444_800 * scale for v in values):
                return [form]
    if all(re.fullmatch(r"24\d{5}\.\d+", t) for t in sample):
        return ["julian day"]
    if all(re.fullmatch(r"\d{10}\.\d+", t) for t in sample):
        return ["epoch s"]
    fitting = [f for f in (*WHOLE, *DAYS) if _share(sample, f) >= ENOUGH]
    if not fitting:
        return None
    first = fitting[0]
    other = next((f for f in fitting[1:] if _swapped(first) == f), None)
    return [_settled(name, texts, first, other, found) if other else first]


def _share(texts: list[str], form: str) -> float:
    return sum(_read(t, form) is not None for t in texts) / len(texts)


def _read(text: str, form: str) -> datetime | None:
    try:
        return datetime.strptime(text, form)
    except ValueError:
        return None


def _swapped(form: str) -> str:
    for a, b in SWAPPED.items():
        if form.startswith(a):
            return form.replace(a, b)
    return ""


def _settled(name: str, texts: list[str], day_first: str, month_first: str, found: Guess) -> str:
    """Day or month first: the reading under which the file runs forward in time, else a marked choice."""
    steps = {}
    for form in (day_first, month_first):
        times = [t for text in texts if (t := _read(text, form))]
        steps[form] = sum(b < a for a, b in itertools.pairwise(times))
    best, worst = sorted(steps, key=lambda f: steps[f])
    if steps[worst] > steps[best] + len(texts) // 100:
        found.unsure[name] = (
            f"day or month first? no day above 12 in the sample, but only as {best} does the file run forward"
        )
        return best
    found.unsure[name] = (
        f"day or month first? {texts[0]} reads both ways and nothing in the sample tells; the other is {month_first}"
    )
    return day_first


def _times(columns: dict[str, list[str]], times: dict[str, list[str]], found: Guess) -> None:
    """Start, finish and duration from the columns that hold times."""
    days = {n for n, f in times.items() if (f and f[0] in DAYS) or (not f and all(len(t) == 10 for t in columns[n]))}
    spoken = [n for n in times if n not in days]
    start = _named("start", spoken) or next(iter(spoken), None)
    if start is not None:
        found.fields["start"] = _time_field(start, times[start])
        finish = _named("finish", [n for n in spoken if n != start])
        if finish:
            found.fields["finish"] = _time_field(finish, times[finish])
    elif days:
        _day_and_clock(columns, times, _named("start", list(days)) or min(days), found)
    else:
        found.unsure["start"] = "no column reads as a time; name it and its form"
    for column in [c for c in found.unsure if c in times]:
        found.unsure["start"] = found.unsure.pop(column)
    if "finish" not in found.fields:
        _duration(columns, times, found)


def _day_and_clock(columns: dict[str, list[str]], times: dict[str, list[str]], day: str, found: Guess) -> None:
    """A date and clock times in columns of their own; a second clock time is the finish."""
    clocks = [n for n, t in columns.items() if t and n not in times and all(CLOCK.match(x) for x in t)]
    begin = _named("start", clocks) or next(iter(clocks), None)
    if begin is None:
        found.fields["start"] = _time_field(day, times[day])
        found.unsure["start"] = "a date without a clock time: the event is put at its midnight"
        return
    date_form = times[day][0] if times[day] else "%Y-%m-%d"
    clock = {n: next((c for c in CLOCKS if _share(columns[n], c) >= ENOUGH), "%H:%M") for n in clocks}
    found.fields["start"] = {"columns": [day, begin], "form": f"{date_form} {clock[begin]}"}
    finish = _named("finish", [n for n in clocks if n != begin])
    if finish:
        found.fields["finish"] = {"column": finish, "form": clock[finish], "next_day": True}
        found.unsure["finish"] = "a finish before its start is taken to be on the next day"


def _duration(columns: dict[str, list[str]], times: dict[str, list[str]], found: Guess) -> None:
    lengths = [
        n
        for n, t in columns.items()
        if t and n not in times and all(NUMBER.fullmatch(x) or LENGTH.fullmatch(x) for x in t)
    ]
    column = _named("duration", lengths)
    if column is None:
        return
    clocked = all(LENGTH.fullmatch(x) for x in columns[column])
    form = "h:mm:ss" if clocked else "minutes" if "min" in column.lower() else "seconds"
    found.fields["duration"] = {"column": column, "form": form}
    if not clocked:
        found.unsure["duration"] = "a plain number: seconds, minutes, milliseconds?"


def _time_field(column: str, form: list[str]) -> dict[str, Any]:
    return {"column": column, **({"form": form[0]} if form else {})}


def _named(name: str, columns: list[str]) -> str | None:
    """The column whose heading speaks for a field, by the surest word."""
    for word in HINTS[name]:
        for column in columns:
            if re.search(rf"(^|[^a-z]){word}(s|_?id|name)?($|[^a-z])", column.lower()):
                return column
    return None


def _type(texts: list[str]) -> dict[str, Any]:
    sample = texts[:: max(len(texts) // 400, 1)]
    if all(NUMBER.fullmatch(t) and len(t) < 16 for t in sample):
        return {"type": "number"}
    if all(NUMBER.fullmatch(t) or DECIMAL.fullmatch(t) for t in sample):
        places = max((len(m[1]) - 1 for t in sample if (m := DECIMAL.fullmatch(t))), default=2)
        comma = any("," in t for t in sample)
        return {"type": "decimal", "scale": min(places, 9), **({"decimal": ","} if comma else {})}
    return {"type": "text"}


def _kind(sniffed: Sniffed, found: Guess) -> str:
    if sniffed.format in BY_FORMAT:
        return BY_FORMAT[sniffed.format]
    words = " ".join(sniffed.columns).lower()
    score = {kind: sum(w in words for w in signs) for kind, signs in SIGNS.items()}
    best = max(score, key=lambda k: score[k])
    if not score[best]:
        found.unsure[""] = f"of what kind is it? one of {', '.join(KINDS)}"
        return ""
    return best
