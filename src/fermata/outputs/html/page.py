"""The page: its head, its parts, and what each of them holds for being sorted, filtered and followed."""

from __future__ import annotations

import base64
import dataclasses
import functools
import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from fermata.analysis.cells import brought_to
from fermata.outputs import drawing
from fermata.outputs.formats import ISO, clean, people
from fermata.outputs.grid import Grid, of
from fermata.outputs.heading import exactly, figured, made_by, subtitle
from fermata.outputs.html.embed import PACKED, chunks, coded, packed, safe
from fermata.outputs.html.parts import NARROW, Point, bars, points, widths
from fermata.outputs.key_figures import Tile, are_tiles, readable, tiles
from fermata.outputs.writing import Progress
from fermata.reports.definition.display import Display
from fermata.reports.execute.drill_down import behind
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["fragment", "kept", "write"]

IN_PAGE = 2_000  # rows that stand in the page itself; more of them are set out a screen at a time
FIRST = 200  # rows of a longer listing that are there from the beginning
EVENTS = 100_000  # events behind figures that go into a page
LARGEST = 25_000_000  # bytes of embedded rows
RANKED = 15  # bars of a chart that nobody asked for
NOTEBOOK = 60  # rows in a notebook
HTTPS = re.compile(r"https://[^\s\"'<>]+")


@dataclass
class Section:
    """A part of the page as its template needs it."""

    number: int
    title: str
    lines: list[str] = field(default_factory=list)
    verdict: str | None = None
    impossible: str = ""
    notes: list[str] = field(default_factory=list)
    folded: list[str] = field(default_factory=list)
    figure: str = ""
    heads: list[dict[str, Any]] = field(default_factory=list)
    above: list[dict[str, Any]] = field(default_factory=list)
    bodies: list[dict[str, Any]] = field(default_factory=list)
    total: list[dict[str, Any]] = field(default_factory=list)
    rows: int = 0
    events: str = ""
    packed: bool = False
    chunks: Iterator[str] | None = None
    charts: tuple[str, str, str] | None = None
    grouped: bool = False
    tiles: list[Tile] = field(default_factory=list)
    points: list[Point] | None = None
    barred: int = -1
    aside: bool = False  # the table is folded, since the chart shows it
    beside: bool = False  # the chart stands beside its table
    share: int = 1  # by how many its row is shared


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """A page that any browser opens as it stands: its content security policy lets nothing in and nothing out.

    Figures lead to their events with file and record, as long as these are no more than 100,000. A long listing is set
    out a screen at a time; beyond 25 MB the page holds the first rows and says so (`kept`). The same input gives the
    same bytes.
    """
    style, script = _asset("page.css"), _asset("page.js")
    context = item.context
    sections = list(_sections(item, how, progress))
    _with_links(sections)
    page = {
        "title": clean(item.title if isinstance(item, Page | Records) else context.title),
        "lines": [f"{context.period}, {context.zone}"] if isinstance(item, Page) else sections[0].lines,
        "verdict": clean(item.verdict[:1].upper() + item.verdict[1:])
        if isinstance(item, Page) and item.verdict
        else "",
        "sections": sections,
        "single": not isinstance(item, Page),
        "notes": [clean(n) for n in item.notes] if isinstance(item, Page) else [],
        "foot": [exactly(context), *made_by(context, how)[-1:]],
        "style": style,
        "script": script,
        "policy": f"default-src 'none'; style-src {_digest(style)}; script-src {_digest(script)}; img-src data:; "
        "base-uri 'none'; form-action 'none'",
        "marks": safe({"comma": how.decimal == "comma", "dates": how.dates}),
    }
    for piece in _template("page.html.jinja").generate(page):
        out.write(piece.encode())


def kept(item: Answer, how: Display = ISO) -> int | None:
    """How many rows of a listing a page holds, if not all of them."""
    if not isinstance(item, Records) or len(item.rows) <= PACKED:
        return None
    grid = of(item, how)
    first = next(chunks(grid, PACKED, lambda _: None), "")
    most = int(LARGEST / max(len(first), 1) * PACKED)
    return most if most < len(item.rows) else None


