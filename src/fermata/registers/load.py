"""Reading a register: its rows as text, then as versions with validity, every contradiction named with both rows."""

from __future__ import annotations

import csv
import dataclasses
import glob
import hashlib
import itertools
import json
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from fermata.errors import ConfigError, SourceError, UnknownName
from fermata.intake import opening
from fermata.intake.field_map import named_once
from fermata.registers.model import RegisterMap
from fermata.registers.register import EVER, NEVER, Assignment, Register, Version
from fermata.strict import several
from fermata.timeline.zones import day_start, zone

__all__ = ["GONE", "HERE", "load"]

YES = ("yes", "true", "1", "x", "y", "ja", "j", "oui", "si", "sí", "sim", "tak")
NO = ("", "no", "false", "0", "n", "nein", "non", "nee", "não", "nie")
GONE = ("inactive", "disabled", "archived", "left", "inaktiv", "ausgeschieden", "inactif")  # as states
HERE = ("active", "enabled", "current", "aktiv", "actif")
MOST_PROBLEMS = 20
Row = tuple[str, dict[str, str]]  # where it stands, and its cells


def load(name: str, table: RegisterMap, base: Path, zone_name: str) -> Register:
    """The register called `name`. Raises ConfigError with every contradiction, SourceError, UnknownName."""
    rows = list(_rows(name, table, base))
    problems: list[str] = []
    told = table.model_dump(mode="json", exclude=set() if table.form else {"form"})
    digest = hashlib.sha256(json.dumps([told, rows]).encode()).hexdigest()[:16]
    if table.links:
        assignments = [a for row in rows if (a := _assignment(row, table, zone_name, problems))]
        register = Register(name, table, (), tuple(assignments), digest)
    else:
        versions = _together(v for row in rows if (v := _version(row, table, zone_name, problems)))
        problems += _overlaps(versions) + _shared_names(versions, table.id or "id") + _parents(versions)
        register = Register(name, table, tuple(versions), (), digest)
    if problems:
        more = len(problems) - MOST_PROBLEMS
        raise ConfigError(f"register {name}", problems[:MOST_PROBLEMS] + ([f"and {more:,} more"] if more > 0 else []))
    return register


def _rows(name: str, table: RegisterMap, base: Path) -> Iterator[Row]:
    """Each row as text with its place: `people.csv row 12` (the header is row 1)."""
    if table.database:
        from fermata.intake import database

        count = itertools.count(1)
        for names, batch in database.rows_of(table.database, base):
            _check_columns(name, table, names)
            for values in batch:
                yield f"row {next(count)}", {n: _plain(v) for n, v in zip(names, values, strict=True)}
        return
    patterns = [str(Path(glob.escape(str(base))) / pattern) for pattern in table.files]
    found = [path for each in patterns for path in map(Path, sorted(glob.glob(each))) if not path.is_dir()]
    if not found:
        raise SourceError(f"register {name}: no file matches {', '.join(table.files)}")
    for path in found:
        names, rows = _sheet(path, table) if opening.is_workbook(path) else _text(path, table)
        _check_columns(f"{name} ({path.name})", table, names)
        for number, row in enumerate(rows, table.skip_lines + 2):
            cells = {n: (v or "").strip() for n, v in zip(names, row, strict=False)}
            if any(cells.values()):
                yield f"{path.name} row {number}", {n: cells.get(n, "") for n in names}


def _sheet(path: Path, table: RegisterMap) -> tuple[list[str], Iterator[Any]]:
    from fermata.intake.readers import xlsx

    return xlsx.table(path, path.name, table.sheet, table.skip_lines, header=True)


def _text(path: Path, table: RegisterMap) -> tuple[list[str], Iterator[Any]]:
    try:
        with path.open(encoding=table.encoding, newline="") as f:
            rows = list(csv.reader(f, delimiter=table.delimiter))[table.skip_lines :]
    except UnicodeDecodeError as e:
        told = f"{path}: is not {table.encoding.removesuffix('-sig')} text near byte {e.start:,}"
        raise SourceError(f'{told}; an older program may write encoding = "cp1252"') from None
    except (OSError, UnicodeError, csv.Error, LookupError) as e:
        why = e.strerror if isinstance(e, OSError) else e
        raise SourceError(f"{path}: cannot be read as {table.encoding} text: {why}") from None
    if not rows:
        raise SourceError(f"{path}: is empty")
    return named_once(rows[0]), iter(rows[1:])


