"""JSON: the whole result, its context and caveats included."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from fermata.outputs.formats import local
from fermata.outputs.grid import Grid, of
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline.zones import zone

__all__ = ["render"]


def render(item: Answer) -> str:
    """The result as one JSON object. Durations are seconds, times ISO 8601 with offset, money and decimals texts.

    Each row has its `level`: as many dimensions as it tells apart, 0 for the grand total. A page has `parts`, each such an object.
    """
    return json.dumps(_page(item) if isinstance(item, Page) else _whole(item), ensure_ascii=False, indent=1) + "\n"


def _page(page: Page) -> dict[str, Any]:
    parts = [
        {
            "title": p.title, **({"verdict": p.verdict or "in order"} if p.verdict is not None else {}),
            **({"impossible": p.note} if p.item is None else {"answer": _whole(p.item)}),
        }
        for p in page.parts
    ]  # fmt: skip
    context = page.context
    head = {"title": page.title, "period": {"words": context.period, "zone": context.zone}, "verdict": page.verdict}
    return {
        **head,
        "notes": list(page.notes),
        "made_at": context.made_at.isoformat(),
        "version": context.version,
        "parts": parts,
    }


def _whole(item: RunResult | Records) -> dict[str, Any]:
    grid = of(item)
    context = grid.context
    head = {
        "title": item.title if isinstance(item, Records) else context.title,
        "period": {
            "text": context.period_text,
            "words": context.period,
            "exact": context.period_exact,
            "zone": context.zone,
        },
        "filters": context.filters,
        "view": context.view,
        "records_to": {name: at.isoformat() for name, at in context.fresh},
        "notes": list(grid.notes),
        "made_at": context.made_at.isoformat(),
        "version": context.version,
        "plan": context.plan,
        "columns": [
            {"name": n, "label": h, "type": k, **({"across": a} if a else {})}
            for n, h, k, a in zip(grid.names, grid.heads, grid.kinds, grid.above, strict=True)
        ],
    }
    rows = [
        {
            "level": level,
            "values": [_value(v, k, s, grid) for v, k, s in zip(row, grid.kinds, grid.scales, strict=True)],
        }
        for level, row in grid.rows
    ]
    return {**head, "rows": rows}


def _value(value: Any, kind: str, scale: int, grid: Grid) -> Any:
    if value is None:
        return None
    if kind == "mixed":
        return _value(value.value, value.kind, value.scale, grid)
    if kind in ("duration", "mean duration"):
        seconds, rest = divmod(value, 1_000_000)
        return seconds if not rest else value / 1_000_000
    if isinstance(value, datetime):
        return local(value if value.tzinfo else value.replace(tzinfo=UTC), zone(grid.context.zone)).isoformat()
    if kind in ("decimal", "money"):
        return f"{Decimal(value).scaleb(-scale):f}"
    return value
