"""What columns seem to mean: times, users, devices, lengths, further fields, and the kind of the log."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from fermata.fields import COMMON, NAME, RESERVED, TIMES
from fermata.intake.guess.headings import named, plain, says
from fermata.intake.guess.known import BY_FORMAT, KNOWN
from fermata.intake.guess.sniff import Sniffed
from fermata.intake.guess.times import form_of, times
from fermata.intake.guess.values import flag, growing, type_of
from fermata.intake.guess.words import ACTIONS, DENIES, FURTHER, GOOD, KINDS_OF_NAME, SIGNS, SIGNS_ELSEWHERE, WAYS
from fermata.kinds import KINDS

__all__ = ["Guess", "columns_read", "guess"]

ROLES = ("user", "device", "place", "action", "outcome", "other")
FEW = 12  # different values that a column of actions has at most
GENERAL = ("states", "changes")  # kinds whose words stand in many a heading
WRITTEN = {  # kind of log -> by what kind of name it calls people, where nothing else says
    "calls": "extension", "printing": "login", "logins": "login", "software use": "login", "network sessions": "login",
}  # fmt: skip
COMINGS = {"door access": ("in", "out"), "time entries": ("clock in", "clock out")}  # kind -> of a coming, a going
MEANT = 4  # values named in a doubt


@dataclass
class Guess:
    """Fields in TOML terms (`{ column = ..., form = ... }`), the kind, what is unsure of each field ("" for all), the
    values seen of a field that wants words of its kind, the fields that are counters, which only grow, the words that
    actions have in the sample, whether what they mean is not known, and the fields of each event of a record that is
    several.
    """

    fields: dict[str, dict[str, Any]] = field(default_factory=dict)
    kind: str = ""
    unsure: dict[str, str] = field(default_factory=dict)
    seen: dict[str, str] = field(default_factory=dict)
    counters: list[str] = field(default_factory=list)
    actions: set[str] = field(default_factory=set)
    unsaid: bool = False
    events: list[dict[str, dict[str, Any]]] = field(default_factory=list)


def guess(sniffed: Sniffed, called: str = "") -> Guess:
    """The likeliest meaning of the columns of a file that is `called` so; every doubt is noted."""
    found = Guess()
    if sniffed.shape and sniffed.format == "regex":
        return _shaped(sniffed, Guess())
    if sniffed.format in KNOWN:
        return _known(sniffed)
    if sniffed.shape and sniffed.format == "delimited":
        return _shaped(sniffed, found)
    columns = {n: t for n, t in sniffed.columns.items() if t}
    counters = growing(columns)
    found.kind = "" if counters else _kind(sniffed, called, found)
    told = times(columns, found.unsure, found.kind)
    found.fields, timed = told.fields, told.columns
    if sniffed.shape:
        return _shaped(sniffed, found)
    if found.fields.get("start", {}).get("column") == "line" and sniffed.format == "key=value":
        apart = any(" " in t for t in columns["line"])
        found.fields["start"]["part"] = r"^(\S+ \S+)" if apart else r"^(\S+)"
    if any(says(c, zone) for c in columns_read(found) for zone in ("utc", "gmt")):
        sniffed.settings.setdefault("zone", "UTC")
    if told.starts:
        _several(told.starts, found)
    free = [c for c in columns if c not in timed and c not in columns_read(found)]
    _roles(columns, free, found)
    for column in [c for c in columns if c not in columns_read(found)]:
        name = _field_name(column, sniffed.columns)
        name = f"column_{name}" if name.isdigit() else name
        name = f"logged_{name}" if name in (*RESERVED, *TIMES, *COMMON) else name
        if NAME.fullmatch(name) and name not in found.fields:
            found.fields[name] = {"column": column, **_held(column, columns[column], column in timed)}
    for name, held in found.fields.items():
        if held.get("thousands") == ",":
            found.unsure[name] = "groups of thousands, or a comma before a fraction? taken for thousands"
    if any("%Z" in f.get("form", ()) for f in found.fields.values()):
        sniffed.settings["zones"] = {"UTC": "+00:00", "GMT": "+00:00"}
    found.counters = [n for n, f in found.fields.items() if f.get("column") in counters]
    return found


def _held(column: str, texts: list[str], timed: bool) -> dict[str, Any]:
    """The type of a further field: a further time is one, by which a period may go, too."""
    form = form_of(column, texts, {}) if timed else None
    if form is None:
        return type_of(column, texts)
    return {"type": "time", **({"form": form[0]} if form else {})}


def _known(sniffed: Sniffed) -> Guess:
    """The fields of a format whose columns are known beforehand."""
    found = Guess(kind=BY_FORMAT[sniffed.format])
    found.fields = {n: dict(f) for n, f in KNOWN[sniffed.format].items() if f["column"] in sniffed.columns}
    if "pages" in found.fields:
        found.fields.pop("page", None)  # it says `total`
    _exact_times(sniffed, found)
    return found


def columns_read(found: Guess) -> set[str]:
    """The columns that fields are made of."""
    fields = [f for part in (found.fields, *found.events) for f in part.values()]
    return {c for f in fields for c in (f.get("columns") or [f.get("column")])}


def _several(starts: list[dict[str, Any]], found: Guess) -> None:
    """A record of several events: comings and goings in turn."""
    if found.kind != "door access":
        found.kind = "time entries"
        found.unsure.pop("", None)
    words = COMINGS[found.kind]
    found.fields = {}
    found.events = [{"start": s, "action": {"constant": words[i % 2]}} for i, s in enumerate(starts)]
    found.actions = set(words)
    ordered = [found.unsure.pop("start")] if "start" in found.unsure else []
    taken = (
        "clock times in one row are taken for comings and goings in turn: "
        f"{', '.join(s['columns'][1] for s in starts)}; one before the first is on the next day"
    )
    found.unsure["events"] = "; ".join([*ordered, taken])


def _roles(columns: dict[str, list[str]], free: list[str], found: Guess) -> None:
    """The fields of the log's kind and those common to all, each with the column whose heading speaks for it."""
    own = FURTHER.get(found.kind, {})
    for name in [n for n in own if n not in COMMON]:
        if (column := named(name, free, own[name])) is None:
            continue
        if name == "direction":
            found.fields[name] = _direction(column, columns[column])
        elif name in ("colour", "charged"):
            if not (held := flag(column, columns[column], name == "colour")):
                continue
            found.fields[name] = {"column": column, **held}
        else:
            found.fields[name] = {"column": column, **_own_type(name, column, columns[column])}
        free.remove(column)
    if found.kind == "calls" and "direction" not in found.fields:
        _directed(columns, free, found)
    ways = _ways(columns, free) if found.kind == "door access" else None
    for name in (r for r in ROLES if not (found.events and r == "action")):
        candidates = [c for c in free if c != ways]
        further = own.get(name, ())
        sure = (c for part in (False, True) for w in further for c in candidates if says(c, w, part))
        column = next(sure, None) or named(name, candidates)
        if column is None:
            continue
        free.remove(column)
        found.fields[name] = {"column": column}
        if name == "user" and (kind := _kind_of_name(column, columns[column]) or WRITTEN.get(found.kind, "")):
            found.fields[name]["names"] = kind
    if found.kind == "door access" and not found.events:
        _entries(columns, ways, found)
    if "column" in (action := found.fields.get("action", {})):
        found.seen["action"] = _counted(columns[action["column"]])
        _words(columns[action["column"]], found)


