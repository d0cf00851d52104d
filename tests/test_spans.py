"""Random events, zones and groupings on the embedded engine, against looking at every minute."""

from __future__ import annotations

import dataclasses
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fermata.analysis import combine, recurring
from fermata.analysis.order import outermost
from fermata.engines.embedded import DuckEngine
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.timeline import Period
from tests import engines
from tests.conftest import examples
from tests.reference import Event, answer

PLACES = [
    ("Europe/Lisbon", "2025-10-25"), ("Europe/Lisbon", "2026-03-28"), ("Asia/Kathmandu", "2025-12-30"),
    ("Australia/Lord_Howe", "2026-04-04"), ("America/New_York", "2026-10-31"), ("Pacific/Apia", "2011-12-29"),
]  # fmt: skip
MEASURES = ["count", "time", "distinct user", "present user", "mean duration", "median duration", "first", "max pages"]
LENGTHS = st.one_of(st.none(), st.sampled_from([0, 1, 59, 60, 61, 600, 1440, 2880]), st.integers(0, 4000))


@st.composite
def lots(draw: st.DrawFn) -> tuple[str, str, list[Event]]:
    name, day = draw(st.sampled_from(PLACES))
    base = datetime.fromisoformat(day).replace(tzinfo=UTC) - timedelta(days=1)
    events = []
    for _ in range(draw(st.integers(1, 12))):
        start = base + timedelta(minutes=draw(st.integers(0, 4 * 1440)))
        length = draw(LENGTHS)
        finish = None if length is None else start + timedelta(minutes=length)
        user, pages = draw(st.sampled_from(["a", "b", None])), draw(st.sampled_from([None, 1, 2]))
        events.append(Event(start, finish, user, "d", "in", pages))
    return name, day, events


@pytest.fixture(scope="module")
def duck() -> engines.Duck:
    return engines.Duck()


@given(
    lots(),
    st.lists(st.sampled_from(["user", "hour", "day", "week", "month", "weekday", "hour of day"]), max_size=3,
    unique=True),
    st.sampled_from(["P2D", "PT37H", "P3D"]),
)  # fmt: skip
@examples(60)
def test_any_grouping_equals_the_reference(
    duck: engines.Duck, lot: tuple[str, str, list[Event]], by: list[str], length: str
) -> None:
    """Counts, clipped time, presence and order statistics are right in any zone, for any grouping, at every level."""
    name, day, events = lot
    logs = engines.Logs(name, events)
    _, table = engines.run(duck.place(events), logs, period=f"{day}T00:00/{length}", by=by, columns=MEASURES)
    stretch = Period.parse(f"{day}T00:00/{length}", logs.calendar).resolve(datetime(2030, 1, 1, tzinfo=UTC))
    expected = answer(events, (stretch.start, stretch.end), ZoneInfo(name), by, MEASURES)
    shown = {row.shown for row in table.rows}
    got = {row.shown: list(row.cells) for row in table.rows if any(c not in (0, None) for c in row.cells)}
    assert got == {k: v for k, v in expected.items() if k in shown and any(c not in (0, None) for c in v)}
    assert {k for k in expected if len(k) == len(by) and any(c not in (0, None) for c in expected[k])} <= shown


@given(lots(), st.sampled_from(["day", "week", "month"]))
@examples(25)
def test_time_of_the_parts_is_time_of_the_whole(
    duck: engines.Duck, lot: tuple[str, str, list[Event]], unit: str
) -> None:
    """However the period is cut, the parts add up to the exact time inside it."""
    name, day, events = lot
    logs = engines.Logs(name, events)
    _, table = engines.run(duck.place(events), logs, period=f"{day}/P4D", by=[unit], columns=["time"])
    stretch = Period.parse(f"{day}/P4D", logs.calendar).resolve(datetime(2030, 1, 1, tzinfo=UTC))
    whole = sum(
        (max(timedelta(), min(e.finish, stretch.end) - max(e.start, stretch.start)) for e in events if e.finish),
        timedelta(),
    )
    assert sum(row.cells[0] for row in table.body) == whole // timedelta(microseconds=1)


