"""What a chart draws: names, series and figures taken from a result, and the kind that suits its shape. No drawing library here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from fermata.analysis.plan import Dimension
from fermata.analysis.table import Column
from fermata.errors import RequestError, UnknownName
from fermata.outputs.formats import ISO, Show, clean, label, local, people
from fermata.outputs.formats import SPENT as SPENT_IN
from fermata.outputs.grid import drawn
from fermata.reports.display import Display
from fermata.reports.model import CHARTS
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["OTHER", "Drawing", "Lane", "of"]

MOST = 40  # names on one chart
SERIES = 5  # series told apart by colour, beside the others together
PARTS = 5  # of a share, beside the others together
TIMES = 8  # units of time from which on a line reads better than bars
TIMELINE = 5000  # events on a timeline
OTHER = "all others"
SPENT = {unit: per for unit, (per, _) in SPENT_IN.items()}
LANES = ("user", "device", "place", "action")


@dataclass(frozen=True, slots=True)
class Lane:
    """The spans of one name on a timeline: (start, finish) as local times without zone; no finish for what is open or a moment."""

    name: str
    spans: tuple[tuple[datetime, datetime | None], ...]


@dataclass(frozen=True)
class Drawing:
    """`names` along the axis, and for each series (by its name) a figure at each of them: None where nothing is known.

    `figures` are in the unit `measure` says (exact until the end), `texts` the same as the tables show them. `timed` says that the names are units of time in order. A timeline has `lanes`.
    """

    kind: str
    title: str
    measure: str
    names: tuple[str, ...] = ()
    series: tuple[str, ...] = ()
    figures: tuple[tuple[Any, ...], ...] = ()
    texts: tuple[tuple[str, ...], ...] = ()
    timed: bool = False
    lanes: tuple[Lane, ...] = ()
    moments: bool = False
    period: str = ""
    notes: tuple[str, ...] = ()


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
        return _timeline(answer, column)
    if kind == "timeline":
        raise RequestError("a timeline draws events, not figures: fermata records LOG --output FILE.svg")
    asked = tuple(a if a != "none" else "" for a in answer.report.charted)
    one = answer.table.measures[drawn(answer.table, column or asked[1])] if answer.table.body else None
    if one is None:
        raise RequestError(f"{answer.context.title}: there is nothing to draw; no row fits")
    found = _as(_shaped(answer, how, one), kind or asked[0], answer, one)
    return _told(found, answer, one, how)


def _told(found: Drawing, result: RunResult, one: Column, how: Display) -> Drawing:
    """Exact figures in the chart's unit, and as the tables show them."""
    unit, show = _unit(result, one)
    if one.type in ("duration", "mean duration") and not show:
        most = max((abs(v) for line in found.figures for v in line if v is not None), default=0)
        unit = next((u for u in ("h", "min") if most >= SPENT[u]), "s")
    tz = zone(result.context.zone)
    return replace(
        found,
        measure=f"{one.label} ({unit})" if unit else one.label,
        figures=tuple(tuple(_figure(v, one, unit) for v in line) for line in found.figures),
        texts=tuple(tuple(people(v, one.type, one.scale, tz, show, how) for v in line) for line in found.figures),
    )


def _shaped(result: RunResult, how: Display, one: Column) -> Drawing:
    """The exact figures as series over names: what is laid out across, or a second dimension, is the series."""
    table, by = result.table, result.plan.by
    columns = [(i, c) for i, c in enumerate(table.measures) if c.measure == one.measure and c.label == one.label]
    across = [(i, c) for i, c in columns if c.across_label and not c.across_total]
    context = result.context
    period = f"{context.period}, {context.zone}"
    base = Drawing("", context.title, one.label, period=period)
    if across:
        rows = [(_name(r.shown, how), {c.across_label: r.cells[i] for i, c in across}) for r in table.body]
        series = [c.across_label for _, c in across]
        if result.plan.across and _along(result.plan.across) > max(map(_along, by), default=-1):
            rows, series = _turned(rows, series)
            timed = result.plan.across.kind == "unit"
        else:
            timed = bool(by) and by[0].kind == "unit"
    elif len(by) == 2:
        first, second = (1, 0) if _along(by[1]) > _along(by[0]) else (0, 1)
        cells = [(r.shown[first], r.shown[second], r.cells[columns[0][0]]) for r in table.body]
        if not by[first].calendar and len({c[1] for c in cells}) == len(cells):  # one is within the other
            rows, series = [(inner, {"": value}) for _, inner, value in cells], [""]
        else:
            rows, series = _paired(cells)
        timed = by[first].kind == "unit"
        rows = sorted(rows, key=lambda r: r[0]) if first and timed else rows
    else:
        rows, series = [(_name(r.shown, how), {"": r.cells[columns[0][0]]}) for r in table.body], [""]
        timed = bool(by) and by[0].kind == "unit"
    exact = [[values.get(s) for _, values in rows] for s in series]
    return replace(
        base,
        names=tuple(clean(label(n, how)) for n, _ in rows),
        series=tuple(clean(label(s, how)) for s in series),
        figures=tuple(tuple(line) for line in exact),
        timed=timed,
    )


