"""Every operation of the analysis gives the same figures on every engine, equal to a slow reference.

All cases of an operation stand in one table: clock changes, midnight and month crossings, ties, empties, zero-length
and
open spans, texts that sort by code point.
"""

from __future__ import annotations

import csv
import dataclasses
from datetime import timedelta
from pathlib import Path
from random import Random
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from fermata.analysis.plan import Cell
from fermata.errors import TooLarge
from fermata.fields import PROVENANCE
from fermata.registers.directory import Directory
from fermata.registers.model import RegisterMap
from tests import engines
from tests.contract.conftest import EVENTS, PERIOD, ZONE
from tests.reference import Event, answer, keep

OPERATIONS: dict[str, dict[str, Any]] = {
    "one row": {"columns": ["count", "distinct user", "time", "first", "last"]},
    "by user": {"by": ["user"], "columns": ["count", "time", "distinct device", "share", "share time"]},
    "by month": {"by": ["month"], "columns": ["count", "time", "present user"]},
    "by user and month": {"by": ["user", "month"], "columns": ["count", "time"]},
    "by day over clock changes": {"by": ["day"], "columns": ["count", "time", "distinct user"]},
    "by hour": {"by": ["hour"], "columns": ["count", "time"]},
    "by week and weekday": {"by": ["week", "weekday"], "columns": ["count", "time"]},
    "by hour of day": {"by": ["hour of day"], "columns": ["count", "time", "distinct user"]},
    "amounts": {"by": ["device"], "columns": ["total pages", "total cost", "mean pages", "mean cost", "min pages",
    "max cost"]},
    "order statistics": {"by": ["user"], "columns": ["median duration", "percentile 90 duration",
    "percentile 33.3 pages", "mean duration"]},
    "present by day": {"by": ["day"], "columns": ["present user", "count"]},
    "quarter and year": {"by": ["year", "quarter", "device"], "columns": ["count", "distinct user", "median pages"]},
    "only": {"by": ["user"], "only": {"action": "in", "device": ["A", "B"]}, "columns": ["count", "time"]},
    "without": {"by": ["user"], "without": {"action": "refused", "user": "Bob"}, "columns": ["count", "time"]},
    "empty": {"by": ["device"], "only": {"user": ""}, "columns": ["count"]},
    "not empty": {"by": ["device"], "without": {"user": ""}, "columns": ["count"]},
    "tags": {"by": ["user"], "only": {"tags": "y"}, "columns": ["count"]},
    "without tags": {"by": ["user"], "without": {"tags": "x"}, "columns": ["count"]},
    "no tags": {"by": ["user"], "only": {"tags": ""}, "columns": ["count"]},
}  # fmt: skip


@pytest.mark.parametrize("name", OPERATIONS)
def test_operation_equals_the_reference(placed: engines.Placed, logs: engines.Logs, name: str) -> None:
    """Body, subtotals and grand total are what looking at every minute gives."""
    asked = OPERATIONS[name]
    _, table = engines.run(placed, logs, period="2025-10-01/2026-03-31", **asked)
    kept = [e for e in EVENTS if keep(e, asked.get("only", {}), asked.get("without", {}))]
    expected = answer(kept, PERIOD, ZoneInfo(ZONE), asked.get("by", []), asked["columns"])
    got = {row.shown: list(row.cells) for row in table.rows}
    alone = {
        k for k in expected if 0 < len(k) < len(asked.get("by", [])) and sum(o[: len(k)] == k for o in expected) <= 2
    }
    expected = {k: v for k, v in expected.items() if k not in alone or k in got}
    zeros = {k for k, v in got.items() if not any(v) and k not in expected}
    assert {k: v for k, v in got.items() if k not in zeros} == expected


@pytest.mark.parametrize("name", OPERATIONS)
def test_operation_over_nothing_counts_nothing(placed: engines.Placed, logs: engines.Logs, name: str) -> None:
    """Where no event is, what is counted is 0 on every engine, and nothing is unknown that is a number."""
    asked = {**OPERATIONS[name], "by": []}
    _, table = engines.run(placed, logs, period="2024-01", **asked)
    cells = table.rows[-1].cells
    counted = [
        c
        for column, c in zip(asked["columns"], cells, strict=True)
        if column.startswith(("count", "distinct", "present"))
    ]
    assert counted == [0] * len(counted)


SPELLS = [  # name, id, label, department, groups, first and last local day
    ("Ann", "1", "Ann Ode", "stage", "keys|choir", "", "2025-10-25"),
    ("Ann", "1", "Ann Ode", "press", "choir", "2025-10-26", "2026-03-28"),
    ("Ann", "1", "Ann Ode", "stage", "", "2026-03-29", ""),
    ("Bob", "2", "Bob's \\ name", "press", "keys", "2025-10-26", "2025-12-31"),
    ("Žofie", "3", "Žofie", "stage", "", "", ""),
]


