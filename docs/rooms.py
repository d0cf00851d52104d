"""The drawing of the rooms: which stands on which, as the imports of the code have it."""

from __future__ import annotations

import ast
from pathlib import Path

__all__ = ["drawing"]

SOURCE = Path(__file__).parent.parent / "src" / "fermata"
WIDE, HIGH, GAP_X, GAP_Y, PAGE = 150, 34, 20, 46, 900


def _room(parts: tuple[str, ...]) -> str:
    """The room of a module by its dotted parts after the package; "" for those beside the rooms."""
    if parts[0] == "reports" and len(parts) > 1 and (SOURCE / "reports" / parts[1]).is_dir():
        return ".".join(parts[:2])
    return parts[0] if (SOURCE / parts[0]).is_dir() else ""


def _imports() -> dict[str, set[str]]:
    """Room -> the rooms its modules import."""
    found: dict[str, set[str]] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        own = _room(path.relative_to(SOURCE).with_suffix("").parts)
        for node in ast.walk(ast.parse(path.read_text())):
            if own and isinstance(node, ast.ImportFrom) and (node.module or "").startswith("fermata."):
                names = [(*str(node.module).split(".")[1:], a.name) for a in node.names]
                found.setdefault(own, set()).update(r for n in names if (r := _room(n)) and r != own)
        if own:
            found.setdefault(own, set())
    return found


def _levels(graph: dict[str, set[str]]) -> dict[str, int]:
    """How high each room stands: one above the highest it imports."""
    found: dict[str, int] = {}
    for _ in graph:  # as many rounds as there may be levels
        for room, below in graph.items():
            if room not in found and below <= found.keys():
                found[room] = 1 + max((found[b] for b in below), default=-1)
    return found


def drawing() -> str:
    """An SVG: one box a room, those it stands on below it; of the arrows only those that no other way implies."""
    graph = _imports()
    levels = _levels(graph)
    top = max(levels.values())
    place: dict[str, tuple[float, float]] = {}
    for level in range(top + 1):
        here = [r for r, at in levels.items() if at == level]
        left = (PAGE - len(here) * WIDE - (len(here) - 1) * GAP_X) / 2
        for i, room in enumerate(here):
            place[room] = (left + i * (WIDE + GAP_X), 16 + (top - level) * (HIGH + GAP_Y))
    height = 32 + (top + 1) * (HIGH + GAP_Y) - GAP_Y
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {PAGE} {height}" font-family="sans-serif" '
        'font-size="13">',
        "<title>The rooms of the house: each stands on those below that it has a line to</title>",
        f'<rect width="{PAGE}" height="{height}" fill="#ffffff"/>',
    ]
    for room, below in graph.items():
        implied = {x for b in below for x in _all_below(b, graph)}
        for under in sorted(below - implied):
            (x, y), (u, v) = place[room], place[under]
            a, b, c, d = x + WIDE / 2, y + HIGH, u + WIDE / 2, v
            lines.append(
                f'<path d="M{a:.0f} {b:.0f} C{a:.0f} {b + 30:.0f} {c:.0f} {d - 30:.0f} {c:.0f} {d:.0f}" fill="none" '
                'stroke="#5b7083"/>'
            )
    for room, (x, y) in place.items():
        lines.append(
            f'<rect x="{x:.0f}" y="{y:.0f}" width="{WIDE}" height="{HIGH}" rx="4" fill="#eef3f7" stroke="#2f4a60"/>'
        )
        lines.append(f'<text x="{x + WIDE / 2:.0f}" y="{y + 22:.0f}" text-anchor="middle" fill="#16242f">{room}</text>')
    return "\n".join([*lines, "</svg>", ""])


def _all_below(room: str, graph: dict[str, set[str]]) -> set[str]:
    return graph[room] | {x for b in graph[room] for x in _all_below(b, graph)}