def _plain(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else value.isoformat() if isinstance(value, date) else str(value).strip()


def _check_columns(name: str, table: RegisterMap, names: list[str]) -> None:
    single = [table.id, table.label, table.parent, table.since, table.until, table.archived]
    mapped = [m.column for group in (table.names, table.attributes, table.links) for m in group.values()]
    for column in (c for given in (*single, *mapped) if given for c in several(given)):
        if column not in names:
            raise UnknownName.of("column", column, names, where=f"in the register {name}")


def _validity(row: Row, table: RegisterMap, zone_name: str, problems: list[str]) -> tuple[datetime, datetime] | None:
    """Naive UTC [since, until) of a row; open ends are far away."""
    place, cells = row
    ends: list[datetime] = []
    for column, otherwise, later in ((table.since, EVER, 0), (table.until, NEVER, 1)):
        text = cells[column] if column else ""
        if not text:
            ends.append(otherwise)
            continue
        try:
            day = datetime.strptime(text, table.form).date() if table.form else date.fromisoformat(text[:10])
        except ValueError:
            wanted = table.form or "2026-03-01, or give form = '%d.%m.%Y'"
            problems.append(f"{place}: {column} {text!r} is not a date written as {wanted}")
            return None
        if not EVER.date() < day < NEVER.date():
            ends.append(min(max(EVER, datetime.combine(day, time())), NEVER))
            continue
        ends.append(day_start(day + timedelta(days=later), zone(zone_name)).astimezone(UTC).replace(tzinfo=None))
    if ends[0] >= ends[1]:
        problems.append(f"{place}: ends before it begins ({cells[table.since or '']} to {cells[table.until or '']})")
        return None
    return ends[0], ends[1]


def _version(row: Row, table: RegisterMap, zone_name: str, problems: list[str]) -> Version | None:
    place, cells = row
    own = cells[table.id or ""]
    if not own:
        problems.append(f"{place}: {table.id} is empty")
        return None
    valid = _validity(row, table, zone_name, problems)
    gone = cells[table.archived].lower() if table.archived else ""
    if gone not in YES + NO + GONE + HERE:
        problems.append(f"{place}: {table.archived} {gone!r} is neither yes nor no, inactive nor active")
        return None
    if valid is None:
        return None
    return Version(
        id=own,
        label=_joined(cells, table.label) or own,
        since=valid[0],
        until=valid[1],
        names={k: _several(_joined(cells, m.column), m.separator) for k, m in table.names.items()},
        attributes={
            k: _several(cells[m.column], m.separator) if m.separator else cells[m.column] or None
            for k, m in table.attributes.items()
        },
        parent=cells[table.parent] if table.parent else "",
        archived=gone in YES + GONE,
        place=place,
    )


def _together(versions: Iterable[Version]) -> list[Version]:
    """Rows of one id for the same days that differ in their names alone, such as one for each card of a person, as
    one.
    """
    found: dict[tuple[Any, ...], Version] = {}
    for one in versions:
        told = (one.id, one.label, one.since, one.until, one.parent, one.archived, *one.attributes.values())
        if before := found.get(told):
            names = {k: tuple(dict.fromkeys(held + one.names[k])) for k, held in before.names.items()}
            found[told] = dataclasses.replace(before, names=names)
        else:
            found[told] = one
    return list(found.values())


def _joined(cells: dict[str, str], columns: str | Sequence[str] | None) -> str:
    """The text of a column, or of several joined by a space."""
    return " ".join(cells[c] for c in several(columns or ()) if cells[c])


def _several(text: str, separator: str | None) -> tuple[str, ...]:
    parts = text.split(separator) if separator else [text]
    return tuple(dict.fromkeys(p.strip() for p in parts if p.strip()))


def _assignment(row: Row, table: RegisterMap, zone_name: str, problems: list[str]) -> Assignment | None:
    place, cells = row
    valid = _validity(row, table, zone_name, problems)
    links = {k: cells[m.column] for k, m in table.links.items()}
    if empty := [k for k, v in links.items() if not v]:
        problems.append(f"{place}: {table.links[empty[0]].column} is empty")
        return None
    more = {k: cells[m.column] or None for k, m in table.attributes.items()}
    return Assignment(links, valid[0], valid[1], more, place) if valid else None


def _overlaps(versions: list[Version]) -> list[str]:
    """Two rows of one id that are valid at the same time."""
    found = []
    ordered = sorted(versions, key=lambda v: (v.id, v.since))
    for one, two in itertools.pairwise(ordered):
        if one.id == two.id and two.since < one.until:
            found.append(f"{one.place} and {two.place}: {one.id} has two rows valid on {_day(two.since)}")
    return found


def _shared_names(versions: list[Version], own: str) -> list[str]:
    """One name of a kind that belongs to two at the same time; `own` is the column of the id."""
    held: dict[tuple[str, str], list[Version]] = {}
    for version in versions:
        for kind, texts in version.names.items():
            for text in texts:
                held.setdefault((kind, text), []).append(version)
    found = []
    for (kind, text), owners in held.items():
        ordered = sorted(owners, key=lambda v: v.since)
        for one, two in itertools.pairwise(ordered):
            if one.id != two.id and two.since < one.until:
                found.append(
                    f"{one.place} and {two.place}: {kind} {text} belongs to {one.id} and to {two.id} on "
                    f"{_day(two.since)}; if they are one, give both rows one {own}"
                )
    return found


def _parents(versions: list[Version]) -> list[str]:
    """Parents that are not there, and circles."""
    above = {v.id: v.parent for v in versions if v.parent}
    known = {v.id for v in versions}
    found = [
        f"{v.place}: its parent {v.parent} is not in the register"
        for v in versions
        if v.parent and v.parent not in known
    ]
    for start in above:
        seen, at = {start}, above.get(start, "")
        while at and at not in seen:
            seen.add(at)
            at = above.get(at, "")
        if at == start:
            found.append(f"{start} is a part of itself ({' > '.join(sorted(seen))})")
            break
    return found


def _day(at: datetime) -> str:
    return "every day" if at == EVER else f"{at + timedelta(hours=12):%Y-%m-%d}"
