"""Small groups: whatever a viewer of groups asks, and however they combine the answers, no group of too few people has
a determined count.
"""

from __future__ import annotations

import itertools
import random
from collections import defaultdict
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import fermata
from fermata.errors import RequestError, UnknownName
from tests.conftest import DEEP, NOW, Maker, sample, some
from tests.test_viewers import unpacked

LEAST = 3
CONFIG = sample("houses/small_groups.toml")
PLACES, DEPARTMENTS, ACTIONS, MONTHS = (
    ("Hall", "Stage", "Yard"),
    ("A", "B", "C"),
    ("in", "out"),
    ("2026-01", "2026-02", "2026-03"),
)
Cell = tuple[str, str, str, str]  # place, department, action, month
DIMENSIONS = {"place": 0, "user.department": 1, "month": 3}


def world(seed: int) -> tuple[str, str, list[tuple[Cell, str]]]:
    """People, events, and the cell and person of each event: many cells of one or two people."""
    chance = random.Random(seed)
    people = [(f"Person {n}", f"badge-{n}", chance.choice(DEPARTMENTS)) for n in range(14)]
    listed = "No,Name,Badge,Dept\n" + "".join(f"{n},{n},{b},{d}\n" for n, b, d in people)
    events: list[tuple[Cell, str]] = []
    lines = ["When,Who,Area,What,Pages"]
    for month, first in zip(
        MONTHS, (datetime(2026, 1, 1, 9), datetime(2026, 2, 1, 9), datetime(2026, 3, 1, 9)), strict=True
    ):
        for n in range(90):
            name, badge, department = chance.choice(people)
            place, action = chance.choice(PLACES[: 2 if n % 7 else 3]), ACTIONS[n % 5 == 0]
            at = first + timedelta(minutes=n * 400)
            lines.append(f"{at.isoformat()},{badge},{place},{action},{chance.choice(['', '3', '5'])}")
            events.append(((place, department, action, month), name))
    return listed, "\n".join(lines) + "\n", events


def asked(chance: random.Random) -> dict[str, Any]:
    """A random request that the cube allows, or nearly."""
    by = chance.sample([*DIMENSIONS, "quarter"], chance.randint(0, 3))
    first, last = sorted((chance.randrange(3), chance.randrange(3)))
    found: dict[str, Any] = {
        "by": by,
        "period": chance.choice(["all", f"{MONTHS[first]}/{MONTHS[last]}"]),
        "columns": ["count"],
    }
    if chance.random() < 0.5:
        found[chance.choice(["only", "without"])] = {"action": chance.choice(ACTIONS)}
    if by and chance.random() < 0.3:
        found["across"] = found["by"].pop()
    if chance.random() < 0.3:
        found["columns"] = [{"measure": "count", "label": "In", "only": {"action": "in"}}]
    return found


def equations(result: Any, request: dict[str, Any], cells: list[Cell]) -> list[tuple[list[int], int]]:
    """What an answer shows: for each figure the cells it is the sum of, as the request says, and the figure."""
    plan = result.data.plan
    months = (
        MONTHS
        if request["period"] == "all"
        else MONTHS[MONTHS.index(request["period"][:7]) : MONTHS.index(request["period"][-7:]) + 1]
    )
    spec = request["columns"][0]
    actions = [(spec["only"]["action"], True)] if isinstance(spec, dict) else []
    actions += [(request["only"]["action"], True)] if "only" in request else []
    actions += [(request["without"]["action"], False)] if "without" in request else []
    found = []
    for row in result.table.rows:
        for i, column in enumerate(result.table.measures):
            told = dict(zip(plan.by, row.shown, strict=False))
            if plan.across and not column.across_total:
                told[plan.across] = column.across_label
            wanted = {DIMENSIONS[d.name]: v for d, v in told.items() if d.name in DIMENSIONS}
            ours = [
                int(
                    c[3] in months
                    and all(c[at] == v for at, v in wanted.items())
                    and all((c[2] == a) is kept for a, kept in actions)
                )
                for c in cells
            ]
            found.append((ours, row.cells[i] or 0))
    return found


