"""The ratios of a run beside those of the runs before: what Fermata takes where its peer takes one."""

from __future__ import annotations

import json
import subprocess
from datetime import UTC, datetime
from typing import Any

from benchmarks.charts import draw
from benchmarks.data import ROOT

__all__ = ["aims", "drawn", "note", "table"]

KEPT = ROOT / "benchmarks" / "ratios.json"  # [{"version": ..., "ratios": {what: ratio}}, ...], oldest first
FOUND: dict[str, float] = {}
AIMS = {  # at most so much of the peer's time, unless the name says otherwise
    "command / engine start": 1.5,
    "import in order / COPY": 2.0,
    "import in no order / COPY": 2.86,
    "CSV out / COPY": 1.43,
    "most at once / SQL": 0.5,
    "user by month / calendar": 1.3,
    "a page's MB / one scan's": 1.5,
    "a page / one scan": 1.5,
}
DRAWN = 5  # versions in the chart
A_YEAR = 1.2  # of each question about the year, beside polars
RATIO = {"measure": "mean seconds", "label": "Fermata's time, the peer's = 1"}


def note(what: str, ratio: float) -> None:
    """Keeps a ratio of this run."""
    FOUND[what] = round(ratio, 2)


def aims(found: dict[str, float]) -> list[str]:
    """What is aimed at, and whether a run reached it, as lines of Markdown."""
    asked = AIMS | {name: A_YEAR for name in found if name.startswith("a year")}
    missed = [name for name, most in asked.items() if found[name] > most]
    return [
        "",
        "## What is aimed at",
        "",
        f"Of {len(asked)} aims this run reached {len(asked) - len(missed)}. Not reached: "
        + "; ".join(f"{name} ({found[name]:.2f}, aimed at {asked[name]})" for name in missed)
        + ".",
        "",
        "| Fermata / peer | at most | this run |",
        "|---|---:|---:|",
        *(
            f"| {name} | {most} | {found[name]:.2f}{' (no)' if name in missed else ''} |"
            for name, most in asked.items()
        ),
    ]


def table() -> list[str]:
    """The ratios over the last versions as lines of Markdown, with their chart; those of this run are kept."""
    done = subprocess.run(
        ["git", "rev-parse", "--short", "HEAD"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.strip()
    history = [one for one in json.loads(KEPT.read_text()) if done not in one["version"]]
    history.append({"version": f"{datetime.now(UTC):%Y-%m-%d %H:%M} {done}", "ratios": FOUND})
    KEPT.write_text(json.dumps(history, indent=1) + "\n")
    names = list(FOUND)
    lines = [
        *aims(FOUND),
        "",
        "## The ratios over the last versions",
        "",
        "Fermata's time where the peer's is one (of a command: CPU, beside the start of the engine alone), each from one run. "
        "The user-by-month question of a hand-made calendar had no totals before 30 November.",
        "",
        f"| | {' | '.join(one['version'] for one in history)} |",
        f"|---|{'---:|' * len(history)}",
        *(f"| {name} | {' | '.join(_shown(one['ratios'].get(name)) for one in history)} |" for name in names),
        "",
        "![ratios](charts/ratios.png)",
        "",
        f"The chart has the last {DRAWN} versions, without the year's questions and the page's time, beside which the "
        "others would not be seen.",
    ]
    drawn([n for n in names if n != "a page / one scan" and not n.startswith("a year")], history[-DRAWN:])
    return lines


def drawn(names: list[str], history: list[dict[str, Any]]) -> None:
    """The chart of these ratios, a colour for each version."""
    rows = [
        (n, one["version"][5:16], "0", one["ratios"][n], 0.0, one["version"][:16])
        for n in names
        for one in history
        if n in one["ratios"]
    ]
    asked = {"title": "Fermata's time where the peer's is one", "by": ("question",), "columns": (RATIO,)}
    draw("ratios", (row[:5] for row in rows), {"ratios": asked}, [row[5] for row in rows])


def _shown(ratio: float | None) -> str:
    return "" if ratio is None else f"{ratio:.2f}"