def _along(dimension: Dimension) -> int:
    """How much a dimension wants to run along the axis: time does, hours of the day before weekdays."""
    return 2 * dimension.calendar + (dimension.name == "hour of day")


def _name(shown: Sequence[str], how: Display) -> str:
    return " · ".join(label(s, how) for s in shown) if shown else "All"


def _turned(rows: list[Any], series: list[str]) -> tuple[list[Any], list[str]]:
    """Names and series changed about."""
    return [(s, {n: values.get(s) for n, values in rows}) for s in series], [n for n, _ in rows]


def _paired(cells: list[tuple[str, str, Any]]) -> tuple[list[Any], list[str]]:
    """Rows of (name, series, figure) as names with a figure for each series; what has no row is zero if others of its name have one."""
    rows: dict[str, dict[str, Any]] = {}
    for name, series, value in cells:
        rows.setdefault(name, {})[series] = value
    every = list(dict.fromkeys(s for _, s, _ in cells))
    known = {n: any(v is not None for v in values.values()) for n, values in rows.items()}
    whole = [(n, {s: values.get(s, 0 if known[n] else None) for s in every}) for n, values in rows.items()]
    return whole, every


def _unit(result: RunResult, column: Column) -> tuple[str, Show | None]:
    """The unit of the axis, and how its figures are written."""
    spec = next((c for c in result.report.columns if c.heading == column.label), None)
    asked = spec.unit if spec else ""
    if column.type in ("duration", "mean duration"):
        return (asked if asked in SPENT else "h"), Show(asked) if asked else None
    if column.type == "share":
        return "%", None
    return column.unit if column.type in ("money", "decimal") else "", None


def _figure(value: Any, column: Column, unit: str) -> float | None:
    if value is None:
        return None
    if column.type in ("duration", "mean duration"):
        return float(value / SPENT[unit])
    if column.type == "share":
        return float(100 * value)
    return float(value / 10**column.scale) if column.type in ("money", "decimal") else float(value)


def _as(found: Drawing, kind: str, result: RunResult, column: Column) -> Drawing:
    """The drawing as the kind needs it: sorted, cut to what is legible. Raises RequestError for what would be untrue."""
    one = result.plan.columns[column.measure]
    adds = one.formula is None and one.measure.adds_up
    low = min((v for line in found.figures for v in line if v is not None), default=0)
    kind = kind or _suiting(found, result, adds and low >= 0)
    if kind in ("stacked", "area", "share") and len(found.series) > 1 and not (adds and low >= 0):
        why = "some are less than nothing" if low < 0 else "its parts do not add up"
        raise RequestError(f"{one.label} cannot be drawn as {kind}: {why}; draw a line or bars")
    if kind == "share" and not (adds and low >= 0):
        raise RequestError(
            f"{one.label} has no shares: {'some are less than nothing' if low < 0 else 'its parts do not add up'}"
        )
    if kind in ("ranked", "share"):
        found = _ranked(_totalled(found, adds), adds, MOST if kind == "ranked" else PARTS)
    elif kind == "heat map":
        found = _cut_names(found, adds)
    else:
        found = _cut_series(_cut_names(found, adds), adds)
    return replace(found, kind=kind)


def _suiting(found: Drawing, result: RunResult, stacks: bool) -> str:
    """The kind that suits the shape."""
    parts = [d.name for d in (*result.plan.by, *([result.plan.across] if result.plan.across else []))]
    if len(parts) == 2 and len(found.series) > 1 and {"weekday", "hour of day"} <= set(parts):
        return "heat map"
    if found.timed:
        if len(found.series) > 1:
            return "stacked" if stacks and len(found.names) < 3 * TIMES else "line"
        return "line" if len(found.names) >= TIMES else "bar"
    if len(found.series) > 1:
        return "stacked" if stacks else "bar"
    calendar = bool(result.plan.by) and result.plan.by[0].calendar
    return "bar" if calendar else "ranked"


def _totalled(found: Drawing, adds: bool) -> Drawing:
    """One figure for each name: the series added up. Raises RequestError where they do not add up."""
    if len(found.series) == 1:
        return found
    if not adds:
        raise RequestError(f"{found.measure} of several series cannot be put in order: they do not add up; draw bars")
    sums = tuple(_sum([line[i] for line in found.figures]) for i in range(len(found.names)))
    return replace(found, series=("",), figures=(sums,))


