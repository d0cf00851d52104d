"""The measuring heart gives the same figures on every engine as on the embedded one, which is held to slow references
elsewhere.
"""

from __future__ import annotations

import dataclasses
from collections import Counter
from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest

from fermata.analysis import counters, masking, reduce
from fermata.analysis.combined_logs import Combine, Part
from fermata.analysis.computed import Arithmetic, Classes, Price, Rates, Rule
from fermata.analysis.derive import Link, Merge, Pairing, States
from fermata.analysis.filters import Selection, conditions
from fermata.analysis.formula import Formula
from fermata.analysis.plan import HoursOf
from fermata.analysis.presence import Contacts, inside_at
from fermata.fields import Field
from fermata.registers.scope import pseudonym
from fermata.reports.compile.calendars import Terms
from fermata.timeline.hours import Hours, week
from tests import engines
from tests.contract.conftest import EVENTS, ZONE

HERE = dataclasses.replace(engines.SCHEMA, zone=ZONE)
ENDS = Selection(conditions({"action": "out"}))
DAYS = timedelta(days=1)
EVER, NEVER, TURN = datetime(1900, 1, 1), datetime(9999, 1, 1), datetime(2026, 1, 1)
TURN_UTC = TURN.replace(tzinfo=UTC)
PRICES = tuple(
    Price((m,), a, b, each, time, (amount,), least)
    for m, a, b, each, time, amount, least in (
        ("A", EVER, TURN, 100, 31_500, 25, 50), ("A", TURN, NEVER, 0, 33_333, 7, 50), ("*", EVER, TURN, 1, 9, 1, 0),
         ("*", TURN, NEVER, 5, 11, 1, 0),
    )
)  # fmt: skip
COMPUTED = (
    Classes(
        Field("reach"),
        "device",
        (Rule("first", ("A",)), Rule("odd", ("A_", "A%")), Rule("none", (), Selection(conditions({"device": ""})))),
    ),
    Rates(Field("charge", "money", "EUR", 2), ("device",), ("pages",), (10,), 0, 3, PRICES),
    Rates(
        Field("steps", "money", "EUR", 2),
        ("action",),
        ("pages",),
        (1,),
        60_000_000,
        3,
        (Price(("in",), EVER, NEVER, 0, 18, (0,), 90),),
    ),
    Arithmetic(Field("twice", "number"), Formula.parse("pages * 2 - 1"), Selection(conditions({"action": "in"}))),
)
DERIVED = {
    **{
        f"pairs {policy}": Pairing((HERE,), ("in",), ("out",), ("user",), timedelta(hours=30), policy,
        timedelta(hours=5) if policy == "at most" else None)
        for policy in ("open", "until next", "at most", "day's end", "log's end")
    },
    "states": States((HERE,), ("device",)),
    "amounts of readings": counters.Counter((HERE,), ("pages",), ("device",)),
    "amounts by day": counters.Counter((HERE,), ("pages",), ("device", "user"), "days", 9 * DAYS, 5),
    **{f"things {keep}": Merge((HERE,), ("user",), timedelta(hours=2), keep, ("pages",),
    9 * DAYS) for keep in ("first", "last", "longest")},
    "steps": Merge((HERE,), ("user",), timedelta(hours=2), "last", (), 9 * DAYS, spread=True),
    "links": Link((HERE, HERE), (("user", "user"), ("device", "device")), (("result", "pages"),), ENDS, "first", False,
    400 * DAYS),
    "holds": Link((HERE, HERE), (("user", "user"),), (), ENDS, "last", True, 400 * DAYS),
    "accounts": Combine((HERE, HERE), (Part("cost", 1, Selection()), Part("cost", -1, ENDS))),
}  # fmt: skip
HOURS = {
    "office": HoursOf(
        Hours("office", week("monday to friday", ("09:00-13:00", "14:00-18:00")), (date(2025, 12, 31),), "closed")
    ),
    "night": HoursOf(Hours("night", week("monday to sunday", ("22:00-06:00",)))),
    "each": HoursOf(
        Hours("o", week("sunday", ())), "device", (("A", Hours("n", week("monday to sunday", ("22:00-06:00",)))),)
    ),
}
REPORTS: dict[str, dict[str, Any]] = {
    "at once": {"by": ["device", "month"], "columns": ["union", "overlap", "peak", "peak time", "at 2", "concurrency",
    "uncovered"]},
    "union": {"by": ["user", "day"], "columns": ["union", "time"]},
    "office": {"by": ["user"], "hours": "office", "columns": ["count", "time", "union", "present user"]},
    "outside night": {"by": ["month"], "hours": "outside night", "columns": ["count", "time", "peak"]},
    "hours of each": {"by": ["device"], "hours": "each", "totals": False, "columns": ["count", "time"]},
    "rounded": {"by": ["day"], "rounding": "nearest 15 minutes", "columns": ["time", "mean duration"]},
    "overtime": {"by": ["month"], "columns": ["over 4h day"]},
    "going on": {"by": ["user", "month"], "columns": ["opening count", "running total pages", "all-time last"]},
    "compared": {"by": ["user"], "period": "2026-01", "compare": "before", "columns": ["count", "time"]},
}  # fmt: skip


