"""Each kind of chart on Matplotlib axes."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from fermata.outputs.canvas import Drawing
from fermata.outputs.formats import SWAPPED
from fermata.outputs.labels import dated, named, short
from fermata.outputs.legible import OTHER
from fermata.outputs.looks import Look

__all__ = ["PLOTS"]

ABREAST = 4  # small charts beside each other
FEW = 31  # names that have a bar each in a small chart


def _colours(found: Drawing, look: Look) -> list[str]:
    names = found.series if len(found.series) > 1 else found.names if found.kind == "share" else found.series
    own = iter(look.series * (len(names) // len(look.series) + 1))
    return [look.other if n.startswith(OTHER) else next(own) for n in names]


def _number(found: Drawing, value: float, digits: int) -> str:
    """A number of a scale with at most so many digits."""
    text = f"{value:,.{digits}g}"
    return text.translate(SWAPPED) if found.comma else text


def _scaled(axes: Any, found: Drawing, look: Look) -> None:
    """A measured axis upwards: a light grid, plain numbers, from zero."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    axes.yaxis.set_major_locator(MaxNLocator(5, min_n_ticks=3))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda v, _: _number(found, v, 10)))
    axes.grid(axis="y", color=look.line, linewidth=0.6)
    axes.set_axisbelow(True)
    if _low(found) >= 0:
        axes.set_ylim(bottom=0)
    else:
        axes.axhline(0, color=look.line, linewidth=0.8)


def _low(found: Drawing) -> float:
    return min((v for line in found.figures for v in line if v is not None), default=0.0)


def _legend(axes: Any, found: Drawing, look: Look) -> None:
    if len(found.series) > 1:
        from matplotlib.patches import Patch

        patches = [Patch(color=c, label=n) for n, c in zip(found.series, _colours(found, look), strict=True)]
        shown = axes.legend(
            handles=patches, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=min(len(found.series), 4), frameon=False,
            fontsize=8, handlelength=1,
            handleheight=1, borderaxespad=0.2, columnspacing=1.4,
        )  # fmt: skip
        for text in shown.get_texts():
            text.set_color(look.ink)
            text.set_text(short(text.get_text()))


def _gone(line: tuple[Any, ...]) -> list[float]:
    return [math.nan if v is None else v for v in line]


def _unknown(axes: Any, found: Drawing, look: Look) -> None:
    """Hatches where nothing is known of any series, so that no data is not taken for zero."""
    for i in range(len(found.names)):
        if all(line[i] is None for line in found.figures):
            axes.axvspan(i - 0.5, i + 0.5, facecolor="none", edgecolor=look.line, hatch="////", linewidth=0)


def _hatched(bars: Any, found: Drawing, look: Look) -> None:
    """Bars of units that are not whole look so."""
    for i in found.unfinished:
        bars[i].set(alpha=0.6, hatch="////", edgecolor=look.ground, linewidth=0)


def _open_ends(axes: Any, found: Drawing, values: list[float], colour: str, look: Look) -> None:
    """Points of units that are not whole are hollow, and what leads to them is dashed."""
    for i in found.unfinished:
        for a, b in ((i - 1, i), (i, i + 1)):
            if a >= 0 and b < len(values) and values[a] == values[a] and values[b] == values[b]:
                axes.plot([a, b], [values[a], values[b]], color=look.ground, linewidth=2.4)
                axes.plot([a, b], [values[a], values[b]], color=colour, linewidth=1.4, linestyle=(0, (2, 2)))
        if values[i] == values[i]:
            axes.plot([i], [values[i]], "o", markersize=4.5, markerfacecolor=look.ground, markeredgecolor=colour)


def bar(axes: Any, found: Drawing, look: Look) -> None:
    """Bars side by side."""
    count = len(found.series)
    wide = 0.8 / count
    for n, (name, line, colour) in enumerate(zip(found.series, found.figures, _colours(found, look), strict=True)):
        places = [i + (n - (count - 1) / 2) * wide for i in range(len(line))]
        bars = axes.bar(places, [v or 0 for v in line], width=wide * 0.94, color=colour, label=name)
        _hatched(bars, found, look)
        for x, v in zip(places, line, strict=True):
            if v == 0:  # zero is a figure: a mark on the line
                axes.plot([x], [0], marker="_", color=colour, markersize=5, clip_on=False)
    _finish(axes, found, look)


