"""Many tries of one kind by two processes at once; each ends within twenty seconds or counts as hung."""

from __future__ import annotations

import collections
import faulthandler
import multiprocessing
import queue
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from tests.soak import commands, definitions, inputs, kills

HOUSES = "killed commands"
KINDS: dict[str, tuple[Callable[[int], str], int]] = {  # what is tried, and how often in a whole run
    HOUSES: (kills.one, 110),  # houses, of some nine kills each
    "command lines": (commands.one, 5_000),
    "changed definitions": (definitions.one, 2_000),
    "spoiled files": (inputs.one, 10_000),  # last: what the others leave of the time is for the most
}
HUNG = 20.0  # seconds
WORKERS = 2


def say(text: str) -> None:
    """A line for whoever watches."""
    sys.stdout.write(f"{text}\n")
    sys.stdout.flush()


def worker(kind: str, seeds: multiprocessing.Queue[int | None], found: multiprocessing.Queue[tuple[int, str, float]],
           traces: Path) -> None:  # fmt: skip
    """Tries one number after another; a try that hangs ends the process, with where it stood."""
    one, _ = KINDS[kind]
    if kind in ("command lines", "changed definitions"):
        commands.pristine()
    with traces.open("w") as trace:
        while (seed := seeds.get()) is not None:
            faulthandler.dump_traceback_later(HUNG * 8, exit=True, file=trace)
            found.put((seed, "begun", 0))
            began = time.monotonic()
            told = one(seed)
            found.put((seed, told, time.monotonic() - began))
            faulthandler.cancel_dump_traceback_later()


def tried(kind: str, count: int, seed: int, seconds: float) -> tuple[collections.Counter[str], list[str], int]:
    """What became of so many tries, what was wrong with which numbers, and how many there were in the seconds from the
    first on: the sample is made before it.
    """
    spawn = multiprocessing.get_context("spawn")
    seeds, found = spawn.Queue(), spawn.Queue()
    chance = random.Random(f"{kind} {seed}")
    longest = HUNG * (6 if kind == HOUSES else 1)  # a house is some twenty commands
    numbers = [chance.randrange(2**40) for _ in range(count)]
    came, wrong, done, slowest = collections.Counter[str](), list[str](), 0, 0.0
    with tempfile.TemporaryDirectory() as made:
        traces = [Path(made) / str(n) for n in range(WORKERS)]
        work = [spawn.Process(target=worker, args=(kind, seeds, found, t)) for t in traces]
        for process in work:
            process.start()
        waiting = iter(numbers)
        open_ones: set[int] = set()
        for _ in range(WORKERS * 2):
            seeds.put(next(waiting))
        until = 0.0
        while done < count and (not until or time.monotonic() < until):
            try:
                number, told, took = found.get(timeout=HUNG * 4)
            except queue.Empty:
                if any(p.is_alive() for p in work):
                    continue  # making the sample
                break
            until = until or time.monotonic() + seconds
            if told == "begun":
                open_ones.add(number)
                continue
            open_ones.discard(number)
            done, slowest = done + 1, max(slowest, took)
            if told.startswith("wrong") or took > longest:
                wrong.append(f"{number}: {told} ({took:.1f} s)")
                say(f"  {wrong[-1]}")
            else:
                came[told] += 1
            seeds.put(next(waiting, None))
        for n in [] if all(p.is_alive() for p in work) else open_ones:
            wrong.append(f"{n}: did not end: " + " ".join(t.read_text() for t in traces if t.exists())[-1500:])
        for process in work:
            process.kill()
    say(f"  slowest {slowest:.1f} s")
    return came, wrong, done
