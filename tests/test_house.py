"""The house: who may import whom, what `--help` loads, what the package exports."""

from __future__ import annotations

import ast
import functools
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import fermata

SOURCE = Path(fermata.__file__).parent
ROOT = SOURCE.parent.parent

# room -> the rooms it may import; the modules beside them (errors, fields, digest ...) are open to all
MAY_IMPORT = {
    "timeline": set(),
    "archive": set(),
    "intake": {"archive", "timeline"},
    "engines": {"archive", "intake"},
    "registers": {"intake", "timeline"},
    "analysis": {"engines", "timeline"},
    "reports.definition": {"analysis"},
    "reports": {"analysis", "reports.definition", "timeline"},
    "reports.compile": {"analysis", "archive", "engines", "registers", "reports", "reports.definition", "timeline"},
    "reports.execute": {
        "analysis", "archive", "engines", "registers", "reports", "reports.compile", "reports.definition", "timeline",
    },
    "config": {"analysis", "engines", "intake", "registers", "reports.compile", "reports.definition", "timeline"},
    "workspace": {
        "analysis", "archive", "config", "engines", "intake", "registers", "reports", "reports.compile",
        "reports.definition",
        "reports.execute", "timeline",
    },
    "outputs": {"analysis", "reports", "reports.definition", "reports.execute", "timeline"},
    "people": {
        "analysis", "archive", "engines", "reports", "reports.compile", "reports.definition", "reports.execute",
        "timeline", "workspace",
    },
    "proof": {
        "analysis", "archive", "outputs", "registers", "reports", "reports.compile", "reports.definition",
        "reports.execute", "timeline",
        "workspace",
    },
    "deliveries": {
        "analysis", "archive", "config", "outputs", "proof", "registers", "reports", "reports.compile",
        "reports.definition",
        "reports.execute", "timeline", "workspace",
    },
    "api": {
        "analysis", "archive", "config", "deliveries", "outputs", "people", "proof", "registers", "reports",
        "reports.compile",
        "reports.definition", "reports.execute", "timeline", "workspace",
    },
    "demo": set(),
    "cli": {"api", "config", "deliveries", "demo", "outputs", "reports", "reports.definition", "timeline", "workspace"},
}  # fmt: skip
HEAVY = (
    "pandas",
    "pyarrow",
    "pydantic",
    "matplotlib",
    "reportlab",
    "xlsxwriter",
    "jinja2",
    "scipy",
    "rich",
    "duckdb",
    "ibis",
    "numpy",
    "importlib.metadata",
)


@functools.cache
def parsed(path: Path) -> ast.Module:
    """A file of the source, read once for all tests."""
    return ast.parse(path.read_text())


