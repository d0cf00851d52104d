"""The house: who may import whom, what `--help` loads, what the package exports."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

import fermata

SOURCE = Path(fermata.__file__).parent
ROOT = SOURCE.parent.parent

# folder -> the folders of the house it may import; the modules beside them (errors, fields ...) are open to all
MAY_IMPORT = {
    "timeline": set(),
    "analysis": {"timeline"},
    "archive": set(),
    "intake": {"archive", "timeline"},
    "registers": {"intake", "timeline"},
    "reports": {"analysis", "archive", "registers", "timeline"},
    "outputs": {"analysis", "reports", "timeline"},
    "delivery": {"timeline"},
    "api": {"analysis", "archive", "delivery", "intake", "outputs", "registers", "reports", "timeline"},
    "demo": set(),
    "cli": {"api", "delivery", "demo", "outputs", "reports", "timeline"},
}
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


def imported(path: Path) -> set[str]:
    """The folders of the house a module imports, anywhere in it; imports for types alone count too."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        names = []
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [f"{node.module}.{a.name}" for a in node.names] if node.module == "fermata" else [node.module]
        elif isinstance(node, ast.Import):
            names = [a.name for a in node.names]
        found |= {n.split(".")[1] for n in names if n.startswith("fermata.") and n.split(".")[1] in MAY_IMPORT}
    return found


@pytest.mark.parametrize("folder", MAY_IMPORT)
def test_nobody_calls_upwards(folder: str) -> None:
    """Each folder imports only those below it."""
    for path in (SOURCE / folder).rglob("*.py"):
        assert imported(path) - {folder} <= MAY_IMPORT[folder], path


def test_every_folder_of_the_house_has_its_rule() -> None:
    """A new folder needs a place in the order."""
    assert {p.name for p in SOURCE.iterdir() if (p / "__init__.py").exists()} == set(MAY_IMPORT)


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
        tree = ast.parse(path.read_text())
        assert ast.get_docstring(tree) or path.name == "_version.py", path
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
                nested = isinstance(node, ast.FunctionDef) and _is_nested(tree, node)
                assert nested or ast.get_docstring(node), f"{path}: {node.name}"


def _is_nested(tree: ast.Module, node: ast.FunctionDef) -> bool:
    outer = [n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef) and n is not node]
    return any(node in ast.walk(n) for n in outer)
