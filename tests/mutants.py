"""Small random changes to the heart, one at a time, and whether a test notices: `python -m tests.mutants COUNT [SEED]`.

Works in a copy of the tree. One run of the tests tells first which of them come through which line: those are tried
first, the quickest before the others, then those that know the room, then all. A change that survives is printed with
its line; it wants a test or a reason.
"""

from __future__ import annotations

import ast
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
WHERE = ("timeline", "analysis", "reports/compile", "proof")
COMPARES: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
SUMS: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Add, ast.FloorDiv: ast.Mult, ast.Div: ast.Mult,
    ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip
SHOTS = {  # the quick tests that know a room, tried first
    "timeline": ["tests/test_timeline.py", "tests/test_spans.py"],
    "analysis": ["tests/test_heart.py", "tests/test_spans.py", "tests/test_over_all.py"],
    "reports/compile": ["tests/test_request.py", "tests/test_viewers.py", "tests/test_small_groups.py"],
    "proof": ["tests/test_proof.py"],
}
OWN = 25  # tests that come through a line, tried first


def changes(tree: ast.AST) -> Iterator[tuple[ast.AST, str]]:
    """Every place that could be changed, with what would become of it."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and type(node.ops[0]) in COMPARES:
            yield node, "compare"
        elif isinstance(node, ast.BinOp) and type(node.op) in SUMS:
            yield node, "sum"
        elif isinstance(node, ast.BoolOp):
            yield node, "and or"
        elif isinstance(node, ast.Constant) and isinstance(node.value, int) and not isinstance(node.value, bool):
            yield node, "number"
        elif isinstance(node, ast.Constant) and isinstance(node.value, bool):
            yield node, "flag"
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            yield node, "not"


def change(node: ast.AST, kind: str) -> None:
    """Makes the change in place."""
    match node, kind:
        case ast.Compare(), _:
            node.ops[0] = COMPARES[type(node.ops[0])]()
        case ast.BinOp(), _:
            node.op = SUMS[type(node.op)]()
        case ast.BoolOp(), _:
            node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        case ast.Constant(value=bool() as held), _:
            node.value = not held
        case ast.Constant(value=int() as held), _:
            node.value = held + 1
        case ast.UnaryOp(), _:
            node.operand = ast.UnaryOp(ast.Not(), node.operand)


def mutant(path: Path, chance: random.Random) -> tuple[str, int, str]:
    """The file's text with one change, its line, and what was changed; its own formatting is lost, which does not matter
    here.
    """
    tree = ast.parse(path.read_text())
    docs = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}
    places = [(n, k) for n, k in changes(tree) if id(n) not in docs]
    if not places:
        return "", 0, ""
    node, kind = chance.choice(places)
    before = ast.unparse(node)
    change(node, kind)
    line = getattr(node, "lineno", 0)
    return ast.unparse(tree), line, f"line {line}: {before} -> {ast.unparse(node)}"


def run(tree: Path, tests: list[str], seconds: int, *how: str) -> subprocess.CompletedProcess[str]:
    """Runs tests of the tree. Raises subprocess.TimeoutExpired."""
    env = {**os.environ, "PYTHONPATH": str(tree / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", *how, "-q", "-p", "no:cacheprovider", *tests,
               "-m", "not postgres and not producers and not spark", "--ignore", "tests/contract", "--ignore", "tests/browser"]  # fmt: skip
    return subprocess.run(command, cwd=tree, env=env, capture_output=True, text=True, timeout=seconds, check=False)


def noticed(tree: Path, tests: list[str], seconds: int, *how: str) -> bool:
    """Whether a test fails in the changed tree, or does not come to an end."""
    try:
        return bool(tests) and run(tree, tests, seconds, "pytest", "-x", *how).returncode != 0
    except subprocess.TimeoutExpired:
        return True


def known_by(tree: Path) -> dict[str, dict[int, list[str]]]:
    """The tests that come through each line of each file in their own process, the quickest first."""
    how = tree / "mutants.ini"
    how.write_text(f"[run]\nsource = {tree / 'src'}\ndynamic_context = test_function\ndata_file = {tree / 'lines'}\n")
    told = run(tree, ["tests"], 3600, "coverage", "run", f"--rcfile={how}", "-m", "pytest", "--durations=0")
    seconds: dict[str, float] = {}
    for took, test in re.findall(r"([\d.]+)s (?:call|setup) +tests/(\w+\.py::\w+)", told.stdout):
        name = test.replace(".py::", ".")
        seconds[name] = seconds.get(name, 0) + float(took)
    subprocess.run([sys.executable, "-m", "coverage", "json", f"--rcfile={how}", "--show-contexts", "-o", tree / "lines.json"],
                   cwd=tree, capture_output=True, check=True)  # fmt: skip
    found: dict[str, dict[int, list[str]]] = {}
    for file, held in json.loads((tree / "lines.json").read_text())["files"].items():
        found[file] = {
            int(line): sorted((c.removeprefix("tests.") for c in tests if c), key=lambda c: seconds.get(c, 0))
            for line, tests in held["contexts"].items()
        }
    return found


def own(known: dict[int, list[str]], line: int) -> list[str]:
    """The quickest tests that come through a line, or the nearest before it: a statement may have several lines."""
    at = max((n for n in known if n <= line), default=0)
    return [f"tests/{c.replace('.', '.py::', 1)}" for c in known.get(at, [])[:OWN]]


def main() -> None:
    """Tries so many changes."""
    count, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    chance, caught, survivors = random.Random(seed), 0, 0
    files = [p for w in WHERE for p in sorted((ROOT / "src" / "fermata" / w).rglob("*.py")) if p.name != "__init__.py"]
    weights = [p.stat().st_size for p in files]
    with tempfile.TemporaryDirectory() as made:
        tree = Path(made) / "tree"
        shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".git", ".venv", "quillmere", "__pycache__"))
        known = known_by(tree)
        for number in range(count):
            path = chance.choices(files, weights)[0]
            text, line, what = mutant(path, chance)
            inside = path.relative_to(ROOT)
            room = next(w for w in WHERE if f"fermata/{w}/" in inside.as_posix())
            if not text:
                continue
            (tree / inside).write_text(text)
            found = (
                noticed(tree, own(known.get(inside.as_posix(), {}), line), 120)
                or noticed(tree, SHOTS[room], 200, "-n", "2")
                or noticed(tree, ["tests"], 600, "-n", "2")
            )
            (tree / inside).write_text(path.read_text())
            caught, survivors = caught + found, survivors + (not found)
            sys.stdout.write(f"{number + 1}: {'caught' if found else 'SURVIVED'} {inside} {what}\n")
            sys.stdout.flush()
    sys.stdout.write(f"SEED={seed}: {caught} of {caught + survivors} caught\n")


if __name__ == "__main__":
    main()