def fragment(item: Answer, how: Display = ISO, *, headed: bool = True) -> str:
    """The answer for a notebook or a mail: plain tables without a script, long ones cut with a count; without `headed`,
    a single one has no title of its own and no notes.
    """
    items = [(p.title, p.item) for p in item.parts] if isinstance(item, Page) else [(None, item)]
    told = []
    for title, one in items:
        if one is None:
            continue
        grid = readable(one, how)
        lines = grid.first(NOTEBOOK).lines()
        levels = [level for level, _ in grid.first(NOTEBOOK).rows]
        told.append(
            {
                "title": clean(title or grid.title), "lines": [" · ".join(subtitle(grid.context))],
                "heads": list(zip(_headings(grid), grid.heads, strict=True)),
                "rows": [(level < grid.depth, row) for level, row in zip(levels, lines, strict=True)],
                "more": max(grid.total, len(grid)) - len(lines), "notes": [clean(n) for n in grid.notes],
            }
        )  # fmt: skip
    return str(_template("fragment.html.jinja").render(parts=told, headed=headed or len(told) > 1))


@functools.cache
def _template(name: str) -> Any:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    loader = PackageLoader("fermata.outputs", "html")
    return Environment(
        loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    ).get_template(name)


def _asset(name: str) -> str:
    return (Path(__file__).parent / name).read_text(encoding="utf-8")


def _digest(text: str) -> str:
    """A script or style as the policy knows it: by the digest of its text (CSP level 2)."""
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"


def _sections(item: Answer, how: Display, progress: Progress) -> Iterator[Section]:
    if not isinstance(item, Page):
        yield _section(1, None, item, how, progress)
        return
    said: set[str] = set()
    shares = [] if item.breaks else widths(item.layout, [narrow(p.item) for p in item.parts])
    for number, part in enumerate(item.parts, 1):
        verdict = None if part.verdict is None else clean(part.verdict or "in order")
        if part.item is None:
            share = shares[number - 1] if shares else 1
            yield Section(number, clean(part.title), verdict=verdict, impossible=clean(part.note), share=share)
            continue
        made = _section(number, part.title, part.item, how, progress)
        made.verdict = verdict
        made.share = shares[number - 1] if shares else 1
        if made.charts and made.share == 1 and len(made.heads) <= NARROW:
            made.beside, made.aside = True, False
        made.lines = [line for line in made.lines if not line.startswith(item.context.period)]
        if not item.breaks:
            made.notes = [n for n in made.notes if n not in said]
            made.folded = [n for n in made.folded if n not in said]
            said.update(made.notes, made.folded)
        yield made


def _with_links(sections: list[Section]) -> None:
    """Each point leads to the part that shows the report behind it."""
    places = {s.title: s.number for s in sections if not s.points}
    for section in sections:
        if section.points:
            section.points = [dataclasses.replace(p, part=places.get(p.report, 0)) for p in section.points]


def _section(number: int, title: str | None, item: RunResult | Records, how: Display, progress: Progress) -> Section:
    grid = of(item, how, titled=True).compact()
    said = f" ({', '.join(grid.said)})" if grid.said else ""
    lines = [*([grid.each] if grid.each else []), *subtitle(grid.context)]
    made = Section(number, clean((title or grid.title) + said), [clean(line) for line in lines], rows=len(grid))
    tiled = are_tiles(item)
    if tiled:  # what the columns keep is said once, with the other notes
        made.lines = [clean(n.partition(" (")[0]) for n in grid.notes if n.kind == "compared"][:1]
    made.notes = [clean(n) for n in grid.notes if n.weight == "figures" and not tiled]
    made.folded = [clean(n) for n in grid.notes if n.weight != "figures" or tiled]
    if tiled and grid.context.filters:
        made.folded.insert(0, clean(grid.context.filters))
    made.heads, made.above = _heads(grid)
    made.points = points(item)
    if grid.total > len(grid):
        made.notes.insert(0, f"{grid.total - len(grid):,} more rows are not shown")
    if isinstance(item, Records) or len(grid) > IN_PAGE:
        _listed(made, item, grid, how, progress)
        return made
    _tabled(made, item, grid, barred=title is not None)
    if tiled:
        made.tiles = tiles(item, grid)
    elif made.barred < 0 or title is None or item.report.charted[0] not in ("", "ranked"):
        made.charts, undrawn = _charts(item, how)
        made.notes += [undrawn] if undrawn else []
        made.aside = title is not None and made.charts is not None and len(grid.heads) > NARROW
    progress(len(grid))
    return made


