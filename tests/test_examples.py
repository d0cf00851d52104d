"""The examples in the docstrings of what users call: each has one, and each gives what it says, on the sample."""

from __future__ import annotations

import doctest
import inspect
import re
import shutil
from collections.abc import Iterator
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

import fermata
from fermata.api import adhoc, archive, deliveries, evacuation, question, registers, reports, result, shelf, tabular
from fermata.api import workspace as workspaces
from fermata.api.workspace import Workspace
from fermata.timeline import Calendar, Period

CLASSES = (
    workspaces.Workspace, question.Question, result.Result, tabular.Tabular, reports.Reports, registers.Registers,
    archive.Upkeep, deliveries.Deliveries, shelf.KeptRuns, evacuation.Clearing, fermata.Report, Calendar, Period,
)  # fmt: skip
FUNCTIONS = (adhoc.read, adhoc.build, workspaces.open_workspace, fermata.between, fermata.like, fermata.words)
NAMES = {
    "fermata": fermata, "date": date, "datetime": datetime, "UTC": UTC, "Path": Path, "Report": fermata.Report,
    "Period": Period, "Calendar": Calendar,
}  # fmt: skip


def called() -> Iterator[tuple[str, object]]:
    """What users call: functions of the package, and every method and property of what they are given."""
    for function in FUNCTIONS:
        yield function.__name__, function
    for cls in CLASSES:
        for name, member in inspect.getmembers(cls):
            found = member.fget if isinstance(member, property) else inspect.unwrap(getattr(member, "__func__", member))
            own = inspect.isfunction(found) and found.__module__.startswith("fermata.")
            if own and not name.startswith("_") and found.__name__ == name:
                yield f"{cls.__name__}.{name}", found


def test_everything_that_is_called_has_an_example() -> None:
    """In its docstring, with what comes back."""
    without = [name for name, found in called() if ">>>" not in (inspect.getdoc(found) or "")]
    assert without == []


def test_types_say_what_is_meant() -> None:
    """Nothing that is called takes or gives just anything."""
    told = [(name, str(t)) for name, f in called() for t in getattr(f, "__annotations__", {}).values()]
    assert len(told) > 300  # they are seen at all
    assert [name for name, kind in told if re.search(r"\bAny\b", kind)] == []


@pytest.mark.deep
@pytest.mark.parametrize("cls", [*CLASSES, *FUNCTIONS], ids=lambda c: c.__name__)
def test_examples_give_what_they_say(
    hall: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, cls: type
) -> None:
    """Each example on a copy of the sample of its own."""
    options, tried = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE, 0
    for base in inspect.getmro(cls) if inspect.isclass(cls) else (cls,):
        tests = doctest.DocTestFinder().find(base, base.__name__) if base.__module__.startswith("fermata.") else []
        for number, test in enumerate(t for t in tests if t.examples):
            place = tmp_path / f"{base.__name__}{number}"
            shutil.copytree(hall.path, place / "quillmere")
            monkeypatch.chdir(place)
            test.globs = {**NAMES, "hall": fermata.open("quillmere")}
            told: list[str] = []
            assert doctest.DocTestRunner(optionflags=options).run(test, out=told.append).failed == 0, "".join(told)
            shutil.rmtree(place)
            tried += 1
    assert tried