def stacked(axes: Any, found: Drawing, look: Look) -> None:
    """Bars on top of each other."""
    ground = [0.0] * len(found.names)
    for name, line, colour in zip(found.series, found.figures, _colours(found, look), strict=True):
        values = [v or 0 for v in line]
        bars = axes.bar(range(len(line)), values, bottom=ground, width=0.76, color=colour, label=name)
        _hatched(bars, found, look)
        ground = [g + v for g, v in zip(ground, values, strict=True)]
    _finish(axes, found, look)


def _finish(axes: Any, found: Drawing, look: Look) -> None:
    _unknown(axes, found, look)
    named(axes, found.names)
    _scaled(axes, found, look)
    _legend(axes, found, look)


def line(axes: Any, found: Drawing, look: Look) -> None:
    """Lines that break where nothing is known; a lone point stays a point. Names at their ends."""
    ends = []
    for name, figures, colour in zip(found.series, found.figures, _colours(found, look), strict=True):
        values = _gone(figures)
        axes.plot(range(len(values)), values, color=colour, linewidth=1.8, solid_capstyle="round")
        _open_ends(axes, found, values, colour, look)
        alone = [i for i, v in enumerate(values) if v == v and not _beside(values, i)]
        axes.plot(alone, [values[i] for i in alone], "o", color=colour, markersize=4)
        last = max((i for i, v in enumerate(values) if v == v), default=None)
        if last is not None and name:
            ends.append((values[last], last, name, colour))
    _unknown(axes, found, look)
    named(axes, found.names)
    _scaled(axes, found, look)
    _ended(axes, ends, len(found.names))


def _beside(values: list[float], i: int) -> bool:
    return any(0 <= n < len(values) and values[n] == values[n] for n in (i - 1, i + 1))


def _ended(axes: Any, ends: list[tuple[float, int, str, str]], count: int) -> None:
    """The names of lines beside their ends, moved apart so that none covers another."""
    low, high = axes.get_ylim()
    apart = (high - low) / 18
    at = -math.inf
    for value, _, name, colour in sorted(ends):
        at = max(value, at + apart)
        axes.annotate(
            short(name, 22), (count - 1, at), xytext=(8, 0), textcoords="offset points", va="center", fontsize=8,
            color=colour,
            annotation_clip=False,
        )  # fmt: skip


def area(axes: Any, found: Drawing, look: Look) -> None:
    """Areas on top of each other, broken where nothing is known."""
    import numpy as np

    places = np.arange(len(found.names))
    ground = np.zeros(len(found.names))
    for name, figures, colour in zip(found.series, found.figures, _colours(found, look), strict=True):
        top = ground + np.array(_gone(figures))
        axes.fill_between(places, ground, top, color=colour, alpha=0.85, linewidth=0, label=name)
        ground = np.where(np.isnan(top), ground, top)
    _finish(axes, found, look)


def ranked(axes: Any, found: Drawing, look: Look) -> None:
    """Horizontal bars, the largest on top, each with its figure."""
    values, texts = found.figures[0], found.texts[0]
    colours = [look.other if n.startswith(OTHER) else look.series[0] for n in found.names]
    bars = axes.barh(range(len(values)), values, color=colours, height=0.68)
    _hatched(bars, found, look)
    axes.set_yticks(range(len(values)), [short(n, 44) for n in found.names])
    axes.invert_yaxis()
    axes.set_ylim(len(values) - 0.4, -0.6)
    axes.set_xticks([])
    axes.spines["bottom"].set_visible(False)
    if min(values, default=0) < 0:
        axes.axvline(0, color=look.line, linewidth=0.8)
    for i, (value, text) in enumerate(zip(values, texts, strict=True)):
        side = 4 if value >= 0 else -4
        axes.annotate(
            text, (value, i), xytext=(side, 0), textcoords="offset points", va="center",
            ha="left" if side > 0 else "right", fontsize=8,
            color=look.ink, annotation_clip=False,
        )  # fmt: skip


