"""Whether a change between two periods is more than the log's own scatter from day to day.

Events come in bursts, and a day is like the day before, so a law of independent events or days would call almost any
change real. Here the square roots of the daily figures (of figures that may be negative, the figures themselves) are
fitted by least squares with a level for each weekday and one step between the periods. The step is judged by the means
of whole weeks, which depend on each other far less than days do: Student's t of two groups of weeks, two-sided (R.
Ibragimov, U. K. Mueller, "t-Statistic Based Correlation and Heterogeneity Robust Inference", Journal of Business &
Economic Statistics 28, 2010), with their variance taken half as large again. With that factor, found by simulation, at
most one in twenty unchanged logs is called changed, with weekly rhythm, bursts and a correlation of up to 0.7 from day
to day; of logs that doubled between two months nine in ten are found where a day scatters by a third
(`tests/test_calibration.py`).

Several comparisons are corrected for by Holm's method (S. Holm, "A Simple Sequentially Rejective Multiple Test
Procedure", Scandinavian Journal of Statistics 6, 1979): the smallest p is multiplied by their number, the next by one
less, and so on.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

__all__ = ["FEWEST_DAYS", "LEVEL", "Verdict", "holm", "judge"]

LEVEL = 0.05
FEWEST_DAYS = 14
CAUTION = 1.5  # weeks depend on each other a little, too


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

    days, border = np.array([*before, *now]), len(before)
    kinds = sorted(set(days.tolist()))
    design = np.column_stack([*(days == k for k in kinds), np.arange(len(days)) >= border]).astype(float)
    free = len(days) - np.linalg.matrix_rank(design)
    inverse = np.linalg.pinv(design.T @ design)
    found: dict[Hashable, Verdict] = {}
    raw: dict[Hashable, float] = {}
    for key, (a, b) in groups.items():
        y = np.array([*a, *b], dtype=float)
        fitted = inverse @ design.T @ y
        scatter = float(np.sqrt(((y - design @ fitted) ** 2).sum() / free))
        even = np.sqrt(y + 0.375) if (y >= 0).all() else y  # so that scatter does not grow with the figure
        levels = (inverse @ design.T @ even)[:-1]
        weeks = [_weeks(part) for part in np.split(even - design[:, :-1] @ levels, [border])]
        degrees = sum(len(w) for w in weeks) - 2
        variance = sum(float(((w - w.mean()) ** 2).sum()) for w in weeks) / degrees * CAUTION
        change = float(weeks[1].mean() - weeks[0].mean())
        error = float(np.sqrt(variance * sum(1 / len(w) for w in weeks)))
        if error <= 1e-12 * max(abs(change), 1.0):
            found[key] = Verdict("too little")
            continue
        raw[key] = float(2 * stats.t.sf(abs(change) / error, degrees))
        found[key] = Verdict("no", None, float(fitted[-1]), scatter)
    for key, p in holm(raw).items():
        one = found[key]
        word = ("more" if one.step > 0 else "less") if p < LEVEL else "no"
        found[key] = Verdict(word, p, one.step, one.scatter)
    return found


def _weeks(days: Any) -> Any:
    """The means of weeks, of as equal a length as the days allow."""
    import numpy as np

    return np.array([part.mean() for part in np.array_split(days, max(len(days) // 7, 2))])


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
