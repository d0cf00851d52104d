"""What is read off a finished table: rows that meet a condition, limits crossed, equalities that hold, changes beyond
chance.
"""

from __future__ import annotations

import dataclasses
import operator
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import time
from decimal import Decimal
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from fermata.analysis.cells import value
from fermata.analysis.chance import FEWEST_DAYS, LEVEL, Verdict, judge
from fermata.analysis.combine import Figures, Source, gather
from fermata.analysis.finish import shown
from fermata.analysis.measures import ADDS
from fermata.analysis.plan import Dimension, Plan
from fermata.analysis.table import Column, Table
from fermata.decimals import exact_number
from fermata.errors import RequestError, UnknownName
from fermata.notes import Note
from fermata.reports.compile.comparison import PART
from fermata.reports.definition.parts import BYTES, SPENT
from fermata.reports.definition.report import Report
from fermata.timeline import Slot, slots
from fermata.timeline.words import span
from fermata.timeline.zones import local

__all__ = [
    "LIMIT",
    "SIGNS",
    "Shown",
    "checked",
    "compared_notes",
    "kept_rows",
    "warned",
    "with_verdicts",
    "without_others",
]

SIGNS: dict[str, Callable[[Any, Any], bool]] = {
    "<=": operator.le, ">=": operator.ge, "!=": operator.ne, "<": operator.lt, ">": operator.gt, "=": operator.eq,
}  # fmt: skip
CLOCK = re.compile(r"([01]?\d|2[0-3]):[0-5]\d(:[0-5]\d)?")
LIMIT = re.compile(r"(.+?)\s*(<=|>=|!=|<|>|=)\s*([^<>=!]+)")
MOST_NAMED = 6


class Shown(NamedTuple):
    """The units that a report asks for its columns to be shown in, by heading, and the zone of its times."""

    units: Mapping[str, str]
    zone: str

    @classmethod
    def of(cls, report: Report, plan: Plan) -> Shown:
        """Those of a report and its plan."""
        return cls({c.heading: c.unit for c in report.columns}, plan.stretch.calendar.zone_name)


def _limit(text: str, table: Table, shown_in: Shown) -> tuple[int, Callable[[Any], bool]]:
    """A condition on a column as its place among the cells and a test; a limit is written in what is shown. Raises
    RequestError, UnknownName.
    """
    m = LIMIT.fullmatch(text.strip())
    if not m:
        raise RequestError(
            f"{text!r} is no condition on a column; write 'Refused > 20', 'Time >= 8h' or 'Reached < 90 %'"
        )
    name = m[1].strip().strip('"')
    places = {c.label.lower(): i for i, c in reversed(list(enumerate(table.measures))) if c.across_total}
    if name.lower() not in places:
        raise UnknownName.of("column", name, [c.label for c in table.measures if c.across_total], where=f"({text})")
    place = places[name.lower()]
    column = table.measures[place]
    if m[3].strip() in ("none", "nothing"):
        empty = m[2] == "="
        return place, lambda v: (v is None) is empty
    test = SIGNS[m[2]]
    if column.type == "time" and CLOCK.fullmatch(m[3].strip()):  # of any day
        clock = time.fromisoformat(":".join(part.zfill(2) for part in m[3].strip().split(":")))
        zone = ZoneInfo(shown_in.zone)
        return place, lambda v: v is not None and test(local(v, zone).time(), clock)
    least = _read(m[3].strip(), column, shown_in)
    return place, lambda v: v is not None and test(v, least)


