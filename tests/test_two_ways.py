"""What can be asked for in two ways is one figure: over all logs of the sample and every measure they have, and over
all ready reports.
"""

from __future__ import annotations

import itertools
import tomllib
from pathlib import Path
from typing import Any

import pytest

import fermata
from fermata.analysis.measures import LENGTHS
from fermata.api.workspace import Workspace
from fermata.errors import FermataError, RequestError
from fermata.fields import LogSchema
from fermata.reports.compile import parts
from fermata.reports.definition.report import Report
from fermata.reports.result import Page, RunResult
from tests.conftest import DEEP, NOW
from tests.test_over_all import READY, added, asked, items

DEMO = Path(__file__).parent.parent / "src/fermata/demo/quillmere/fermata.toml"
LOGS = list(tomllib.loads(DEMO.read_text())["logs"]) if DEEP else ["open-doors"]
PERIOD = "2026-02-26/2026-03-11"  # the end of a month, and days of three weeks
SPAN_MEASURES = ("time", "union", "overlap", "peak", "peak time", "concurrency", "mean duration",
    "median duration", "max duration", "min duration", "present user", "share time", "at 2",
    "over 8h day")  # fmt: skip
UNITS = (("day", "2026-03-27/2026-03-31"), ("week", "2026-03-16/2026-04-05"), ("month", "2026-01/2026-03"))
PAGES = [n for n in READY if READY[n].load().parts]
SINGLE = [n for n in READY if n not in PAGES]
pytestmark = [pytest.mark.deep] if DEEP else []

Figures = dict[tuple[Any, ...], tuple[Any, ...]]


def fields(house: Workspace, log: str, *kinds: str) -> list[str]:
    """The log's own fields of these kinds."""
    return [f.name for f in house.base.schemas[log].fields if f.type in kinds]


def measures(house: Workspace, log: str, *by: str, without: tuple[str, ...] = ()) -> list[str]:
    """Every measure that the log can have by these groups, those of each of its fields included."""
    schema: LogSchema = house.base.schemas[log]
    wanted = ["days", "uncovered", "count", "p95 duration"]
    if DEEP:
        wanted += ["workdays", "months", "first", "last", "distinct day", *(SPAN_MEASURES if schema.spans else ())]
        wanted += [f"distinct {name}" for name in fields(house, log, "text")]
        for name in fields(house, log, "number", "money", "decimal", "duration"):
            wanted += [f"{how} {name}" for how in ("total", "mean", "median", "max", "min", "p90")]
    return [
        m for m in wanted
        if not m.startswith(without) and answers(house, Report.of(log=log, period="2026-03-02", by=by, columns=[m]))
    ]  # fmt: skip


def answers(house: Workspace, report: Report) -> bool:
    try:
        house.run(report)
    except RequestError:
        return False
    return True


def figures(house: Workspace, report: Report) -> Figures:
    return {r.keys: r.cells for r in house.run(report).table.body}


def group(house: Workspace, log: str) -> str:
    """A field with few values."""
    return next(
        f
        for f in ("action", "device", "place", "user", *fields(house, log, "text"))
        if f in house.base.schemas[log].by_name
    )


@pytest.fixture(scope="module", params=LOGS)
def log(request: pytest.FixtureRequest, hall: Workspace) -> str:
    if hall.base.place().extent(request.param) is None:
        pytest.skip("nothing of it is imported here")
    return str(request.param)


def test_a_column_is_what_it_is_alone(hall: Workspace, log: str) -> None:
    """Whatever stands beside it and takes its events another way."""
    for by in ((), (group(hall, log),), ("week",), (group(hall, log), "day")):
        columns = measures(hall, log, *by)
        base = Report.of(log=log, period=PERIOD, by=by)
        beside = figures(hall, base.changed(columns=columns))
        for number, column in enumerate(columns):
            alone = figures(hall, base.changed(columns=[column]))
            assert alone.keys() <= beside.keys(), (column, by)
            assert {k: c[0] for k, c in alone.items()} == {k: beside[k][number] for k in alone}, (column, by)
            more = {beside[k][number] for k in beside.keys() - alone.keys()}
            assert more <= {None, 0} or column in LENGTHS, (column, by)


