"""The colours of pictures, on light ground and on dark."""

from __future__ import annotations

import re
from dataclasses import astuple, dataclass

__all__ = ["DARK", "LIGHT", "Look", "darkened"]


@dataclass(frozen=True, slots=True)
class Look:
    """Colours: ground, ink, soft ink, lines, those of the series in order (told apart without red and green), the
    others' grey.
    """

    ground: str
    ink: str
    soft: str
    line: str
    series: tuple[str, ...]
    other: str


LIGHT = Look(
    "#ffffff",
    "#23282f",
    "#5b6470",
    "#c9ced6",
    (
        "#1f6fa8",
        "#e08a1e",
        "#21866b",
        "#a4568f",
        "#58b0e0",
        "#8a6d3b",
        "#5c63b0",
        "#b8475a",
        "#7fae3d",
        "#3c4a57",
        "#d9b84a",
        "#00897b",
    ),
    "#9aa1ab",
)
DARK = Look(
    "#15191f",
    "#e7eaee",
    "#a7b0bc",
    "#3c444f",
    (
        "#5aa9e0",
        "#f0a848",
        "#4cbf9c",
        "#d78cc2",
        "#9ad4f5",
        "#cdb98a",
        "#a3a8ec",
        "#ee8a9a",
        "#b5dc7b",
        "#b7c2cc",
        "#f2dc8b",
        "#5fd3c4",
    ),
    "#7d8692",
)


def _every(look: Look) -> list[str]:
    *four, series, other = astuple(look)
    return [*four, *series, other]


TO_DARK = dict(zip(_every(LIGHT), _every(DARK), strict=True))


def darkened(svg: str) -> str:
    """A picture on light ground (SVG) in the colours for dark ground: it is drawn once for both."""
    return re.sub(r"#[0-9a-f]{6}\b", lambda m: TO_DARK.get(m[0], m[0]), svg)
