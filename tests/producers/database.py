"""A database server: its log in three forms, told of logins that went well and of one that did not."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.engines import postgres_server
from tests.producers.daemons import Written, needs, wait

SETTINGS = {
    "logging_collector": "on", "log_destination": "csvlog,jsonlog,stderr", "log_connections": "on",
    "log_disconnections": "on", "log_timezone": "UTC", "log_file_mode": "0644", "log_filename": "server.log",
    "log_line_prefix": "'%m [%p] %q%u@%d '",
}  # fmt: skip


def server(path: Path) -> list[Written]:
    """CSV, JSON and lines of one server."""
    needs("postgresql/*/bin/postgres")
    import psycopg

    place = Path(tempfile.mkdtemp())  # the server's own user must get at it
    with postgres_server(place, {**SETTINGS, "log_directory": str(place / "data")}) as dsn:
        began = len((place / "data" / "server.csv").read_text().splitlines())
        for i in range(9):
            with psycopg.connect(**{**dsn, "user": "reader" if i % 3 else "owner"}) as con:
                con.execute("SELECT 1")
        wait(lambda: (place / "data" / "server.csv").read_text().count("disconnection") >= 9)
        time.sleep(0.5)
    assert began >= 0
    made = []
    for name in ("server.csv", "server.json", "server.log"):
        shutil.copy(place / "data" / name, path / name)
        truth = Counter({("login", "reader"): 6, ("logout", "reader"): 6})
        made.append(
            Written(path / name, ("action", "user"), truth, only={"user": ("reader",), "action": ("login", "logout")})
        )
    shutil.rmtree(place)
    return made