@pytest.fixture
def known(tmp_path: Path) -> engines.Logs:
    with (tmp_path / "people.csv").open("w", encoding="utf-8", newline="") as f:
        csv.writer(f).writerows([("Name", "Id", "Label", "Dept", "Groups", "From", "Until"), *SPELLS])
    people = RegisterMap.model_validate({
        "files": "people.csv", "id": "Id", "label": "Label", "names": {"user": "Name"}, "from": "From",
        "until": "Until",
        "attributes": {"department": "Dept", "groups": {"column": "Groups", "separator": "|"}},
    })  # fmt: skip
    return engines.Logs(ZONE, EVENTS, Directory({"people": people}, tmp_path, ZONE))


def spell(event: Event) -> tuple[str, ...] | None:
    """The row that covers the local day an event starts on."""
    day = f"{event.start.astimezone(ZoneInfo(ZONE)):%Y-%m-%d}"
    return next((s for s in SPELLS if s[0] == event.user and s[5] <= day <= (s[6] or "9999")), None)


def named(event: Event) -> str | None:
    row = spell(event)
    return row[2] if row else event.user and f"{event.user} (user)"


def test_names_and_attributes_are_those_of_the_day(placed: engines.Placed, known: engines.Logs) -> None:
    """Identities and departments by register equal events renamed one by one; time over a clock change included."""
    meanings = {"user": named, "user.department": lambda e: (spell(e) or [None] * 4)[3]}
    for by, meant in meanings.items():
        columns = ["count", "time", "distinct device"]
        _, table = engines.run(placed, known, period="2025-10-01/2026-03-31", by=[by], columns=columns)
        renamed = [dataclasses.replace(e, user=meant(e)) for e in EVENTS]
        expected = answer(renamed, PERIOD, ZoneInfo(ZONE), ["user"], columns)
        assert {r.shown: list(r.cells) for r in table.rows if any(r.cells)} == {
            k: v for k, v in expected.items() if any(v)
        }


def test_names_and_groups_in_filters(placed: engines.Placed, known: engines.Logs) -> None:
    """Somebody by label, a set of values, and how many different identities there are."""
    kept = [e for e in EVENTS if named(e) == "Bob's \\ name" and PERIOD[0] <= e.start < PERIOD[1]]
    _, table = engines.run(placed, known, period="2025-10-01/2026-03-31", only={"user": "2"}, columns=["count"])
    assert table.rows[0].cells[0] == len(kept)
    held = [e for e in EVENTS if "keys" in (spell(e) or [""] * 5)[4].split("|") and PERIOD[0] <= e.start < PERIOD[1]]
    asked = {"only": {"user.groups": "keys"}, "columns": ["count", "distinct user"]}
    _, table = engines.run(placed, known, period="2025-10-01/2026-03-31", **asked)
    assert table.rows[0].cells == (len(held), len({named(e) for e in held}))


def test_an_event_counts_in_each_value_of_a_set(placed: engines.Placed, logs: engines.Logs) -> None:
    """Counts, time and different users by tag equal a loop over the events; the total has each event once."""
    columns = ["count", "time", "distinct user"]
    _, table = engines.run(placed, logs, period="2025-10-01/2026-03-31", by=["tags"], columns=columns)
    for value in ("x", "y", None):
        renamed = [dataclasses.replace(e, user="hit") for e in EVENTS if value in (e.tags or (None,))]
        expected = answer(renamed, PERIOD, ZoneInfo(ZONE), ["user"], columns[:2])[("hit",)]
        users = {e.user for e in EVENTS if value in (e.tags or (None,)) and PERIOD[0] <= e.start < PERIOD[1]} - {None}
        (row,) = (r for r in table.body if r.keys == (value,))
        assert list(row.cells) == [*expected, len(users)]
    assert list(table.rows[-1].cells) == answer(EVENTS, PERIOD, ZoneInfo(ZONE), [], columns)[()]


def test_across_equals_by(placed: engines.Placed, logs: engines.Logs) -> None:
    """A grid holds the same figures as the list it is laid out from, totals included."""
    asked = {"period": "2025-12/2026-01", "columns": ["count", "time", "distinct device"]}
    _, grid = engines.run(placed, logs, by=["user"], across="month", **asked)
    _, listed = engines.run(placed, logs, by=["user", "month"], **asked)
    cells = {
        (row.shown[0] if row.shown else "", c.across_label, c.measure): cell
        for row in grid.rows
        for c, cell in zip(grid.measures, row.cells, strict=True)
    }
    for row in listed.body:
        for i, cell in enumerate(row.cells):
            assert cells[(*row.shown, i)] == cell
    assert listed.total
    assert [cells[("", "Total", i)] for i in range(3)] == list(listed.total.cells)


