"""What a chart draws: names, series and figures of a result, and the kind that suits its shape, without a library."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

from fermata.analysis.plan import Dimension, Plan
from fermata.analysis.stages import ELSE_LABEL, ELSE_TEXT
from fermata.analysis.table import Column
from fermata.errors import RequestError, UnknownName
from fermata.outputs.canvas import Drawing, about, in_unit, unit_of_axis
from fermata.outputs.formats import ISO, Show, clean, label, people
from fermata.outputs.grid import drawn
from fermata.outputs.lanes import timeline
from fermata.outputs.legible import MOST, MOST_TIMES, OTHER, cut_names, cut_series, ranked, totalled
from fermata.reports.definition.display import Display
from fermata.reports.definition.parts import SPENT
from fermata.reports.definition.report import CHARTS
from fermata.reports.execute.figures import narrowed
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline.zones import day_start, zone

__all__ = ["of"]

PARTS = 5  # of a share, beside the others together
PANELS = 20  # small charts beside the others together
MANY = 8  # series of times that one chart can tell apart
MINUTE = 60_000_000  # microseconds
DAY = timedelta(days=1)  # a log that begins or ends so near to an edge covers it
TIMES = 8  # units of time from which on a line reads better than bars


def of(answer: Answer, how: Display = ISO, kind: str = "", column: str = "") -> Drawing:
    """What to draw of an answer; kind and column unless given are those of the report, else what suits its shape.

    Raises UnknownName, RequestError where there is nothing to draw, or the kind would show something untrue.
    """
    if kind and kind not in CHARTS:
        raise RequestError(f"there is no chart {kind!r}; there are {', '.join(CHARTS)}")
    if isinstance(answer, Page):
        possible = [p.item for p in answer.parts if isinstance(p.item, RunResult) and p.item.table.body]
        if len(possible) != 1:
            raise RequestError(
                f"this page has {len(possible)} parts that can be drawn; choose one with --part: {answer.listed_parts}"
            )
        return of(possible[0], how, kind, column)
    if isinstance(answer, Records):
        if kind not in ("", "timeline"):
            raise RequestError(
                f"a listing of events is drawn as a timeline; for a {kind} chart ask for figures: --by ..."
            )
        return timeline(answer, column)
    if kind == "timeline":
        raise RequestError("a timeline draws events, not figures: fermata events LOG --output FILE.svg")
    asked = tuple(a if a not in ("none", "tiles") else "" for a in answer.report.charted)
    if not answer.table.body:
        raise RequestError(f"{answer.context.title}: there is nothing to draw; no row fits")
    ones = _columns(answer, column or asked[1])
    found = _as(_shaped(answer, how, ones), kind or asked[0], answer, ones)
    return _told(found, answer, ones[0], how)


def drawable(answer: Answer, how: Display = ISO) -> tuple[Drawing | None, str]:
    """What to draw of an answer, for an output that is more than its chart; or why its figures cannot be drawn. Raises
    UnknownName for a chart of a column there is none of.
    """
    try:
        return of(answer, how), ""
    except UnknownName:
        raise
    except RequestError as e:
        return None, f"no chart: {e}"


def _columns(result: RunResult, asked: str) -> list[Column]:
    """The columns to draw: the one of that heading, several named with commas, or the first. Raises UnknownName,
    RequestError.
    """
    table = result.table
    known = {c.label.lower() for c in table.measures}
    names = [asked] if not asked or asked.lower() in known else [n.strip() for n in asked.split(",")]
    found = [table.measures[drawn(table, name)] for name in names]
    if len({(c.type, c.unit) for c in found}) > 1:
        raise RequestError(f"{' and '.join(names)} are of different units, and cannot be drawn beside each other")
    return found


def _told(found: Drawing, result: RunResult, one: Column, how: Display) -> Drawing:
    """Exact figures in the chart's unit, and as the tables show them."""
    unit, show = unit_of_axis(result, one)
    if one.type in ("duration", "mean duration") and not show:
        most = max((abs(v) for line in found.figures for v in line if v is not None), default=0)
        unit = next((u for u in ("h", "min") if most >= SPENT[u][0]), "s")
    if one.type == "duration" and not show and not any((v or 0) % MINUTE for line in found.figures for v in line):
        show = Show(minutes=True)
    tz = zone(result.context.zone)
    notes = list(found.notes)
    if found.rest:
        total = people(found.rest[1], one.type, one.scale, tz, show, how)
        notes.append(f"{found.rest[0]}: {total}, together more than any of these, and not drawn")
    return replace(
        found,
        notes=tuple(notes),
        measure=f"{found.measure} ({unit})" if unit else found.measure,
        figures=tuple(tuple(in_unit(v, one, unit) for v in line) for line in found.figures),
        comma=how.decimal == "comma",
        texts=tuple(tuple(people(v, one.type, one.scale, tz, show, how) for v in line) for line in found.figures),
    )