def _kind_of_name(column: str, texts: list[str]) -> str:
    """By what kind of name a log calls people: as its heading says, or by their names, first and last."""
    for compound in (False, True):
        for kind, hints in KINDS_OF_NAME.items():
            if any(says(column, w, compound) for w in hints):
                return kind
    return "name" if sum(bool(re.search(r"[^\W\d_],? [^\W\d_]", t)) for t in texts) > len(texts) / 2 else ""


def _own_type(name: str, column: str, texts: list[str]) -> dict[str, Any]:
    held = type_of(column, texts)
    plain_number = held["type"] in ("number", "decimal") and held.get("scale", 0) <= 2
    if name in ("cost", "charge", "amount", "balance") and plain_number:
        return {"type": "money", **({"decimal": ","} if "decimal" in held else {})}
    return {} if name in ("old", "new", "title", "project", "activity") else held


def _counted(texts: Iterable[str]) -> str:
    return ", ".join(f'"{v}" ({n:,})' for v, n in Counter(texts).most_common(FEW))


def _meant(values: dict[str, str]) -> str:
    """The doubt about what values mean."""
    told = [f'"{v}" is {w}' for v, w in values.items()]
    more = f" and {len(told) - MEANT} more" if len(told) > MEANT else ""
    return f"what its values mean was guessed from their words: {', '.join(told[:MEANT])}{more}"


def _way(text: str) -> str:
    return next((w for w, sign in WAYS.items() if re.search(sign, plain(text))), "")


