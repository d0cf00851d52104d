"""How full rooms were: time once, most at once and when, and who was there with whom.

Run it on the sample workspace: `make demo`, then `python examples/rooms_at_once.py quillmere`.
"""

import sys
from datetime import UTC, datetime

import fermata

hall = fermata.open(sys.argv[1] if len(sys.argv) > 1 else "quillmere", now=datetime(2026, 4, 1, 7, 12, tzinfo=UTC))

visits = hall.log("visits").during("2026-03").by("place")
print(visits.measure("count", "time", "union", "peak", "peak time", "Filled = time / union"))
print(visits.hours("outside office").measure("time", "union").to_pandas())

print(hall.inside("doors", at=datetime(2026, 3, 5, 14, tzinfo=UTC)).total, "people inside on 5 March at 14:00")
near = hall.contacts("visits", "Wanda Thistlewick", period="2026-03", at="device", within="0")
for user, device, times, *_ in near.rows[:3]:
    print(f"{user}: {times} times in {device}")
