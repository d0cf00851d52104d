"""Breaks things on purpose for a while and says what came of it: `python -m tests.soak [--part N] [--seed N]`.

Exits with 1 where anything was wrong.
"""

from __future__ import annotations

import argparse
import collections
import sys
import time

from tests.soak.tries import HOUSES, KINDS, say, tried

LEAST = 20.0  # seconds that each sort of try has


def main() -> int:
    """Reads what is asked for, and runs it."""
    asked = argparse.ArgumentParser(prog="python -m tests.soak", description=__doc__)
    asked.add_argument("--part", type=float, default=1.0, help="the part of a whole run that is tried (0.1)")
    asked.add_argument("--minutes", type=float, default=30, help="when to stop at the latest")
    asked.add_argument("--seed", type=int, default=int(time.time()), help="repeats a run")
    asked.add_argument("--only", choices=[*KINDS], help="only this")
    asked.add_argument("--again", type=int, help="one try of --only by its number, with its error in full")
    given = asked.parse_args()
    if given.again is not None:
        say(KINDS[given.only][0](given.again))
        return 0
    say(f"SEED={given.seed}")
    failed, end = False, time.monotonic() + given.minutes * 60
    kinds = [given.only] if given.only else [*KINDS]
    for left, kind in zip(range(len(kinds), 0, -1), kinds, strict=True):
        now = time.monotonic()
        count = max(int(KINDS[kind][1] * given.part), 1)
        say(f"{kind}: {count:,}")
        came, wrong, done = tried(kind, count, given.seed, max((end - now) / left, LEAST))
        if kind == HOUSES:
            kills = sum(int(what.split()[1]) * n for what, n in came.items())
            came = collections.Counter({f"kills that hit {kills:,}, in houses": came.total()})
        told = ", ".join(f"{what} {n:,}" for what, n in came.most_common())
        say(f"  {done:,} tried in {time.monotonic() - now:.0f} s, {len(wrong)} wrong; {told}")
        failed |= bool(wrong) or not done
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
