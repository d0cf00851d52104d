"""The events of a listing as spans on lanes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fermata.errors import RequestError, UnknownName
from fermata.outputs.canvas import Drawing, Lane, about
from fermata.outputs.formats import local, people
from fermata.reports.result import Records
from fermata.timeline.zones import zone

__all__ = ["timeline"]

MOST = 40  # lanes
TIMELINE = 5000  # events on a timeline
LANES = ("user", "device", "place", "action")


def timeline(records: Records, column: str) -> Drawing:
    """The events of a listing as spans on lanes: by the column named, else by the first of user, device, place that
    tells them apart.
    """
    names = [c.name for c in records.columns]
    if "start" not in names or not len(records.rows):
        raise RequestError(f"{records.title}: there are no events to draw on a timeline")
    if column and column not in names:
        raise UnknownName.of("column", column, names, where="to draw lanes of")
    rows = (*records.earlier, *records.rows[:TIMELINE])
    at = names.index(column) if column else _lane(names, rows)
    begin, end = names.index("start"), names.index("finish") if "finish" in names else None
    tz = zone(records.context.zone)
    lanes: dict[str, list[tuple[datetime, datetime | None]]] = {}
    for row in rows:
        name = "" if at is None or row[at] is None else people(row[at], "text", 0, tz)
        finish = row[end] if end is not None else None
        lanes.setdefault(name or "(none)", []).append((_wall(row[begin], tz), _wall(finish, tz) if finish else None))
    kept = sorted(lanes, key=lambda n: (-len(lanes[n]), n))[:MOST]
    notes = []
    if len(lanes) > MOST:
        notes.append(f"the {MOST} of {len(lanes):,} with most events are shown")
    if len(records.rows) > TIMELINE:
        notes.append(f"the first {TIMELINE:,} of {len(records.rows):,} events are drawn")
    return Drawing(
        "timeline", records.title, f"By {names[at]}" if at is not None else "", lanes=tuple(Lane(n,
        tuple(lanes[n])) for n in sorted(kept)),
        moments=end is None, about=about(records.context), notes=tuple(notes),
    )  # fmt: skip


def _lane(names: list[str], rows: Sequence[tuple[Any, ...]]) -> int | None:
    """The first field that has several values."""
    places = [names.index(n) for n in LANES if n in names]
    return next((i for i in places if len({str(r[i]) for r in rows}) > 1), places[0] if places else None)


def _wall(at: datetime, tz: Any) -> datetime:
    return local(at, tz).replace(tzinfo=None)