def modules() -> dict[str, Path]:
    """Every module of the package by its dotted name."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        found[".".join(parts[:-1] if path.name == "__init__.py" else parts)] = path
    return found


@functools.cache
def imports() -> dict[str, set[str]]:
    """Module -> the modules it imports anywhere in it; imports for types alone count too."""
    known = modules()
    found: dict[str, set[str]] = {}
    for name, path in known.items():
        wanted: set[str] = set()
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.ImportFrom) and node.module:
                wanted |= {n if (n := f"{node.module}.{a.name}") in known else node.module for a in node.names}
            elif isinstance(node, ast.Import):
                wanted |= {a.name for a in node.names}
        found[name] = (wanted & known.keys()) - {name}
    return found


def room(module: str) -> str:
    """The room a module stands in; "" for those beside the rooms."""
    parts = module.split(".")[1:]
    return next((r for r in (".".join(parts[:2]), parts[0] if parts else "") if r in MAY_IMPORT), "")


def circles(graph: dict[str, set[str]]) -> list[str]:
    """What imports itself through others."""
    rest = {n: set(w) for n, w in graph.items()}
    while done := [n for n, w in rest.items() if not w & rest.keys()]:
        for n in done:
            del rest[n]
    while used := [n for n in rest if not any(n in w for w in rest.values())]:
        for n in used:
            del rest[n]
    return sorted(rest)


def test_nobody_calls_upwards_or_in_a_circle() -> None:
    """Each room imports only those below it, anywhere in its modules, and no module imports itself through others; a
    new room needs a place in the order.
    """
    assert not circles({n: w for n, w in imports().items() if n != "fermata"})
    assert not circles(MAY_IMPORT)
    for module, wanted in imports().items():
        ours, theirs = room(module), {room(w) for w in wanted} - {""}
        if ours:
            assert theirs - {ours} <= MAY_IMPORT[ours], module
        elif module != "fermata":
            assert not theirs, f"{module} stands beside the rooms and imports from them"
    folders = {p.parent.relative_to(SOURCE).as_posix().replace("/", ".") for p in SOURCE.glob("*/__init__.py")}
    assert folders <= MAY_IMPORT.keys()


def test_names_and_sizes() -> None:
    """No file above 400 lines, no class above 200, no function above 60 (tables of the sample's data
    apart); a workspace has at most 25 public members.
    """
    for path in SOURCE.rglob("*.py"):
        text = path.read_text()
        assert len(text.splitlines()) <= 400, path
        for node in ast.walk(parsed(path)):
            if isinstance(node, ast.ClassDef):
                assert (node.end_lineno or 0) - node.lineno < 200, f"{path}: {node.name}"
            if isinstance(node, ast.FunctionDef) and "demo" not in path.parts:
                assert (node.end_lineno or 0) - node.lineno < 60, f"{path}: {node.name}"
            assert not (isinstance(node, ast.arg) and node.arg == "house"), path
    assert len([n for n in dir(fermata.Workspace) if not n.startswith("_")]) <= 25


def test_the_heart_reads_no_clock_files_or_environment() -> None:
    """`timeline` and `analysis` are pure: no printing, no files, no now."""
    forbidden = re.compile(r"\bprint\(|\bopen\(|\.now\(|os\.environ|\bpathlib\b|time\.time")
    for folder in ("timeline", "analysis"):
        for path in (SOURCE / folder).rglob("*.py"):
            assert not forbidden.search(path.read_text()), path


@pytest.mark.parametrize("arguments", [["--help"], ["report", "--help"], ["--version"]])
def test_help_loads_nothing_heavy(arguments: list[str]) -> None:
    """Help answers without the engine, pandas, pyarrow, pydantic or a scan of entry points."""
    code = (
        "import sys; from fermata.cli.main import cli\n"
        f"try: cli.main({arguments!r}, prog_name='fermata')\n"
        "except SystemExit: pass\n"
        "print(','.join(sorted(sys.modules)), file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    loaded = set(done.stderr.strip().splitlines()[-1].split(","))
    heavy = [m for m in HEAVY if m in loaded]
    assert heavy in ([], ["importlib.metadata"])
    assert "importlib.metadata" not in heavy or not _scans(arguments)


def _scans(arguments: list[str]) -> bool:
    """Whether looking for entry points happens while the command answers."""
    code = (
        "import importlib.metadata as m\n"
        "def refuse(*a, **k): raise AssertionError('entry points were scanned')\n"
        "m.entry_points = refuse\n"
        "from fermata.cli.main import cli\n"
        f"try: cli.main({arguments!r}, prog_name='fermata')\n"
        "except SystemExit: pass\n"
    )
    return subprocess.run([sys.executable, "-c", code], capture_output=True, check=False).returncode != 0


def test_exports_are_sorted_and_resolve() -> None:
    """Everything in `__all__` exists, is listed by dir(), and nothing else is promised."""
    assert fermata.__all__ == sorted(fermata.__all__)
    for name in fermata.__all__:
        assert getattr(fermata, name) is not None
        assert name in dir(fermata)
    with pytest.raises(AttributeError):
        fermata.nothing  # noqa: B018  # the access is the test


def test_engine_versions_stay_where_they_work_together() -> None:
    """Until Ibis takes newer ones, duckdb stays below 2 and sqlglot below 30.11."""
    pins = dict(line.split("==") for line in (ROOT / "constraints.txt").read_text().split())
    assert pins["duckdb"].startswith("1.")
    assert tuple(int(p) for p in pins["sqlglot"].split(".")[:2]) < (30, 11)


def test_every_public_name_says_what_it_is() -> None:
    """Each public module, class and function of the source has a docstring."""
    for path in SOURCE.rglob("*.py"):
        tree = parsed(path)
        assert ast.get_docstring(tree) or path.name == "_version.py", path
        for node in _outermost(tree):
            assert node.name.startswith("_") or ast.get_docstring(node) or _overload(node), f"{path}: {node.name}"


def _overload(node: ast.FunctionDef | ast.ClassDef) -> bool:
    return any(isinstance(d, ast.Name) and d.id == "overload" for d in node.decorator_list)


def _outermost(tree: ast.AST) -> Iterator[ast.FunctionDef | ast.ClassDef]:
    """The classes of a module and the functions that stand in no other function."""
    for node in ast.iter_child_nodes(tree):
        if isinstance(node, ast.ClassDef | ast.FunctionDef):
            yield node
        if not isinstance(node, ast.FunctionDef):
            yield from _outermost(node)
