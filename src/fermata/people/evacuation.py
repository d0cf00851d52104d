"""Clearing a house: prepared as a file, begun at a time, worked off by several people, until nobody is missing.

`evacuations/NAME.toml` is prepared beforehand; `evacuations/NAME-TIME.jsonl` is what happened: one line for the
beginning, one for every mark, one for the end. Nothing is ever rewritten, so a restart, or several helpers at once,
lose nothing.
"""

from __future__ import annotations

import dataclasses
import json
import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, field_validator

from fermata import tomlfile
from fermata.analysis.filters import Selection
from fermata.errors import DataError, RequestError, UnknownName
from fermata.jsontext import json_object
from fermata.locks import held
from fermata.notes import Note
from fermata.people import headcount
from fermata.people.headcount import Mark, Muster
from fermata.reports.compile.binding import bound
from fermata.reports.compile.request import Asking
from fermata.reports.definition import files
from fermata.reports.definition.parts import Chosen, Conditions, conditions_of
from fermata.reports.definition.report import Report
from fermata.reports.result import Records, RunResult
from fermata.strict import listed, split
from fermata.timeline.lengths import exact
from fermata.timeline.words import stamp
from fermata.timeline.zones import Moment, instant, zone
from fermata.workspace.base import Base

__all__ = ["Clearing", "Prepared"]

FOLDER = "evacuations"
UNSAID = Note(
    "no doors are named that lead out of the house: every way out counts as leaving it, also that of an inner room "
    "(outer in the file)",
    "check",
)


class Prepared(Chosen):
    """What is prepared beforehand: the log of readings and which of them count (`only`, `without`), the actions that
    are ways in and out, those of the doors that lead out of the house (`outer`; "every" where each way out leaves it),
    the readings that account for somebody (`assembly`), and how far back a way in without a way out still counts
    (`back`).
    """

    title: str = ""
    log: str
    opening: tuple[str, ...] = ("in",)
    closing: tuple[str, ...] = ("out",)
    outer: Literal["every"] | Conditions = Field(default=())
    assembly: Conditions = Field(default=())
    back: str = "7 days"

    _lists = listed("opening", "closing", read=split)
    _readings = field_validator("outer", "assembly", mode="before")(conditions_of)

    @property
    def leaving(self) -> Selection:
        """Which ways out leave the house; everything where nothing is said."""
        return Selection(only=() if self.outer == "every" else self.outer)

    @field_validator("back")
    @classmethod
    def _length(cls, text: str) -> str:
        exact(text)
        return text