Name = tuple[str, ...]  # what a row is called, dimension by dimension


@dataclass(frozen=True)
class _Rows:
    """Names with a figure for each series, before they are put in words; `timed` and `calendar` as in a drawing,
    `series_calendar` of the series.
    """

    names: list[Name]
    values: list[dict[str, Any]]
    series: list[str]
    timed: bool = False
    calendar: bool = False
    series_calendar: bool = False


def _shaped(result: RunResult, how: Display, ones: list[Column]) -> Drawing:
    """The exact figures as series over names: what is laid out across, a second dimension, or the columns asked for are
    the series.
    """
    rows = _drawn_units(result.plan, _laid_out(result, ones))
    exact = [[values.get(s) for values in rows.values] for s in rows.series]
    measure = " and ".join(c.label for c in ones)
    cut = _cut_units(result, ones[0]) if rows.timed else frozenset()
    return Drawing(
        "", result.context.title, measure, tuple(clean(_words(n, how)) for n in rows.names),
        tuple(clean(label(s, how)) for s in rows.series), tuple(tuple(line) for line in exact), timed=rows.timed,
        about=about(result.context, _filters(result, ones)),
        calendar=rows.calendar, unfinished=frozenset(i for i, n in enumerate(rows.names) if n[-1:] and n[-1] in cut),
        fixed_series=rows.series_calendar,
    )  # fmt: skip


def _drawn_units(plan: Plan, rows: _Rows) -> _Rows:
    """The rows without the units that only the period compared with has, where nothing of it is drawn."""
    alone = {s.label for d in plan.dimensions if d.kind == "unit" for s in plan.beyond(d.unit)}
    pairs = zip(rows.names, rows.values, strict=True)
    kept = [(n, v) for n, v in pairs if alone.isdisjoint(n) or any(f is not None for f in v.values())]
    return replace(rows, names=[n for n, _ in kept], values=[v for _, v in kept])


def _filters(result: RunResult, ones: list[Column]) -> str:
    """What the drawn columns keep, in words."""
    plan = result.plan
    told = [narrowed(plan.strands[n]).split("; ") for c in ones for n in plan.strands_of(c.measure)]
    common = [p for p in told[0] if p != "all events" and all(p in other for other in told)] if told else []
    own = [] if len(ones) > 1 else [p for parts in told for p in parts if p not in common and p != "all events"]
    return "; ".join(dict.fromkeys([*common, *own]))


