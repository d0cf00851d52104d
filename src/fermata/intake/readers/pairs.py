"""Lines of pairs: `time=2026-03-28T09:12:00 user=mira action="logged in"`, apart by spaces, commas or semicolons.

A column is the name of a pair; `line` is the whole line. Pairs within a column of another format are reached by `pair`
of a field.
"""

from __future__ import annotations

import dataclasses
import re

from fermata.errors import UnknownName
from fermata.intake.expressions import FILES
from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import headings, records_of
from fermata.intake.texts import paired

__all__ = ["open"]

NAMED = re.compile(r"""(?:^|[\s;,&\[({|])([A-Za-z_][\w.\-]*)\s?=""")
SAMPLE = 500  # lines looked at for names; rarer ones are looked for when asked for


def open(job: Job) -> Records:
    """Opens a text of pairs. A name that no line has is an error that names those there are."""
    log = job.log
    whole = records_of(job)
    sample = job.con.execute(f"SELECT line FROM {whole.source} LIMIT {SAMPLE}").fetchall()
    names = dict.fromkeys(n for (line,) in sample for n in NAMED.findall(line or ""))
    columns = {**headings(log), "line": "line"}
    for name in (*names, *job.wanted):
        columns.setdefault(name, paired("line", name, FILES))
    for name in dict.fromkeys(job.wanted).keys() - {*names, *headings(log), "line"}:
        if not _anywhere(job, whole, columns[name]):
            raise UnknownName.of("pair", name, names, where=f"in {job.shown}")
    refused = r"CASE WHEN NOT regexp_matches(line, '[A-Za-z_][\w.\-]*\s?=') THEN 'holds no pair such as name=value' END"
    return dataclasses.replace(whole, columns=columns, refused=refused)


def _anywhere(job: Job, whole: Records, value: str) -> bool:
    found = job.con.execute(f"SELECT 1 FROM {whole.source} WHERE {value} IS NOT NULL LIMIT 1").fetchone()
    return found is not None
