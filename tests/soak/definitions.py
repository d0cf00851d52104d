"""Files of a workspace with a line gone, doubled, moved or with another word: every problem is a sentence, and whatever
still reads runs or is refused.
"""

from __future__ import annotations

import functools
import random
import re
import tempfile
from pathlib import Path

from tests.conftest import NOW
from tests.soak.commands import BROKEN, WORDS, extreme, pristine, said

__all__ = ["one"]

VALUES = (
    "true", "-1", "0", "1e999", "nan", "inf", "99999999999999999999999", '""', '"nosuch"', '["a", 1]', "{}", "[]",
    "1979-05-27", "07:32:00", '"monthly at 14:00"', '"user"', '"last month"', "[[1], [2]]", '{ a = { b = { c = 1 } } }',
    '"\\u0000"', '"\\u202E"', "'''", '"', "]", "=", "#", '"' + "x" * 5000 + '"', '"(((((((((("', '"(a+)+$"', '"{{ 1 // 0 }}"',
)  # fmt: skip


MANY = ("own-printing", "client-statements")  # deliveries with a part for each of many: trying them takes its time


@functools.cache
def files() -> list[str]:
    """The files of the sample that a person writes."""
    hall = pristine()
    found = [
        hall / "fermata.toml",
        *(p for d in ("reports", "deliveries", "evacuations") for p in (hall / d).glob("*.toml")),
    ]
    return sorted(p.relative_to(hall).as_posix() for p in found)


@functools.cache
def place() -> Path:
    """A copy of the sample for this, whose files are put right after each try."""
    import shutil

    copy = pristine().with_name("defined")
    shutil.copytree(pristine(), copy)
    return copy


def mutated(text: str, chance: random.Random) -> str:
    """The text with a few of its lines or values changed."""
    lines = text.splitlines()
    for _ in range(chance.choice((1, 1, 2, 4))):
        at = chance.randrange(len(lines))
        match chance.randrange(9):
            case 0:
                del lines[at]
            case 1:
                lines.insert(at, lines[chance.randrange(len(lines))])
            case 2:
                other = chance.randrange(len(lines))
                lines[at], lines[other] = lines[other], lines[at]
            case 3:
                lines[at] = re.sub(r'"[^"]*"', lambda _: f'"{chance.choice(WORDS)}"', lines[at], count=1)
            case 4:
                lines[at] = lines[at].replace(chance.choice("abcdeiorst"), chance.choice("äxyz_-. "), 1)
            case 5 | 6:
                at = chance.choice([n for n, line in enumerate(lines) if re.search(r"\d", line)] or [at])
                lines[at] = extreme(lines[at], chance)
            case _:
                key, equals, _ = lines[at].partition("=")
                lines[at] = f"{key}{equals or '='} {chance.choice(VALUES)}"
        lines = lines or [""]
    return "\n".join(lines)


def one(seed: int) -> str:
    """What became of one changed file: the exit code of checking and of using it, or what is wrong."""
    chance = random.Random(seed)
    name = chance.choice(files())
    target = place() / name
    whole = target.read_text("utf-8")
    try:
        target.write_text(mutated(whole, chance), "utf-8")
        use = {
            "reports": ["report", target.stem],
            "deliveries": ["schedule"] if target.stem in MANY else ["send", target.stem, "--try"],
            "evacuations": ["evacuation", "show", target.stem],
        }.get(name.split("/")[0], ["report", "doors", "--period", "2026-03"])  # fmt: skip
        codes = []
        for words in (["archive", "check"], use):
            with tempfile.TemporaryDirectory() as made:
                code, error = said(["-w", str(place()), "--now", NOW.isoformat(), *words], Path(made))
            if BROKEN.search(error) or code not in (0, 1, 2) or (code and not error.strip()):
                return f"wrong: {name} with {' '.join(words)}: exit code {code}: {error.strip()[-400:]}"
            codes.append(str(code))
        return f"exit codes {', '.join(codes)}"
    finally:
        target.write_text(whole, "utf-8")