def _laid_out(result: RunResult, ones: list[Column]) -> _Rows:
    table, by = result.table, result.plan.by
    if len(ones) > 1:
        places = {
            c.label: i for i, c in enumerate(table.measures) if c.label in {o.label for o in ones} and c.across_total
        }
        values = [{label: r.cells[i] for label, i in places.items()} for r in table.body]
        return _rows([_named(r) for r in table.body], values, list(places), by[:1] if len(by) == 1 else ())
    columns = [
        (i, c) for i, c in enumerate(table.measures) if c.measure == ones[0].measure and c.label == ones[0].label
    ]
    across = [(i, c) for i, c in columns if c.across_label and not c.across_total]
    if across and result.plan.across:
        told = _flagged(result, result.plan.across)
        names = [_named(r) for r in table.body]
        values = [{told(c.across_label): r.cells[i] for i, c in across} for r in table.body]
        series = [told(c.across_label) for _, c in across]
        if _along(result.plan.across) <= max(map(_along, by), default=-1):
            return _rows(names, values, series, by[:1] if len(by) == 1 else (), result.plan.across)
        turned = [{_joined(n): v.get(s) for n, v in zip(names, values, strict=True)} for s in series]
        return _rows(
            [(s,) for s in series],
            turned,
            [_joined(n) for n in names],
            (result.plan.across,),
            by[0] if len(by) == 1 else None,
        )
    if len(by) == 2:
        first, second = (1, 0) if _along(by[1]) > _along(by[0]) else (0, 1)
        cells = [(_shown(r, first), _shown(r, second), r.cells[columns[0][0]]) for r in table.body]
        nested = not by[first].calendar and len({c[1] for c in cells}) == len(cells)  # one is within the other
        if not nested:
            told = _flagged(result, by[second])
            paired = _paired([(name, told(series), value) for name, series, value in cells])
            names = [(n,) for n in paired]
            if first and by[first].kind == "unit":
                order = {s.label: i for i, s in enumerate(result.plan.slots(by[first].unit))}
                names.sort(key=lambda n: order.get(n[0], len(order)))
            series = list(dict.fromkeys(told(s) for _, s, _ in cells))
            return _rows(names, [paired[n[0]] for n in names], series, (by[first],), by[second])
    values = [{"": r.cells[columns[0][0]]} for r in table.body]
    return _rows([_named(r) for r in table.body], values, [""], by if len(by) == 1 else ())


def _rows(
    names: list[Name],
    values: list[dict[str, Any]],
    series: list[str],
    along: Sequence[Dimension],
    other: Dimension | None = None,
) -> _Rows:
    timed = bool(along) and along[0].kind == "unit"
    calendar = bool(along) and along[0].calendar
    return _Rows(names, values, series, timed, calendar, other is not None and other.calendar)


def _shown(row: Any, i: int) -> str:
    """A group's name; the rest of a top N is told from names by its own word."""
    return (
        OTHER
        if row.keys[i] in (ELSE_TEXT, ELSE_LABEL) and not isinstance(row.keys[i], bool) and i == 0
        else str(row.shown[i])
    )


def _named(row: Any) -> Name:
    return tuple(_shown(row, i) for i in range(len(row.shown))) or ("All",)


def _joined(name: Name) -> str:
    return " · ".join(name)


def _words(name: Name, how: Display) -> str:
    return " · ".join(label(part, how) for part in name)


def _flagged(result: RunResult, dimension: Dimension) -> Callable[[str], str]:
    """How a series is called: of a yes or no what it is about, too."""
    schema = result.plan.strands[0].schema
    flag = not dimension.calendar and schema.field(dimension.name).type == "flag"
    return lambda text: f"{dimension.label}: {text}" if flag else text


def _cut_units(result: RunResult, one: Column) -> frozenset[str]:
    """The units of time, by label, that are not whole: cut by the period or by what the log holds."""
    plan = result.plan
    unit = next((d for d in plan.dimensions if d.kind == "unit"), None)
    if unit is None:
        return frozenset()
    covers = plan.strands[plan.columns[one.measure].strand].covers
    found = set()
    for slot in plan.slots(unit.unit):
        start, end = slot.start, slot.end
        if unit.unit != "hour":
            first, tz = slot.begins.date(), plan.stretch.calendar.zone
            start, end = day_start(first, tz), day_start(plan.stretch.calendar.step(first, unit.unit), tz)
        short = slot.start > start or slot.end < end
        if short or (covers and (start < covers[0] - DAY < end or start < covers[1] < min(end, slot.end) - DAY)):
            found.add(slot.label)
    return frozenset(found)


