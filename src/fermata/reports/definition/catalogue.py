"""The catalogue: ready reports in categories, each a TOML file that names kinds of log instead of logs."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from fermata import tomlfile
from fermata.reports.definition.report import Report

__all__ = ["CATEGORIES", "Entry", "entries", "entry"]

SHELF = Path(__file__).parent.parent.parent / "catalogue"
CATEGORIES = {  # folder -> what is asked, in the order people look
    "overviews": "Overviews and checks before anything else",
    "doors": "Doors and places: who came in, was refused, is inside",
    "people": "One person, device or place across all logs",
    "own": "Self-service: what somebody may see of themselves",
    "calls": "Calls: in and out, answered and missed, how many lines",
    "printing": "Printing: pages, paper, cost, what was prevented",
    "logins": "Logins and computers: failed, out of hours, at once",
    "software": "Software and licences: used, held, refused, not used",
    "time": "Working time: timesheets, required, overtime, pay",
    "projects": "Projects and clients: time, budget, statements",
    "network": "Network and web: sessions, traffic, requests",
    "changes": "Changes: who changed what, what was edited afterwards",
    "devices": "Devices, cases and registers: states, availability, inventory",
    "credit": "Credit accounts: balances and movements",
}


@dataclass(frozen=True)
class Entry:
    """A report of the catalogue, or of the workspace (`category` as its file says): its name, title, purpose and
    file.
    """

    name: str
    category: str
    title: str
    about: str
    path: Path
    data: dict[str, Any]

    def load(self) -> Report:
        """The definition. Raises ConfigError with every problem."""
        text = self.path.read_text(encoding="utf-8")
        return tomlfile.parse(Report, self.data, self.path, text)

    @property
    def needs(self) -> tuple[str, ...]:
        """The kinds of log it needs, in words: `door access (pairing: in)`."""
        tables = [self.data, *self.data.get("columns", ()), *self.data.get("parts", ())]
        tables += [c for p in self.data.get("parts", ()) for c in p.get("columns", ())]
        found = [t for t in tables if isinstance(t, dict) and t.get("kind")]
        return tuple(dict.fromkeys(f"{t['kind']} ({t['made']})" if t.get("made") else t["kind"] for t in found))


def read(path: Path, category: str = "") -> Entry:
    """A report file as an entry. Raises ConfigError if it is no TOML."""
    data, _ = tomlfile.load(path)
    told = {k: str(data.get(k, "")) for k in ("title", "about", "category")}
    return Entry(path.stem, category or told["category"], told["title"] or path.stem, told["about"], path, data)


def entry(name: str) -> Entry | None:
    """The ready report of that name, without reading the others."""
    found = ((SHELF / folder / f"{name}.toml", folder) for folder in CATEGORIES)
    return next((read(path, folder) for path, folder in found if path.exists()), None)


@functools.lru_cache(maxsize=500)
def ready(name: str) -> Report | None:
    """The definition of the ready report of that name: it comes with the program and does not change. Raises
    ConfigError.
    """
    found = entry(name)
    return found.load() if found else None


@functools.cache
def entries() -> dict[str, Entry]:
    """Every ready report by name, category by category, in each by name."""
    found = [read(p, folder) for folder in CATEGORIES for p in sorted((SHELF / folder).glob("*.toml"))]
    return {e.name: e for e in found}
