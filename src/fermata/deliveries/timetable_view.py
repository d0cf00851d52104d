"""The timetable as a table: each delivery with its next runs, how the last one ended, what is wrong with it."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from fermata.deliveries import rhythm, timetable
from fermata.deliveries.model import Delivery
from fermata.deliveries.progress import History, Run
from fermata.errors import ConfigError, FermataError, RequestError
from fermata.notes import Note
from fermata.proof.snapshot import stretch_of
from fermata.reports.execute.register_list import context
from fermata.reports.result import ColumnDef, Records
from fermata.timeline.zones import local, zone
from fermata.workspace.base import Base

__all__ = ["table"]

EMPTY = ("problem",)  # shown where there is one
BELOW = ("when", "to", "last", "problem")  # on a line of their own
COLUMNS = (
    ("delivery", "Delivery"), ("report", "Report"), ("next", "Next run"), ("period", "Its period"), ("when", "When"),
     ("to", "By"), ("last", "Last run"), ("problem", "Problem"),
)  # fmt: skip


def table(base: Base, history: History, name: str = "", *, count: int = 2) -> Records:
    """Each delivery with its next runs, what they are about, and how the last one ended. With a `name`, its next
    `count` runs, a line each.
    """
    zone_name = base.config.workspace.zone
    now = base.now()
    title = f"Next runs of {name}" if name else "Timetable"
    notes: list[Note] = []
    rows: list[tuple[str, ...]] = []
    for one in [name] if name else timetable.names(base):
        try:
            delivery = timetable.load(base, one)
        except ConfigError as e:
            rows.append((one, *("",) * 6, "; ".join(e.problems)))
            continue
        wrong = timetable.problems(base, delivery)
        notes += [Note(f"{one}: {w}", "setting") for w in (rhythm.warnings(base, delivery) if not wrong else [])]
        rows += _rows(base, one, delivery, wrong, history, count if name else 1)
    shown = [i for i, (key, _) in enumerate(COLUMNS) if key not in EMPTY or any(r[i] for r in rows)]
    columns = tuple(ColumnDef(*COLUMNS[i]) for i in shown)
    rows = [tuple(r[i] for i in shown) for r in rows]
    head = context(zone_name, now, title, f"as of {local(now, zone(zone_name)):%Y-%m-%d %H:%M}")
    if not rows:
        how = "fermata schedule --add NAME --report REPORT --when 'weekly on Monday at 07:00'"
        notes.append(Note("nothing is on the timetable; put something on it", "setting", how))
    return Records(title, head, columns, tuple(rows), len(rows), notes=tuple(notes), second=BELOW)


def _rows(
    base: Base, name: str, delivery: Delivery, wrong: list[str], history: History, count: int
) -> list[tuple[str, ...]]:
    now, tz = base.now(), zone(base.config.workspace.zone)
    due: list[datetime | None] = []
    try:
        at = timetable.next_run(base, delivery, now)
        while at and len(due) < count:
            due.append(at)
            at = timetable.next_run(base, delivery, at)
    except RequestError:
        due = []
    to = "; ".join(t.words for t in delivery.to) + (f", a part for each {delivery.split.by}" if delivery.split else "")
    last = next((r for r in reversed(history.of_delivery(name)) if r.over or r.stage or r.made), None)
    told = state(last, tz) if last else "never"
    if delivery.paused:
        told = f"paused; {told}"

    def line(at: datetime | None) -> tuple[str, ...]:
        period = _period(base, delivery, at) if at and not wrong else ""
        return name, delivery.report, _moment(at, now, tz), period, delivery.when, to, told, "; ".join(wrong)

    return [line(at) for at in due or [None]]


def _period(base: Base, delivery: Delivery, at: datetime) -> str:
    try:
        report = timetable.report_of(base, delivery)
        if report.period == "all" and not report.parts:
            return "everything there is"
        found = stretch_of(report, base.at(at))
    except FermataError as e:
        return str(e).splitlines()[0]
    return found.words if found else "as of that day"


def _moment(at: datetime | None, now: datetime, tz: Any) -> str:
    """A time in words: `Wed 2026-04-01 07:00, in 3 days`."""
    if at is None:
        return ""
    left = at - now
    if left < timedelta(hours=1):
        words = f"in {max(round(left / timedelta(minutes=1)), 0)} min"
    elif left < timedelta(days=2):
        words = f"in {round(left / timedelta(hours=1))} h"
    else:
        words = f"in {(local(at, tz).date() - local(now, tz).date()).days} days"
    return f"{local(at, tz):%a %Y-%m-%d %H:%M}, {words}"


def state(run: Run, tz: Any) -> str:
    """How a run stands, in words."""
    at = f"{local(run.planned, tz):%Y-%m-%d %H:%M}{' by hand' if run.by_hand else ''}: "
    if run.over:
        return at + run.over + (f", {run.why}" if run.why else "")
    if doubtful := sorted({a for x in run.letters.values() for a in x.doubtful}):
        return f"{at}in doubt: {', '.join(doubtful)}"
    waiting = [(x.next, x.why) for x in run.letters.values() if x.next and x.why]
    if not run.stage and waiting:
        next_time, why = min(waiting)
        return f"{at}to be tried again from {local(next_time, tz):%Y-%m-%d %H:%M}: {why}"
    return at + (f"{run.stage}: {run.why}" if run.stage else "under way")