@pytest.mark.parametrize(
    ("filters", "expected"),
    [
        ({"only": {"device": {"like": "A*"}}}, lambda e: bool(e.device and e.device.startswith("A"))),
        ({"only": {"device": {"like": "A_1"}}}, lambda e: e.device == "A_1"),
        ({"only": {"device": {"like": "A%?"}}}, lambda e: e.device == "A%1"),
        ({"only": {"user": {"words": "AN"}}}, lambda e: bool(e.user and "an" in e.user.lower())),
        ({"only": {"pages": "2..3"}}, lambda e: e.pages is not None and 2 <= e.pages <= 3),
        ({"only": {"cost": {"from": "1.25"}}}, lambda e: e.cost is not None and e.cost >= 125),
        ({"only": {"duration": "1:30:00.."}},
         lambda e: e.finish is not None and e.finish - e.start >= timedelta(minutes=90)),
        ({"without": {"pages": "..3"}}, lambda e: not (e.pages is not None and e.pages <= 3)),
        ({"any_of": [{"user": "Ann"}, {"device": "B"}]}, lambda e: e.user == "Ann" or e.device == "B"),
        ({"only": {"tags": ["x", "y"]}}, lambda e: bool(e.tags)),
        ({"only": {"user": ["Ann", ""]}}, lambda e: e.user in ("Ann", None)),
    ],
    ids=lambda value: str(value) if isinstance(value, dict) else "",
)  # fmt: skip
def test_filters(placed: engines.Placed, logs: engines.Logs, filters: dict[str, Any], expected: Any) -> None:
    """Each kind of condition keeps exactly the events it says; special characters of patterns are plain text."""
    _, table = engines.run(placed, logs, period="2025-10-01/2026-03-31", columns=["count"], **filters)
    assert table.total
    assert table.total.cells == (sum(PERIOD[0] <= e.start < PERIOD[1] and expected(e) for e in EVENTS),)


@pytest.mark.parametrize(
    "measure", ["count", "time", "total pages", "total cost", "distinct user", "present user", "share time"]
)
@pytest.mark.parametrize("by", [["user", "month"], ["weekday"], ["hour of day", "device"], ["month"]], ids=str)
def test_contributions_add_up_to_the_cell(
    request: pytest.FixtureRequest, placed: engines.Placed, logs: engines.Logs, measure: str, by: list[str]
) -> None:
    """The records behind any cell, at every level, add up to it."""
    few = 2 if "spark" in request.node.name else 6  # each is a query of its own
    plan, _ = engines.run(placed, logs, period="2025-10-01/2026-03-31", by=by, columns=[measure])
    base = measure.removeprefix("share ")
    _, plainly = engines.run(placed, logs, period="2025-10-01/2026-03-31", by=by, columns=[base])
    rows = list(plainly.rows)
    for row in [*Random(3).sample(rows, min(few, len(rows))), rows[-1]]:
        cell = Cell(tuple(zip(plan.by, row.keys, strict=False)), 0)
        found = engines.records(placed, plan, cell).column("contribution_").to_pylist()
        assert sum(found) == row.cells[0], row


@pytest.mark.parametrize("measure", ["mean pages", "mean duration"])
def test_contributions_to_a_mean(placed: engines.Placed, logs: engines.Logs, measure: str) -> None:
    """The values behind a mean, added up and divided by their number, give it at every level."""
    plan, table = engines.run(placed, logs, period="2025-10-01/2026-03-31", by=["user"], columns=[measure])
    for row in table.rows:
        cell = Cell(tuple(zip(plan.by, row.keys, strict=False)), 0)
        found = engines.records(placed, plan, cell).column("contribution_").to_pylist()
        if row.cells[0] is None:
            assert not found
        else:
            assert abs(sum(found) / len(found) - row.cells[0]) <= (0.5 if "duration" in measure else 1e-9)


@pytest.mark.parametrize(
    "measure", ["median duration", "percentile 90 pages", "min cost", "max duration", "first", "last"]
)
def test_witnesses_have_the_value_of_the_cell(placed: engines.Placed, logs: engines.Logs, measure: str) -> None:
    """An order statistic is a value that occurred, and its records are those that have it."""
    plan, table = engines.run(placed, logs, period="2025-10-01/2026-03-31", by=["user"], columns=[measure])
    for row in table.rows:
        cell = Cell(tuple(zip(plan.by, row.keys, strict=False)), 0)
        found = engines.records(placed, plan, cell).column("contribution_").to_pylist()
        assert set(found) == ({row.cells[0]} if row.cells[0] is not None else set())


