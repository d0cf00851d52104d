"""Requests: their digest covers every field but those that say why not, and whatever figures rest on is in a mark that
`verify` names.
"""

from __future__ import annotations

import copy
import dataclasses
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest

from fermata import Report, Workspace
from fermata.api.workspace import open_workspace
from fermata.digest import digest, left_out
from fermata.reports import requests
from fermata.reports.compile.request import Asking, behind, compiled
from fermata.reports.requests import Request
from tests.conftest import NOW, Maker, sample, some

MARCH = {"period": "2026-03"}
ASKED: list[tuple[Any, Asking]] = [
    ("pay", Asking()),
    ("worked-and-required", Asking()),
    (
        Report.of(
            log="calls",
            **MARCH,
            by=["device", "month"],
            across="weekday",
            hours="office",
            rounding="up 1 minute",
            compare="before",
            columns=[
                "count",
                "share count of row",
                "p95 duration",
                "running count",
                {"label": "A", "formula": "Count / 2"},
            ],
            rows=["Count > 1"],
            checks=["Count = Count"],
            warn=["Count > 3"],
            sort=["-count"],
            only={"action": "answered"},
            without={"device": "202"},
            any_of=[{"user": "Ada Umberlin"}, {"other": "x*"}],
            as_known="2026-04-01",
        ),
        Asking(limit=5, explained=True),
    ),
    (Report.of(log="doors", **MARCH, by=["user"], zero_rows="user", no_others=True), Asking()),
    (Report.of(log="visits", **MARCH, listing={"fields": ["start", "user"], "overlapping": True}), Asking(skip=2)),
    (Report.of(register="people", by=["department"], as_of="2026-02-01"), Asking()),
    (Report.of(log="doors", ask="inside"), Asking()),
    (Report.of(log="doors", **MARCH, ask="contacts", only={"user": "Ada Umberlin"}), Asking()),
    (Report.of(log="doors", **MARCH, ask="unusual"), Asking()),
    (Report.of(ask="trail", **MARCH), Asking(name="Ada Umberlin", field="user")),
    (Report.of(ask="attention", **MARCH), Asking()),
    (Report.of(ask="edits", **MARCH), Asking()),
    (Report.of(ask="unresolved", **MARCH), Asking()),
    (Report.of(ask="logs"), Asking()),
    (Report.of(ask="cannot"), Asking()),
    (Report.of(log="doors", **MARCH, each="place"), Asking()),
    (
        Report.of(
            title="Page", log="doors", **MARCH, parts=[{"by": ["place"], "expect": "no rows"}, {"register": "people"}]
        ),
        Asking(),
    ),
    (Report.of(log="charged", **MARCH, by=["user"], columns=["total charge"]), Asking()),
]


def made(hall: Workspace) -> list[Request]:
    """A request of every kind, together with as many kinds of fields as may be."""
    place = hall.base.place()
    found = []
    for report, asking in ASKED:
        if isinstance(report, Report) and report.log == "charged":
            report = report.changed(log="calls")
        found.append(
            compiled(hall.reports.definition(report) if isinstance(report, str) else report, place, NOW, asking)
        )
    table = hall.log("doors").during("2026-03").by("place").measure("count").run()
    return [*found, behind(table.data, _cell(table), place)]


def _cell(result: Any) -> Any:
    from fermata.reports.execute.figure_at import cell_of

    return cell_of(result.data, {"place": "Library"}, None)


