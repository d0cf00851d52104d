"""A ready report, changed for one run and kept; one row a person over all logs; a page with a verdict; a trail.

Run it on the sample workspace: `make demo`, then `python examples/reports_people_ask_for.py quillmere`.
"""

import sys
from datetime import UTC, datetime

import fermata

hall = fermata.open(sys.argv[1] if len(sys.argv) > 1 else "quillmere", now=datetime(2026, 4, 1, 7, 12, tzinfo=UTC))

for entry in hall.reports.catalogue("refused entries"):
    print(f"{entry.name}: {entry.title}")
print(hall.report("refused-by-person", period="2026-02", top=5))

persons = hall.report("person-by-person")
print(persons.cell(of="Calls out"), "calls out,", persons.cell(of="Pages"), "pages by", len(persons.rows), "people")

check = hall.report("payroll-check")
print(check.verdict)
for part in check.parts:
    print(f"{part.context.title}: {len(part.rows)} rows")

summary, steps = hall.trace("Ada Umberlin", period="2026-03-05").parts
print(f"{len(steps.rows)} events in {len({row[3] for row in steps.rows})} logs")
