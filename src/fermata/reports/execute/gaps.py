"""A log's gaps, worked out once and kept beside the archive until it changes."""

from __future__ import annotations

import hashlib
import json
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fermata.analysis.gaps import Gap, find
from fermata.archive import LogState
from fermata.jsontext import json_object
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.timeline.zones import zone

__all__ = ["gaps", "of_devices"]


def gaps(log: str, place: Any) -> list[Gap] | None:
    """The log's gaps over all it holds, kept beside the archive until it changes; None where nothing can be said."""
    if place.extent(log) is None:
        return None
    if place.held(log):
        return _found(log, place)
    state: LogState = place.state(log)
    schema, declared = place.schemas[log], place.gap(log)
    told = [
        [p.path for p in state.parts],
        sorted(state.ended),
        schema.zone,
        str(declared),
        place.closed_told(log),
    ]
    mark = hashlib.sha256(json.dumps(told).encode()).hexdigest()
    kept = place.snapshot.root / "cache" / f"gaps-{log}.json"
    if (held := _read_kept(kept, mark)) is not None:
        return held[0]
    found = _found(log, place)
    _keep(kept, mark, found)
    return found


def _found(log: str, place: Any) -> list[Gap] | None:
    plan = resolve(Report(log=log), place, place.until(log))
    engine, table = place.source(plan)(plan.strands[0])
    return find(table, engine.run, zone(place.schemas[log].zone), place.gap(log), closed=place.closed(log))


def of_devices(log: str, place: Any) -> list[Gap]:
    """Silences of single devices, long for the hour and for the device, worked out anew each time."""
    schema = place.schemas[log]
    if "device" not in schema.by_name or place.extent(log) is None:
        return []
    plan = resolve(Report(log=log), place, place.until(log))
    engine, table = place.source(plan)(plan.strands[0])
    return find(table, engine.run, zone(schema.zone), None, of="device", closed=place.closed(log)) or []


def _read_kept(path: Path, mark: str) -> tuple[list[Gap] | None] | None:
    try:
        held = json_object(path.read_bytes())
    except OSError:
        return None
    if held is None or held.get("mark") != mark or held.get("sum") != _sum(mark, held.get("gaps")):
        return None  # of another state, or not as it was written: found anew
    if held.get("gaps") is None:
        return (None,)
    return (
        [Gap(datetime.fromisoformat(a), datetime.fromisoformat(b), timedelta(seconds=s)) for a, b, s in held["gaps"]],
    )


def _sum(mark: str, told: Any) -> str:
    return hashlib.sha256(json.dumps([mark, told]).encode()).hexdigest()


def _keep(path: Path, mark: str, found: list[Gap] | None) -> None:
    """Written aside and moved into place; a directory one may not write to is no reason to fail."""
    told = None if found is None else [[g.start.isoformat(), g.end.isoformat(), g.usual.total_seconds()] for g in found]
    aside = path.with_suffix(".new")
    try:
        path.parent.mkdir(exist_ok=True)
        aside.write_text(json.dumps({"mark": mark, "gaps": told, "sum": _sum(mark, told)}), encoding="utf-8")
        aside.replace(path)
    except OSError:
        return