def parts_of(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Everything with fields within a value, with the way to it."""
    if hasattr(type(value), "model_fields") or (dataclasses.is_dataclass(value) and not isinstance(value, type)):
        yield path, value
        for name in names_of(value):
            yield from parts_of(getattr(value, name), (*path, name))
    elif isinstance(value, tuple | list):
        for i, one in enumerate(value):
            yield from parts_of(one, (*path, i))


def names_of(value: Any) -> list[str]:
    """The names of its fields."""
    if hasattr(type(value), "model_fields"):
        return list(type(value).model_fields)
    return [f.name for f in dataclasses.fields(value)]


def other(value: Any) -> Any:
    """Another value of the same kind."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int | float | Decimal | Fraction):
        return value + 1
    if isinstance(value, str):
        return value + "x"
    if isinstance(value, datetime | date):
        return value + timedelta(days=1)
    if isinstance(value, timedelta):
        return value + timedelta(seconds=1)
    if isinstance(value, tuple | list):
        return (*value, "one more")
    if isinstance(value, dict):
        return {**value, "one more": 1}
    return "something" if value is None else None


def test_every_kind_of_request_is_among_those_looked_at(hall: Workspace) -> None:
    """A new kind is thought of, and says what carries it out and what it shows."""
    kinds = {k for k in vars(requests).values() if isinstance(k, type) and issubclass(k, Request) and k is not Request}
    assert {type(r) for r in made(hall)} == kinds
    assert all(k.executor and k.shows for k in kinds)


def test_the_digest_covers_every_field(hall: Workspace) -> None:
    """Each field of all that a request is made of, changed alone: another digest, unless the field says why not."""
    looked_at: set[tuple[type, str]] = set()
    for request in made(hall):
        whole = digest(request)
        assert digest(copy.deepcopy(request)) == whole
        for path, part in parts_of(request):
            for name in names_of(part):
                if (type(part), name) in looked_at or any(_apart(request, path)):
                    continue
                looked_at.add((type(part), name))
                changed = copy.deepcopy(request)
                at = changed
                for step in path:
                    at = at[step] if isinstance(step, int) else getattr(at, step)  # type: ignore[index]
                if hasattr(type(at), "model_fields"):
                    at.__dict__[name] = other(getattr(at, name))
                else:
                    object.__setattr__(at, name, other(getattr(at, name)))
                same = digest(changed) == whole
                assert same is (name in left_out(type(part))), (type(part).__name__, name)
    assert len(looked_at) > 150
    assert all(why for kind, _ in looked_at for why in left_out(kind).values())


def _apart(request: Any, path: tuple[Any, ...]) -> Iterator[bool]:
    """For each step of the way to a part whether it is left out of the digest there."""
    at = request
    for step in path:
        yield not isinstance(step, int) and step in left_out(type(at))
        at = at[step] if isinstance(step, int) else getattr(at, step)


def test_the_same_question_asked_in_other_words_has_the_same_digest(hall: Workspace) -> None:
    """Relative or absolute, titled or not: what is the same in absolute terms is the same request."""
    place = hall.base.place()
    one = compiled(Report.of(log="doors", period="last month", by=["place"], title="A"), place, NOW)
    two = compiled(
        Report.of(log="doors", period="2026-03-01/2026-03-31", by=["place"], chart="bar"),
        place,
        NOW + timedelta(days=2),
    )
    assert one.digest == two.digest
    assert (
        one.digest
        != compiled(
            Report.of(log="doors", period="2026-03", by=["place"]), hall.base.seen_by("zelda").place(), NOW
        ).digest
    )


CONFIG = sample("houses/request.toml")
FILES = {
    "entries": "From,To,Who,Project\n"
    + "".join(f"2026-03-{d:02d}T08:00,2026-03-{d:02d}T12:00,B{d % 2},P\n" for d in range(2, 28)),
    "people": "No,Name,Badge,Pattern\n1,One,B1,full\n2,Two,B0,full\n",
    "rates": "Project,Hour\nP,20.00\n",
}
REPORTS = {
    "in-office": Report.of(log="timesheets", **MARCH, by=["user"], columns=["time"], hours="office"),
    "paper": Report.of(log="timesheets", **MARCH, columns=["time", {"label": "Paper", "formula": "Time * paper"}]),
    "charged": Report.of(log="timesheets", **MARCH, columns=["total charge"]),
    "required": Report.of(log="required", **MARCH, by=["user"], columns=["total required"]),
    "days": Report.of(log="timesheets", **MARCH, columns=["time", "workdays"]),
    "people": Report.of(register="people"),
}


@pytest.mark.parametrize(
    ("report", "file", "old", "new", "named"),
    some([
        ("in-office", "fermata.toml", "09:00-17:00", "10:00-17:00", "the hours office changed"),
        ("in-office", "fermata.toml", '"2026-03-09"', '"2026-03-10"', "the hours office changed"),
        ("in-office", "people.csv", "1,One", "1,Uno", "the register people changed"),
        ("paper", "fermata.toml", 'value = "5"', 'value = "6"', "the factor paper changed"),
        ("charged", "rates.csv", "20.00", "21.00", "the register rates changed"),
        ("charged", "fermata.toml", "[computed.charge]\n", '[computed.charge]\nleast = "hour"\n',
         "the computed field timesheets.charge changed"),
        ("required", "fermata.toml", "friday = 8", "friday = 6", "the working pattern full changed"),
        ("required", "fermata.toml", '"2026-03-09"', '"2026-03-10"', "the working pattern full changed"),
        ("required", "people.csv", "2,Two,B0,full", "2,Two,B0,", "the register people changed"),
        ("days", "fermata.toml", "monday to friday", "monday to thursday", "the workdays of the workspace changed"),
        ("people", "people.csv", "2,Two", "2,Deux", "the register people changed"),
    ], 3),
)  # fmt: skip
def test_what_figures_rest_on_is_marked_and_named(
    make: Maker, report: str, file: str, old: str, new: str, named: str
) -> None:
    """An hour, a holiday, a factor, a rate, a pattern, a row of a register changed: another digest, and `verify` names
    it.
    """
    hall = make(CONFIG, **FILES)
    hall.archive.import_log("timesheets")
    item = hall.shelf.keep(REPORTS[report], ["csv"])
    before = compiled(REPORTS[report], hall.base.place(), NOW).digest
    path = Path(hall.path) / file
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))
    later = open_workspace(hall.path, now=datetime(2026, 4, 20, 9, tzinfo=UTC))
    assert compiled(REPORTS[report], later.base.at(NOW).place(), NOW).digest != before
    verdict = later.shelf.verify(item.number)[-1]
    assert any(named in told for told in (*verdict.why, *verdict.also)), verdict