def _read(text: str, column: Column, shown_in: Shown) -> Any:
    """A limit as the column's cells are, written in what is shown: `8h` or, in a column shown in hours, `8`; `90 %`; `5
    GB`; a time.
    """
    from fermata.analysis.values import read_value
    from fermata.fields import Field, LogSchema

    unit = shown_in.units.get(column.label, "")
    if column.type in ("text", "flag", "tags"):
        raise RequestError(f"{column.label} holds words, and a limit is a number: it cannot be held against {text!r}")
    if column.type == "time":
        try:
            return read_value(text, Field(column.label, "time"), LogSchema("", (), zone=shown_in.zone))
        except RequestError as e:
            raise RequestError(f"{e}, or 09:00 for a time of any day") from None
    if column.type in ("duration", "mean duration"):
        if unit in SPENT and re.fullmatch(r"-?\d+(\.\d+)?", text):
            return int(_number(text, column) * SPENT[unit][0])
        length = read_value(
            "0s" if text == "0" else text.removeprefix("-"), Field(column.label, "duration"), LogSchema("", ())
        )
        return -length if text.startswith("-") else length
    if text.endswith("%") and column.type != "share":
        raise RequestError(f"{column.label} is not shown in per cent; write the limit as a number, without %")
    plain, size = text.removesuffix("%").strip(), Decimal(1)
    for name, bytes_ in BYTES.items():
        if unit == name or plain.endswith(name):
            plain, size = plain.removesuffix(name).strip(), Decimal(bytes_)
            break
    found = _number(plain, column) * size
    if column.type in ("money", "decimal"):
        return found.scaleb(column.scale)
    return float(found / 100) if column.type == "share" else found


def _number(text: str, column: Column) -> Decimal:
    try:
        return exact_number(text)
    except ValueError as e:
        raise RequestError(f"{column.label}: {e}") from None


def kept_rows(table: Table, texts: Iterable[str], shown_in: Shown, top: int | None = None) -> tuple[Table, list[Note]]:
    """The table with only those rows of the finest level that meet every condition, and the subtotals above them; the
    `top` groups were taken before.
    """
    tests = [_limit(text, table, shown_in) for text in texts]
    if not tests:
        return table, []
    depth = len(table.dimensions)
    body = [r for r in table.body if all(test(r.cells[i]) for i, test in tests)]
    above = {r.keys[:d] for r in body for d in range(depth)}
    if not depth:
        raise RequestError("rows: there is only one row; give by")
    kept = {r.keys for r in body}
    rows = tuple(r for r in table.rows if (r.keys in kept if r.level == depth else r.level == 0 or r.keys in above))
    before = f", after the top {top:,} were taken" if top else ""
    note = f"only rows with {' and '.join(texts)}: {len(body):,} of {table.size:,}{before}; totals are of all rows"
    return dataclasses.replace(table, rows=rows), [Note(note, "rows")]


def without_others(table: Table, wanted: Iterable[tuple[Any, ...]], what: str) -> tuple[Table, list[Note]]:
    """The table with rows of the finest level for the groups that were wanted, and the subtotals above them; how many
    others there are.
    """
    depth, kept = len(table.dimensions), set(wanted)
    left = [r for r in table.body if r.keys not in kept]
    above = {k[:d] for k in kept for d in range(depth)}
    rows = tuple(r for r in table.rows if (r.keys in kept if r.level == depth else r.level == 0 or r.keys in above))
    note = f"only rows of {what}; {len(left):,} others have events here and are not listed, though totals count them"
    return dataclasses.replace(table, rows=rows), [Note(note, "rows")] if left else []


def warned(table: Table, texts: Iterable[str], shown_in: Shown, *, nothing: bool = False) -> list[Note]:
    """A line for each limit that rows cross, naming them, and one for each that none does; with `nothing`, there was no
    event to hold against it.
    """
    notes: list[Note] = []
    for text in texts:
        place, test = _limit(text, table, shown_in)
        body = [r for r in table.body if test(r.cells[place])]
        if not body:
            notes.append(
                _unexamined(f"limit {text}") if nothing or not table.body else Note(f"limit {text}: in no row", "holds")
            )
            continue
        named = [
            f"{', '.join(r.shown) or 'all'} ({_plain(r.cells[place], table.measures[place], shown_in.zone)})"
            for r in body[:MOST_NAMED]
        ]
        more = f" and {len(body) - MOST_NAMED:,} more" if len(body) > MOST_NAMED else ""
        said = f"limit {text} crossed in {len(body):,} of {table.size:,} rows: {'; '.join(named)}{more}"
        notes.append(Note(said, "limit"))
    return notes


