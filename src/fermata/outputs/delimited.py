"""CSV and TSV: the body of a table for another program, nothing cut and nothing added."""

from __future__ import annotations

import csv
import io

from fermata.outputs.formats import data
from fermata.outputs.grid import of
from fermata.reports.result import Records, RunResult

__all__ = ["render"]


def render(item: RunResult | Records, *, delimiter: str = ",") -> str:
    """One header line, then the rows of the finest level (RFC 4180, UTF-8, line ends LF); subtotals are left out.

    Durations are h:mm:ss, times ISO 8601 with their offset, shares fractions of one. Texts stand as they were logged.
    """
    grid = of(item)
    target = io.StringIO()
    writer = csv.writer(target, delimiter=delimiter, lineterminator="\n")
    writer.writerow([f"{a} {h}" if a else h for a, h in zip(grid.above, grid.heads, strict=True)])
    for (level, _), row in zip(grid.rows, grid.texts(data), strict=True):
        if level >= grid.depth:
            writer.writerow(row)
    return target.getvalue()
