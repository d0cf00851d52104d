"""XML: the whole result with its context, by the schema in docs/result.xsd."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import IO, Any
from zoneinfo import ZoneInfo

from fermata.outputs.formats import Show, data
from fermata.outputs.grid import Grid, of
from fermata.outputs.writing import Progress, bare
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Context, Page, Records, RunResult

__all__ = ["write"]

FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, production 2
WRITTEN = {"&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;"}
WRITTEN |= {chr(c): f"&#{c};" for c in (9, 10, 13, *range(0x7F, 0xA0), *range(0x202A, 0x202F), *range(0x2066, 0x206A))}
MARKS = str.maketrans(WRITTEN)


def write(item: Answer, out: IO[bytes], how: Display, progress: Progress) -> None:
    """One `result`, or a `page` of parts. Durations are ISO 8601 in seconds (PT7509S), times ISO 8601 with offset,
    money decimal.

    Characters that XML 1.0 cannot hold at all stand as U+FFFD; direction overrides and the like as character
    references.
    """
    out.write(b'<?xml version="1.0" encoding="UTF-8"?>\n')
    how = bare(how)
    if isinstance(item, Page):
        _page(item, out, how, progress)
    else:
        _result(item, out, how, progress)


def _page(page: Page, out: IO[bytes], how: Display, progress: Progress) -> None:
    _put(out, "<page>")
    _context(page.context, page.title, page.notes, out, how)
    if page.verdict:
        _put(out, f"<verdict>{escaped(page.verdict)}</verdict>")
    for part in page.parts:
        verdict = "" if part.verdict is None else f' verdict="{escaped(part.verdict or "in order")}"'
        _put(out, f'<part title="{escaped(part.title)}"{verdict}>')
        if part.item is None:
            _put(out, f"<impossible>{escaped(part.note)}</impossible>")
        else:
            _result(part.item, out, how, progress)
        _put(out, "</part>")
    _put(out, "</page>")


def _result(item: RunResult | Records, out: IO[bytes], how: Display, progress: Progress) -> None:
    grid = of(item, how)
    _put(out, "<result>")
    _context(grid.context, grid.title, grid.notes, out, how)
    _put(out, "<columns>")
    for h in grid.heads:
        extra = "".join(f' {k}="{escaped(v)}"' for k, v in (("across", h.above), ("unit", h.unit)) if v)
        _put(out, f'<column name="{escaped(h.name)}" label="{escaped(h.label)}" type="{h.kind}"{extra}/>')
    _put(out, "</columns>\n<rows>")
    _rows(grid, out, progress)
    _put(out, "</rows>\n</result>")


def _rows(grid: Grid, out: IO[bytes], progress: Progress) -> None:
    for block in grid.blocks():
        cells = [["<n/>" if t is None else f"<v>{t}</v>" for t in c] for c in grid.texts(block, _form)]
        rows = zip(block.levels, zip(*cells, strict=True), strict=True)
        out.write("".join(f'<row level="{level}">{"".join(row)}</row>\n' for level, row in rows).encode())
        progress(len(block.levels))


def _context(context: Context, title: str, notes: tuple[str, ...], out: IO[bytes], how: Display) -> None:
    exact = f' exact="{escaped(context.period_exact)}"' if context.period_exact else ""
    author = f' by="{escaped(how.author)}"' if how.author else ""
    made = (
        f'at="{context.made_at.isoformat()}"{author} version="{escaped(context.version)}" '
        f'plan="{escaped(context.plan)}"'
    )
    _put(out, f"<title>{escaped(title)}</title>")
    _put(out, f'<period zone="{escaped(context.zone)}"{exact}>{escaped(context.period)}</period>')
    _put(out, f'<filters view="{escaped(context.view)}">{escaped(context.filters)}</filters>')
    for name, at in context.fresh:
        _put(out, f'<records log="{escaped(name)}" to="{at.isoformat()}"/>')
    for note in notes:
        _put(out, f"<note>{escaped(note)}</note>")
    _put(out, f"<made {made}/>")


def _form(value: Any, kind: str, scale: int, tz: ZoneInfo, show: Show | None, how: Display) -> str:
    if kind == "mixed":
        return _form(value.value, value.kind, value.scale, tz, show, how)
    if kind in ("duration", "mean duration"):
        sign = "-" if value < 0 else ""
        return f"{sign}PT{Decimal(abs(value)).scaleb(-6).normalize():f}S"
    return escaped(data(value, kind, scale, tz))


def escaped(text: str) -> str:
    """A text as XML holds it, in elements and attributes alike."""
    return FORBIDDEN.sub("\ufffd", text).translate(MARKS)


def _put(out: IO[bytes], text: str) -> None:
    out.write(f"{text}\n".encode())