def narrow(item: RunResult | Records | None) -> bool:
    """Whether a part has room beside another."""
    if isinstance(item, RunResult):
        return len(item.plan.by) + len(item.table.measures) <= NARROW and item.report.charted[0] != "tiles"
    return isinstance(item, Records) and points(item) is None and len(item.columns) <= NARROW


def _headings(grid: Grid) -> list[str]:
    return [
        clean(f"{h.above} {text}" if h.above else text) for h, text in zip(grid.heads, grid.with_units, strict=True)
    ]


def _heads(grid: Grid) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The headings, and those above them with how many columns they span."""
    heads = [
        {"text": clean(text), "full": full, "left": h.left, "kind": h.kind}
        for h, text, full in zip(grid.heads, grid.with_units, _headings(grid), strict=True)
    ]
    above: list[dict[str, Any]] = []
    if any(h.above for h in grid.heads):
        for h in grid.heads:
            if above and above[-1]["text"] == clean(h.above):
                above[-1]["span"] += 1
            else:
                above.append({"text": clean(h.above), "span": 1})
    return heads, above


def _tabled(made: Section, item: RunResult, grid: Grid, *, barred: bool) -> None:
    """A table that stands in the page: groups of the outermost dimension with their subtotal on top, the total at the
    end; with `barred`, bars in ranked figures in the place of a chart.
    """
    lines, rows = grid.lines(), grid.rows
    figures = _figures(made, item, grid)
    ranked = bars(item, grid) if barred else None
    made.barred, parts = ranked if ranked else (-1, [])
    left = iter(parts)
    groups = grid.depth > 1 and any(level == 1 for level, _ in rows)
    body: dict[str, Any] | None = None
    for n, ((level, _), texts) in enumerate(zip(rows, lines, strict=True)):
        cells: list[dict[str, Any]] = [{"text": t, "figure": figures.get((n, c))} for c, t in enumerate(texts)]
        if ranked and level == grid.depth:
            cells[made.barred]["bar"] = round(100 * next(left, 0.0), 1)
        if level == 0 and grid.depth:
            made.total = cells
            continue
        own = texts[0] if groups and level != 1 else None
        if level == 1 and groups and body is not None:
            body["head"] = [
                {"text": body["name"], "figure": None},
                *({"text": "", "figure": None} for _ in range(grid.depth - 1)),
                *cells[grid.depth :],
            ]
            body = None
            continue
        if body is None or (groups and own != body["name"]):
            body = {"name": own or "", "head": None, "rows": []}
            made.bodies.append(body)
        if level < grid.depth:
            cells[:level] = [{"text": "", "figure": None}] * level
        body["rows"].append({"cells": cells, "sum": level < grid.depth})
    made.grouped = groups and any(b["head"] for b in made.bodies)


def _figures(made: Section, item: RunResult, grid: Grid) -> dict[tuple[int, int], int]:
    """The events behind the figures, embedded; by row and column of the grid the number of the figure."""
    if item.place is None or not grid.origins or not item.place.view.may("events behind a figure"):
        return {}
    found = behind(item, EVENTS)
    if not found.logs:
        if found.total > EVENTS:
            made.notes.append(
                f"the {found.total:,} events behind these figures are too many for a page; a list of those behind a "
                "figure: fermata report NAME "
                "--events --cell GROUP=VALUE --column COLUMN"
            )
        return {}
    if found.left:
        made.notes.append(f"the events behind {', '.join(found.left)} are not on this page: too many units of time")
    places = {origin: n for n, origin in enumerate(grid.origins)}
    columns = {place - grid.depth: c for c, place in enumerate(grid.places) if c >= grid.depth}
    numbers: dict[tuple[int, int], int] = {}
    told: list[Any] = []
    shares: dict[tuple[str, int], dict[Any, str]] = {}  # what was brought, each different value written once
    tz = zone(grid.context.zone)
    for (row, measure), (log, events, brought) in found.figures.items():
        if row not in places or measure not in columns or not events:
            continue
        column = item.table.measures[measure]
        kind, _, scale = brought_to(item.plan, column.measure)
        at = (places[row], columns[measure])
        numbers[at] = len(told)
        said = shares.setdefault((kind, scale), {})
        for value in set(brought) - said.keys():
            said[value] = people(value, kind, scale, tz, None, grid.how)
        told.append([log, events, coded([said[v] for v in brought])])
    logs = []
    for records in found.logs:
        listed = of(records, grid.how.merged(Display(columns=())))
        cells = [[t or "" for t in c] for c in _columns(listed)]
        logs.append(
            {
                "heads": [
                    [clean(h), head.left, head.unit == "link"]
                    for h, head in zip(listed.headings, listed.heads, strict=True)
                ],
                "c": [coded(c) for c in cells],
            }
        )
    data = {"logs": logs, "figures": told}
    made.packed = found.total > PACKED
    made.events = packed(data) if made.packed else safe(data)
    return numbers


def _columns(grid: Grid) -> list[list[str | None]]:
    found: list[list[str | None]] = [[] for _ in grid.heads]
    for block in grid.blocks():
        for held, more in zip(found, grid.texts(block, people), strict=True):
            held += more
    return found


def _listed(made: Section, item: RunResult | Records, grid: Grid, how: Display, progress: Progress) -> None:
    """A listing: short ones stand in the page, long ones begin there and are set out a screen at a time."""
    some = grid if len(grid) <= IN_PAGE else grid.first(FIRST)
    links = [h.unit == "link" for h in grid.heads]
    rows = [
        {"cells": [_linked(t, link) for t, link in zip(line, links, strict=True)], "sum": level < grid.depth}
        for (level, _), line in zip(some.rows, some.lines(), strict=True)
    ]
    made.bodies = [{"name": "", "head": None, "rows": rows}]
    if isinstance(item, Records) and (told := figured(item, how)):
        made.figure = f"Figure {told}"
    if len(grid) <= IN_PAGE:
        progress(len(grid))
        return
    most = kept(item, how)
    if most:
        made.notes.insert(
            0, f"this page holds the first {most:,} of {len(grid):,} rows; all of them are in the CSV file beside it"
        )
        made.rows = most
    made.chunks = chunks(grid, most or len(grid), progress)


def _linked(text: str, link: bool) -> dict[str, Any]:
    return {"text": text, "figure": None, "link": link and bool(HTTPS.fullmatch(text))}


def _charts(item: RunResult, how: Display) -> tuple[tuple[str, str, str] | None, str]:
    """The chart for a light and for a dark page as images of the page itself, and what they show in words; or none, and
    why, where one was asked for.
    """
    if item.report.chart == "none":
        return None, ""
    found, why = drawing.drawable(item, how)
    if found is None:
        return None, why if item.report.chart else ""
    if not item.report.chart and (len(found.names) < 2 or (found.kind == "ranked" and len(found.names) > RANKED)):
        return None, ""
    from fermata.outputs import charts

    light, dark = (
        f"data:image/svg+xml;base64,{base64.b64encode(svg.encode()).decode()}" for svg in charts.on_both_grounds(found)
    )
    return (light, dark, f"{found.kind} chart of {found.measure}: {found.title}"), ""