@dataclass(frozen=True)
class Clearing:
    """One evacuation by its name."""

    workspace: Base
    name: str

    def __post_init__(self) -> None:
        if not files.NAME.fullmatch(self.name):
            raise RequestError(f"{self.name!r} cannot name an evacuation: small letters, digits, - and _")

    @property
    def path(self) -> Path:
        """The file prepared beforehand.

        >>> hall.evacuation("house").path.name
        'house.toml'
        """
        return self.workspace.path / FOLDER / f"{self.name}.toml"

    @property
    def prepared(self) -> Prepared:
        """What was prepared. Raises UnknownName, ConfigError.

        >>> hall.evacuation("house").prepared.log
        'doors'
        """
        if not self.path.exists():
            known = [p.stem for p in (self.workspace.path / FOLDER).glob("*.toml")]
            raise UnknownName.of("evacuation", self.name, known, where="prepared")
        data, text = tomlfile.load(self.path)
        return tomlfile.parse(Prepared, data, self.path, text)

    def prepare(self, *, over: bool = False, **data: object) -> tuple[Path, list[str]]:
        """Writes the file, after trying it: the log, its actions and the filters must exist. `outer` has to be said.
        Gives the path, and in words which readers count as leaving and which others record ways out. Raises
        RequestError, UnknownName.

        >>> hall.evacuation("drill").prepare(log="doors", outer="every", over=True)[0].name
        'drill.toml'
        """
        if self.path.exists() and not over:
            raise RequestError(f"{self.path} is prepared already; change it, or replace it (--replace; over=True)")
        asked = tomlfile.parse(Prepared, data, self.path, "")
        if not asked.outer:
            raise RequestError(
                'say which doors lead out of the house (outer = { device = ["Stage door"] }), or outer = "every" '
                "where each way out "
                "leaves it; otherwise somebody who leaves an inner room is taken to be outside"
            )
        now = self.workspace.now()
        place = self.workspace.place()
        report = bound(Report(log=asked.log, only=asked.only, without=asked.without), place)
        self._muster(asked, report, now, now, now, ())
        for readings in (asked.outer, asked.assembly):
            if readings and readings != "every":
                self.workspace.answer(
                    Report.of(log=asked.log, only=readings, listing={}), Asking(limit=1)
                )  # refuses names no reading ever had
        return files.write(self.path, files.text_of(asked)), _readers(self.workspace, asked)

    def begin(self, since: Moment, at: Moment | None = None) -> Muster:
        """Begins a clearing for everybody with a reading since `since`; without an offset that is in the workspace's
        zone. Raises RequestError while one is under way.

        >>> _ = hall.evacuation("first").prepare(log="doors", outer="every")
        >>> found = hall.evacuation("first").begin(datetime(2026, 3, 31, 6, tzinfo=UTC))
        >>> len(found.people) >= found.missing > 0
        True
        """
        here = zone(self.workspace.config.workspace.zone)
        since, began = instant(since, here, "since"), instant(at or self.workspace.now(), here, "at")
        if since >= began:
            raise RequestError(f"{stamp(since, here)[:16]} is not before the beginning, {stamp(began, here)[:16]}")
        if self._open():
            raise RequestError(f"{self.name} is under way already; end it first: fermata evacuation end {self.name}")
        asked = self.prepared
        found = self._muster(asked, self._report(asked), since, began, began, ())
        journal = self.path.with_name(f"{self.name}-{began.astimezone(UTC):%Y%m%dT%H%M%S}.jsonl")
        if journal.exists():
            raise RequestError(f"{journal} exists already")
        _write(
            journal, {"what": "begun", "since": since.isoformat(), "at": began.isoformat(), "asked": len(found.people),
                "names": [p.name for p in found.people]}
        )  # fmt: skip
        return found

    def state(self, now: datetime | None = None) -> tuple[Muster, Records]:
        """How it stands now, from the readings and marks there are, and as a list. Raises RequestError where none was
        begun.
        """
        journal = self._latest()
        lines = _lines(journal)
        since, began = (datetime.fromisoformat(lines[0][k]) for k in ("since", "at"))
        ended = next((datetime.fromisoformat(entry["at"]) for entry in lines if entry["what"] == "ended"), None)
        at = ended or now or self.workspace.now()
        marks = [
            Mark(e["name"], e["by"], datetime.fromisoformat(e["at"]), e.get("note", ""), e["what"] == "undone")
            for e in lines
            if e["what"] in ("marked", "undone")
        ]
        asked = self.prepared
        found = self._muster(asked, self._report(asked), since, began, max(at, began), marks)
        title = asked.title or f"Evacuation {self.name}"
        numbers = _numbered(lines[0].get("names", []), found)
        sheet = headcount.sheet(found, title, self.workspace.place(), max(at, began), since, began, numbers)
        return found, sheet if asked.outer else dataclasses.replace(sheet, notes=(UNSAID, *sheet.notes))

    def mark(
        self, names: Iterable[str], by: str, *, note: str = "", undo: bool = False, add: bool = False
    ) -> list[str]:
        """Accounts for people by hand, by whom, now; with `undo`, takes that back. A part of a name will do if one
        person on the list has it, and so do the numbers of the list ("3", "3-7"); with `add`, a name that is not on the
        list (a guest) is put on it. Raises RequestError, with candidates.

        >>> _ = hall.evacuation("second").prepare(log="doors", outer="every")
        >>> _ = hall.evacuation("second").begin(datetime(2026, 3, 31, 6, tzinfo=UTC))
        >>> hall.evacuation("second").mark(["1-2"], "Wanda Tistlewick")
        ['Bram Inglemoor', 'Elif Pellegrane']
        """
        journal = self._open()
        if journal is None:
            raise RequestError(
                f"{self.name} is not under way; begin it with: fermata evacuation begin {self.name} --since TIME"
            )
        if not by.strip():
            raise RequestError("say who accounts for them: --by NAME")
        people = self.state()[0]
        listed = [p.name for p in people.people]
        numbers = {n: name for name, n in _numbered(_lines(journal)[0].get("names", []), people).items()}
        found = [self._meant(one, listed, add) for name in names for one in _counted(name, numbers)]
        for name in found:
            entry = {
                "what": "undone" if undo else "marked",
                "name": name,
                "by": by.strip(),
                "at": self.workspace.now().isoformat(),
            }
            _write(journal, entry | ({"note": note} if note else {}))
        return found

    def end(self, by: str) -> tuple[Muster, Records]:
        """Ends it, whoever is still missing; its list stays to be read. Raises RequestError where none is under way."""
        journal = self._open()
        if journal is None:
            raise RequestError(f"{self.name} is not under way")
        found = self.state()
        _write(
            journal, {"what": "ended", "by": by, "at": self.workspace.now().isoformat(), "missing": found[0].missing}
        )
        return found

    def doors(self, log: str) -> list[tuple[str, int, int]]:
        """The doors of a log with their ways in and out, the most used first. Raises UnknownName.

        >>> hall.evacuation("house").doors("doors")[0][0]
        'Stage door'
        """
        return _doors(self.workspace, log)

    def _meant(self, name: str, listed: list[str], add: bool) -> str:
        """The person on the list that a name, any name the register knows, or a part of one means."""
        if name in listed:
            return name
        schema = self.workspace.known(self.prepared.log)
        register = self.workspace.directory.of(schema.field("user"))
        field = schema.field("user")
        labels = [m for m in register.meant(name, field.names or "user") if m in listed] if register else []
        near = labels or [n for n in listed if name.casefold() in n.casefold()]
        if len(near) == 1:
            return near[0]
        if near:
            raise RequestError(f"{name!r} may mean {', '.join(near)}; say which")
        if add:
            return name
        raise RequestError(f"nobody on the list is called {name!r}; for somebody who is not on it, --add")

    def _report(self, asked: Prepared) -> Report:
        return Report(log=asked.log, only=asked.only, without=asked.without)

    def _muster(
        self, asked: Prepared, report: Report, since: datetime, began: datetime, now: datetime, marks: Iterable[Mark]
    ) -> Muster:
        return headcount.muster(
            report, self.workspace.place(), now, since=since, began=began, opening=asked.opening, closing=asked.closing,
            back=asked.back, outer=asked.leaving, assembly=Selection(only=asked.assembly), marks=marks,
        )  # fmt: skip

    def _latest(self) -> Path:
        found = sorted(self.path.parent.glob(f"{self.name}-????????T??????.jsonl"))
        if not found:
            _ = self.prepared  # another name is meant, if there is none of this
            raise RequestError(
                f"{self.name} was never begun; begin it with: fermata evacuation begin {self.name} --since TIME"
            )
        return found[-1]

    def _open(self) -> Path | None:
        """The journal of the clearing under way, if one is."""
        found = sorted(self.path.parent.glob(f"{self.name}-????????T??????.jsonl"))
        return found[-1] if found and all(e["what"] != "ended" for e in _lines(found[-1])) else None