def reduced(rows: list[list[int]], prime: int = 1_000_003) -> list[list[int]]:
    """The rows of integers in echelon form, modulo a prime far above all coefficients."""
    found: list[list[int]] = []
    for row in rows:
        rest = _rest(row, found, prime)
        if any(rest):
            lead = next(i for i, v in enumerate(rest) if v)
            inverse = pow(rest[lead], -1, prime)
            found.append([v * inverse % prime for v in rest])
    return found


def _rest(row: list[int], basis: list[list[int]], prime: int = 1_000_003) -> list[int]:
    rest = [v % prime for v in row]
    for one in basis:
        lead = next(i for i, v in enumerate(one) if v)
        if rest[lead]:
            rest = [(a - rest[lead] * b) % prime for a, b in zip(rest, one, strict=True)]
    return rest


def small_groups(events: list[tuple[Cell, str]], cells: list[Cell]) -> list[list[int]]:
    """The groups of one, two or three cells of a month that fewer than LEAST people are in."""
    people: dict[Cell, set[str]] = defaultdict(set)
    for cell, name in events:
        people[cell].add(name)
    found = []
    for size in (1, 2, 3):
        for group in itertools.combinations(cells, size):
            if len({c[3] for c in group}) == 1 and 0 < len(set().union(*(people[c] for c in group))) < LEAST:
                found.append([int(c in group) for c in cells])
    return found


@pytest.mark.parametrize("seed", [0, *(pytest.param(n, marks=pytest.mark.deep) for n in range(1, 8))])
def test_no_answers_together_tell_a_small_group(make: Maker, seed: int) -> None:
    """An attacker who knows which cells are shown solves all answers to some hundred requests at once: no small group
    has a count.

    The same answers to somebody without the limit tell many, so that the attack is one.
    """
    listed, doors, events = world(seed)
    hall = make(CONFIG, people=listed, doors=doors)
    hall.archive.import_log("doors")
    study = fermata.open(hall.path, now=NOW, viewer="study")
    cells = sorted({c for c, _ in events})
    people: dict[Cell, set[str]] = defaultdict(set)
    counts: dict[Cell, int] = defaultdict(int)
    for cell, name in events:
        people[cell].add(name)
        counts[cell] += 1
    large = [int(len(people[c]) >= LEAST) for c in cells]
    chance, hidden, bare = random.Random(seed + 100), [], []
    for _ in range(300 if DEEP else 40):
        request = asked(chance)
        try:
            result = (
                study.log("doors").run() if not request else study.run(study.log("doors").report.changed(**request))
            )
        except RequestError:
            continue
        for ours, shown in equations(result, request, cells):
            assert shown == sum(o * n * counts[c] for o, n, c in zip(ours, large, cells, strict=True)), request
            hidden.append([o * n for o, n in zip(ours, large, strict=True)])
            bare.append(ours)
    assert len(hidden) > 40
    groups = small_groups(events, cells)
    assert len(groups) > 10
    known, all_known = reduced(hidden), reduced(bare)
    assert not [g for g in groups if not any(_rest(g, known))]
    assert [g for g in groups if not any(_rest(g, all_known))], "without the limit the attack finds some"


