"""Filters, measures, charts and threads looked at over all ready reports and all measures, so that no single case has
to be known beforehand.
"""

from __future__ import annotations

import itertools
import random
import re
import threading
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from fermata.analysis.filters import conditions
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.table import Row
from fermata.api.result import Result
from fermata.api.workspace import Workspace
from fermata.engines.answers import FEW as FEW_ROWS
from fermata.errors import FermataError, RequestError
from fermata.outputs import drawing
from fermata.proof import fingerprint
from fermata.reports.compile.request import HONOURED, compiled
from fermata.reports.definition.catalogue import entries
from fermata.reports.definition.report import Report
from fermata.reports.result import Page, Records, RunResult
from tests.conftest import DEEP, NOW

GIVEN = {"user": "Ada Umberlin", "device": "Score vault", "place": "Library", "other": "+441632960170"}
READY = entries()
FEW = ("refused-entries", "licence-uptake")
SHOWN = [n for n in READY if DEEP or n in FEW]
EVERY = 1 if DEEP else 3  # which of a long row of cases are tried
pytestmark = [pytest.mark.deep] if DEEP else []  # a few of them each time, all when testing deeply
FIELDS = ("device", "place", "user", "other", "action")
WAYS = ("only", "without", "any_of")


def asked(name: str) -> Report:
    """The ready report with what it asks for."""
    report = READY[name].load()
    return report.changed(only=report.only + conditions({f: GIVEN[f] for f in report.must_name}))


def way(key: str, field: str, *values: str) -> dict[str, Any]:
    """A filter of one of the three kinds, as a report has it."""
    one = {field: list(values)}
    return {"any_of": [[one]]} if key == "any_of" else {key: one}


def added(report: Report, key: str, field: str, *values: str) -> Report:
    """The report with a further filter."""
    more = Report.of(log="any", **way(key, field, *values))
    return report.changed(**{key: getattr(report, key) + getattr(more, key)})


def items(result: Result) -> list[Any]:
    """The tables and listings of an answer."""
    found = result.answer
    return [p.item for p in found.parts if p.item is not None] if isinstance(found, Page) else [found]


@pytest.mark.parametrize("key", WAYS)
@pytest.mark.parametrize("name", SHOWN)
def test_a_filter_that_could_do_nothing_is_refused(hall: Workspace, name: str, key: str) -> None:
    """An unknown field, an unknown value and one unknown among known ones, for every ready report, on a page by each of
    its parts.
    """
    report = asked(name)
    wrong = [("nosuch", ("1",)), ("user", ("No Such Person",)), ("user", ("Ada Umberlin", "No Such Person"))]
    for field, values in wrong:
        try:
            found = hall.run(added(report, key, field, *values))
        except RequestError:
            continue
        assert isinstance(found.answer, Page), (field, values)
        for part in found.answer.parts:  # a part whose log has no such field, or no such value, says so
            assert part.item is None or isinstance(part.item, RunResult | Records), part
            assert field in part.note or values[-1] in part.note, (part.title, part.note, field, values)


@pytest.mark.parametrize("name", [n for n in READY if any(c.field == "action" for c in READY[n].load().only)][::EVERY])
def test_an_unknown_value_beside_a_reports_own_is_refused(hall: Workspace, name: str) -> None:
    """Conditions on one field are alternatives, so that the figures of one say nothing of the other."""
    with pytest.raises(RequestError, match="teleported"):
        hall.run(added(asked(name), "only", "action", "teleported"))