pytestmark = pytest.mark.parametrize(
    "placed",
    [pytest.param("postgres", marks=pytest.mark.postgres), pytest.param("spark", marks=pytest.mark.spark)],
    indirect=True,
)


@pytest.fixture(scope="module")
def duck() -> engines.Placed:
    return engines.Duck().place(EVENTS)


@pytest.fixture(scope="module")
def heart() -> engines.Logs:
    derived = {n: dataclasses.replace(engines.derived(d, spans=d.inputs[0].spans), name=n) for n, d in DERIVED.items()}
    logs = engines.Logs(ZONE, EVENTS, computed=engines.derived(None, computed=COMPUTED), **derived)
    logs.terms = Terms(HOURS)
    return logs


def table(placed: engines.Placed, logs: engines.Logs, **asked: Any) -> list[Any]:
    return list(engines.run(placed, logs, **{"period": "2025-10-01/2026-03-31", **asked})[1].rows)


@pytest.mark.parametrize("name", [*DERIVED, "computed"])
def test_derived_events_are_the_same(
    placed: engines.Placed, duck: engines.Placed, heart: engines.Logs, name: str
) -> None:
    """Every event with every field, and their time by user and month."""
    shown = {"only": {"pairing": ["closed", "cut", "unfinished", "no opening"]}} if name.startswith("pairs") else {}

    def plain(events: list[dict[str, Any]]) -> Counter[Any]:
        return Counter(tuple((k, tuple(v) if isinstance(v, list) else v) for k, v in sorted(e.items())) for e in events)

    assert plain(engines.made(placed, heart, name, **shown)) == plain(engines.made(duck, heart, name, **shown))
    asked = {"log": name, "by": ["user", "month"], "columns": ["count", "time", "union"]}
    assert table(placed, heart, **asked) == table(duck, heart, **asked)


def test_a_peak_alone_is_the_same(
    placed: engines.Placed, duck: engines.Placed, heart: engines.Logs, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Among all ends, and where the embedded engine looks for it in pieces of the period: also of those without a
    value.
    """
    asked = {"by": ["user", "pages"], "columns": ["peak", "peak time"]}
    whole = table(placed, heart, **asked)
    keys = [row.keys for row in whole if len(row.keys) == 2]
    assert {k is None for k, _ in keys} == {k is None for _, k in keys} == {True, False}
    assert table(duck, heart, **asked) == whole
    for name, value in (("MANY", 1), ("SAMPLE", 1), ("LEAST", 1), ("IN_PIECE", 2)):
        monkeypatch.setattr(reduce, name, value)
    assert table(duck, heart, **asked) == whole


@pytest.mark.parametrize("name", REPORTS)
def test_measures_are_the_same(placed: engines.Placed, duck: engines.Placed, heart: engines.Logs, name: str) -> None:
    """At once, hours, rounding, overtime, running figures, comparison."""
    assert table(placed, heart, **REPORTS[name]) == table(duck, heart, **REPORTS[name])


def test_people_are_found_alike(placed: engines.Placed, duck: engines.Placed) -> None:
    """Contacts and who is inside."""
    asked, at = Contacts(("Ann",), "device", timedelta(minutes=45)), datetime(2025, 10, 26, 12)
    found = []
    for engine, events in (placed, duck):
        near = engine.run(asked.by_person(events, engines.SCHEMA)).to_pylist()
        inside = engine.run(inside_at(events, engines.SCHEMA, at, ("in",), ("out",))).to_pylist()
        found.append((sorted(map(str, near)), sorted(map(str, inside))))
    assert found[0] == found[1]
    assert all(found[0])


def test_views_are_the_same(placed: engines.Placed, duck: engines.Placed) -> None:
    """Rows of whoever is within while they are, pseudonyms in the place of names, numbers cut short: every event
    alike.
    """
    turn = datetime(2026, 1, 1)
    rows = [("Ann", EVER, turn), ("Bob", turn, NEVER), ("Žofie", EVER, NEVER)]

    def seen(placed: engines.Placed) -> list[str]:
        engine, events = placed
        told = masking.within(engine, events, "person", rows, datetime(2025, 10, 1), datetime(2026, 3, 31))
        told = masking.replaced(
            engine, told, {"person": "badge", "device": "asset"}, lambda names, text: pseudonym(b"k", names, text)
        )
        return sorted(map(str, engine.run(masking.shortened(told, {"action": 2})).to_pylist()))

    expected = [
        e
        for e in EVENTS
        if e.user == "Žofie" or (e.user == "Ann" and e.start < TURN_UTC) or (e.user == "Bob" and e.start >= TURN_UTC)
    ]
    here = seen(placed)
    assert here == seen(duck)
    assert len(here) == len(expected)
    assert sum("in'" not in row and "…" in row for row in here) == sum(
        e.action == "refused" or e.action == "out" for e in expected
    )
    assert not [n for n in ("Ann", "Bob", "Žofie") if n in str(here)]