def share(axes: Any, found: Drawing, look: Look) -> None:
    """A ring of at most five parts and the others, each named beside it with its figure and share."""
    values = [v or 0 for v in found.figures[0]]
    total = sum(values)
    axes.pie(
        values,
        colors=_colours(found, look),
        startangle=90,
        counterclock=False,
        radius=1,
        wedgeprops={"width": 0.38, "edgecolor": look.ground},
    )
    axes.set_aspect("equal", anchor="W")
    for i, (name, value, text, colour) in enumerate(
        zip(found.names, values, found.texts[0], _colours(found, look), strict=True)
    ):
        y = 0.85 - 0.3 * i
        axes.plot([1.35], [y], "s", color=colour, markersize=9, clip_on=False)
        part = f"{100 * value / total:.1f} %" if total else "0 %"
        axes.text(
            1.5, y, f"{part}   {short(name, 40)}   {text}", va="center", fontsize=9, color=look.ink, clip_on=False
        )


def panels(axes: Any, found: Drawing, look: Look) -> None:
    """A small chart for each series, all on one scale: bars of few names, filled lines of many; names at the edges."""
    axes.set_axis_off()
    rows = math.ceil(len(found.series) / ABREAST)
    high = max((v for line in found.figures for v in line if v is not None), default=0) or 1
    low = min(_low(found), 0)
    grid = 1 / ABREAST, 1 / rows
    for n, (name, figures, colour) in enumerate(zip(found.series, found.figures, _grey(found, look), strict=True)):
        row, column = divmod(n, ABREAST)
        one = axes.inset_axes((column * grid[0], 1 - (row + 0.94) * grid[1], grid[0] * 0.92, grid[1] * 0.66))
        one.set_facecolor("none")
        for side in ("top", "right", "left"):
            one.spines[side].set_visible(False)
        one.spines["bottom"].set_color(look.line)
        _panel(one, replace(found, series=(name,), figures=(figures,)), colour, look)
        one.set_ylim(low * 1.05, high * 1.05)
        one.set_title(short(name, 24), loc="left", fontsize=8, color=look.ink, pad=3)
        one.tick_params(colors=look.soft, length=0, labelsize=6.5, pad=2)
        _at_edges(one, found, high, outer=not column, lowest=n + ABREAST >= len(found.series))


def _grey(found: Drawing, look: Look) -> list[str]:
    """One colour for all, grey for the others together."""
    return [look.other if n.startswith(OTHER) else look.series[0] for n in found.series]


def _panel(axes: Any, found: Drawing, colour: str, look: Look) -> None:
    values = found.figures[0]
    if len(values) <= FEW:
        bars = axes.bar(range(len(values)), [v or 0 for v in values], width=0.8, color=colour)
        _hatched(bars, found, look)
    else:
        axes.fill_between(range(len(values)), 0, _gone(values), color=colour, alpha=0.25, linewidth=0)
        axes.plot(range(len(values)), _gone(values), color=colour, linewidth=1)
    _unknown(axes, found, look)
    if _low(found) < 0:
        axes.axhline(0, color=look.line, linewidth=0.8)
    axes.set_xlim(-0.6, len(values) - 0.4)


def _at_edges(axes: Any, found: Drawing, high: float, *, outer: bool, lowest: bool) -> None:
    """The scale at the left edge only, the first and last name below the lowest charts only."""
    axes.set_yticks([0, high], ["0", _number(found, high, 4)] if outer else ["", ""])
    ends = [0, len(found.names) - 1]
    names = [found.names[i] for i in ends]
    told = [text.replace("\n", " ") for _, text in dated(names) or enumerate(names)]
    axes.set_xticks(ends, told if lowest else ["", ""])
    for text, side in zip(axes.get_xticklabels(), ("left", "right"), strict=True):
        text.set_horizontalalignment(side)


