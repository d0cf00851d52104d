"""A new workspace: a directory with a commented configuration."""

from __future__ import annotations

import json
from pathlib import Path

from fermata.config.workspace_file import CONFIG
from fermata.errors import DataError, RequestError
from fermata.timeline.zones import zone as known_zone

__all__ = ["make"]

STARTER = """\
[workspace]
name = {name}
zone = {zone}
workdays = "office"                   # a workday has any of these hours
# week_start = "sunday"
# fiscal_year = {{ starts = "04-01", named_by = "start" }}
# [workspace.cycles]
# pay = {{ every = 14, from = "2026-01-05" }}

[hours.office]                        # working hours: put yours here
days = "monday to friday"
times = "08:00-18:00"

# One table per log. Put its files below incoming/, say what its columns mean, then: fermata import
# [logs.doors]
# kind      = "door access"
# files     = "incoming/doors-*.csv"
# delimiter = ","
# [logs.doors.fields]
# start  = {{ column = "When", form = "%d/%m/%Y %H:%M:%S" }}
# user   = {{ column = "Badge", names = "badge" }}
# device = "Reader"
# action = {{ column = "Event", values = {{ "ENTRY OK" = "granted", "NO ENTRY" = "refused" }} }}
"""


def make(directory: Path, zone: str, name: str) -> Path:
    """Makes `fermata.toml`, `incoming/` and `reports/` in `directory`. Never overwrites a workspace."""
    known_zone(zone)
    path = directory / CONFIG
    if path.exists():
        raise RequestError(f"{path} exists already; choose another directory")
    try:
        for part in ("incoming", "reports"):
            (directory / part).mkdir(parents=True, exist_ok=True)
        path.write_text(STARTER.format(name=json.dumps(name), zone=json.dumps(zone)), encoding="utf-8")
    except OSError as e:
        raise DataError(f"{directory}: cannot be written: {e.strerror}") from None
    return path