@pytest.mark.parametrize(
    ("changes", "why"),
    some([
        ({"by": ["user"]}, "by user is not for study"),
        ({"by": ["action"]}, "by action is not for study"),
        ({"by": ["day"]}, "by day is not for study"),
        ({"by": ["weekday"]}, "by weekday is not for study"),
        ({"by": ["hour of day"]}, "by hour of day is not for study"),
        ({"only": {"user": "Person 1"}}, "a filter on user is not for study"),
        ({"only": {"place": "Hall"}}, "a filter on place is not for study"),
        ({"columns": [{"measure": "count", "only": {"pages": 3}}]}, "a filter on pages is not for study"),
        ({"period": "2026-03-01/2026-03-15"}, "a period that cuts a month"),
        ({"period": "2026-02-02/.."}, "a period that cuts a month"),
        ({"zone": "Asia/Tokyo"}, "another zone than Europe/Lisbon"),
        ({"top": 2, "by": ["place"]}, "top could tell of groups"),
        ({"compare": "before", "period": "2026-03"}, "compare could tell of groups"),
        ({"as_known": "2026-03-01"}, "known could tell of groups"),
        ({"columns": ["distinct user"]}, "distinct user is not for study"),
        ({"columns": ["last"]}, "last is not for study"),
        ({"columns": ["median pages"]}, "median pages is not for study"),
        ({"columns": ["max pages"]}, "max pages is not for study"),
        ({"columns": ["running count"], "by": ["month"]}, "running count is not for study"),
        ({"listing": {}}, "shows single events or people"),
        ({"ask": "trail", "only": {"user": "Person 1"}}, "shows single events or people"),
        ({"ask": "attention"}, "shows single events or people"),
    ], 3),
)  # fmt: skip
def test_what_is_no_cell_of_the_cube_is_refused(make: Maker, changes: dict[str, Any], why: str) -> None:
    """Each way to cut finer than the cube is refused with what is allowed."""
    listed, doors, _ = world(1)
    hall = make(CONFIG, people=listed, doors=doors)
    hall.archive.import_log("doors")
    study = fermata.open(hall.path, now=NOW, viewer="study")
    with pytest.raises(RequestError, match=why):
        study.run(study.log("doors").report.changed(**changes))


def test_an_amount_counts_where_enough_people_have_it(make: Maker) -> None:
    """A total of pages leaves out cells in which too few people have pages, or too few have none: the difference would
    be theirs.
    """
    listed = "No,Name,Badge,Dept\n" + "".join(f"{n},P{n},B{n},A\n" for n in range(8))
    rows = [f"2026-02-0{1 + n},B{n},Hall,in,{10 if n else ''}" for n in range(5)]  # one of five without
    rows += [f"2026-02-0{1 + n},B{n},Stage,in,{10 if n < 3 else ''}" for n in range(6)]  # three with, three without
    rows += [f"2026-02-0{1 + n},B{n},Yard,in,10" for n in range(2)]  # two people
    hall = make(CONFIG, people=listed, doors="When,Who,Area,What,Pages\n" + "\n".join(rows) + "\n")
    hall.archive.import_log("doors")
    study: Any = fermata.open(hall.path, now=NOW, viewer="study")
    found = study.log("doors").by("place").measure("count", "total pages", "mean pages").run()
    assert found.rows == (("Hall", 5, None, None), ("Stage", 6, 30, 10.0))
    assert found.table.rows[-1].cells == (11, 30, 10.0)
    assert any("in any one place, user.department, action, month" in n for n in found.notes)


def test_unknown_values_and_pages_are_held_to_it(make: Maker, tmp_path: Path) -> None:
    """A page holds what its parts may hold, and a file of such a view no event."""
    listed, doors, _ = world(1)
    hall = make(CONFIG, people=listed, doors=doors)
    hall.archive.import_log("doors")
    study = fermata.open(hall.path, now=NOW, viewer="study")
    parts = [{"title": "A", "by": ["place"]}, {"title": "B", "by": ["user"]}]
    page = study.run(fermata.Report.of(title="Page", log="doors", parts=parts))
    assert [p.item is None for p in page.answer.parts] == [False, True]
    with pytest.raises(UnknownName):
        study.log("doors").only(action="jumped").run()
    text = unpacked(study.log("doors").by("place").run().save(tmp_path / "x.html"))
    assert "badge-" not in text
    assert "Person" not in text
