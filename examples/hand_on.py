"""One report in every form a reader might want, written to ./handed-on.

Run it on the sample workspace: `make demo`, then `python examples/hand_on.py quillmere`.
"""

import sys
from datetime import UTC, datetime
from pathlib import Path

import fermata

hall = fermata.open(sys.argv[1], now=datetime(2026, 4, 1, 7, 12, tzinfo=UTC))
refused = hall.report("refused-entries")
handed = Path("handed-on")
handed.mkdir(exist_ok=True)
for form in ("html", "pdf", "xlsx", "csv", "json", "png"):
    path = refused.save(handed / f"refused.{form}", author="Front of house")
    print(f"{path}: {path.stat().st_size > 0}")

calls = hall.log("calls").during("2026-03").by("weekday").across("hour of day").measure("count").run()
figure = calls.chart()  # a heat map, by the shape of the result; a Matplotlib figure to be changed further
figure.savefig(handed / "calls.svg")
