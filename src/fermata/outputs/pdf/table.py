"""A table over pages: columns fitted, turned or split, texts wrapped, headers repeated, groups kept with their first
rows.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fermata.outputs.formats import clean, people
from fermata.outputs.grid import Grid
from fermata.outputs.pdf.paper import FOOT, INK, LINE, MARGIN, SOFT, Paper, rgb
from fermata.outputs.writing import Progress

__all__ = ["Fit", "draw", "fitted"]

GAP = 8.0  # points between columns
WIDEST = 230.0  # points a text takes before it is wrapped
NARROWEST, WORD = 46.0, 100.0  # points a text is wrapped to, and a word may keep it from
LONGEST = 1000  # characters of a text in a table
SAMPLE = 3000  # rows that widths are judged by
SIZES, LARGE = (8.5, 7.5, 6.5), (13.0, 12.0, 11.0, 10.0)
WAYS = ((False, SIZES[:2]), (True, SIZES[:2]), (True, SIZES[2:]))  # texts wrapped or not, with letters of these sizes
Cells = Sequence[str]


@dataclass(frozen=True)
class Fit:
    """How a grid goes on paper: size of the letters, landscape or not, and the columns of each part with their
    widths.
    """

    size: float
    landscape: bool
    parts: tuple[tuple[int, ...], ...]
    widths: tuple[float, ...]


def fitted(paper: Paper, grid: Grid) -> Fit:
    """Letters smaller, then the page turned, then the columns in parts that repeat the first ones."""
    natural, least = _widths(paper, grid)
    wanted = paper.how.orientation
    turns = [wanted == "landscape"] if wanted else [False, True]
    short, long = sorted(paper.portrait)
    ways = (*((False, LARGE),) * grid.large, *WAYS)
    for low, size, landscape in [(low, size, turn) for low, sizes in ways for turn in turns for size in sizes]:
        room = (long if landscape else short) - 2 * MARGIN - GAP * (len(natural) - 1)
        widths = _shared([w * size for w in natural], [w * size for w in (least if low else natural)], room)
        if widths:
            return Fit(size, landscape, (tuple(range(len(natural))),), widths)
    landscape, kept = turns[-1], 1 if grid.listing else grid.depth
    usable = (long if landscape else short) - 2 * MARGIN
    found = []
    for size in SIZES[1:]:
        widths = tuple(min(w * size, usable / 3) for w in natural)
        found.append(Fit(size, landscape, tuple(_parts(widths, kept, usable)), widths))
    return min(found, key=lambda fit: len(fit.parts))


def _widths(paper: Paper, grid: Grid) -> tuple[list[float], list[float]]:
    """The widths that columns want and the least they need, at letters of one point."""
    levels, sample = _sampled(grid)
    if grid.listing and len(grid) > len(levels) > 0:  # numbers of records grow
        sample = [
            [*c[:-1], f"00:{grid.total}"] if h.name == "record" else c for c, h in zip(sample, grid.heads, strict=True)
        ]
    bolds = [level < grid.depth for level in levels]
    natural, least = [], []
    for i, (h, heading) in enumerate(zip(grid.heads, grid.with_units, strict=True)):
        if h.name in grid.second:  # stands below each row
            natural.append(0.0)
            least.append(0.0)
            continue
        bold = max(paper.width_of(w, 1, bold=True) for w in [*heading.split(), clean(h.above)[:24], " "])
        told = {((t or "")[:200], b) for t, b in zip(sample[i], bolds, strict=True)}
        cells = [paper.width_of(t, 1, bold=b) for t, b in told] or [0.0]
        whole = paper.width_of(heading, 1, bold=True)
        if h.left and h.kind != "time":
            natural.append(max(min(max(*cells, min(whole, WIDEST / 17)), WIDEST / 8.5), bold))
            words = max(paper.width_of(w, 1) for w in {w for t, _ in told for w in t.split()} or {""})
            least.append(min(natural[-1], max(NARROWEST / 8.5, bold, min(words, WORD / 8.5))))
        else:
            natural.append(max(*cells, bold))
            least.append(natural[-1])
    return natural, least


def _sampled(grid: Grid) -> tuple[Sequence[int], list[list[str | None]]]:
    block = next(grid.blocks(SAMPLE), None)
    return (block.levels, grid.texts(block, people)) if block else ([], [[] for _ in grid.heads])


def _shared(natural: list[float], least: list[float], room: float) -> tuple[float, ...] | None:
    """Widths that fit: the wanted ones, or those of texts cut down together; None if even the least do not fit."""
    if sum(natural) <= room:
        return tuple(natural)
    if sum(least) > room:
        return None
    spare, wish = room - sum(least), sum(natural) - sum(least)
    return tuple(low + (high - low) * spare / wish for low, high in zip(least, natural, strict=True))


def _parts(widths: Sequence[float], kept: int, usable: float) -> list[tuple[int, ...]]:
    """The columns of each part: the first `kept` in all of them, the others spread evenly over as few parts as they fit
    in.
    """
    most = len(widths)
    while True:
        found = list(_filled(widths, kept, usable, most))
        even = kept + -(-(len(widths) - kept) // len(found))
        if even >= most or len(found) == 1:
            return found
        most = even


def _filled(widths: Sequence[float], kept: int, usable: float, most: int) -> Iterator[tuple[int, ...]]:
    first = list(range(kept))
    taken = sum(widths[i] + GAP for i in first)
    part, at = list(first), taken
    for i in range(kept, len(widths)):
        if (at + widths[i] > usable or len(part) == most) and len(part) > kept:
            yield tuple(part)
            part, at = list(first), taken
        part.append(i)
        at += widths[i] + GAP
    yield tuple(part)


def draw(paper: Paper, grid: Grid, fit: Fit, progress: Progress) -> None:
    """The table in all its parts, on from where the page is. What is split says which columns these are."""
    for number, part in enumerate(fit.parts):
        if number:
            paper.new_page()
        said = ""
        if len(fit.parts) > 1:
            repeated = " and ".join(grid.headings[i] for i in fit.parts[0][: 1 if grid.listing else grid.depth])
            first, last = part[1 if grid.listing else grid.depth] + 1, part[-1] + 1
            said = (
                f"part {number + 1} of {len(fit.parts)}: columns {first} to {last} of {len(grid.heads)}, "
                f"{repeated} repeated"
            )
        _Table(paper, grid, fit, part, said).rows(progress if not number else lambda _: None)


class _Table:
    """One part of a table being drawn."""

    def __init__(self, paper: Paper, grid: Grid, fit: Fit, part: Sequence[int], said: str) -> None:
        self.paper, self.grid, self.size, self.part, self.said = paper, grid, fit.size, part, said
        self.lead = fit.size * 1.22
        self.deepest = int((paper.height - 2 * MARGIN - FOOT) / self.lead) - 8  # lines of a row
        self.pad = 3.2 if len(grid) < SAMPLE else 2.2
        widths = [fit.widths[i] for i in part]
        spare = paper.usable - sum(widths) - GAP * (len(widths) - 1)
        if spare < 0:
            widths = [w + spare / len(widths) for w in widths]
        self.widths = widths
        self.lefts = [MARGIN + sum(w + GAP for w in widths[:n]) for n in range(len(widths))]
        self.heads = [grid.heads[i] for i in part]
        self.caches: list[dict[tuple[str, bool], tuple[str, str, int]]] = [{} for _ in part]
        self.below = {n for n, i in enumerate(part) if grid.heads[i].name in grid.second}
        self.group: list[str] = []

    def rows(self, progress: Progress) -> None:
        """All rows, with the header on every page."""
        self.header()
        before, after = self.paper.on_page, self.paper.on_page

        def continued() -> None:
            after()
            self.header()
            self._again()

        self.paper.on_page = continued
        held: tuple[int, list[str]] | None = None
        for block in self.grid.blocks():
            columns = [[t or "" for t in c] for c in self.grid.texts(block, people)]
            picked = [columns[i] for i in self.part]
            for level, cells in zip(block.levels, zip(*picked, strict=True), strict=True):
                if held:
                    self._row(*held, following=level)
                held = level, list(cells)
            progress(len(block.levels))
        if held:
            self._row(*held, following=None)
        self.paper.on_page = before

    def header(self) -> None:
        """The headings, with what runs across above them, and a rule."""
        paper, size = self.paper, self.size
        if self.said:
            paper.y -= size * 1.3
            paper.put(MARGIN, paper.y, self.said, size=size - 0.5, colour=SOFT)
        titles = ["" if n in self.below else self.grid.with_units[i] for n, i in enumerate(self.part)]
        if any(h.above for h in self.heads):
            paper.y -= self.lead + 2
            self._above()
        lines = [paper.wrapped(t, w, size, bold=True) for t, w in zip(titles, self.widths, strict=True)]
        deep = max(map(len, lines))
        for h, told, x, w in zip(self.heads, lines, self.lefts, self.widths, strict=True):
            for n, text in enumerate(told):
                y = paper.y - self.lead * (n + 1 + deep - len(told))
                paper.put(x if h.left else x + w, y, text, size=size, bold=True, right=not h.left)
        paper.y -= self.lead * deep + 3.5
        paper.rule(MARGIN, paper.y, self.lefts[-1] + self.widths[-1] - MARGIN, colour=INK, thick=0.7)

    def _above(self) -> None:
        """The headings above, each once over its columns, cut to their width."""
        n = 0
        while n < len(self.heads):
            above, last = self.heads[n].above, n
            while last + 1 < len(self.heads) and self.heads[last + 1].above == above:
                last += 1
            if above:
                right = self.lefts[last] + self.widths[last]
                text = self.paper.wrapped(clean(above), right - self.lefts[n], self.size, bold=True)[0]
                x = right if last == n else self.lefts[n]
                self.paper.put(x, self.paper.y, text, size=self.size, bold=True, right=last == n)
                if last > n:
                    self.paper.rule(self.lefts[n], self.paper.y - 3, right - self.lefts[n])
            n = last + 1

    def _row(self, level: int, cells: list[str], following: int | None) -> None:
        """One row; a new group begins only where its first rows fit too, a subtotal stays with the row above it."""
        grid, paper = self.grid, self.paper
        bold = level < grid.depth
        names = cells[: grid.depth]
        if bold:
            cells[:level] = [""] * level
        opens = not grid.listing and grid.depth > 1 and not bold and names[:1] != self.group[:1]
        ops, lines = self._operators(cells, bold)
        height = lines * self.lead + self.pad
        extra = self._second(cells) if self.below else []
        height += len(extra) * self.lead
        needed = height + (2 * (self.lead + self.pad) if opens else 0)
        needed += self.lead + self.pad if following is not None and following < grid.depth <= level else 0
        if paper.room < needed:
            self.group = [] if opens or level == 0 else self.group
            paper.new_page()
        elif not bold and not grid.listing:
            ops, _ = self._operators(self._unrepeated(names, cells), bold)
        if opens and not bold:
            paper.mark(names[0], 1)
        self._drawn(ops, bold, height, extra)
        self.group = [] if bold and level == 0 else names if not bold else self.group

    def _unrepeated(self, names: list[str], cells: list[str]) -> list[str]:
        """Without the group names that the row above says."""
        same = 0
        while same < len(names) - 1 and self.group[: same + 1] == names[: same + 1]:
            same += 1
        return [""] * same + cells[same:]

    def _again(self) -> None:
        """On a new page within a group, that it goes on."""
        if self.group and self.grid.depth > 1 and not self.grid.listing:
            text = f"{' · '.join(self.group[:-1])} (continued)"
            self.paper.y -= self.lead + self.pad / 2
            self.paper.put(MARGIN, self.paper.y, text, size=self.size - 0.5, colour=SOFT)

    def _operators(self, cells: Cells, bold: bool) -> tuple[list[tuple[str, str, int]], int]:
        found, lines = [], 1
        for n, text in enumerate(cells):
            if text and n not in self.below:
                cache = self.caches[n]
                made = cache.get((text, bold))
                if made is None:
                    if len(cache) > 50_000:
                        cache.clear()
                    made = cache[text, bold] = self._written(n, text, bold)
                lines = max(lines, made[2])
                found.append(made)
        return found, lines

    def _written(self, n: int, text: str, bold: bool) -> tuple[str, str, int]:
        """A cell's operators around its height on the page, and how many lines it has."""
        size, width, paper = self.size, self.widths[n], self.paper
        if self.heads[n].left:
            if len(text) > LONGEST:
                paper.cut += 1
                text = text[: LONGEST - 1] + "…"
            told = paper.wrapped(text, width, size, bold=bold)
            if len(told) > self.deepest:
                paper.cut += 1
                told = [*told[: self.deepest - 1], "…"]
            x = self.lefts[n]
        else:
            told = [text]
            x = self.lefts[n] + width - paper.width_of(text, size, bold=bold)
        shown = [paper.shows(t, size, bold) for t in told]
        return f"1 0 0 1 {x:.2f} ", f" Tm {f' 0 {-self.lead:.2f} Td '.join(shown)}", len(told)

    def _second(self, cells: Cells) -> list[str]:
        """The lines below a row: the fields set on a line of their own."""
        told = " · ".join(f"{self.grid.headings[self.part[n]]} {cells[n]}" for n in sorted(self.below) if cells[n])
        return self.paper.wrapped(told[: 4 * LONGEST], self.paper.usable - 14, self.size) if told else []

    def _drawn(self, ops: list[tuple[str, str, int]], bold: bool, height: float, extra: list[str]) -> None:
        paper = self.paper
        base = paper.y - self.lead
        at = f"{base:.2f}"
        body = "\n".join(before + at + after for before, after, _ in ops)
        width = self.lefts[-1] + self.widths[-1] - MARGIN
        low = paper.y - height
        line = f"{rgb(LINE, 'RG')} 0.4 w {MARGIN:.2f} {low:.2f} m {MARGIN + width:.2f} {low:.2f} l S\n" if bold else ""
        paper.raw(f"{line}BT {rgb(INK, 'rg')} {paper.font(self.size, bold)} {body} ET")
        for n, text in enumerate(extra, 1):
            paper.put(
                MARGIN + 14, low + self.pad + self.lead * (len(extra) - n), text, size=self.size - 0.5, colour=SOFT
            )
        paper.y = low
