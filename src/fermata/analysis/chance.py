"""Whether a change between two periods is more than the log's own scatter from day to day.

Events come in bursts, so a law of independent events would call almost any change real. Here the daily figures of both
periods are fitted by least squares with a level for each weekday and one step between the periods; the step is judged
against what is left over from day to day (Student's t, two-sided). Several comparisons are corrected for by Holm's
method (S. Holm, "A Simple Sequentially Rejective Multiple Test Procedure", Scandinavian Journal of Statistics 6, 1979):
the smallest p is multiplied by their number, the next by one less, and so on.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass

__all__ = ["LEVEL", "Verdict", "holm", "judge"]

LEVEL = 0.05
FEWEST_DAYS = 14


@dataclass(frozen=True, slots=True)
class Verdict:
    """`word` is more, less, no or too little; `p` after correction, `step` the change of a day's figure, `scatter` what
    remains.
    """

    word: str
    p: float | None = None
    step: float = 0.0
    scatter: float = 0.0


def judge(
    groups: Mapping[Hashable, tuple[Sequence[float], Sequence[float]]], weekdays: tuple[Sequence[int], Sequence[int]]
) -> dict[Hashable, Verdict]:
    """For each group its daily figures before and now, against the weekdays (0 Monday) of these days.

    Needs at least 14 days in each period and some scatter; without, the verdict is `too little`.

    >>> flat = ([10, 12, 9, 11, 10, 9, 12] * 3, [20, 22, 19, 21, 20, 19, 23] * 3)
    >>> judge({"A": flat}, ([0, 1, 2, 3, 4, 5, 6] * 3, [0, 1, 2, 3, 4, 5, 6] * 3))["A"].word
    'more'
    """
    before, now = weekdays
    if min(len(before), len(now)) < FEWEST_DAYS:
        return dict.fromkeys(groups, Verdict("too little"))
    import numpy as np
    from scipy import stats

    days = np.array([*before, *now])
    kinds = sorted(set(days.tolist()))
    design = np.column_stack([*(days == k for k in kinds), np.arange(len(days)) >= len(before)]).astype(float)
    free = len(days) - np.linalg.matrix_rank(design)
    inverse = np.linalg.pinv(design.T @ design)
    found: dict[Hashable, Verdict] = {}
    raw: dict[Hashable, float] = {}
    for key, (a, b) in groups.items():
        y = np.array([*a, *b], dtype=float)
        fitted = inverse @ design.T @ y
        scatter = float(np.sqrt(((y - design @ fitted) ** 2).sum() / free))
        step = float(fitted[-1])
        error = scatter * float(np.sqrt(inverse[-1, -1]))
        if error <= 1e-12 * max(abs(step), 1.0):
            found[key] = Verdict("too little")
            continue
        raw[key] = float(2 * stats.t.sf(abs(step) / error, free))
        found[key] = Verdict("no", None, step, scatter)
    for key, p in holm(raw).items():
        one = found[key]
        word = ("more" if one.step > 0 else "less") if p < LEVEL else "no"
        found[key] = Verdict(word, p, one.step, one.scatter)
    return found


def holm(raw: Mapping[Hashable, float]) -> dict[Hashable, float]:
    """p values corrected for being several.

    >>> holm({"a": 0.01, "b": 0.04})
    {'a': 0.02, 'b': 0.04}
    """
    ordered = sorted(raw, key=lambda k: raw[k])
    found: dict[Hashable, float] = {}
    highest = 0.0
    for i, key in enumerate(ordered):
        highest = max(highest, min(raw[key] * (len(ordered) - i), 1.0))
        found[key] = highest
    return found
