"""What columns seem to mean: times and their forms, users, devices, durations, and the kind of the log."""

from __future__ import annotations

import itertools
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fermata.fields import COMMON, NAME, RESERVED
from fermata.intake.guess.known import BY_FORMAT, KNOWN
from fermata.intake.guess.sniff import Sniffed
from fermata.intake.guess.words import ACTIONS, DENIES, ELSEWHERE, GOOD, SIGNS_ELSEWHERE, WAYS
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
SHORT = re.compile(r"\d+:[0-5]\d$")
NUMBER = re.compile(r"-?\d+$")
DECIMAL = re.compile(r"-?\d+([.,]\d+)$")
ENOUGH = 0.97  # of the texts must read as a form

HINTS = {  # field -> words in a heading, the surest first
    "start": ("start", "begin", "when", "timestamp", "datetime", "time", "date", "logged", "from"),
    "finish": ("finish", "end", "until", "stop", "logout", "to"),
    "duration": ("duration", "talk", "seconds", "secs", "elapsed", "session-time", "length", "minutes"),
    "user": ("user", "badge", "administrator", "admin", "card", "person", "who", "login", "account", "owner",
    "employee", "extension", "operator", "name"),
    "device": ("device", "reader", "door", "printer", "computer", "host", "terminal", "station", "line", "trunk",
    "queue", "nas-ip", "pc"),
    "place": ("place", "area", "room", "location", "site", "building", "where", "zone", "queue"),
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
    if sniffed.shape and sniffed.format == "regex":
        return _shaped(sniffed, Guess())
    if sniffed.format in KNOWN:
        held = KNOWN[sniffed.format]
        found.fields = {n: dict(f) for n, f in held.items() if f["column"] in sniffed.columns}
        found.kind = BY_FORMAT[sniffed.format]
        if "pages" in found.fields:
            found.fields.pop("page", None)  # it says `total`
        _exact_times(sniffed, found)
        return found
    if sniffed.shape and sniffed.format == "delimited":
        return _shaped(sniffed, found)
    times = {n: f for n, texts in sniffed.columns.items() if texts and (f := _form(n, texts, found)) is not None}
    _times(sniffed.columns, times, found)
    used = {c for f in found.fields.values() for c in (f.get("columns") or [f.get("column")])}
    for name in ("user", "device", "place", "action", "outcome", "other"):
        column = _named(name, [c for c in sniffed.columns if c not in used and c not in times and sniffed.columns[c]])
        if column is None:
            continue
        used.add(column)
        found.fields[name] = {"column": column}
        low = plain(column)
        if name == "user" and (kind := next((k for w, k in NAMES.items() if w in low), "")):
            found.fields[name]["names"] = kind
        if name == "action":
            values = Counter(sniffed.columns[column]).most_common(12)
            found.seen[name] = ", ".join(f'"{v}" ({n:,})' for v, n in values)
    for column, texts in sniffed.columns.items():
        if column not in used and texts:
            name = _field_name(column, sniffed.columns)
            name = f"logged_{name}" if name in RESERVED else name
            if NAME.fullmatch(name) and name not in found.fields:
                found.fields[name] = {"column": column, **_type(texts)}
    found.kind = _kind(sniffed, found)
    if sniffed.shape:
        return _shaped(sniffed, found)
    _words(sniffed, found)
    if found.kind == "calls" and "direction" not in found.fields:
        _directed(sniffed, found)
    if found.kind == "calls" and list(way := found.fields.get("direction", {})) in (["column"], ["column", "type"]):
        ways: dict[str, str] = {}
        for value in sorted(set(sniffed.columns[way["column"]])):
            word = next((w for w, sign in WAYS.items() if re.search(sign, plain(value))), value)
            ways |= {value: word} if word != value else {}
        found.fields["direction"] = {"column": way["column"], **({"values": ways} if ways else {})}
    return found


def _directed(sniffed: Sniffed, found: Guess) -> None:
    """Calls the field the direction all of whose values say one."""
    for name, held in list(found.fields.items()):
        values = set(sniffed.columns.get(held.get("column", ""), ())) if name not in COMMON else set()
        if values and all(any(re.search(sign, plain(v)) for sign in WAYS.values()) for v in values):
            found.fields["direction"] = {"column": found.fields.pop(name)["column"]}
            return


def _field_name(column: str, columns: Iterable[str]) -> str:
    """A name for a column's field: of a way into a record its last step, unless another column ends with it, too."""
    last = _last_step(column)
    alone = sum(_last_step(c) == last for c in columns) == 1
    return re.sub(r"[^a-z0-9]+", "_", plain(last if alone else column)).strip("_")


def _last_step(column: str) -> str:
    return next((step for step in reversed(re.split(r"[/@\[\].]", column)) if step), column)


def _shaped(sniffed: Sniffed, found: Guess) -> Guess:
    """The fields of a shape that is known, beside the time that was found."""
    shape = sniffed.shape
    assert shape
    start = {n: found.fields[n] for n in ("start",) if n in found.fields}
    fields = {n: dict(f) for n, f in shape.fields.items() if f["column"] in sniffed.columns}
    timed = {"start", "finish"} & fields.keys()
    for name in timed:
        column = fields[name]["column"]
        if fields[name].keys() == {"column"} and (form := _form(column, sniffed.columns[column], found)):
            fields[name]["form"] = form[0]
    return Guess({**({} if timed else start), **fields}, shape.kind)


def _exact_times(sniffed: Sniffed, found: Guess) -> None:
    """The moment in seconds that a block of accounting has is exact, its heading is in local time; a session's identity
    goes before its number.
    """
    if sniffed.format != "radius detail":
        return
    blocks = len(sniffed.columns.get("time", ()))
    if len(sniffed.columns.get("Timestamp", ())) == blocks:
        found.fields["finish"] = {"column": "Timestamp", "form": "epoch s"}
    sessions, unique = (sniffed.columns.get(n, []) for n in ("Acct-Session-Id", "Acct-Unique-Session-Id"))
    if unique and len(unique) == len(sessions):
        found.fields["session"] = {"column": "Acct-Unique-Session-Id"}
    if "device" not in found.fields and "NAS-IP-Address" in sniffed.columns:
        found.fields["device"] = {"column": "NAS-IP-Address"}


def _words(sniffed: Sniffed, found: Guess) -> None:
    """The words of the kind for the values that an action has, where they say it in a word that is known."""
    action = found.fields.get("action", {})
    if found.kind not in ACTIONS or "column" not in action or len(action) > 1:
        return
    meant = {}
    for value in dict.fromkeys(sniffed.columns[action["column"]]):
        word = next((w for w, sign in ACTIONS[found.kind].items() if re.search(sign, plain(value))), "")
        if word in GOOD and DENIES.search(plain(value)):  # "NO ENTRY" is no entry
            word = "refused" if found.kind == "door access" else ""
        if word and word != value:
            meant[value] = word
    if meant:
        action["values"] = meant
        found.unsure["action"] = "the words on the right are taken from the values; look them over"


def _form(name: str, texts: list[str], found: Guess) -> list[str] | None:
    """The form of a column of times; None where it is none. A choice between day and month first is noted."""
    foot = next((i for i, t in enumerate(reversed(texts[-2:])) if re.search(r"\d", t)), 0)  # such as "Total"
    texts = texts[: len(texts) - foot]
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
    clocks = [n for n in clocks if not _named("duration", [n]) or _named("start", [n]) or _named("finish", [n])]
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
        if t and n not in times and all(NUMBER.fullmatch(x) or LENGTH.fullmatch(x) or SHORT.fullmatch(x) for x in t)
    ]
    column = _named("duration", lengths)
    if column is None:
        return
    texts = columns[column]
    clocked, short = all(LENGTH.fullmatch(x) for x in texts), all(SHORT.fullmatch(x) for x in texts)
    form = "h:mm:ss" if clocked else "mm:ss" if short else "minutes" if "min" in column.lower() else "seconds"
    found.fields["duration"] = {"column": column, "form": form}
    if short and max(int(x.split(":")[0]) for x in texts) < 24:
        found.unsure["duration"] = "minutes and seconds, or hours and minutes (h:mm)? nothing in the sample is above 23"
    elif not clocked and not short:
        found.unsure["duration"] = "a plain number: seconds, minutes, milliseconds?"


def _time_field(column: str, form: list[str]) -> dict[str, Any]:
    return {"column": column, **({"form": form[0]} if form else {})}


def _named(name: str, columns: list[str]) -> str | None:
    """The column whose heading speaks for a field, by the surest word."""
    for word in (*HINTS[name], *ELSEWHERE.get(name, ())):
        for column in columns:
            if re.search(rf"(^|[^a-z]){word}(s|_?id|name)?($|[^a-z])", plain(column)):
                return column
    return None


def plain(text: str) -> str:
    """A text in small letters without accents: `Tür` is `tur`, `Straße` is `strasse`."""
    bare = unicodedata.normalize("NFKD", text.casefold())
    return "".join(c for c in bare if not unicodedata.combining(c)).replace("ł", "l").replace("ø", "o")


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
    words = plain(" ".join(sniffed.columns))
    score = {k: sum(w in words for w in (*signs, *SIGNS_ELSEWHERE.get(k, ()))) for k, signs in SIGNS.items()}
    best = max(score, key=lambda k: score[k])
    if not score[best]:
        found.unsure[""] = f"of what kind is it? one of {', '.join(KINDS)}"
        return ""
    return best