@pytest.mark.parametrize("name", SHOWN)
def test_a_filter_keeps_what_its_group_shows(hall: Workspace, name: str) -> None:
    """A known value in `only` gives the rows that its group has without it; `without` all others; `any_of` the same as
    `only`.
    """
    report = asked(name)
    if report.parts or report.ask or report.listing or report.register_name or report.each:
        return
    plan = fingerprint.plans_of(report, hall.base.place(), NOW)[0]
    every = [s.schema.by_name for s in plan.strands]
    field = next((f for f in FIELDS if all(f in names for names in every) and f not in report.must_name), "")
    if not field or any(c.measure.startswith(("share", "rank", "before")) for c in report.columns):
        return
    rest = {
        "across": None,
        "sort": (),
        "top": None,
        "rows": (),
        "checks": (),
        "warn": (),
        "chart": "",
        "compare": None,
        "zero_rows": None,
    }
    if len({s.schema.name for s in plan.strands}) > 1:
        return
    own = report.changed(
        by=(field, *(d for d in report.by if d != field)), totals=False, no_others=False, expect="", **rest
    )
    try:
        table = hall.run(own).table
    except RequestError:  # a measure that means nothing by this field
        return
    whole = {r.keys: r.cells for r in table.body}
    seen = next((r for r in table.body if isinstance(r.keys[0], str) and r.shown[0] != "(none)"), None)
    if seen is None:
        return
    value, key = seen.shown[0], seen.keys[0]
    kept = {k: c for k, c in whole.items() if k[0] == key}
    for one in ("only", "any_of"):
        assert {r.keys: r.cells for r in hall.run(added(own, one, field, value)).table.body} == kept
    others = {r.keys: r.cells for r in hall.run(added(own, "without", field, value)).table.body}
    assert others == {k: c for k, c in whole.items() if k[0] != key}


def scaled(made: Any, plain: Any) -> bool:
    """Whether a formula gives more decimals than its measure has."""
    return bool(made.measures[0].scale != plain.measures[0].scale)


MEASURES = (
    ("doors", "count"), ("doors", "distinct user"), ("doors", "distinct day"), ("calls", "time"), ("calls",
     "total duration"),
    ("calls", "mean duration"), ("calls", "median duration"), ("calls", "p95 duration"), ("calls", "max duration"),
    ("calls", "mean mos"), ("prints", "total pages"), ("prints", "total cost"), ("calls", "peak"), ("doors", "first"),
)  # fmt: skip


@pytest.mark.parametrize(("log", "measure"), MEASURES[::EVERY])
def test_a_measure_is_the_same_quantity_wherever_it_stands(hall: Workspace, log: str, measure: str) -> None:
    """Renamed, alone in a formula, in a subtotal, in rows, in a limit and as a chart, it keeps its kind and its
    figure.
    """
    base = Report.of(log=log, period="2026-03", by=["device"], columns=[measure])
    plain = hall.run(base).table
    named = hall.run(base.changed(columns=[{"label": "X", "measure": measure}])).table
    assert [r.cells for r in named.rows] == [r.cells for r in plain.rows]
    assert named.measures[0].type == plain.measures[0].type
    made = hall.run(base.changed(columns=[{"label": "X", "formula": measure}])).table
    assert made.measures[0].type == plain.measures[0].type.removeprefix("mean ")
    scale = 10 ** (made.measures[0].scale - plain.measures[0].scale) if scaled(made, plain) else 1
    assert [r.cells[0] for r in made.body] == [
        c if scale == 1 or c is None else c * scale for c in (r.cells[0] for r in plain.body)
    ]
    ordered = hall.run(base.changed(columns=[{"label": "X", "measure": measure}], sort=["-X"])).table
    values = [r.cells[0] for r in ordered.body if r.cells[0] is not None]
    assert values == sorted(values, reverse=True)
    if measure != "first":
        drawn = drawing.of(hall.run(base.changed(chart="ranked")).answer)
        assert len(drawn.names) == len([r for r in plain.body if r.cells[0] is not None]) or drawn.notes


@pytest.mark.parametrize("name", SHOWN)
def test_a_picture_shows_all_rows_or_says_the_rest(hall: Workspace, name: str) -> None:
    """Of every ready report that is drawn: its rows are there in their order, or the rest is counted, and its filters
    are told.
    """
    report = asked(name)
    for item in items(hall.run(report)):
        if not isinstance(item, RunResult):
            continue
        try:
            found = drawing.of(item)
        except RequestError:
            continue
        first = list(dict.fromkeys(r.shown[0] for r in item.table.body if r.shown))
        rest = [re.search(r"all others \(([\d,]+)\)", n) for n in (*found.names, *found.series)]
        left = sum(int(m[1].replace(",", "")) - 1 for m in rest if m)
        drawn = max(len(found.names), len(found.series))
        assert drawn + left >= len(first) or found.notes, (name, drawn, left, len(first))
        told = " ".join(map(str, found.lines))
        if report.only or report.without:
            assert any(w in told for w in ("only ", "without ")), (name, told)


