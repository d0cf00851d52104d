"""Deliveries written: put on the timetable, changed, paused, skipped once, taken away."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import ValidationError

from fermata import tomlfile
from fermata.config.mail import ADDRESS
from fermata.deliveries import rhythm, timetable
from fermata.deliveries.model import WAYS, Delivery
from fermata.errors import DataError, RequestError, UnknownName
from fermata.registers.register import Register
from fermata.reports.definition import files
from fermata.workspace import last_run
from fermata.workspace.base import Base

__all__ = ["add", "changed", "picked", "removed", "skipped"]

RECIPIENT = "recipient"


def add(base: Base, name: str, *, over: bool = False, **data: Any) -> tuple[Path, list[str]]:
    """Puts a report on the timetable as `deliveries/NAME.toml`; `report="last"` keeps the last run as a report of that
    name first. A mail recipient may be part of the name of somebody in a register who has an address there.

    `data` are the keys of the file; `mail`, `folder` and `webhook`, and what goes with a mail, may stand beside them
    instead of in `to`. Returns the file, and what will work and may not be meant. Raises RequestError with every
    problem, and writes nothing then.
    """
    if not files.NAME.fullmatch(name):
        raise RequestError(f"{name!r} cannot name a delivery: small letters, digits, - and _")
    path = _path(base, name)
    if path.exists() and not over:
        raise RequestError(
            f"there is a delivery {name} already ({path}); choose another name, or replace it (--replace; over=True)"
        )
    last = base.definition(last_run.LAST) if data.get("report") == last_run.LAST else None
    if last is not None:
        data["report"] = name
    data["to"] = [_picked(base, target) for target in (*data.get("to", ()), *_targets(data))]
    delivery = _read(data)
    saved = files.save(base.reports_path, name, last, over=over) if last is not None else None
    if wrong := timetable.problems(base, delivery):
        if saved and not over:
            saved.unlink()
        raise RequestError("\n".join(wrong))
    return files.write(path, _text(data)), rhythm.warnings(base, delivery)


def _targets(data: dict[str, Any]) -> list[dict[str, Any]]:
    """Takes the targets out of the keys that stand beside `to`. Raises RequestError."""
    ways = {key: data.pop(key) for key in ("mail", "folder", "webhook") if data.get(key)}
    of_mail = {key: data.pop(key) for key in WAYS["mail"] if key in data}
    if of_mail and "mail" not in ways:
        raise RequestError(f"{', '.join(of_mail)}: goes with mail, which says to whom")
    for key, value in of_mail.items():
        if isinstance(value, str) and key in ("cc", "bcc"):
            of_mail[key] = [value]
    if isinstance(ways.get("mail"), str):
        ways["mail"] = [ways["mail"]]
    return [{key: value, **(of_mail if key == "mail" else {})} for key, value in ways.items()]


def changed(base: Base, name: str, **keys: Any) -> Path:
    """Changes keys of a delivery, comments and all else left as they are. Raises UnknownName, RequestError."""
    timetable.load(base, name)
    path = _path(base, name)
    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    first = next((k for k, v in document.items() if isinstance(v, dict | list) and k == "to"), None)
    for key, value in keys.items():
        if key in document:
            document[key] = value
        elif first is None:
            document.add(key, value)
        else:  # a plain key stands above the tables
            text = tomlkit.dumps({key: value})
            document = tomlkit.parse(text + tomlkit.dumps(document))
    _read(document.unwrap())
    return files.write(path, tomlkit.dumps(document))


def skipped(base: Base, name: str) -> datetime:
    """Leaves the next run of a delivery out; when it would have been (aware UTC). Raises UnknownName, RequestError."""
    delivery = timetable.load(base, name)
    at = timetable.next_run(base, delivery, base.now())
    if at is None:
        raise RequestError(f"{name} has no next run to leave out")
    known = [*delivery.skip, at.astimezone(UTC)]
    changed(base, name, skip=[f"{t:%Y-%m-%dT%H:%MZ}" for t in known])
    return at


def removed(base: Base, name: str) -> Path:
    """Takes a delivery off the timetable: its file is set aside as NAME.toml.removed. Raises UnknownName, DataError."""
    timetable.load(base, name)
    path = _path(base, name)
    aside = path.with_name(f"{path.name}.removed")
    try:
        path.replace(aside)
    except OSError as e:
        raise DataError(f"{path}: cannot be moved: {e.strerror}") from None
    return aside


def picked(base: Base, text: str) -> str:
    """The mail address that is meant: the text if it is one, else that of the one person whose name holds the text, in
    a register with addresses. Raises RequestError, UnknownName.
    """
    if "@" in text or text == RECIPIENT:
        return text
    found: dict[str, str] = {}
    for name, table in base.whole_directory.tables.items():
        if not table.links:
            found |= _addresses(base.whole_directory.register(name), text)
    if len(found) == 1:
        return next(iter(found.values()))
    if not found:
        raise UnknownName(f"no register has an address of somebody whose name holds {text!r}; write name@example.org")
    shown = ", ".join(sorted(found)[:5])
    raise RequestError(f"{text!r} may mean {len(found)} people ({shown}{' ...' if len(found) > 5 else ''}); say more")


def _addresses(register: Register, text: str) -> dict[str, str]:
    """Label and address of those of a register whose label holds the text, as their latest row has it."""
    found: dict[str, str] = {}
    for version in sorted(register.versions, key=lambda v: v.since):
        label = register.labels[version.id]
        if text.casefold() not in label.casefold() or version.archived:
            continue
        values = [v for names in version.names.values() for v in names]
        values += [str(register.value(version, a)) for a in register.table.attributes]
        address = next((v for v in values if ADDRESS.fullmatch(v)), None)
        if address:
            found[label] = address
    return found


def _picked(base: Base, target: Any) -> Any:
    """A target with the addresses that are meant."""
    if not isinstance(target, dict):
        return target
    kept = dict(target)
    for key in ("mail", "cc", "bcc"):
        if isinstance(kept.get(key), list | tuple):
            kept[key] = [picked(base, str(one)) for one in kept[key]]
    return kept


def _path(base: Base, name: str) -> Path:
    return base.path / timetable.FOLDER / f"{name}.toml"


def _read(data: dict[str, Any]) -> Delivery:
    """The delivery the keys describe. Raises RequestError with every problem."""
    try:
        return Delivery.model_validate(data)
    except ValidationError as e:
        raise RequestError("; ".join(tomlfile.problems(e, Delivery, ""))) from None


def _text(data: dict[str, Any]) -> str:
    """The file: plain keys first, then the tables."""
    plain = {
        k: list(v) if isinstance(v, tuple) else v for k, v in data.items() if not isinstance(v, dict) and k != "to"
    }
    tables = {k: v for k, v in data.items() if isinstance(v, dict)}
    return tomlkit.dumps({**plain, **tables, "to": data["to"]})
