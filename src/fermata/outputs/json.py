"""JSON: the whole result, its context and notes included. JSON Lines: its rows alone, one object a line."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from decimal import Decimal
from typing import IO, Any
from zoneinfo import ZoneInfo

from fermata.outputs.columns import texts
from fermata.outputs.delimited import grids, headings
from fermata.outputs.formats import Show, data
from fermata.outputs.grid import Block, Grid, of
from fermata.outputs.writing import Progress, bare
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Context, Page, PagePart, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["context_of", "lines", "write"]

UNSEEN = re.compile("[\x7f-\x9f\u202a-\u202e\u2066-\u2069\u2028\u2029\ud800-\udfff]")  # written as escapes


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """The result as one JSON object. Durations are seconds, times ISO 8601 with offset, money and decimals texts.

    Each row has its `level`: as many dimensions as it tells apart, 0 for the grand total. A page has `parts`, each such
    an object.
    """
    pieces = _page(item, bare(how), progress) if isinstance(item, Page) else _whole(item, bare(how), progress)
    for piece in pieces:
        out.write(piece.encode())
    out.write(b"\n")


def lines(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """The rows of the finest level as JSON Lines: one object a row, by heading; subtotals and context are left out."""
    for title, grid in grids(item, bare(how)):
        names = [json.dumps(h, ensure_ascii=False) for h in headings(grid)]
        lead = f'"Part": {_token(title, "text", 0)}, ' if title is not None else ""
        for block in grid.blocks():
            tokens = _tokens(grid, block)
            rows = [
                lead + ", ".join(f"{n}: {t}" for n, t in zip(names, row, strict=True))
                for level, row in zip(block.levels, zip(*tokens, strict=True), strict=True)
                if level >= grid.depth
            ]
            out.write("".join(f"{{{row}}}\n" for row in rows).encode())
            progress(len(rows))


def context_of(context: Context, title: str, notes: tuple[str, ...], how: Display) -> dict[str, Any]:
    """What is known of a result beside its rows."""
    return {
        "title": title,
        "period": {
            "text": context.period_text,
            "words": context.period,
            "exact": context.period_exact,
            "zone": context.zone,
        },
        "filters": context.filters,
        "view": context.view,
        "records_to": {name: at.isoformat() for name, at in context.fresh},
        "notes": list(notes),
        "made_at": context.made_at.isoformat(),
        **({"made_by": how.author} if how.author else {}),
        "version": context.version,
        "plan": context.plan,
    }


def _page(page: Page, how: Display, progress: Progress) -> Iterator[str]:
    context = page.context
    head = {
        "title": page.title,
        "period": {"words": context.period, "zone": context.zone},
        "verdict": page.verdict,
        "notes": list(page.notes),
        "made_at": context.made_at.isoformat(),
        **({"made_by": how.author} if how.author else {}),
        "version": context.version,
    }
    yield f'{_dumped(head)[:-2]},\n "parts": ['
    for number, part in enumerate(page.parts):
        yield ",\n" if number else "\n"
        yield from _part(part, how, progress)
    yield "\n ]\n}"


def _part(part: PagePart, how: Display, progress: Progress) -> Iterator[str]:
    head = {"title": part.title, **({"verdict": part.verdict or "in order"} if part.verdict is not None else {})}
    if part.item is None:
        yield _dumped({**head, "impossible": part.note})
        return
    yield f'{_dumped(head)[:-2]},\n "answer": '
    yield from _whole(part.item, how, progress)
    yield "}"


def _whole(item: RunResult | Records, how: Display, progress: Progress) -> Iterator[str]:
    grid = of(item, how)
    columns = [
        {"name": h.name, "label": h.label, "type": h.kind, **({"across": h.above} if h.above else {})}
        for h in grid.heads
    ]
    head = {**context_of(grid.context, grid.title, grid.notes, how), "columns": columns}
    yield f'{_dumped(head)[:-2]},\n "rows": ['
    mark = "\n"
    for block in grid.blocks():
        rows = zip(*_tokens(grid, block), strict=True)
        told = (
            f'  {{"level": {level}, "values": [{", ".join(row)}]}}'
            for level, row in zip(block.levels, rows, strict=True)
        )
        yield mark + ",\n".join(told)
        mark = ",\n"
        progress(len(block.levels))
    yield "\n ]\n}"


def _dumped(head: dict[str, Any]) -> str:
    return UNSEEN.sub(_escaped, json.dumps(head, ensure_ascii=False, indent=1))


def _tokens(grid: Grid, block: Block) -> list[list[str]]:
    """The block's columns as JSON values."""
    tz = zone(grid.context.zone)
    found = []
    for column, h in zip(block.columns, grid.heads, strict=True):
        if h.kind == "time":
            told = texts(column, h.kind, 0, tz, None, grid.how, data)
            found.append(["null" if t is None else f'"{t}"' for t in told])
        else:
            values = texts(column, h.kind, h.scale, tz, None, grid.how, _form)
            found.append(["null" if t is None else t for t in values])
    return found


def _form(value: Any, kind: str, scale: int, tz: ZoneInfo, show: Show | None, how: Display) -> str:
    if kind == "mixed":
        return _form(value.value, value.kind, value.scale, tz, show, how)
    return f'"{data(value, kind, scale, tz)}"' if kind == "time" else _token(value, kind, scale)


def _token(value: Any, kind: str, scale: int) -> str:
    if kind in ("duration", "mean duration"):
        seconds, rest = divmod(value, 1_000_000)
        return str(seconds) if not rest else repr(value / 1_000_000)
    if kind in ("decimal", "money"):
        return f'"{Decimal(value).scaleb(-scale):f}"'
    return UNSEEN.sub(_escaped, json.dumps(value, ensure_ascii=False))


def _escaped(found: re.Match[str]) -> str:
    return f"\\u{ord(found[0]):04x}"
