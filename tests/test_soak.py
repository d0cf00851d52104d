"""A little of the trouble of `make soak`, the same each time."""

from __future__ import annotations

import pytest

from tests.soak import kills


@pytest.mark.deep
@pytest.mark.parametrize("seed", [1, 2, 3, 5, 8, 20260401])
def test_a_house_ends_with_every_figure_a_recount(seed: int) -> None:
    """Whatever was done and killed in between: counts, ledger, shelf, marks and files prove themselves."""
    what, killed, _ = kills.one(seed).split()
    assert what == kills.KILLS
    assert int(killed) >= 3