def test_top_keeps_ties_and_sums_the_rest(placed: engines.Placed, logs: engines.Logs) -> None:
    """The rest of a top N is one row whose distinct counts are counted, not added."""
    plan, full = engines.run(
        placed, logs, period="2025-10-01/2026-03-31", by=["user"], columns=["count", "distinct device"]
    )
    import dataclasses

    from fermata.analysis import combine
    from fermata.analysis.finish import finish
    from fermata.analysis.order import outermost

    plan = dataclasses.replace(plan, top=2, sort=((0, True),))
    figures = combine.gather(plan, lambda strand: placed)
    kept = outermost(plan, figures, 2)
    plan = dataclasses.replace(plan, kept=tuple(kept))
    table = finish(plan, combine.gather(plan, lambda strand: placed), lambda strand, slot: True)
    rest = {e.device for e in EVENTS if PERIOD[0] <= e.start < PERIOD[1] and e.user not in kept and e.device}
    assert [row.shown[0] for row in table.body][-1] == "(everyone else)"
    assert table.body[-1].cells[1] == len(rest)
    assert sum(row.cells[0] for row in table.body) == full.total.cells[0]  # type: ignore[union-attr]


def test_nothing_in_the_period_gives_zeros(placed: engines.Placed, logs: engines.Logs) -> None:
    """An empty selection is a total of zero and no groups, on every engine."""
    _, table = engines.run(
        placed, logs, period="2020", by=["user"], columns=["count", "time", "distinct user", "median pages"]
    )
    assert [row.cells for row in table.rows] == [(0, 0, 0, None)]


def test_a_total_beyond_64_bits_is_refused(placed: engines.Placed) -> None:
    """An overflow is an error, never a wrapped or rounded figure."""
    engine, table = placed
    with pytest.raises(TooLarge):
        engine.run(table.aggregate(c0=(table.record_no * 0 + 9_000_000_000_000_000_000).sum().cast("int64")))


def test_the_mark_of_events_is_the_same(placed: engines.Placed) -> None:
    """The number of events and the sum of their MD5s, as it is defined: what proves that a kept run saw the events
    there are.
    """
    engine, table = placed
    columns = {c: kind for c, kind in engines.SCHEMA.columns.items() if c not in PROVENANCE}
    rows = [dict(zip(engines.SCHEMA.columns, row, strict=True)) for row in engines.rows(EVENTS)]
    told = [{c: engines.as_told(row[c]) for c in columns} for row in rows]
    assert engine.summed(table, columns) == (len(EVENTS), int(engines.slow_sum(told), 16))
    assert engine.summed(table.filter(table.start_utc.isnull()), columns) == (0, 0)


def test_rows_in_order_are_all_rows(placed: engines.Placed) -> None:
    """Sorted stretch by stretch or at once: the order of their times, then of their records, and none is lost where two
    stretches meet.
    """
    engine, table = placed
    rows = sorted(engines.rows(EVENTS), key=lambda r: (r[0], r[-3:]))
    edges = [rows[0][0], *(rows[n][0] for n in (1, len(rows) // 2)), rows[-1][0] + timedelta(microseconds=1)]
    came = [t for t in engine.in_order(table, ("start_utc", *PROVENANCE), edges) if t.num_rows]
    assert [tuple(r.values())[-3:] for t in came for r in t.to_pylist()] == [r[-3:] for r in rows]


@pytest.mark.parametrize("different", [False, True])
def test_columns_with_filters_of_their_own_are_worked_out_in_one_reading(
    placed: engines.Placed, logs: engines.Logs, different: bool
) -> None:
    """Each is what a report with that filter alone says, also where it leaves a group nothing; the events are read
    once.
    """
    own: list[tuple[str, dict[str, Any]]] = [
        ("count", {"only": {"action": "in"}}),
        ("total pages", {"only": {"device": "A"}}),
        ("last", {"without": {"action": "in"}}),
        ("max cost", {"only": {"user": "Bob", "action": "out"}}),
        ("mean pages", {}),
        *(
            [("distinct device", {"without": {"action": "in"}}), ("distinct device", {"only": {"user": "Ann"}})]
            if different
            else []
        ),
    ]
    asked = {"period": "2025-10-01/2026-03-31", "by": ["user", "month"]}
    engine = placed[0]
    runs, run = [], engine.run
    engine.run = lambda expr: runs.append(expr) or run(expr)
    try:
        _, table = engines.run(placed, logs, columns=[{"measure": m, **f} for m, f in own], **asked)
    finally:
        engine.run = run
    assert different or len(runs) == 1
    together = {r.shown: r.cells for r in table.rows}
    for i, (measure, filters) in enumerate(own):
        _, alone = engines.run(placed, logs, columns=[measure], **filters, **asked)
        expected = {r.shown: r.cells[0] for r in alone.rows}
        nothing = 0 if measure in ("count", "total pages", "distinct device") else None
        for shown, cells in together.items():
            assert cells[i] == expected.get(shown, nothing), (measure, shown)
