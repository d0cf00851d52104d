"""Where the columns of a text of fixed width stand."""

from __future__ import annotations

import itertools
import re
from collections import Counter

__all__ = ["places"]


def places(lines: list[str]) -> list[tuple[int, int]]:
    """Where columns of fixed width stand, from 0 and without the ends: apart by two blanks in (almost) every line."""
    if not lines:
        return []
    usual = Counter(len(re.split(r" {2,}", line.strip())) for line in lines[:300]).most_common(1)[0][0]
    rows = [line.expandtabs() for line in lines[:300] if len(re.split(r" {2,}", line.strip())) >= usual - 1]
    if usual < 2 or len(rows) < 3:
        return []
    width = max(map(len, rows))
    blank = [sum(line[i : i + 1] in (" ", "") for line in rows) >= 0.98 * len(rows) for i in range(width)]
    starts = [i for i in range(width) if not blank[i] and (i == 0 or (blank[i - 1] and (i == 1 or blank[i - 2])))]
    return list(itertools.pairwise([*starts, width])) if len(starts) > 1 else []
