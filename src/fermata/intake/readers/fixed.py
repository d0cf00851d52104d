"""Text of fixed width: each column has its place in every line, as lists and tables printed by commands have.

    Name         From              Until             Sheets
    mira         2026-03-28 09:12  2026-03-28 09:40  12

`positions` of the log gives the places, from 1 and with both ends: `{ Name = "1-12", From = "14-29", Sheets = "50-" }`.
The first line is a header (`header = false` where it is none); it is passed over.
"""

from __future__ import annotations

import dataclasses

from fermata.archive.duck import lit
from fermata.intake.readers import Job, Records, check
from fermata.intake.readers.lines import headings, records_of

__all__ = ["open"]

BLANKS = lit(" \t\r")


def open(job: Job) -> Records:
    """Opens a text of fixed width; blanks around a column's text are no part of it."""
    log = job.log
    check(job, (*log.positions, *headings(log), "line"))
    plain = job.log.model_copy(update={"skip_lines": log.skip_lines + log.header})
    whole = records_of(dataclasses.replace(job, log=plain))
    columns = {**headings(log), "line": "line"}
    for name, place in log.positions.items():
        first, last = place.split("-")
        upto = f", {int(last) - int(first) + 1}" if last else ""
        columns[name] = f"nullif(trim(substring(line, {first}{upto}), {BLANKS}), '')"
    return dataclasses.replace(whole, columns=columns)
