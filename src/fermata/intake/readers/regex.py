"""Line text by a regular expression: its named groups are the columns; `line` is the whole line."""

from __future__ import annotations

from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import group_names, matched

__all__ = ["open"]


def open(job: Job) -> Records:
    """Opens a text whose lines the log's `pattern` describes."""
    pattern = job.log.pattern or ""
    return matched(job, pattern, group_names(pattern), shape="line of the declared pattern")