def _plain(cell: Any, column: Column, zone: str) -> str:
    if column.type == "time":
        return f"{local(cell, ZoneInfo(zone)):%Y-%m-%d %H:%M:%S}"
    if column.type in ("duration", "mean duration"):
        return span(cell)
    if column.type in ("money", "decimal"):
        return str(Decimal(cell).scaleb(-column.scale))
    return f"{cell * 100:.1f} %" if column.type == "share" else f"{cell:,.2f}" if isinstance(cell, float) else str(cell)


def _unexamined(what: str) -> Note:
    return Note(f"{what}: nothing examined, there is no event", "examined")


def checked(plan: Plan, figures: Figures, *, nothing: bool = False) -> list[Note]:
    """For each equality of the report whether it holds in every row and total, and where it does not; with `nothing`,
    there was no event.
    """
    notes: list[Note] = []
    grand = figures.get((), {}).get(())
    for number in plan.checks:
        column = plan.columns[number]
        wrong, count = [], 0
        for level in plan.levels:
            for key, found in figures[level].items():
                apart = value(plan, column, found, grand)
                count += 1
                if apart:
                    where = ", ".join(shown(plan, d, k) for d, k in zip(level, key, strict=True)) or "all"
                    wrong.append(f"{where} (by {_plain(apart, _as_column(column), plan.stretch.calendar.zone_name)})")
        if wrong:
            more = f" and {len(wrong) - MOST_NAMED:,} more" if len(wrong) > MOST_NAMED else ""
            said = (
                f"DOES NOT HOLD: {column.label}, in {len(wrong):,} of {count:,} figures: "
                f"{'; '.join(wrong[:MOST_NAMED])}{more}"
            )
            notes.append(Note(said, "check"))
        elif nothing or not count:
            notes.append(_unexamined(column.label))
        else:
            notes.append(Note(f"holds: {column.label}, in all {count:,} figures, totals included", "holds"))
    return notes


def _as_column(column: Any) -> Column:
    return Column("", column.label, "measure", *column.kind)


def _pairs(plan: Plan) -> list[tuple[int, int]]:
    """The columns that are compared, each with its counterpart."""
    return [(i, c.beside) for i, c in enumerate(plan.columns) if c.beside is not None]


def compared_notes(plan: Plan, figures: Figures, whole: bool) -> list[Note]:
    """Which period stands beside, and who or what appears or vanishes."""
    pairs = _pairs(plan)
    if not pairs:
        return []
    other = plan.strands[plan.columns[pairs[0][1]].strand].stretch
    assert other
    part = ", the equal part of it" if other.text.startswith(PART) else ", all of it" if whole else ""
    notes = [Note(f"compared with {other.words} ({other.exact}){part}", "compared")]
    notes += [Note(told, "compared") for d in plan.dimensions if d.kind == "unit" for told in _unpaired(plan, d.unit)]
    if plan.by and not plan.by[-1].calendar:
        here, there = plan.columns[pairs[0][0]], plan.columns[pairs[0][1]]
        now: list[str] = []
        past: list[str] = []
        for key, found in figures[plan.by].items():
            a, b = (value(plan, c, found, None) or 0 for c in (here, there))
            if bool(a) is not bool(b):
                (now if a else past).append(", ".join(shown(plan, d, k) for d, k in zip(plan.by, key, strict=True)))
        for words, names in (("only now", now), ("only before", past)):
            if names:
                more = f" and {len(names) - MOST_NAMED:,} more" if len(names) > MOST_NAMED else ""
                notes.append(Note(f"{words}: {'; '.join(sorted(names)[:MOST_NAMED])}{more}", "change"))
    return notes


