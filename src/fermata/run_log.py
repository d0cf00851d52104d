"""What the program does, for its operators: one line of JSON for each thing, through the logger `fermata` of the
standard library.

At the default level no line names a person, an address or a value of a filter: these are facts for `debug`, which only
that level shows. A library's user turns it on as any other logger; the command line has `--log-level` and `--log-file`.
"""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

__all__ = ["LEVELS", "begin", "tell"]

LEVELS = ("debug", "info", "warning", "error")
logger = logging.getLogger("fermata")
logger.addHandler(logging.NullHandler())


def tell(level: str, what: str, *, debug: dict[str, Any] | None = None, **facts: Any) -> None:
    """Says what was done. `debug` are facts that may be about persons: they stand in the line only where that level is
    shown.
    """
    number = logging.getLevelNamesMapping()[level.upper()]
    if logger.isEnabledFor(number):
        more = debug if debug and logger.isEnabledFor(logging.DEBUG) else {}
        logger.log(number, what, extra={"facts": {**facts, **more}})


class Lines(logging.Formatter):
    """A record as one line of JSON: time (UTC), level, what, then its facts."""

    def format(self, record: logging.LogRecord) -> str:
        """The line; control characters are escaped, so that a line is a line."""
        at = datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds")
        head = {"time": at, "level": record.levelname.lower(), "what": record.getMessage(), "process": record.process}
        facts = {k: v for k, v in getattr(record, "facts", {}).items() if v not in (None, "")}
        return json.dumps({**head, **facts}, default=str, ensure_ascii=True)


def begin(level: str, file: Path | None = None) -> None:
    """Shows lines from `level` on, on standard error or added to a file. Raises OSError
    where that cannot be written.
    """
    handler: logging.Handler = logging.FileHandler(file, encoding="utf-8") if file else logging.StreamHandler()
    handler.setFormatter(Lines())
    logger.addHandler(handler)
    logger.setLevel(level.upper())
