"""The ratios of a run beside those of the runs before: what Fermata takes where its peer takes one."""

from __future__ import annotations

import json
import subprocess
from datetime import UTC, datetime

from benchmarks.charts import draw
from benchmarks.data import ROOT

__all__ = ["note", "table"]

KEPT = ROOT / "benchmarks" / "ratios.json"  # [{"version": ..., "ratios": {what: ratio}}, ...], oldest first
FOUND: dict[str, float] = {}
RATIO = {"measure": "mean seconds", "label": "Fermata's time, the peer's = 1"}


def note(what: str, ratio: float) -> None:
    """Keeps a ratio of this run."""
    FOUND[what] = round(ratio, 2)


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
    ]
    rows = [
        (n, one["version"][5:16], "0", one["ratios"][n], 0.0, one["version"][:16])
        for n in names
        for one in history
        if n in one["ratios"] and not n.startswith("a year")
    ]
    asked = {"title": "Fermata's time where the peer's is one", "by": ("question",), "columns": (RATIO,)}
    draw("ratios", (row[:5] for row in rows), {"ratios": asked}, [row[5] for row in rows])
    return lines


def _shown(ratio: float | None) -> str:
    return "" if ratio is None else f"{ratio:.2f}"
