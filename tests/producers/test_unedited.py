"""Logs that real programs wrote come in by a proposal and an import alone, each event as its other witness tells it."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import fermata
from fermata import Report
from tests.conftest import fermata as command
from tests.producers import database, network, printing, services, system, web
from tests.producers.daemons import Written

pytestmark = pytest.mark.producers
MAKERS: tuple[Callable[[Path], list[Written]], ...] = (
    web.nginx,
    web.apache,
    web.lighttpd,
    web.squid,
    web.haproxy,
    system.logins,
    system.packages,
    system.journal,
    network.radius,
    network.addresses,
    network.packets,
    services.proxy,
    services.mail,
    services.files,
    printing.spooler,
    printing.own_layout,
    database.server,
)


@pytest.mark.parametrize("make", MAKERS, ids=lambda m: m.__name__)
def test_a_log_comes_in_without_a_hand(tmp_path: Path, make: Callable[[Path], list[Written]]) -> None:
    """Two commands and no edit; every field the other witness knows is right, and the time is that of the test."""
    made = tmp_path / "made"
    made.mkdir(mode=0o755)
    began = datetime.now(UTC).replace(microsecond=0)
    wrong = []
    for i, written in enumerate(make(made)):
        home = tmp_path / f"workspace-{i}"
        try:
            brought_in(home, written, began)
        except AssertionError as e:
            wrong.append(f"{written.path.name}: {e}")
    assert not wrong, "\n".join(wrong)


def brought_in(home: Path, written: Written, began: datetime) -> None:
    home.mkdir()
    (home / "fermata.toml").write_text('[workspace]\nzone = "UTC"\n')
    shutil.copy2(written.path, home)
    command("map", written.path.name, "--add", *written.settings, cwd=home)
    command("import", cwd=home)
    workspace = fermata.open(home)
    log = written.log or next(iter(workspace.base.config.logs))
    listing = workspace.listing(Report(log=log))
    names = [c[0] for c in listing.columns]
    events = [dict(zip(names, row, strict=True)) for row in listing.rows]
    events = [e for e in events if all(e.get(f) in kept for f, kept in written.only.items())]
    assert Counter(tuple(e.get(f) for f in written.fields) for e in events) == written.truth, names
    for e in events:
        when = (e.get("finish") or e["start"]).replace(tzinfo=UTC)
        assert began - timedelta(seconds=1) <= when <= datetime.now(UTC) + written.ahead, e