@pytest.mark.deep
def test_long_runs_of_units_are_reckoned_like_short_ones(duck: engines.Duck) -> None:
    """Over three years of days and a year of hours the arithmetic leaves agree with the calendar, edges included."""
    start = datetime(2023, 1, 1, tzinfo=UTC)
    events = [
        Event(t := start + timedelta(hours=29 * i), t + timedelta(minutes=17 * (i % 40)), "u") for i in range(910)
    ]
    logs = engines.Logs("America/New_York", events)
    tz = ZoneInfo("America/New_York")
    for by, first, end in (("day", 2023, 2026), ("weekday", 2023, 2026), ("hour", 2024, 2025)):
        _, table = engines.run(
            duck.place(events), logs, period=f"{first}/{end - 1}", by=[by], columns=["count", "time"]
        )
        edges = tuple(datetime(y, 1, 1, tzinfo=tz).astimezone(UTC) for y in (first, end))
        expected = answer(events, edges, tz, [by], ["count", "time"])
        assert {row.shown: list(row.cells) for row in table.rows if any(row.cells)} == expected


@given(
    lots(), st.sampled_from(["user", "day", "weekday"]), st.sampled_from([[], ["device"], ["hour of day"]]),
    st.integers(1, 3),
    st.lists(
        st.sampled_from(["count", "time", "total pages", "mean pages", "first", "last", "min pages", "max duration",
        "share", "distinct user"]),
        min_size=1, max_size=5, unique=True,
    ),
)  # fmt: skip
@examples(40)
def test_a_top_folded_is_the_top_asked_for(
    duck: engines.Duck, lot: tuple[str, str, list[Event]], first: str, more: list[str], n: int, columns: list[str]
) -> None:
    """The groups a top N keeps, and all others as one, are the same folded from all groups as asked of the events
    again.
    """
    name, day, events = lot
    placed = duck.place(events)
    asked = Report.of(log="log", period=f"{day}T00:00/P3D", by=[first, *more], columns=columns, top=n)
    plan = resolve(asked, engines.Logs(name, events), datetime(2030, 1, 1, tzinfo=UTC))
    figures = combine.gather(plan, lambda strand: placed)
    plan = dataclasses.replace(plan, kept=tuple(outermost(plan, figures, n)))
    assert combine.regrouped(plan, figures, lambda strand: placed) == combine.gather(plan, lambda strand: placed)


@examples(60)
@given(
    gaps=st.lists(
        st.tuples(st.sampled_from([1, 60, 900, 1440, 4000]), st.sampled_from([1, 480, 1440, 2000])),
        min_size=1,
        max_size=12,
    ),
    moments=st.lists(st.integers(-3000, 80_000), min_size=1, max_size=12),
)
def test_what_has_gone_by_of_stretches_is_what_each_minute_says(
    gaps: list[tuple[int, int]], moments: list[int]
) -> None:
    """Whether a moment lies in one, how many have ended and begun, and the time gone by, whatever the stretches."""
    base, minute, edges, at = datetime(2026, 3, 1, 7, tzinfo=UTC), timedelta(minutes=1), [], 0
    for gap, length in gaps:
        edges.append((base + (at + gap) * minute, base + (at + gap + length) * minute))
        at += gap + length
    stretches = tuple(edges)
    moments += [(t - base) // minute for pair in edges for t in pair]
    engine, rows = DuckEngine(), [(i, (base + m * minute).replace(tzinfo=None)) for i, m in enumerate(moments)]
    table = engine.lookup("moments", {"n": "number", "at": "time"}, rows)
    asked = [recurring.within, recurring.gone_by, recurring.ended, recurring.begun]
    found = engine.run(table.select("n", **{f.__name__: f(table.at, stretches) for f in asked}).order_by("n"))
    whole = recurring.pieces(stretches)
    assert sum((b - a for a, b in whole), timedelta(0)) == sum((b - a for a, b in edges), timedelta(0))
    for row, m in zip(found.to_pylist(), moments, strict=True):
        here = base + m * minute
        assert row["within"] == any(a <= here < b for a, b in stretches)
        assert row["gone_by"] == sum((min(b, here) - a) // timedelta(microseconds=1) for a, b in stretches if a < here)
        assert (row["ended"], row["begun"]) == (sum(b <= here for _, b in whole), sum(a < here for a, _ in whole))
