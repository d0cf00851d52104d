"""Which doors turn people away, and the events behind one figure.

Run it on the sample workspace: `make demo`, then `python examples/refused_entries.py quillmere`.
"""

import sys

import fermata

hall = fermata.open(sys.argv[1] if len(sys.argv) > 1 else "quillmere")

refused = hall.log("doors").during("2026-03").only(action="refused")
answer = refused.by("place", "device").measure("count", "distinct user", "last").run()
print(answer)

worst = max(answer.table.body, key=lambda row: row.cells[0])
place, device = worst.shown
print(f"Most of them at {device}: {worst.cells[0]}. The first three:")
for row in answer.events(at={"place": place, "device": device}, limit=3).rows:
    print("  ", *row)