def test_a_unit_is_the_period_of_its_name(hall: Workspace, log: str) -> None:
    """The row of a day, week or month is the report of that day, week or month, of each group too."""
    columns = measures(hall, log, group(hall, log), "day", without=("share",))
    for unit, period in UNITS if DEEP else UNITS[1:2]:
        for by in ((), (group(hall, log),)):
            base = Report.of(log=log, columns=columns)
            rows = hall.run(base.changed(period=period, by=(unit, *by))).table.body
            for shown in dict.fromkeys(r.shown[0] for r in rows):
                alone = figures(hall, base.changed(period=shown, by=by))
                beside = {r.keys[1:]: r.cells for r in rows if r.shown[0] == shown}
                if not any(cells[0] for cells in beside.values()):  # no day of it is in the log
                    assert not any(itertools.chain(*beside.values(), *alone.values())), (shown, by)
                    continue
                assert beside == alone, (shown, by)


def test_a_grid_is_its_rows_beside_each_other(hall: Workspace, log: str) -> None:
    own = group(hall, log)
    columns = measures(hall, log, own, "week", without=("share",))
    base = Report.of(log=log, columns=columns, period="2026-02/2026-03")
    for by, across in (((own,), "month"), (("week",), own), ((), own)):
        rows = figures(hall, base.changed(by=(*by, across)))
        table = hall.run(base.changed(by=by, across=across)).table
        assert all(c.label == c.label.strip() for c in table.columns)
        cells: dict[tuple[Any, ...], list[Any]] = {}
        for row in table.body:
            for column, cell in zip(table.measures, row.cells, strict=True):
                if not column.across_total:
                    cells.setdefault((*row.keys, column.across), []).append(cell)
        assert {k: tuple(c) for k, c in cells.items() if k in rows} == rows, (by, across)
        of_events = [i for i, m in enumerate(columns) if m not in LENGTHS]
        assert {c[i] for k, c in cells.items() if k not in rows for i in of_events} <= {None, 0}, (by, across)
        without = hall.run(base.changed(by=by, across=across, totals=False)).table
        assert [r.cells for r in without.body] == [r.cells for r in table.body], (by, across)
        whole = figures(hall, base.changed(by=by))
        for row in table.body:
            in_total = tuple(x for x, c in zip(row.cells, table.measures, strict=True) if c.across_total)
            assert in_total == whole[row.keys], (by, across)


def test_hours_and_all_others_are_all(hall: Workspace, log: str) -> None:
    added = ["count", *(m for m in measures(hall, log) if m == "time" or m.startswith("total "))]
    base = Report.of(log=log, columns=added, period="2026-03", by=("day",))
    parted = [figures(hall, base.changed(hours=h)) for h in ("office", "outside office")]
    for keys, cells in figures(hall, base).items():
        both = [found[keys] for found in parted if keys in found]
        assert [sum(x or 0 for x in c) for c in zip(*both, strict=True)] == [x or 0 for x in cells], keys


def test_groups_in_another_order_are_the_same(hall: Workspace, log: str) -> None:
    one, two = group(hall, log), "weekday"
    columns = measures(hall, log, one, two, without=("share",))
    base = Report.of(log=log, columns=columns, period="2026-03")
    there = figures(hall, base.changed(by=(two, one)))
    assert figures(hall, base.changed(by=(one, two))) == {(b, a): c for (a, b), c in there.items()}


def test_a_zone_moves_the_edges_of_the_period(hall: Workspace, log: str) -> None:
    own = group(hall, log)
    columns = measures(hall, log, own, without=("days", "workdays", "months", "distinct day", "over"))
    base = Report.of(log=log, columns=columns, by=(own,))
    there = base.changed(zone="Asia/Tokyo", period="2026-03")
    here = base.changed(period="2026-02-28T15:00/2026-03-31T16:00")
    assert figures(hall, there) == figures(hall, here)