def _ranked(found: Drawing, adds: bool, most: int) -> Drawing:
    """The largest first; beyond `most` the others together, or left out and said where they do not add up."""
    figures = found.figures[0]
    order = sorted(
        (i for i, v in enumerate(figures) if v is not None), key=lambda i: (-(figures[i] or 0), found.names[i])
    )
    kept = order[:most]
    rest = order[most:]
    names = [found.names[i] for i in kept]
    values = [figures[i] for i in kept]
    notes = found.notes
    if rest and adds:
        names, values = [*names, f"{OTHER} ({len(rest):,})"], [*values, _sum([figures[i] for i in rest])]
    elif rest:
        notes = (*notes, f"the {len(rest):,} with less are not shown; they do not add up")
    return replace(found, names=tuple(names), figures=(tuple(values),), notes=notes)


def _cut_names(found: Drawing, adds: bool) -> Drawing:
    """At most `MOST` names, unless they are times: those with most, in their order, and the others together."""
    if found.timed or len(found.names) <= MOST:
        return found
    weight = [max((line[i] or 0 for line in found.figures), default=0) for i in range(len(found.names))]
    best = set(sorted(range(len(weight)), key=lambda i: -weight[i])[:MOST])
    keep = [i for i in range(len(weight)) if i in best]
    rest = [i for i in range(len(weight)) if i not in best]
    return _picked(found, keep, rest if adds else [], len(rest))


def _picked(found: Drawing, keep: list[int], rest: list[int], left: int) -> Drawing:
    figures = []
    for line in found.figures:
        more = [_sum([line[i] for i in rest])] if rest else []
        figures.append((*(line[i] for i in keep), *more))
    names = [*(found.names[i] for i in keep), *([f"{OTHER} ({left:,})"] if rest else [])]
    note = () if rest else (f"{left:,} names with less are not shown; they do not add up",)
    return replace(found, names=tuple(names), figures=tuple(figures), notes=(*found.notes, *note))


def _cut_series(found: Drawing, adds: bool) -> Drawing:
    """At most `SERIES` series and the others together, or left out and said where they do not add up."""
    if len(found.series) <= SERIES + 1:
        return found
    weight = [_sum(line) or 0 for line in found.figures]
    best = sorted(range(len(weight)), key=lambda i: -weight[i])[:SERIES]
    rest = [line for i, line in enumerate(found.figures) if i not in best]
    series, figures = [found.series[i] for i in best], [found.figures[i] for i in best]
    notes = found.notes
    if adds:
        others = tuple(_sum([line[i] for line in rest]) for i in range(len(found.names)))
        series, figures = [*series, f"{OTHER} ({len(rest):,})"], [*figures, others]
    else:
        notes = (*notes, f"{len(rest):,} series with less are not shown; they do not add up")
    return replace(found, series=tuple(series), figures=tuple(figures), notes=notes)


def _sum(values: Sequence[Any]) -> Any:
    """The exact sum of what is known; nothing if nothing is."""
    known = [v for v in values if v is not None]
    return sum(known) if known else None


def _timeline(records: Records, column: str) -> Drawing:
    """The events of a listing as spans on lanes: by the column named, else by the first of user, device, place that tells them apart."""
    names = [c[0] for c in records.columns]
    if "start" not in names or not len(records.rows):
        raise RequestError(f"{records.title}: there are no events to draw on a timeline")
    if column and column not in names:
        raise UnknownName.of("column", column, names, where="to draw lanes of")
    rows = records.rows[:TIMELINE]
    at = names.index(column) if column else _lane(names, rows)
    begin, end = names.index("start"), names.index("finish") if "finish" in names else None
    tz = zone(records.context.zone)
    lanes: dict[str, list[tuple[datetime, datetime | None]]] = {}
    for row in rows:
        name = "" if at is None or row[at] is None else people(row[at], "text", 0, tz)
        finish = row[end] if end is not None else None
        lanes.setdefault(name or "(none)", []).append((_wall(row[begin], tz), _wall(finish, tz) if finish else None))
    kept = sorted(lanes, key=lambda n: (-len(lanes[n]), n))[:MOST]
    notes = []
    if len(lanes) > MOST:
        notes.append(f"the {MOST} of {len(lanes):,} with most events are shown")
    if len(records.rows) > TIMELINE:
        notes.append(f"the first {TIMELINE:,} of {len(records.rows):,} events are drawn")
    context = records.context
    return Drawing(
        "timeline", records.title, f"By {names[at]}" if at is not None else "", lanes=tuple(Lane(n, tuple(lanes[n])) for n in sorted(kept)),
        moments=end is None, period=f"{context.period}, {context.zone}", notes=tuple(notes),
    )  # fmt: skip


def _lane(names: list[str], rows: Sequence[tuple[Any, ...]]) -> int | None:
    """The first field that has several values."""
    places = [names.index(n) for n in LANES if n in names]
    return next((i for i in places if len({str(r[i]) for r in rows}) > 1), places[0] if places else None)


def _wall(at: datetime, tz: Any) -> datetime:
    return local(at, tz).replace(tzinfo=None)
