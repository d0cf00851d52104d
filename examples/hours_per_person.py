"""Hours per person and month from a time sheet export, without a workspace; a pandas table at the end.

Run it on the sample workspace: `make demo`, then `python examples/hours_per_person.py quillmere`.
"""

import sys
from pathlib import Path

import fermata

export = Path(sys.argv[1] if len(sys.argv) > 1 else "quillmere") / "incoming" / "time-entries.csv"

entries = fermata.read(
    export,
    time={"columns": ["Date", "From"], "form": "%Y-%m-%d %H:%M"},
    finish={"column": "To", "form": "%H:%M", "next_day": True},
    user="Person",
    production="Production",
    zone="Europe/Lisbon",
)

print(entries.during("2026-03").by("production").measure("count", "time", "distinct user"))

frame = entries.during("2026-Q1").by("user", "month").measure("time").to_pandas()
hours = frame.pivot(index="User", columns="Month", values="Time")
print((hours.sum(axis=1).dt.total_seconds() / 3600).sort_values(ascending=False).head(5).round(2))
