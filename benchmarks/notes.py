"""What notes, coverage and access cost of a question: `python -m benchmarks.notes`, after an import of the benchmarks'
export. CPU of the process, the median of five warm runs.
"""

from __future__ import annotations

import statistics
import sys
import time
from typing import Any

from benchmarks.data import DATA

PARTS = {
    "access and check of filters": ("check_values",),
    "notes and coverage": ("gathered", "broad", "of_table", "known_beforehand", "why_nothing"),
}
ASKED: dict[str, dict[str, Any]] = {
    "hours by person and month": {"by": ["user", "month"], "columns": ["count", "time"]},
    "events by door and day": {"by": ["device", "day"], "columns": ["count"]},
    "refused by door": {"by": ["device"], "columns": ["count"], "only": {"action": "refused"}},
    "the top 20 of a month": {"by": ["user"], "columns": ["count"], "top": 20, "period": "2025-03"},
}


def shares() -> dict[str, dict[str, float]]:
    """CPU seconds of each question, and of its parts."""
    import fermata
    from fermata.reports.execute import figures

    spent: dict[str, float] = {}

    def watched(part: str, inner: Any) -> Any:
        def run(*args: Any, **more: Any) -> Any:
            began = time.process_time()
            try:
                return inner(*args, **more)
            finally:
                spent[part] = spent.get(part, 0) + time.process_time() - began

        return run

    for part, names in PARTS.items():
        for name in names:
            setattr(figures, name, watched(part, getattr(figures, name)))
    house = fermata.open(DATA)
    found = {}
    for title, asked in ASKED.items():
        report = fermata.Report.of(**{"log": "visits", "period": "2025", **asked})
        house.run(report)
        runs: list[dict[str, float]] = []
        for _ in range(5):
            spent.clear()
            began = time.process_time()
            house.run(report)
            runs.append({"whole": time.process_time() - began, **spent})
        found[title] = {k: statistics.median(r.get(k, 0.0) for r in runs) for k in ("whole", *PARTS)}
    return found


def table() -> list[str]:
    """The shares as a part of docs/benchmarks.md."""
    lines = [
        "",
        "## What notes, coverage and access cost of a question",
        "",
        "CPU of the process over six million events, medians of five warm runs.",
        "",
        f"| | whole s | {' | '.join(f'{part} %' for part in PARTS)} |",
        "|---|---:|---:|---:|",
    ]
    for title, spent in shares().items():
        parts = " | ".join(f"{100 * spent[part] / spent['whole']:.0f}" for part in PARTS)
        lines.append(f"| {title} | {spent['whole']:.2f} | {parts} |")
    return lines


if __name__ == "__main__":
    sys.stdout.write("\n".join(table()) + "\n")