@pytest.mark.parametrize("name", PAGES if DEEP else PAGES[:1])
def test_a_part_of_a_page_is_the_report_alone(hall: Workspace, name: str) -> None:
    page = asked(name)
    found = hall.run(page).answer
    assert isinstance(found, Page)
    compared = 0
    for part, shown in zip(page.parts, found.parts, strict=False):
        if shown.item is None or part.each:
            continue
        alone = hall.run(parts.resolved(page, part, hall.base.place())).answer
        if isinstance(shown.item, RunResult):
            assert isinstance(alone, RunResult)
            assert alone.table == shown.item.table
            assert set(alone.notes) <= {*shown.item.notes, *found.notes}
        else:
            assert list(alone.rows) == list(shown.item.rows)
        compared += 1
    assert compared


def in_order(values: list[Any], descending: bool) -> bool:
    """Whether the known values are in order and the unknown last."""
    known = [v for v in values if v is not None]
    return values[: len(known)] == known == sorted(known, reverse=descending)


ORDERED = (
    ("count", "share count of parent", "share count of place"),
    ("distinct day", "rank count", "Per day = count / days"),
)


@pytest.mark.parametrize("name", SINGLE if DEEP else ("busiest-call-hours",))
def test_rows_stand_in_the_order_of_what_they_show(hall: Workspace, name: str) -> None:
    """By every column, upwards and downwards; groups by their subtotals."""
    compared = 0
    for more in ({}, *({"by": ("user", "place"), "columns": c} for c in (ORDERED if DEEP else ORDERED[:1]))):
        base = asked(name).changed(rows=(), warn=(), top=None, **more)
        try:
            columns = hall.run(base).table.measures
        except RequestError:
            continue
        for number, column in enumerate(columns):
            if column.across is not None or column.type == "text":  # a verdict
                continue
            for sign in ("", "-"):
                table = hall.run(base.changed(sort=[sign + column.label])).table
                depth = len(table.dimensions)
                beside: dict[tuple[Any, ...], list[Any]] = {}
                order: dict[tuple[Any, ...], None] = {}
                cells = {r.keys: r.cells[number] for r in table.rows}
                for row in table.body:
                    for d in range(1, depth + 1):
                        order.setdefault(row.keys[:d])
                for key in order:
                    if key in cells:  # a group of one row has no subtotal
                        beside.setdefault(key[:-1], []).append(cells[key])
                for group, values in beside.items():
                    assert in_order(values, sign == "-"), (more, column.label, sign, group, values)
                    compared += len(values) > 1
    assert compared or name != "busiest-call-hours"


@pytest.mark.parametrize("name", SINGLE if DEEP else ("busiest-call-hours", "doors-not-used"))
def test_what_a_viewer_reads_is_the_report_of_what_they_see(hall: Workspace, name: str) -> None:
    """But how long ago something was: where a log ends is told to the hour, as the last event may be another's."""
    try:
        narrow = items(fermata.open(hall.path, now=NOW, viewer="zelda").run(asked(name)))
        whole = items(hall.run(added(asked(name), "only", "user", "Zelda Bellwether")))
    except FermataError:  # about somebody else, not for viewers, or of a register without people
        return
    for mine, filtered in zip(narrow, whole, strict=True):
        if isinstance(mine, RunResult):
            ago = [c.formula is not None and "since" in str(c.formula) for c in mine.plan.columns]
            known = [i for i, c in enumerate(mine.table.measures) if not ago[c.measure] and c.type != "text"]
            rows = [[(r.keys, *(r.cells[i] for i in known)) for r in item.table.rows] for item in (mine, filtered)]
            assert sorted(rows[0], key=repr) == sorted(rows[1], key=repr)
