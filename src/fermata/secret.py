"""Passwords, keys and tokens: from the environment, or from a file only its owner may read. Never printed, never
kept.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from fermata.errors import ConfigError, RequestError

__all__ = ["secret"]


def secret(what: str, env: str, file: Path | None) -> str:
    """What the environment variable `env` holds, else the first line of `file`; `what` names it in errors.

    Raises RequestError where neither is there, ConfigError for a file that others may read.
    """
    if env:
        text = os.environ.get(env, "")
        if not text:
            raise RequestError(f"the environment variable {env} is not set; it should hold {what}")
        return text
    if file is None:
        return ""
    try:
        mode = file.stat().st_mode
        text = file.read_text(encoding="utf-8")
    except (OSError, UnicodeError) as e:
        raise RequestError(f"{file}: {what} cannot be read ({type(e).__name__})") from None
    if mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise ConfigError(str(file), ["others may read this file, and it holds a secret; chmod 600 it"])
    found = text.strip().splitlines()
    if not found:
        raise RequestError(f"{file} is empty; it should hold {what}")
    return found[0].strip()