def _readers(base: Base, asked: Prepared) -> list[str]:
    """Which readers count as leaving the house, and which others record ways out all the same."""
    schema = base.known(asked.log)
    at = next((f for f in ("device", "place") if f in schema.by_name), "")
    if not at:
        return []
    exits = Report.of(log=asked.log, period="all", by=[at], columns=["count"], totals=False)
    exits = exits.changed(only=(*asked.only, *conditions_of({"action": list(asked.closing)})), without=asked.without)
    written = _shown(base, exits)
    leaving = _shown(base, exits.changed(only=exits.only + asked.leaving.only)) if asked.leaving.only else written
    told = [f"count as leaving the house: {', '.join(leaving) or 'none'}"]
    if inner := [name for name in written if name not in leaving]:
        told.append(
            f"warning: {', '.join(inner)}: ways out there leave nobody outside; name them in outer if they lead out"
        )
    return told


def _shown(base: Base, report: Report) -> list[str]:
    """The groups of a report, as it shows them."""
    found = base.answer(report)
    return [str(r.shown[0]) for r in found.table.body if r.keys[0] is not None] if isinstance(found, RunResult) else []


def _lines(journal: Path) -> list[dict[str, Any]]:
    """What was written so far. A torn line of a writer that was killed is no mark, since nobody was told it was
    one.
    """
    lines: list[dict[str, Any]] = []
    for text in journal.read_text(encoding="utf-8").splitlines():
        if line := json_object(text):
            lines.append(line)
    if not lines or lines[0].get("what") != "begun":
        raise DataError(f"{journal}: its first line, the beginning, is damaged; put it right by hand")
    return lines


def _write(journal: Path, entry: dict[str, Any]) -> None:
    """One line, on the disk before anybody is told; several writers wait for each other."""
    try:
        with held(journal.with_suffix(".lock")), journal.open("a", encoding="utf-8") as f:
            torn = f.tell() and not journal.read_text(encoding="utf-8").endswith("\n")
            f.write(("\n" if torn else "") + json.dumps(entry, ensure_ascii=False) + "\n")
            f.flush()
            os.fsync(f.fileno())
    except OSError as e:
        raise DataError(f"{journal}: cannot be written: {e.strerror}") from None


def _numbered(names: list[str], found: Muster) -> dict[str, int]:
    """The number of each person: as the list had it at the beginning; who came later, behind."""
    later = sorted({p.name for p in found.people} - set(names))
    return {name: n for n, name in enumerate([*names, *later], 1)}


def _counted(text: str, numbers: dict[int, str]) -> list[str]:
    """The names that a number of the list or a range of them means; a name as it is. Raises RequestError."""
    span = re.fullmatch(r"(\d+)(?:-(\d+))?", text)
    if span is None:
        return [text]
    wanted = range(int(span[1]), int(span[2] or span[1]) + 1)
    if missing := [n for n in wanted if n not in numbers]:
        raise RequestError(f"there is no number {missing[0]} on the list; it has {len(numbers)}")
    return [numbers[n] for n in wanted]


def _doors(base: Base, log: str) -> list[tuple[str, int, int]]:
    """See `Clearing.doors`: what leads out of the house is one of them."""
    schema = base.known(log)
    at = next((f for f in ("device", "place") if f in schema.by_name), "user")
    found: dict[str, list[int]] = {}
    for i, action in enumerate(("in", "out")):
        asked = Report.of(log=log, period="all", by=[at], columns=["count"], totals=False, only={"action": action})
        answer = base.answer(asked)
        for row in answer.table.body if isinstance(answer, RunResult) else ():
            if row.keys[0] is not None:
                found.setdefault(str(row.shown[0]), [0, 0])[i] = row.cells[0]
    return sorted(((name, n, m) for name, (n, m) in found.items()), key=lambda d: -(d[1] + d[2]))