def test_threads_that_share_a_workspace_get_their_own_answers(hall: Workspace) -> None:
    """Eight threads in random order over one workspace: every answer is the one a single thread gets."""
    logs = ("doors", "calls", "prints", "timesheets", "logins", "sessions", "visits", "desk-sessions")
    reports = [Report.of(log=n, period="2026-03", by=["user"], columns=["count"]) for n in logs]
    reports += [Report.of(log="calls", period="2026-03", by=["day"], columns=["time", "peak"])]
    expected = [[(r.keys, r.cells) for r in hall.run(r_).table.rows] for r_ in reports]
    wrong: list[Any] = []

    def work(seed: int) -> None:
        order = random.Random(seed)
        for _ in range(6 if DEEP else 2):
            at = order.randrange(len(reports))
            try:
                got = [(r.keys, r.cells) for r in hall.run(reports[at]).table.rows]
            except Exception as e:  # whatever goes wrong in a thread fails the test
                wrong.append((at, repr(e)))
                continue
            if got != expected[at]:
                wrong.append((at, "other figures"))

    threads = [threading.Thread(target=work, args=(n,)) for n in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []


@pytest.mark.parametrize("name", SHOWN)
def test_without_totals_the_rows_are_the_same(hall: Workspace, name: str) -> None:
    """Of all groups, and of the first two with the rest as one; in their order, too."""
    ranked = {"by": ("user", "action"), "columns": ("count",), "sort": ("-count",)}
    for more in ({}, {"top": 2}, {"top": 2, "by": ("user", "action")}, ranked):
        try:
            found = [items(hall.run(asked(name).changed(totals=totals, **more))) for totals in (True, False)]
        except RequestError:
            continue
        for whole, without in zip(*found, strict=True):
            if isinstance(whole, RunResult):
                assert figures_of(whole) == figures_of(without), more
                assert [r.keys for r in whole.table.body] == [r.keys for r in without.table.body], more


@pytest.mark.parametrize("name", SHOWN)
def test_rows_of_a_top_are_those_of_all_groups(hall: Workspace, name: str) -> None:
    """Whatever is beside them, what goes on from day to day included; the rest is one group more."""
    onwards = ("count", "running count", "opening count", "all-time count", "rank count")
    beside = ("count", "share count", "rank count", "days", "distinct device", "first")
    lasting = ("time", "rank time", "union", "peak", "concurrency", "present user")
    wanted = [(by, onwards) for by in (("day",), ("day", "user"), ("week",))]
    wanted += itertools.product((("user",), ("day",), ("user", "day")), (beside, lasting, ("rank count", "count")))
    compared = 0
    for more in ({}, {"by": ("day",)}, *({"by": by, "columns": columns} for by, columns in wanted)):
        try:
            plain = asked(name).changed(rows=(), warn=(), zero_rows=None, no_others=False, sort=(), **more)
            found = [items(hall.run(plain.changed(top=top))) for top in (None, 2)]
        except RequestError:
            continue
        for whole, part in zip(*found, strict=True):
            if isinstance(whole, RunResult):
                every, shown = ({r.keys: cells_of(r) for r in item.table.body} for item in (whole, part))
                rest = {k for k in shown if k[:1] in ((ELSE_TEXT,), (ELSE_LABEL,))}
                assert [every[k] for k in shown if k not in rest] == [shown[k] for k in shown if k not in rest], more
                groups = {k[0] for k in shown if k not in rest}
                assert groups or not any(any(cells) for cells in every.values())
                assert len(groups) <= 2 or any("top 2 takes" in n for n in part.notes)
                compared += len(groups)
    assert compared


def figures_of(item: RunResult) -> list[Any]:
    """The rows, whatever their order; verdicts in words count the totals they were tried with."""
    return sorted(((repr(r.keys), cells_of(r)) for r in item.table.body), key=repr)


def cells_of(row: Row) -> list[Any]:
    """A row's figures without its verdicts."""
    return [c for c in row.cells if not isinstance(c, str)]


PAGES = [n for n in READY if READY[n].load().parts][::EVERY]


@pytest.mark.parametrize("name", PAGES)
def test_parts_of_a_page_ask_nothing_twice(hall: Workspace, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    """What several parts need of a log is worked out once, and nothing of it stays when the page is done."""
    engine, said = hall.base.engine, list[str]()
    plain = engine.do
    monkeypatch.setattr(engine, "do", lambda text: said.append(text) or plain(text))  # type: ignore[func-returns-value]
    again = hall.run(asked(name))
    questions = [t for t in said if t.startswith(("SELECT", "WITH", "CREATE TEMP TABLE"))]
    rows = {t: plain(t).fetchall() for t in {t for t in questions if questions.count(t) > 1 and "kept_" not in t}}
    assert not [t for t, found in rows.items() if len(found) <= FEW_ROWS]
    tables = "SELECT table_name FROM information_schema.tables WHERE table_name LIKE 'kept%'"
    assert plain(tables).fetchall() == []
    assert [p.title for p in again.answer.parts]  # type: ignore[union-attr]


IDLE: dict[str, Any] = {
    "by": ["place"], "across": "month", "sort": ["-count"], "top": 2, "hours": "office", "compare": "before",
    "full_period": True, "rows": ["Count > 1"], "warn": ["Count > 1"], "columns": ["time"], "totals": False,
    "chart": "bar", "period": "2025-12", "zone": "Asia/Tokyo", "zero_rows": "user", "as_known": "2026-02-01",
}  # fmt: skip


LOOK = ("zone", "chart", "as_known")  # not in the digest of every request


@pytest.mark.parametrize("shape", ["figures", *HONOURED])
def test_a_key_changes_what_is_asked_or_is_refused(hall: Workspace, shape: str) -> None:
    """For a ready report of every shape: a key that it does not go by is no silent part of it."""
    every = (asked(name) for name in READY)
    of = {"page": "parts", "register": "register_name", "listing": "listing", "figures": "columns"}
    fits = (
        r for r in every if (r.ask and r.ask.what == shape) or (shape in of and not r.ask and getattr(r, of[shape]))
    )
    report = next((r for r in fits if shape != "figures" or not (r.parts or r.listing or r.register_name)), None)
    if report is None:
        report = Report.of(log="doors", ask=shape)
    place = hall.base.place()
    for key, value in IDLE.items():
        try:
            found = compiled(report.changed(**{key: value}), place, NOW)
        except RequestError:
            continue
        assert key in HONOURED.get(shape, IDLE), key
        assert found.digest != compiled(report, place, NOW).digest or key in LOOK, key


COMPARED = [*itertools.product(
    ("2026-02", "2026-03", "2025-11", "2026-Q1", "2026-W05", "2026-02-03/2026-02-27"),
    ("before", "year ago", "weekdays before"),
)]  # fmt: skip


@pytest.mark.parametrize(("period", "how"), COMPARED if DEEP else COMPARED[::4])
def test_a_comparison_is_two_reports_beside_each_other(hall: Workspace, period: str, how: str) -> None:
    """Unit by unit in their order, whichever period has more of them; where one has none nothing stands, and no zero
    where the log covers nothing. The change of the total is that of the totals.
    """
    for unit in ("day", "week", "month"):
        asked = hall.log("doors").during(period).by(unit).measure("count")
        beside = asked.compare(how).run()
        other = beside.data.plan.compared
        assert other
        assert other.days
        first, after = other.days
        there = hall.log("doors").during(first, after - timedelta(days=1)).by(unit).measure("count").run()
        pairs = itertools.zip_longest(asked.run().table.body, there.table.body)
        expected = [((a or b).shown, a.cells[0] if a else None, b.cells[0] if b else None) for a, b in pairs]
        assert [(r.shown, *r.cells[:2]) for r in beside.table.body] == expected
        for row in beside.table.body:
            now, before, change, part = row.cells
            assert change == (None if None in (now, before) else now - before)
            assert part == (change / before if change is not None and before else None)
        now, before, _, part = beside.table.total.cells
        assert (now, before or 0) == (asked.run().cell(), there.cell() or 0)
        assert part == ((now - before) / before if before else None)
        assert ("stand alone" in str(beside.notes)) is (len(expected) > len(asked.run().table.body))


PERIODS = ("2026-02", "2026-03", "2025-11", "2026-Q1", "2026-W05", "2026-03-29", "2025-10-26", "2026", "last month",
    "2026-02-10/2026-03-09", "2026-03-29T00:30/2026-03-29T03:30", "2025-12-28/2026-01-03", "2027")  # fmt: skip
UNITS = ("hour", "day", "week", "month", "quarter", "year", "weekday", "hour of day", "fiscal year")
ANY_MEASURE = ("count", "count", "time", "mean duration", "distinct user", "peak", "running count", "share count",
    "share count of parent", "rank count", "first", "last", "p95 duration", "distinct day", "before count", "union",
    "count per day", "utilisation", "total duration", "Count / days")  # fmt: skip
FORMS = ("txt", "csv", "json", "xml", "html", "md", "xlsx", "parquet", "png")


def drawn_by_lot(chance: random.Random, house: Workspace) -> dict[str, Any]:
    """A report of any keys at all, sensible or not."""
    log = chance.choice(list(house.base.schemas))
    fields = [f.name for f in house.base.place().registers.widened(house.base.schemas[log]).fields]
    by = list(dict.fromkeys(chance.choices([*UNITS, *UNITS, *fields], k=chance.choice((0, 1, 1, 1, 2, 2)))))
    report = {"log": log, "period": chance.choice(PERIODS), "by": by, "columns": chance.sample(ANY_MEASURE, 2)}
    further: dict[str, tuple[Any, ...]] = {
        "compare": ("before", "year ago", "weekdays before", "2026-01"), "across": (*UNITS, *fields), "top": (1, 3),
        "hours": ("office", "outside office", "night"), "rounding": ("up 15 minutes",), "totals": (False,),
        "zone": ("Asia/Kolkata", "America/Sao_Paulo", "Pacific/Apia"), "zero_rows": ("user", "device", "action"),
        "sort": (["-count"], by[:1]), "measures": ("down",), "chart": ("bar", "line", "stacked", "heat map", "share"),
        "warn": (["Count > 3"],), "each": tuple(fields[:3]),
    }  # fmt: skip
    return report | {key: chance.choice(values) for key, values in further.items() if chance.random() < 0.2}


@pytest.mark.parametrize("seed", range(40 if DEEP else 3))
def test_any_question_is_answered_or_refused(hall: Workspace, tmp_path: Path, seed: int) -> None:
    """Asked by lot, written in a form by lot, a figure followed by lot: nothing ends in any other way, and counts add
    up.
    """
    chance = random.Random(seed)
    for number in range(10):
        asked = drawn_by_lot(chance, hall)
        try:
            found = hall.run(Report.of(**asked))
            found.save(tmp_path / f"{number}.{chance.choice(FORMS)}")
            for row in chance.sample(found.table.rows, min(len(found.table.rows), 1)):
                found.events(at={c.name: s for c, s in zip(found.table.columns, row.shown, strict=False)}, limit=3)
        except FermataError:
            continue
        counts = [i for i, c in enumerate(found.table.columns[len(asked["by"]) :]) if c.label == "Count"]
        if found.table.total and counts and not {"compare", "zone", "across"} & asked.keys():
            whole = [r.cells[counts[0]] or 0 for r in found.table.body]
            assert sum(whole) == found.table.total.cells[counts[0]] or tagged(hall, asked), asked


def tagged(house: Workspace, asked: dict[str, Any]) -> bool:
    """Whether an event counts in several of the groups."""
    schema = house.base.place().registers.widened(house.base.schemas[asked["log"]])
    return any(schema.by_name[n].type == "tags" for n in asked["by"] if n in schema.by_name)