def _direction(column: str, texts: list[str]) -> dict[str, Any]:
    """The direction of calls, with the words of the kind."""
    meant = {v: w for v in sorted(set(texts)) if (w := _way(v)) and w != v}
    return {"column": column, **({"values": meant} if meant else {})}


def _directed(columns: dict[str, list[str]], free: list[str], found: Guess) -> None:
    """Calls the field the direction all of whose values say one."""
    for column in free:
        if all(_way(v) for v in set(columns[column])):
            found.fields["direction"] = _direction(column, columns[column])
            free.remove(column)
            return


def _word(kind: str, value: str) -> str:
    """The word of the kind that a value says, "" for none; "NO ENTRY" is no entry."""
    word = next((w for w, sign in ACTIONS[kind].items() if re.search(sign, plain(value))), "")
    if word in GOOD and DENIES.search(plain(value)):
        return "refused" if kind == "door access" else ""
    return word


def _ways(columns: dict[str, list[str]], free: list[str]) -> str | None:
    """The column that says of each passage whether it was a way in or out, and nothing else: by its heading, or by
    having both.
    """
    told = {c: {_word("door access", v) for v in columns[c]} for c in free}
    ways = [c for c in free if told[c] <= {"in", "out"}]
    headed = named("direction", ways, FURTHER["calls"]["direction"])
    return headed or next((c for c in ways if len(told[c]) > 1), None)


def _entries(columns: dict[str, list[str]], ways: str | None, found: Guess) -> None:
    """What happened at a door: the result, the way, or both of them where they stand in columns of their own."""
    name = next((n for n in ("action", "outcome") if n in found.fields), "")
    result = found.fields.pop(name)["column"] if name else None
    told = {v: w for v in dict.fromkeys(columns[result]) if (w := _word("door access", v))} if result else {}
    if result is None or ways is None:
        if column := result or ways:
            found.fields["action"] = {"column": column}
        return
    unknown = [v for v in dict.fromkeys(columns[result]) if v not in told]
    both = {  # a result whose meaning is not known stays as it is, and is no passage
        f"{way} {value}": _word("door access", way) if word in ("granted", "in", "out") else word
        for value, word in told.items()
        for way in dict.fromkeys(columns[ways])
    }
    values = {**told, **both}
    found.fields["action"] = {"columns": [ways, result], **({"values": values} if values else {})}
    found.actions, found.unsaid = set(values.values()), bool(unknown)
    doubts = [_meant(both)] if both else []
    if unknown:
        doubts.append(f"not known, so no passage: {_counted(v for v in columns[result] if v in unknown)}")
    found.unsure["action"] = "; ".join(doubts)
    found.seen["action"] = f"{_counted(columns[ways])}; {_counted(columns[result])}"


def _words(texts: list[str], found: Guess) -> None:
    """The words of the kind for the values that an action has, where they say it in a word that is known."""
    known = KINDS[found.kind].actions if found.kind else {}
    if found.kind not in ACTIONS:
        found.unsaid = any(v not in known for v in texts)
        return
    found.actions = {_word(found.kind, v) for v in dict.fromkeys(texts)}
    found.unsaid = not any(found.actions)
    meant = {v: w for v in dict.fromkeys(texts) if (w := _word(found.kind, v)) and w != v}
    if meant:
        found.fields["action"]["values"] = meant
        found.unsure["action"] = _meant(meant)


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
        if fields[name].keys() == {"column"} and (form := form_of(column, sniffed.columns[column], found.unsure)):
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


def _kind(sniffed: Sniffed, called: str, found: Guess) -> str:
    """The kind for which most words of the headings speak, its file's name, and the values of a column of few."""
    if sniffed.format in BY_FORMAT:
        return BY_FORMAT[sniffed.format]
    told = [*sniffed.columns, called]
    few = [v for texts in sniffed.columns.values() if texts and len(v := set(texts)) <= FEW]
    score: dict[str, float] = {}
    for kind, signs in SIGNS.items():
        heard = {
            w for w in (*signs, *SIGNS_ELSEWHERE.get(kind, ())) if any(says(t, w) or says(t, w, True) for t in told)
        }
        values = kind in ACTIONS and any(all(_word(kind, v) for v in texts) for texts in few)
        score[kind] = (len(heard) + values) * (0.5 if kind in GENERAL else 1)
    best, second = sorted(score, key=lambda k: -score[k])[:2]
    if not score[best]:
        found.unsure[""] = f"of what kind is it? one of {', '.join(KINDS)}"
        return ""
    if score[best] in (0.5, 1, score[second]):
        found.unsure[""] = f"taken for {best}, for which little speaks; all kinds: fermata map --kinds"
    return best
