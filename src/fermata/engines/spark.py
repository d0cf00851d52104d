"""Spark over the archive: for logs that one machine is too small for.

The archive's files never change, so the workers may read them where they are (a shared file system) or from a copy
below another path (`archive`, as in s3a://logs/archive). The manifest stays with the workspace: it says which files of
which months are read, so nothing is listed and no file of another month is opened.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import re
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fermata.engines.chosen import EngineMap
from fermata.engines.problems import first_line
from fermata.engines.remote import SparkEngine
from fermata.errors import DataError, RequestError
from fermata.secret import secret

__all__ = ["Distributed", "spark"]

TYPES = {"VARCHAR": "string", "VARCHAR[]": "array<string>", "TIMESTAMP": "timestamp_ntz", "INTEGER": "int"}
PORT = 15002  # of Spark Connect, unless the address says otherwise
PATIENCE = 10  # seconds
TRIES = 6  # of a question to a server that does not answer any more, within some eight seconds
SAID = 10.0  # seconds after which people are told that they still wait
ONCE = "which takes a quarter of a minute; commands in one `fermata` prompt, or reports in one script, start it once"
SETTINGS = {
    "spark.sql.session.timeZone": "UTC",
    "spark.sql.timestampType": "TIMESTAMP_NTZ",
    "spark.sql.ansi.enabled": "true",  # a sum beyond 64 bits is an error
}
LOCAL = {
    "spark.ui.enabled": "false",
    "spark.ui.showConsoleProgress": "false",
    "spark.driver.host": "127.0.0.1",
    "spark.driver.bindAddress": "127.0.0.1",
}


@dataclass(frozen=True)
class Distributed:
    """A Spark engine, and the archive as its workers see it."""

    engine: SparkEngine
    base: str

    def files(self, paths: Sequence[str]) -> str:
        """A view of the session over Parquet files that hold the same columns."""
        return self.engine.parquet([f"{self.base}/{p}" for p in paths])

    def column(self, name: str) -> str:
        """The name, quoted."""
        return f"`{name}`"

    def typed(self, value: str, kind: str) -> str:
        """The value as that type."""
        return f"CAST({value} AS {TYPES.get(kind, kind)})"


def spark(asked: EngineMap, archive: Path, say: Callable[[str], None]) -> Distributed:
    """The engine asked for, over the archive; `say` is told what is waited for. Raises RequestError, DataError."""
    try:
        import ibis
        from pyspark.errors import PySparkException
        from pyspark.sql import SparkSession
    except ImportError:
        raise RequestError("engine = \"spark\" needs its client: pip install 'fermata[spark]'") from None
    remote = secret("the address of the Spark Connect server", asked.remote_env, None) or asked.remote
    if remote:
        _reach(remote)
    try:
        if remote:
            with _waiting(say, f"connecting to Spark at {urlsplit(remote).hostname}"):
                session = _connected(SparkSession.builder, remote)
                engine = SparkEngine(ibis.pyspark.connect(session))
                engine.run(ibis.literal(1).name("one").as_table())  # whether it answers
        else:
            with _waiting(say, f"starting Spark on this machine, {ONCE}"), _silence():
                session = _local(SparkSession.builder, asked).getOrCreate()
                session.sparkContext.setLogLevel("OFF")
                atexit.register(session.stop)
                engine = SparkEngine(ibis.pyspark.connect(session))
    except (PySparkException, RuntimeError, OSError, ValueError) as e:
        told = re.sub(r"token=[^;\s]*", "token=...", first_line(e))
        if not remote and ("JAVA" in told or "Java" in told):
            raise DataError(
                'engine = "spark" in [workspace] starts Spark on this machine, which needs Java: install one, or let '
                "JAVA_HOME name "
                f"its directory ({told})"
            ) from None
        raise DataError(f"Spark cannot be reached: {told}") from None
    return Distributed(engine, asked.archive.rstrip("/") or archive.resolve().as_posix())


def _connected(builder: Any, remote: str) -> Any:
    """A session of a server. One that goes away is asked again for some seconds; by itself the client would for
    minutes.
    """
    from pyspark.sql.connect.client.retries import DefaultPolicy

    session = builder.remote(remote).create()
    session.client.set_retry_policies(
        [DefaultPolicy(max_retries=TRIES, initial_backoff=250, backoff_multiplier=2, max_backoff=2000)]
    )
    for name, value in SETTINGS.items():
        session.conf.set(name, value)
    return session


@contextlib.contextmanager
def _waiting(say: Callable[[str], None], what: str) -> Iterator[None]:
    """Says what is waited for, and every `SAID` seconds that it still is."""
    done, begun = threading.Event(), time.monotonic()

    def still() -> None:
        while not done.wait(SAID):
            say(f"{what.partition(',')[0]} ... {time.monotonic() - begun:.0f} s")

    say(what)
    telling = threading.Thread(target=still, daemon=True)
    telling.start()
    try:
        yield
    finally:
        done.set()
        telling.join()


def _reach(remote: str) -> None:
    """Raises DataError at once where nobody listens: the client itself would try for minutes."""
    at = urlsplit(remote.partition("/;")[0])
    try:
        where = (at.hostname or "", at.port or PORT)
    except ValueError:
        where = ("", 0)
    if at.scheme != "sc" or not where[0]:
        raise RequestError("the address of a Spark Connect server is written sc://host:15002")
    try:
        socket.create_connection(where, timeout=PATIENCE).close()
    except OSError as e:
        raise DataError(f"Spark cannot be reached: {where[0]}:{where[1]} does not answer ({e.strerror or e})") from None


def _local(builder: Any, asked: EngineMap) -> Any:
    """A session of this machine."""
    workers = asked.workers or os.cpu_count() or 1
    builder = builder.master(f"local[{workers}]").config("spark.driver.memory", asked.memory)
    for name, value in {**SETTINGS, **LOCAL, "spark.sql.shuffle.partitions": str(2 * workers)}.items():
        builder = builder.config(name, value)
    return builder


@contextlib.contextmanager
def _silence() -> Iterator[None]:
    """Standard error goes nowhere for what is started meanwhile, and for as long as it lives: Spark's own log is not
    for who asked for a report. What goes wrong comes as an error all the same, and what this process says is seen.
    """
    kept, nowhere, shown = os.dup(2), os.open(os.devnull, os.O_WRONLY), sys.stderr
    os.dup2(nowhere, 2)
    try:
        with open(kept, "w", encoding="utf-8", errors="replace", buffering=1, closefd=False) as sys.stderr:
            yield
    finally:
        sys.stderr = shown
        os.dup2(kept, 2)
        os.close(kept)
        os.close(nowhere)
