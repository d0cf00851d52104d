"""The verdict whether a change is more than chance, on logs that are made up: how often it is wrong, and how often it
finds what is there.
"""

from __future__ import annotations

import numpy as np
import pytest

from fermata.analysis.chance import judge
from tests.conftest import DEEP

LOGS = 1500 if DEEP else 400


def daily(chance: np.random.Generator, days: int, depends: float, factor: float = 1.0, at: int = 0) -> np.ndarray:
    """Counts of days with a weekly rhythm, three times as many on one day in thirty, and a mood that lasts; from day
    `at` on they are `factor` times as many.
    """
    level = np.where(np.arange(days) % 7 < 5, 30.0, 6.0)
    mood = np.empty(days)
    mood[0] = chance.normal()
    for i in range(1, days):
        mood[i] = depends * mood[i - 1] + np.sqrt(1 - depends**2) * chance.normal()
    level *= np.exp(0.3 * mood - 0.045) * np.where(chance.random(days) < 1 / 30, 3, 1)
    level[at:] *= factor
    return chance.poisson(level)


def called(days: int, border: int, depends: float, factor: float) -> float:
    """How many of the logs are said to have changed."""
    chance = np.random.default_rng(20261129)
    weekdays = [d % 7 for d in range(days)]
    found = 0
    for _ in range(LOGS):
        y = daily(chance, days, depends, factor, border).astype(float).tolist()
        verdict = judge({"log": (y[:border], y[border:])}, (weekdays[:border], weekdays[border:]))["log"]
        found += verdict.word in ("more", "less")
    return found / LOGS


@pytest.mark.parametrize(
    ("days", "border", "depends"),
    [
        pytest.param(*of, depends, marks=[] if of[0] == 59 and depends != 0.5 else [pytest.mark.deep])
        for of in ((28, 14), (59, 31), (181, 90))
        for depends in (0.0, 0.5, 0.7)
    ],
)
def test_false_alarms_are_at_most_one_in_twenty(days: int, border: int, depends: float) -> None:
    """Nothing changed, and at most one in twenty is called changed, up to what so many tries scatter by themselves."""
    assert called(days, border, depends, 1.0) <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / LOGS)


def test_a_doubling_is_found_nine_times_in_ten() -> None:
    """Of logs that doubled from one month to the next."""
    assert called(59, 31, 0.3, 2.0) >= 0.9
    assert called(181, 90, 0.5, 2.0) >= 0.98
