"""A print spooler's page log, written by a format string of %-codes.

    office-1 mira 12 [28/Mar/2026:13:37:01 +0000] 3 2 - localhost Programme notes, draft A4 one-sided

Nothing in such a line is quoted: users and titles hold blanks, quotes, even text like the log's own fields. So the
bracketed date is the anchor, and the fixed fields around it are taken from both ends. Beside %C the attribute %{copies}
is called `job-copies`. Source: the codes of `PageLogFormat` in the spooler's cupsd.conf(5); `%{name}` is a job
attribute.
"""

from __future__ import annotations

import re

from fermata.errors import SourceError
from fermata.intake.readers import Job, Records
from fermata.intake.readers.lines import matched

__all__ = ["USUAL", "open"]

USUAL = "%p %u %j %T %P %C %{job-billing} %{job-originating-host-name} %{job-name} %{media} %{sides}"
CODES = {
    "p": ("printer", r"(\S+)"),
    "u": ("user", r"(.*?)"),
    "j": ("job", r"(\d+)"),
    "T": ("time", r"\[(\d\d?/\w{3}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4})\]"),
    "P": ("page", r"(\d+|total)"),
    "C": ("copies", r"(\d+|-)"),
}
FREE = ("job-name", "job-originating-user-name")  # attributes that hold blanks
BLANKS = ("media", "job-billing")  # attributes that may, seldom


def expression_of(layout: str) -> tuple[str, list[str]]:
    """The regular expression of a format string, and the names of its groups. Raises ValueError."""
    pattern, names, at = "^", [], 0
    for found in re.finditer(r"%(?:\{([^}]+)\}|(.))", layout):
        pattern += re.escape(layout[at : found.start()])
        at = found.end()
        attribute, code = found[1], found[2]
        if code == "%":
            pattern += "%"
            continue
        if attribute:
            name = "job-copies" if attribute == "copies" and "%C" in layout else attribute
            part = r"(.*)" if attribute in FREE else r"(.*?)" if attribute in BLANKS else r"(\S*)"
        elif code in CODES:
            name, part = CODES[code]
        else:
            raise ValueError(
                f"%{code} is no code of a page log; there are {', '.join('%' + c for c in CODES)} and %{{attribute}}"
            )
        if name in names:
            raise ValueError(f"{layout!r} gives two fields the name {name!r}; leave one of them out")
        names.append(name)
        pattern += part
    if not names:
        raise ValueError(f"{layout!r} holds no %-code")
    return pattern + re.escape(layout[at:]) + r"\s*$", names


def open(job: Job) -> Records:
    """Opens a page log in the log's `layout`, or the usual one. `???`, the spooler's word for unknown, is empty."""
    try:
        pattern, names = expression_of(job.log.layout or USUAL)
    except ValueError as e:
        raise SourceError(f"{job.shown}: layout: {e}") from None
    shape = f"page log line of the layout {job.log.layout or USUAL}"
    return matched(job, pattern, names, shape=shape, unset=("-", "???"))