def _along(dimension: Dimension) -> int:
    """How much a dimension wants to run along the axis: time does, hours of the day before weekdays."""
    return 2 * dimension.calendar + (dimension.name == "hour of day")


def _paired(cells: list[tuple[str, str, Any]]) -> dict[str, dict[str, Any]]:
    """(name, series, figure) as names with a figure a series; without a row, zero if others of the name have one."""
    rows: dict[str, dict[str, Any]] = {}
    for name, series, value in cells:
        rows.setdefault(name, {})[series] = value
    every = list(dict.fromkeys(s for _, s, _ in cells))
    known = {n: any(v is not None for v in values.values()) for n, values in rows.items()}
    return {n: {s: values.get(s, 0 if known[n] else None) for s in every} for n, values in rows.items()}


def _as(found: Drawing, kind: str, result: RunResult, ones: list[Column]) -> Drawing:
    """The drawing as the kind needs it, cut to what is legible. Raises RequestError for what would be untrue."""
    plans = [result.plan.columns[c.measure] for c in ones]
    adds = all(p.formula is None and p.measure.adds_up for p in plans)
    low = min((v for line in found.figures for v in line if v is not None), default=0)
    kind = kind or _suiting(found, result, adds and low >= 0)
    if kind in ("stacked", "area", "share") and len(found.series) > 1 and not (adds and low >= 0):
        why = "some are less than nothing" if low < 0 else "its parts do not add up"
        raise RequestError(f"{found.measure} cannot be drawn as {kind}: {why}; draw a line or bars")
    if kind == "share" and not (adds and low >= 0):
        raise RequestError(
            f"{found.measure} has no shares: {'some are less than nothing' if low < 0 else 'its parts do not add up'}"
        )
    if kind == "share" and not any(v for line in found.figures for v in line):
        raise RequestError(f"{found.measure} has no shares: there is nothing of it here")
    if kind == "share" and found.calendar and len(found.names) > MOST_TIMES:
        raise RequestError(
            f"{len(found.names)} times are too many for a ring, and their order would be lost; draw bars"
        )
    if kind in ("ranked", "share"):
        found = ranked(totalled(found, adds), adds, MOST if kind == "ranked" else PARTS)
    elif kind == "heat map":
        found = cut_names(found, adds)
    elif kind == "panels":
        found = cut_series(cut_names(found, adds), adds, PANELS)
    else:
        found = cut_series(cut_names(found, adds), adds)
    return replace(found, kind=kind, notes=(*found.notes, *_unfinished(kind, found, result)))


def _unfinished(kind: str, found: Drawing, result: RunResult) -> list[str]:
    unit = next((d.unit for d in result.plan.dimensions if d.kind == "unit"), "")
    how = "dotted" if kind in ("line", "area") else "hatched"
    return [f"{how}: not a whole {unit}"] if found.unfinished else []


def _suiting(found: Drawing, result: RunResult, stacks: bool) -> str:
    """The kind that suits the shape."""
    parts = [d.name for d in (*result.plan.by, *([result.plan.across] if result.plan.across else []))]
    if len(parts) == 2 and len(found.series) > 1 and {"weekday", "hour of day"} <= set(parts):
        return "heat map"
    if found.timed:
        if len(found.series) > MANY and len(found.names) > 2:
            return "panels"
        if len(found.series) > 1:
            return "stacked" if stacks and len(found.names) < 3 * TIMES else "line"
        return "line" if len(found.names) >= TIMES else "bar"
    if len(found.series) > 1:
        return "stacked" if stacks else "bar"
    calendar = bool(result.plan.by) and result.plan.by[0].calendar
    return "bar" if calendar else "ranked"
