"""Local wall-clock columns to UTC, inside the engine and with the mapping's policy for clock changes.

The zone's changes become one balanced CASE over wall-clock thresholds: exact, and many times faster than asking
the engine's zone functions for every row. A wall-clock time that happens twice first becomes the earlier of the
two; which records belong to the second pass is then read off their order in the file (it steps back once).
"""

from __future__ import annotations

import functools
from bisect import bisect_left, bisect_right
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

from fermata.timeline.zones import Change, changes, offset, zone

__all__ = ["FIRST", "LAST", "Extent", "minus", "second_pass", "to_utc", "windows"]

STEP_BACK = timedelta(minutes=5)  # a smaller step back within the repeated hour is a late line, not the change
MICROSECOND = timedelta(microseconds=1)
FIRST, LAST = datetime(1970, 1, 2), datetime(2099, 12, 30)  # logs of other times are taken for broken clocks
Policy = Literal["order", "earlier", "later", "reject"]
Extent = tuple[datetime, datetime]
Less = Callable[[str, timedelta], str]


@functools.cache
def _changes(zone_name: str) -> tuple[Change, ...]:
    return tuple(changes(FIRST.replace(tzinfo=UTC), LAST.replace(tzinfo=UTC), zone(zone_name)))


def windows(zone_name: str, low: datetime, high: datetime, *, sets_back: bool) -> list[Change]:
    """The changes whose wall-clock times that happen twice (or, if not `sets_back`, never) meet [low, high]."""
    near = timedelta(days=2)  # an instant and its wall clock are never that far apart
    first, last = ((at + by).replace(tzinfo=UTC) for at, by in ((max(low, FIRST), -near), (min(high, LAST), near)))
    found = _changes(zone_name)
    found = found[bisect_left(found, first, key=_at) : bisect_right(found, last, key=_at)]
    return [c for c in found if c.sets_back is sets_back and c.window[0] <= high and low < c.window[1]]


def _at(change: Change) -> datetime:
    return change.at


def within(column: str, found: list[Change]) -> str:
    """A condition: the wall-clock `column` lies in the window of one of the changes."""
    tests = [f"({column} >= {ts(c.window[0])} AND {column} < {ts(c.window[1])})" for c in found]
    return f"({' OR '.join(tests)})" if tests else "false"


def to_utc(
    column: str,
    zone_name: str,
    ambiguous: Policy,
    nonexistent: Policy,
    extent: Extent = (FIRST, LAST),
    less: Less | None = None,
) -> str:
    """The UTC expression of a wall-clock `column` by the two policies; `order` and `reject` give the earlier.

    It holds for wall clocks within `extent`, both ends included: a short one makes a short expression. `less` is how
    an engine takes a length of time off a time that lies between two changes; otherwise an interval is taken off.
    """
    pieces = _pieces(zone_name, ambiguous, nonexistent)
    begins = max((i for i, (at, _) in enumerate(pieces) if at is None or at <= extent[0]), default=0)
    found = [p for p in pieces[begins:] if p[0] is None or p[0] <= extent[1]]
    ends = minus(column, found[0][1]), minus(column, found[-1][1])
    between = [(less or minus)(column, by) if by else column for _, by in found[1:-1]]
    return _balanced(column, [at for at, _ in found[1:]], [ends[0], *between, ends[1]][: len(found)])


@functools.cache
def _pieces(zone_name: str, ambiguous: Policy, nonexistent: Policy) -> tuple[tuple[datetime | None, timedelta], ...]:
    """From which wall clock on which offset is taken off; the first holds before, too."""
    pieces: list[tuple[datetime | None, timedelta]] = [(None, offset(FIRST.replace(tzinfo=UTC), zone(zone_name)))]
    for change in _changes(zone_name):
        a, b = change.window
        policy = ambiguous if change.sets_back else nonexistent
        early, late = max(change.before, change.after), min(change.before, change.after)
        pieces += [(a, late if policy == "later" else early), (b, change.after)]
    return tuple(p for i, p in enumerate(pieces) if i == 0 or p[1] != pieces[i - 1][1])


def _balanced(column: str, edges: list[datetime | None], values: list[str]) -> str:
    """A balanced tree of `values`, each from the edge before it on."""
    if len(values) == 1:
        return values[0]
    middle = len(values) // 2
    at = edges[middle - 1]
    assert at is not None
    left = _balanced(column, edges[: middle - 1], values[:middle])
    right = _balanced(column, edges[middle:], values[middle:])
    return f"CASE WHEN {column} < {ts(at)} THEN {left} ELSE {right} END"


def second_pass(con: Any, table: str, wall: str, change: Change) -> str | None:
    """The condition on `record_no` for the second pass of the hour that `change` repeats; None if there is none.

    The file steps back once where the second pass begins. A file whose first time is after its last is read from
    its end, newest first.
    """
    oldest, newest = con.execute(
        f"SELECT arg_min({wall}, record_no), arg_max({wall}, record_no) FROM {table} WHERE {wall} IS NOT NULL"
    ).fetchone()
    newest_first = oldest > newest
    row = con.execute(
        f"SELECT {'max' if newest_first else 'min'}(record_no) FROM (SELECT record_no, {wall} AS wall, "
        f"max({wall}) OVER (ORDER BY record_no {'DESC' if newest_first else ''} "
        "ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING) AS top "
        f"FROM {table} WHERE {within(wall, [change])}) "
        f"WHERE top - wall > INTERVAL {STEP_BACK // timedelta(seconds=1)} SECOND"
    ).fetchone()
    if row[0] is None:
        return None
    return f"record_no {'<=' if newest_first else '>='} {row[0]}"


def minus(column: str, by: timedelta) -> str:
    """`column` less a whole number of seconds."""
    seconds = by // timedelta(seconds=1)
    if not seconds:
        return column
    return f"{column} {'-' if seconds > 0 else '+'} INTERVAL '{abs(seconds)} seconds'"


def ts(at: datetime) -> str:
    """A timestamp literal."""
    return f"TIMESTAMP '{at:%Y-%m-%d %H:%M:%S.%f}'"
