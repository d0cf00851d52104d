"""Measurements as a log, and charts of them as the program itself draws them."""

from __future__ import annotations

import csv
import shutil
from collections.abc import Iterable, Sequence
from typing import Any

from benchmarks.data import DATA, ROOT, ZONE

CONFIG = f"""
[workspace]
zone = "{ZONE}"
[logs.measurements]
files = "measurements.csv"
[logs.measurements.fields]
start = "When"
question = "Question"
engine = "Engine"
events = "Events"
seconds = {{ column = "Seconds", type = "decimal", scale = 2, unit = "s" }}
memory = {{ column = "MB", type = "number", unit = "MB" }}
"""
SECONDS, MEMORY = ({"measure": f"mean {m}", "label": w} for m, w in (("seconds", "Seconds"), ("memory", "Memory")))

__all__ = ["MEMORY", "SECONDS", "draw"]


def draw(
    name: str,
    rows: Iterable[tuple[str, str, str, float, float]],
    charts: dict[str, dict[str, Any]],
    times: Sequence[str] = (),
) -> None:
    """Imports (question, engine, events, seconds, MB) and saves each chart, a file's name with what its report asks, below docs/charts.

    `times` says when each was measured, where it was not in one run."""
    import fermata

    house = DATA / f"charts-{name}"
    shutil.rmtree(house, ignore_errors=True)
    house.mkdir(parents=True)
    (house / "fermata.toml").write_text(CONFIG)
    with (house / "measurements.csv").open("w", newline="") as f:
        written = csv.writer(f)
        written.writerow(["When", "Question", "Engine", "Events", "Seconds", "MB"])
        for n, (question, engine, events, seconds, memory) in enumerate(rows):
            at = times[n] if times else f"2026-01-01T{n // 60:02}:{n % 60:02}"
            written.writerow([at, question, engine, events, f"{seconds:.2f}", f"{memory:.0f}"])
    opened = fermata.open(house)
    opened.archive.import_log("measurements")
    (ROOT / "docs" / "charts").mkdir(exist_ok=True)
    for file, asked in charts.items():
        report = fermata.Report.of(log="measurements", period="all", across="engine", totals=False, **asked)
        opened.run(report).save(ROOT / "docs" / "charts" / f"{file}.png")
