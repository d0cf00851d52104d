"""A proposal for a log as the TOML people keep, every doubt a comment beside what it is about."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from fermata.fields import NAME
from fermata.intake.guess.roles import Guess, columns_read, guess
from fermata.intake.guess.shape import Pairs
from fermata.intake.guess.sniff import Sniffed, sniff
from fermata.kinds import KINDS

__all__ = ["as_toml", "propose"]

VISITS = Pairs(("user",), "in", "out", "16 hours")
WORKED = Pairs(("user",), "clock in", "clock out", "16 hours")
LOGINS = Pairs(("device",))
SIGNED_IN = Pairs(("user", "device"))


def propose(path: Path, log: str, shown: str) -> tuple[str, list[str]]:
    """The TOML of a log called `log` whose files are like `path` (written as `shown`), and what it is unsure of.

    Raises SourceError where the file cannot be read at all.
    """
    sniffed = sniff(path)
    found = guess(sniffed, log)
    doubts = [*sniffed.unsure, *(f"{name or log}: {why}" for name, why in found.unsure.items())]
    return _toml(log, shown, sniffed, found), doubts


def _toml(log: str, shown: str, sniffed: Sniffed, found: Guess) -> str:
    lines = [f"[logs.{log}]"]
    lines += [f"# unsure: {found.unsure['']}"] if "" in found.unsure else []
    lines += [f"kind = {as_toml(found.kind)}"] if found.kind else ["# kind = "]
    database = sniffed.format == "sql"
    if not database:
        lines.append(f"files = {as_toml(shown)}")
    if sniffed.format != "delimited":
        lines.append(f"format = {as_toml(sniffed.format)}")
    lines += [f"# unsure: {why}" for why in sniffed.unsure]
    asked = {k: v for k, v in sniffed.settings.items() if database and k in ("query", "growing")}
    lines += [f"{key} = {as_toml(value)}" for key, value in sniffed.settings.items() if key not in asked]
    if database:
        lines.append(f"[logs.{log}.database]")
        lines.append(f"address = {as_toml(f'sqlite:///{shown}')}")
    lines += [f"{key} = {as_toml(value)}" for key, value in asked.items()]
    if found.events:
        lines += [f"# unsure: {found.unsure['events']}", "events = ["]
        lines += [
            f"    {{ fields = {{ {', '.join(f'{n} = {_field(f)}' for n, f in part.items())} }} }},"
            for part in found.events
        ]
        lines.append("]")
    lines.append(f"[logs.{log}.fields]")
    for name, spec in found.fields.items():
        if name in found.unsure:
            lines.append(f"# unsure: {found.unsure[name]}")
        if name in found.seen:
            lines.append(f"# values seen: {found.seen[name]}")
        if name == "action" and found.unsaid and found.kind and KINDS[found.kind].actions:
            lines.append(
                f'# say what they mean: values = {{ "..." = "{next(iter(KINDS[found.kind].actions))}" }}; words: '
                f"{', '.join(KINDS[found.kind].actions)}"
            )
        lines.append(f"{name} = {_field(spec)}")
    if not found.events and not {"start", "finish"} & found.fields.keys():
        lines.append(f"# unsure: {found.unsure.get('start', 'no time found')}")
        lines.append('start = "..."')
    unused = [n for n in sniffed.columns if n not in columns_read(found)]
    if unused:
        lines.append(f"# columns not used: {', '.join(unused)}")
    text = "\n".join([*lines, *_spans(log, sniffed, found)]) + "\n"
    return re.sub(r"[\x00-\x08\x0b-\x1f\x7f]", lambda m: f"\\u{ord(m[0]):04x}", text)  # what TOML does not take


def _spans(log: str, sniffed: Sniffed, found: Guess) -> list[str]:
    """The log of spans that openings and closings make, where the fields that tell which belong together are there; of
    counters that of what they counted.
    """
    pairs, name = sniffed.shape.pairs if sniffed.shape else None, "sessions"
    if sniffed.format == "login records":
        pairs = LOGINS
    if found.kind == "door access" and {"in", "out"} <= found.actions:
        pairs, name = VISITS, "visits"
    if found.kind == "time entries" and {"clock in", "clock out"} <= found.actions:
        pairs, name = WORKED, "worked"
    if found.kind == "logins" and {"login", "logout"} <= found.actions:
        pairs = SIGNED_IN
    if found.counters:
        return _counted(log, found)
    if pairs is None or not {"action", *pairs.by} <= {*found.fields, *(found.events[0] if found.events else ())}:
        return []
    by = as_toml(pairs.by[0] if len(pairs.by) == 1 else list(pairs.by))
    pairing = f'opening = "{pairs.opening}", closing = "{pairs.closing}", by = {by}, reach = "{pairs.reach}"'
    return [
        "",
        f"# from each '{pairs.opening}' to the '{pairs.closing}' of the same {' and '.join(pairs.by)}",
        f"[logs.{log}-{name}]",
        f'from = "{log}"',
        f"pairing = {{ {pairing} }}",
    ]


def _counted(log: str, found: Guess) -> list[str]:
    """The log of what counters counted between two readings."""
    by = [n for n in ("device", "serial") if n in found.fields]
    return [
        "",
        "# what was counted between two readings: the readings themselves only grow, and are not to be added up",
        f"[logs.{log}-used]",
        f'from = "{log}"',
        f"counter = {{ amounts = {as_toml(found.counters)}, by = {as_toml(by)} }}",
    ]


def _field(spec: dict[str, Any]) -> str:
    if list(spec) == ["column"]:
        return as_toml(spec["column"])
    if spec.get("type") == "text":
        return as_toml(spec["column"])
    return "{ " + ", ".join(f"{k} = {as_toml(v)}" for k, v in spec.items()) + " }"


def as_toml(value: Any, bare: bool = False) -> str:
    """A value as TOML on one line; with `bare` the keys that may stand without quotes do."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        keys = ((k if bare and NAME.fullmatch(k) else as_toml(k), v) for k, v in value.items())
        return "{ " + ", ".join(f"{k} = {as_toml(v, bare)}" for k, v in keys) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(as_toml(v) for v in value) + "]"
    return json.dumps(value, ensure_ascii=False)
