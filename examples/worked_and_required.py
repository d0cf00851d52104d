"""Worked against required, a formula for the balance, and whether this month differs from the one before.

Run it on the sample workspace: `make demo`, then `python examples/worked_and_required.py quillmere`.
"""

import sys
from datetime import UTC, datetime

import fermata

hall = fermata.open(sys.argv[1] if len(sys.argv) > 1 else "quillmere", now=datetime(2026, 4, 1, 7, 12, tzinfo=UTC))

result = hall.report("worked-and-required", top=None, rows=["Balance < 0"], sort=["Balance"])
frame = result.to_pandas()
print(f"{len(frame)} people are behind; the three furthest:")
print(frame[["User", "Worked", "Required", "Balance"]].head(3).to_string(index=False))

calls = hall.log("calls").during("2026-03").by("device").measure("count").compare("before").run()
for note in calls.notes:
    print("Note:", note)
for row in calls.table.body:
    print(row.shown[0], row.cells[2], row.cells[-1])
