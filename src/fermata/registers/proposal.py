"""A proposal for a register from a list of people, devices, places or projects, as the TOML people keep."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from fermata.errors import RequestError, SourceError
from fermata.fields import NAME
from fermata.intake.guess.headings import plain, says, words
from fermata.intake.guess.propose import as_toml
from fermata.intake.guess.sniff import sniff
from fermata.intake.guess.times import form_of
from fermata.intake.guess.words import FURTHER, HINTS, KINDS_OF_NAME, NO, REGISTER, YES
from fermata.registers.load import GONE, HERE
from fermata.registers.model import OWN

__all__ = ["propose_register"]

PEOPLE = ("people", "persons", "staff", "employees", "users", "members")  # what a register of people may be called
HELD = {  # field of a log -> words of headings for what somebody holds
    "other": (*FURTHER["software use"]["other"], "licence", "license", "product", "lizenz", "produkt"),
    "device": HINTS["device"], "project": FURTHER["time entries"]["project"], "place": HINTS["place"],
}  # fmt: skip
SEPARATORS = re.compile(r"\w ?([|;]) ?\w")


def propose_register(path: Path, name: str, shown: str) -> tuple[str, list[str]]:
    """The TOML of a register called `name` (people, devices ...) from a list of them, and what is unsure.

    Raises RequestError for a name, SourceError where the file is no table with headings, or no column tells its rows
    apart.
    """
    if not NAME.fullmatch(name):
        raise RequestError(f"register {name!r}: use small letters, digits and _, as in people, devices, places")
    sniffed = sniff(path)
    if sniffed.format not in ("delimited", "xlsx") or sniffed.settings.get("header") is False:
        raise SourceError(f"{path}: a register is delimited text or a workbook with a line of headings")
    left = {n: t for n, t in sniffed.columns.items() if t}
    doubts: list[str] = []
    found: dict[str, Any] = {"files": shown}
    found |= {k: v for k, v in sniffed.settings.items() if k in ("delimiter", "encoding", "skip_lines", "sheet")}
    dates = _dates(left, doubts)
    left = {n: t for n, t in left.items() if n not in dates.values()}
    own = any(says(c, name.removesuffix("s")) and _tells_apart(t, left) for c, t in left.items())
    links = {} if own or name in (*PEOPLE, "devices", "places", "projects") else _links(left)
    if links:
        doubts.append("taken for a list of who holds what; a list of people or things has an id in place of links")
    told = _held(links, left, doubts) if links else _identified(name, left, bool(dates), doubts)
    if told is None:
        raise SourceError(f"{path}: no column tells its rows apart; a list of who holds what needs links, by hand")
    found |= {**told, **dates}
    lines = [f"[registers.{name}]", *(f"# unsure: {d}" for d in doubts)]
    return "\n".join([*lines, *(f"{k} = {as_toml(v, bare=True)}" for k, v in found.items())]) + "\n", doubts


def _identified(
    register: str, columns: dict[str, list[str]], several: bool, doubts: list[str]
) -> dict[str, Any] | None:
    """The columns of a list of people or things, some of them with `several` rows, each for a time; None where none
    tells the rows apart.
    """
    label = _label(columns)
    own = _id(register, columns, several, label)
    if own is None:
        return None
    found: dict[str, Any] = {"id": own, **({"label": label if len(label) > 1 else label[0]} if label else {})}
    found |= _flags(columns, own)
    left = {n: t for n, t in columns.items() if n not in (own, *label, found.get("archived"), found.get("parent"))}
    names = _names(register, {own: columns[own], **left}, found.get("label", own), several, doubts)
    called = [n["column"] if isinstance(n, dict) else n for n in names.values()]
    attributes = _attributes({n: t for n, t in left.items() if n not in called}, {*names}, doubts)
    return {**found, **({"names": names} if names else {}), **({"attributes": attributes} if attributes else {})}


def _tells_apart(texts: list[str], columns: dict[str, list[str]]) -> bool:
    """Whether every row has a value of its own."""
    return len(set(texts)) == len(texts) == max(map(len, columns.values()))


def _links(columns: dict[str, list[str]]) -> dict[str, Any]:
    """Who holds what: a column of people, by a kind of name that logs use, and one of what they hold; empty where one
    of the two is missing.
    """
    person = next(
        ((c, kind) for kind, hints in KINDS_OF_NAME.items() for h in hints for c in columns if says(c, h)), None
    )
    if person is None and (called := _said("label", columns)):
        person = called[0], "name"
    held = next(
        (
            (field, c)
            for field, hints in HELD.items()
            for h in hints
            for c in columns
            if person and c != person[0] and says(c, h)
        ),
        None,
    )
    return {"user": {"column": person[0], "names": person[1]}, held[0]: held[1]} if person and held else {}


def _held(links: dict[str, Any], columns: dict[str, list[str]], doubts: list[str]) -> dict[str, Any]:
    """The columns of a list of who holds what."""
    used = [n["column"] if isinstance(n, dict) else n for n in links.values()]
    attributes = _attributes({n: t for n, t in columns.items() if n not in used}, {*links}, doubts)
    return {"links": links, **({"attributes": attributes} if attributes else {})}


def _said(role: str, columns: dict[str, list[str]]) -> list[str]:
    """The columns whose headings speak for a part of a register, the surest first."""
    for compound in (False, True):
        for hint in REGISTER[role]:
            if found := [c for c in columns if says(c, hint, compound)]:
                return found
    return []


def _label(columns: dict[str, list[str]]) -> list[str]:
    """The column by which rows are shown; a first and a last name are both."""
    first, last = _said("first name", columns), _said("last name", columns)
    if first and last and first[0] != last[0]:
        return [first[0], last[0]]
    whole = [c for c in _said("label", columns) if not any(says(c, w) for k in KINDS_OF_NAME for w in KINDS_OF_NAME[k])]
    return (whole or last)[:1]


def _id(register: str, columns: dict[str, list[str]], several: bool, label: list[str]) -> str | None:
    """The column whose value is different for each row (or, where rows have dates, for each of whom they are)."""
    rows = max(map(len, columns.values()), default=0)
    full = [c for c, t in columns.items() if len(t) == rows]
    said = [c for c in _said("id", columns) if c in full and (several or _one_each(columns, c, full))]
    apart = [c for c in full if _tells_apart(columns[c], columns)]
    named = [c for c in apart if any(says(c, w) for words_of in KINDS_OF_NAME.values() for w in words_of)]
    called = [c for c in apart if says(c, register.removesuffix("s"))]
    return next(iter([*said, *called, *named, *(c for c in label[:1] if c in apart and len(label) == 1), *apart]), None)


def _one_each(columns: dict[str, list[str]], own: str, full: list[str]) -> bool:
    """Whether rows with one value in a column are of one: they differ in nothing but names that logs use."""
    others = [c for c in full if not any(says(c, w) for words_of in KINDS_OF_NAME.values() for w in words_of)]
    return len(set(zip(*(columns[c] for c in others), columns[own], strict=True))) == len(set(columns[own]))


def _dates(columns: dict[str, list[str]], doubts: list[str]) -> dict[str, Any]:
    """The first and the last day of a row, where a list has them, and how they are written."""
    found: dict[str, Any] = {}
    written: dict[str, None] = {}
    for key in ("from", "until"):
        told: dict[str, str] = {}
        for column in _said(key, columns):
            form = form_of(column, columns[column], told)
            if form is not None and not (form and "%H" in form[0]) and key not in found:
                found[key] = column
                written["".join(form)] = None
                doubts += told.values()
    if len(written) > 1:
        doubts.append("its dates are written in two forms: only one can be read")
    if any(written):
        found["form"] = next(filter(None, written))
    return found


def _flags(columns: dict[str, list[str]], own: str) -> dict[str, str]:
    """Which rows are archived, and what each is a part of."""
    found = {}
    gone = [c for c in _said("archived", columns) if all(plain(t) in YES + NO for t in columns[c])]
    state = [c for c in columns if says(c, "status") and {plain(t) for t in columns[c]} <= {*GONE, *HERE}]
    if gone or state:
        found["archived"] = (gone or state)[0]
    if above := [c for c in _said("parent", columns) if c != own and set(columns[c]) <= set(columns[own])]:
        found["parent"] = above[0]
    return found


def _names(
    register: str, columns: dict[str, list[str]], label: str | list[str], several: bool, doubts: list[str]
) -> dict[str, Any]:
    """The kinds of names by which logs call them. A name that two rows have is none."""
    found: dict[str, Any] = {}
    used: list[str] = []
    for kind, hints in KINDS_OF_NAME.items():
        said = [*dict.fromkeys(c for w in hints for c in columns if says(c, w) and c not in used)]
        if not said:
            continue
        if not several and len(set(columns[said[0]])) < len(columns[said[0]]):
            doubts.append(f"{said[0]} is the same in several rows, so it is an attribute and no name")
        else:
            found[kind] = _with_separator(said[0], columns[said[0]])
            used.append(said[0])
            doubts += [f"{c} is an attribute: a {kind} is read from one column, {said[0]}" for c in said[1:2]]
    return {**found, "name" if register in PEOPLE else register.removesuffix("s"): label}


def _with_separator(column: str, texts: list[str]) -> Any:
    """A column, with what stands between several values of a cell where some have several."""
    signs = {m[1] for t in texts if (m := SEPARATORS.search(t))}
    return {"column": column, "separator": signs.pop()} if len(signs) == 1 else column


def _attributes(columns: dict[str, list[str]], taken: set[str], doubts: list[str]) -> dict[str, Any]:
    """All other columns, sets of values with what stands between them."""
    found: dict[str, Any] = {}
    for column, texts in columns.items():
        name = re.sub(r"[^a-z0-9_]", "", "_".join(words(column)))
        if name in OWN or name in taken:
            name = f"listed_{name}"
        if not NAME.fullmatch(name) or name in found:
            doubts.append(f"{column} is not used: give it a name of small letters in attributes")
            continue
        found[name] = _with_separator(column, texts)
    return found
