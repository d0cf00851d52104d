"""Small random changes to the heart, one at a time, and whether a test notices: `python -m tests.mutants COUNT [SEED]`.

Works in a copy of the tree. A change that survives is printed with its line; it wants a test or a reason.
"""

from __future__ import annotations

import ast
import os
import random
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


def mutant(path: Path, chance: random.Random) -> tuple[str, str]:
    """The file's text with one change, and what was changed; its own formatting is lost, which does not matter here."""
    tree = ast.parse(path.read_text())
    docs = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Expr)}
    places = [(n, k) for n, k in changes(tree) if id(n) not in docs]
    if not places:
        return "", ""
    node, kind = chance.choice(places)
    before = ast.unparse(node)
    change(node, kind)
    return ast.unparse(tree), f"line {getattr(node, 'lineno', 0)}: {before} -> {ast.unparse(node)}"


def noticed(tree: Path, tests: list[str], seconds: int) -> bool:
    """Whether a test fails in the changed tree."""
    env = {**os.environ, "PYTHONPATH": str(tree / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "2", "-p", "no:cacheprovider", *tests,
               "-m", "not postgres and not producers and not spark", "--ignore", "tests/contract", "--ignore", "tests/browser"]  # fmt: skip
    try:
        done = subprocess.run(command, cwd=tree, env=env, capture_output=True, timeout=seconds, check=False)
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


def main() -> None:
    """Tries so many changes."""
    count, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    chance, caught, survivors = random.Random(seed), 0, 0
    files = [p for w in WHERE for p in sorted((ROOT / "src" / "fermata" / w).rglob("*.py")) if p.name != "__init__.py"]
    weights = [p.stat().st_size for p in files]
    with tempfile.TemporaryDirectory() as made:
        tree = Path(made) / "tree"
        shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".git", ".venv", "quillmere", "__pycache__"))
        for number in range(count):
            path = chance.choices(files, weights)[0]
            text, what = mutant(path, chance)
            inside = path.relative_to(ROOT)
            room = next(w for w in WHERE if f"fermata/{w}/" in inside.as_posix())
            if not text:
                continue
            (tree / inside).write_text(text)
            found = noticed(tree, SHOTS[room], 200) or noticed(tree, ["tests"], 600)
            (tree / inside).write_text(path.read_text())
            caught, survivors = caught + found, survivors + (not found)
            sys.stdout.write(f"{number + 1}: {'caught' if found else 'SURVIVED'} {inside} {what}\n")
            sys.stdout.flush()
    sys.stdout.write(f"SEED={seed}: {caught} of {caught + survivors} caught\n")


if __name__ == "__main__":
    main()
