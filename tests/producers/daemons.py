"""Real programs on this machine's loopback: started, used, stopped."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

SBIN = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"


@dataclass(frozen=True)
class Written:
    """A log that a program wrote, and what somebody else says of the same events: how often each combination of
    values of these fields is there. `only` keeps events by values of fields, as some logs tell of other things, too.
    """

    path: Path
    fields: tuple[str, ...]
    truth: Counter[tuple[Any, ...]]
    only: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    log: str = ""
    ahead: timedelta = timedelta()  # how far a finish may lie in the future
    settings: tuple[str, ...] = ()


def setup(name: str) -> str:
    """A program's configuration, or a script that uses it, of those in `setups`; places and ports stand in braces."""
    with (Path(__file__).parent / "setups" / name).open(encoding="utf-8", newline="") as f:
        return f.read()


def needs(*programs: str, root: bool = False) -> None:
    """Skips with a reason where a program is missing; where everything must run, fails instead."""
    missing = [p for p in programs if not shutil.which(p, path=SBIN) and not list(Path("/usr/lib").glob(f"{p}"))]
    missing += ["the rights of root"] if root and os.geteuid() != 0 else []
    if missing and os.environ.get("FERMATA_NO_SKIPS"):
        pytest.fail(f"missing: {', '.join(missing)}")
    if missing:
        pytest.skip(f"needs {', '.join(missing)}")


@contextmanager
def daemon(*arguments: str, ready: Callable[[], Any], **env: str) -> Iterator[subprocess.Popen[bytes]]:
    """A daemon in the foreground of its own process, stopped at the end."""
    with subprocess.Popen(
        arguments, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env={**os.environ, "PATH": SBIN, **env}
    ) as process:
        try:
            wait(ready)
            yield process
        finally:
            process.terminate()
            process.wait(20)


def wait(ready: Callable[[], Any], seconds: float = 20) -> None:
    """Until something holds; fails after a while."""
    until = time.monotonic() + seconds
    while not ready():
        assert time.monotonic() < until, "the daemon did not answer in time"
        time.sleep(0.05)


def run(*arguments: str, stdin: str = "", **env: str) -> str:
    """What a program prints; fails where it does."""
    done = subprocess.run(
        arguments, input=stdin, capture_output=True, text=True, check=False, env={**os.environ, "PATH": SBIN, **env}
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def reachable(path: Path) -> None:
    """Lets a daemon's own user get at a folder."""
    for above in (path, *path.parents):
        if above.is_relative_to("/tmp") and above != Path("/tmp"):
            above.chmod(above.stat().st_mode | 0o055)


def free_port() -> int:
    """A TCP port nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def answers(port: int) -> Callable[[], bool]:
    """Whether somebody listens on a TCP port."""

    def asked() -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", port)) == 0

    return asked


def says(path: Path, pattern: str, count: int) -> Callable[[], bool]:
    """Whether so many lines of a file match."""
    return lambda: path.exists() and len([t for t in path.read_text().splitlines() if re.search(pattern, t)]) >= count


def hears(port: int) -> Callable[[], bool]:
    """Whether somebody listens on a UDP port."""
    return lambda: f":{port:04X} " in Path("/proc/net/udp").read_text()