def _unpaired(plan: Plan, unit: str) -> list[str]:
    """The units that stand beside none of the other period, in words."""
    other, here, beyond = plan.compared, plan.slots(unit), plan.beyond(unit)
    if other is None:
        return []
    there = slots(other, unit)
    found = []
    if beyond:
        found.append(f"{_listed(beyond)}: {other.words} has more {unit}s than this period; these stand alone")
    if len(there) < len(here) and not other.text.startswith(PART):
        found.append(f"{_listed(here[len(there) :])}: {other.words} has fewer {unit}s, so nothing stands beside")
    return found


def _listed(units: Sequence[Slot]) -> str:
    return units[0].label if len(units) == 1 else f"{units[0].label} to {units[-1].label}"


def with_verdicts(plan: Plan, table: Table, source: Source) -> tuple[Table, list[Note]]:
    """The table with a column for each compared amount that says whether its change is more than chance, and on what
    evidence.
    """
    pairs = [(a, b) for a, b in _pairs(plan) if plan.columns[a].measure.name in ADDS]
    if not pairs or plan.across or any(d.calendar for d in plan.by):
        return table, []
    day = Dimension("day", "unit")
    daily = dataclasses.replace(plan, by=(*plan.by, day), totals=False, zeros=(), kept=None, top=None)
    figures = gather(daily, source)[daily.by]
    columns, notes = list(table.columns), []
    cells: list[list[str | None]] = [[] for _ in table.rows]
    for a, b in pairs:
        verdicts, days = _verdicts(plan, daily, figures, a, b, table)
        for i, row in enumerate(table.rows):
            cells[i].append(_words(verdicts.get(row.keys)))
        label = f"{plan.columns[a].label} beyond chance"
        columns.append(Column(f"v{a}", label, "measure", "text", across_total=True))
        judged = sum(v.p is not None for v in verdicts.values())
        if min(days) < FEWEST_DAYS:
            told = f"{label}: {days[1]} days against {days[0]} are too few for a claim; each needs {FEWEST_DAYS}"
        else:
            told = (
                f"{label}: daily figures of {days[1]} days against {days[0]}, weekdays allowed for, judged by their "
                f"own scatter from day to day (t test, p below {LEVEL:g} after Holm's correction for {judged} "
                "comparisons)"
            )
        notes.append(Note(told, "chance"))
    rows = tuple(r._replace(cells=(*r.cells, *more)) for r, more in zip(table.rows, cells, strict=True))
    return Table(tuple(columns), rows, table.partial), notes


def _verdicts(
    plan: Plan, daily: Plan, figures: Any, a: int, b: int, table: Table
) -> tuple[dict[Any, Verdict], tuple[int, int]]:
    """The verdict on each row's change in one column, and how many days each period has."""
    here, there = plan.columns[a], plan.columns[b]
    days = []
    for column in (there, here):
        strand = plan.strands[column.strand]
        covers = strand.covers
        units = daily.of(strand).slots("day")
        held = [i for i, s in enumerate(units) if not covers or (s.end > covers[0] and s.start < covers[1])]
        days.append((units, held))
    series: dict[Any, tuple[dict[int, Any], dict[int, Any]]] = {}
    for key, found in figures.items():
        for i, column in enumerate((there, here)):
            amount = value(daily, column, found, None)
            for d in range(len(plan.by) + 1):
                held_days = series.setdefault(key[:-1][:d], ({}, {}))[i]
                held_days[key[-1]] = held_days.get(key[-1], 0) + (amount or 0)
    wanted = {r.keys for r in table.rows}
    groups = {
        key: tuple([found[i].get(n, 0) for n in days[i][1]] for i in range(2))
        for key, found in series.items()
        if key in wanted
    }
    weekdays = tuple([days[i][0][n].begins.weekday() for n in days[i][1]] for i in range(2))
    return judge(groups, weekdays), (len(weekdays[0]), len(weekdays[1]))  # type: ignore[arg-type]  # two each


def _words(verdict: Verdict | None) -> str | None:
    if verdict is None:
        return None
    if verdict.p is None:
        return verdict.word
    p = "p < 0.001" if verdict.p < 0.001 else f"p = {verdict.p:.3f}"
    return f"{verdict.word} ({p})"