def heat(axes: Any, found: Drawing, look: Look) -> None:
    """One colour, the stronger the more; zero is an empty field, what is not known is hatched."""
    from matplotlib.collections import PatchCollection
    from matplotlib.colors import to_rgba
    from matplotlib.patches import Rectangle

    top = max((abs(v) for row in found.figures for v in row if v is not None), default=0) or 1
    base = to_rgba(look.series[0])
    small = len(found.names) <= 31
    most = 0.5 if small else 0.92  # figures are legible on it, on light ground and on dark
    fields: dict[str | None, list[tuple[Any, Any]]] = {None: [], "//////": []}
    for y, (row, told) in enumerate(zip(found.figures, found.texts, strict=True)):
        for x, value in enumerate(row):
            strength = 0 if value is None else abs(value) / top
            fill = (*base[:3], 0.08 + most * strength) if strength else "none"
            fields["//////" if value is None else None].append((Rectangle((x - 0.47, y - 0.44), 0.94, 0.88), fill))
            if small and value is not None:
                text = _compact(value) if len(told[x]) > 4 else told[x]
                colour = look.ink if value else look.soft
                inside = axes.text(x, y, text, ha="center", va="center", fontsize=6.5, color=colour)
                inside.set_in_layout(False)  # it takes no room beside the plot
    for hatch, drawn in fields.items():
        many = PatchCollection(
            [field for field, _ in drawn], facecolors=[fill for _, fill in drawn], edgecolors=look.line,
            linewidths=0.5, hatch=hatch,
        )  # fmt: skip
        axes.add_collection(many, autolim=False)
    axes.set_xlim(-0.55, len(found.names) - 0.45)
    axes.set_ylim(len(found.series) - 0.5, -0.5)
    axes.set_yticks(range(len(found.series)), [short(s) for s in found.series])
    named(axes, tuple(n.removesuffix(":00") for n in found.names))
    axes.spines["bottom"].set_visible(False)


def _compact(value: float) -> str:
    """A figure in few characters."""
    for size, mark in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if abs(value) >= size:
            return f"{value / size:.1f}".rstrip("0").rstrip(".") + mark
    return f"{value:.1f}" if value != int(value) else f"{int(value)}"


def timeline(axes: Any, found: Drawing, look: Look) -> None:
    """Spans on lanes, midnights marked; what has no finish fades, a moment is a mark."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num

    starts = [s for lane in found.lanes for s, _ in lane.spans]
    ends = [f or s for lane in found.lanes for s, f in lane.spans]
    first, last = min(starts), max(ends)
    room = max((last - first) * 0.02, timedelta(minutes=5))
    for y, lane in enumerate(found.lanes):
        whole = [(date2num(s), date2num(f) - date2num(s)) for s, f in lane.spans if f]
        axes.broken_barh(
            whole, (y - 0.32, 0.64), color=look.series[0], alpha=0.85, linewidth=0.4, edgecolor=look.ground
        )
        for s, f in lane.spans:
            if f is None and found.moments:
                axes.plot([date2num(s)] * 2, [y - 0.32, y + 0.32], color=look.series[0], linewidth=1)
            elif f is None:
                _faded(axes, s, room, y, look)
    _midnights(axes, first, last, look)
    axes.set_ylim(len(found.lanes) - 0.4, -0.6)
    axes.set_yticks(range(len(found.lanes)), [short(lane.name, 36) for lane in found.lanes])
    axes.set_xlim(date2num(first - room), date2num(last + room))
    locator = AutoDateLocator(maxticks=8)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    axes.xaxis.get_offset_text().set_color(look.soft)


def _faded(axes: Any, start: datetime, room: timedelta, y: int, look: Look) -> None:
    from matplotlib.dates import date2num

    steps = 6
    for n in range(steps):
        at = date2num(start + room * n / steps)
        axes.broken_barh(
            [(at, date2num(start + room * (n + 1) / steps) - at)],
            (y - 0.32, 0.64),
            color=look.series[0],
            alpha=0.8 * (1 - n / steps),
            linewidth=0,
        )


def _midnights(axes: Any, first: datetime, last: datetime, look: Look) -> None:
    from matplotlib.dates import date2num

    day = first.replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1)
    if (last - first).days > 62:
        return
    while day <= last:
        axes.axvline(date2num(day), color=look.line, linewidth=0.8, zorder=0)
        day += timedelta(days=1)


PLOTS: dict[str, Callable[[Any, Drawing, Look], None]] = {
    "bar": bar,
    "stacked": stacked,
    "ranked": ranked,
    "line": line,
    "area": area,
    "share": share,
    "panels": panels,
    "heat map": heat,
    "timeline": timeline,
}
