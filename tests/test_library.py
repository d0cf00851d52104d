"""The library as a script uses it: tables of other libraries in and out, figures, SQL."""

from __future__ import annotations

import ast
import functools
import io
import pickle
import shutil
import subprocess
import sys
import tomllib
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import fermata
from fermata.api.result import Result
from fermata.api.workspace import Workspace
from fermata.errors import RequestError, SourceError, UnknownName
from fermata.reports.definition.report import Report

DOORS = pl.DataFrame(
    {
        "When": [datetime(2026, 3, 1, 8), datetime(2026, 3, 2, 9), None],
        "Badge": ["a", "b", "b"],
        "Event": ["GRANTED", "DENIED", "GRANTED"],
        "Stay": [timedelta(minutes=3), timedelta(minutes=4), timedelta(0)],
        "Pages": [3, 4, 5],
        "Cost": [Decimal("1.20"), Decimal("2.45"), Decimal("9.00")],
    }
)
FIELDS = {
    "time": "When",
    "user": "Badge",
    "duration": "Stay",
    "pages": "Pages",
    "cost": "Cost",
    "zone": "Europe/Lisbon",
}


def sources() -> dict[str, Any]:
    """The same table as each library has it."""
    relation = duckdb.sql("SELECT * FROM held", connection=_connected())
    return {
        "polars": DOORS, "pandas": DOORS.to_pandas(), "Arrow": DOORS.to_arrow(), "DuckDB": relation,
        "rows": DOORS.to_dicts(), "columns": DOORS.to_dict(as_series=False),
    }  # fmt: skip


def _connected() -> Any:
    connection = duckdb.connect()
    connection.register("held", DOORS.to_arrow())
    return connection


@pytest.mark.parametrize("kind", ["polars", "pandas", "Arrow", "DuckDB", "rows", "columns"])
def test_a_table_of_any_library_is_read(kind: str) -> None:
    """Times, lengths of time and money keep their meaning, and what cannot be read is told with its reason."""
    read = fermata.read(sources()[kind], **FIELDS)
    assert (read.summary, len(read.rejects)) == ("3 records read, 2 stored, 1 rejected", 1)
    assert "empty" in read.rejects[0]["reason"]
    (row,) = read.measure("count", "time", "total pages", "total cost", "last").run().to_dicts()
    assert (row["Count"], row["Time"], row["Total pages"]) == (2, timedelta(minutes=7), 7)
    assert row["Total cost"] == Decimal("3.65")
    assert row["Last"].isoformat() == "2026-03-02T09:00:00+00:00"


def test_aware_times_categories_and_nullable_numbers() -> None:
    """A time with a zone is that instant; a category is its text; an unknown number is unknown."""
    frame = DOORS.to_pandas().iloc[:2]
    frame["When"] = frame["When"].dt.tz_localize("Europe/Berlin")
    frame["Badge"] = frame["Badge"].astype("category")
    frame["Pages"] = pd.array([3, None], dtype="Int64")
    read = fermata.read(frame, time="When", user="Badge", pages="Pages", zone="UTC")
    assert read.measure("first").figure() == datetime(2026, 3, 1, 7, tzinfo=UTC)
    assert read.by("user").measure("count", "mean pages").run().to_dicts()[1]["Mean pages"] is None


def test_without_a_mapping_one_is_proposed(tmp_path: Path) -> None:
    """A table, a file, a pattern and a stream alike; what is unsure is told."""
    read = fermata.read(DOORS, zone="Europe/Lisbon")
    assert read.only(action="refused").measure("count").figure() == 1
    assert any("action" in doubt for doubt in read.doubts)
    assert 'DENIED = "refused"' in read.mapping
    for n in (1, 2):
        (tmp_path / f"d{n}.csv").write_text(f"When,Badge\n2026-03-0{n} 08:00,a\n")
    assert fermata.read(str(tmp_path / "d*.csv")).measure("count").figure() == 2
    assert fermata.read(io.BytesIO(b"When;Badge\n01.03.2026 08:00;a\n")).measure("count").figure() == 1


@pytest.mark.parametrize(
    ("call", "error", "words"),
    [
        (lambda: fermata.read("/nowhere/x.csv"), FileNotFoundError, "there is no such file"),
        (lambda: fermata.read("/nowhere/*.csv"), SourceError, "no file matches"),
        (lambda: fermata.read(DOORS, time="When", usr="Badge"), RequestError, "did you mean 'user'?"),
        (lambda: fermata.read(DOORS, time="Whn"), UnknownName, "did you mean 'When'?"),
        (lambda: fermata.read(io.BytesIO(b"When,Who\nx,a\n"), time="When"), SourceError, "none of 1 records"),
        (lambda: fermata.read(42), RequestError, "cannot be read"),  # type: ignore[arg-type]  # on purpose
        (lambda: fermata.build({"a": DOORS}, registers={"people": DOORS}), RequestError, "is a pair"),
    ],
)
def test_what_cannot_be_read_says_why(call: Any, error: type[Exception], words: str) -> None:
    """The class of error one expects, and what would be right."""
    with pytest.raises(error, match=words.replace("?", "\\?").replace("*", "\\*")):
        call()


def test_several_logs_with_a_register() -> None:
    """Logs and registers of tables make a workspace."""
    people = pl.DataFrame({"Id": ["1", "2"], "Name": ["Ada", "Bo"], "Badge": ["a", "b"], "Team": ["red", "blue"]})
    how = {"id": "Id", "label": "Name", "names": {"badge": "Badge"}, "attributes": {"team": "Team"}}
    doors = (DOORS, {"start": "When", "user": {"column": "Badge", "names": "badge"}})
    hall = fermata.build({"doors": doors, "calls": DOORS}, registers={"people": (people, how)}, zone="Europe/Lisbon")
    found = hall.log("doors").by("user", "user.team").measure("count").run()
    assert list(found) == [("Ada", "red", 1), ("Bo", "blue", 1)]
    assert set(hall.base.schemas) == {"doors", "calls"}


ASKED = Report.of(log="doors", period="2026-03", only={"action": "refused"}, by=["place"], columns=["count", "last"])


def test_a_result_is_rows_columns_and_figures(hall: Workspace) -> None:
    """Rows, names, length, other libraries, and one figure by its keys."""
    result = hall.run(ASKED)
    assert result.names == ("Place", "Count", "Last")
    assert len(result) == len(list(result)) == result.to_polars().height == pa.table(result).num_rows
    assert result.figure(place="Library") == 19
    assert result.figure("Last", place="Library").utcoffset() == timedelta(0)
    assert sum(row[1] for row in result) == result.figure()
    assert hall.log("timesheets").during("2026-03").measure("time").figure() == timedelta(hours=4028)
    assert result == hall.run(ASKED)
    assert result != hall.run(ASKED.changed(period="2026-02"))
    for ends in (
        ("2026-03-01", "2026-03-02"),
        (date(2026, 3, 1), "2026-03-02"),
        (np.datetime64("2026-03-01"), date(2026, 3, 2)),
    ):
        assert hall.log("doors").during(*ends).report.period == "2026-03-01/2026-03-02"
    days = hall.log("doors").during(date(2026, 3, 1), date(2026, 3, 2)).by("day").measure("count").run()
    assert [row["Day"] for row in days.to_dicts()] == [date(2026, 3, 1), date(2026, 3, 2)]
    assert hall.run("refused-entries") == hall.report("refused-entries")


def test_a_kept_result_is_the_same_without_its_workspace(hall: Workspace) -> None:
    """It survives pickling, listings too; only what is read anew is gone, and says so."""
    result = hall.run(ASKED)
    again = pickle.loads(pickle.dumps(result))
    assert again == result
    with pytest.raises(RequestError, match="run it again"):
        again.events()
    listing = hall.listing(Report(log="doors", period="2026-03-02"))
    assert list(pickle.loads(pickle.dumps(listing))) == list(listing)
    streamed = hall.log("doors").during("2026-03-02").events()
    assert sum(b.num_rows for b in streamed) == len(listing) == listing.to_polars().height


@pytest.mark.deep
@pytest.mark.parametrize(
    "now",
    [datetime(2026, 4, 20, 1), "2026-04-20T01:00", "2026-04-20T00:00Z", datetime(2026, 4, 20, tzinfo=UTC)],
    ids=str,
)
def test_an_instant_is_given_as_people_have_it(hall: Workspace, now: Any) -> None:
    """Without an offset it is on the clock of the workspace, also for who is inside; a date is its beginning."""
    assert fermata.open(hall.path, now=now).now() == datetime(2026, 4, 20, tzinfo=UTC)
    assert hall.at(date(2026, 4, 20)).now() == datetime(2026, 4, 19, 23, tzinfo=UTC)
    summer, plain = datetime(2026, 3, 30, 14, tzinfo=UTC), datetime(2026, 3, 30, 15)
    assert hall.inside("doors", at=plain).rows == hall.inside("doors", at=summer).rows
    with pytest.raises(RequestError, match="now 'noon' is not a time; write 2026-04-01T09:00"):
        fermata.open(hall.path, now="noon")


def test_reprs_are_short(hall: Workspace) -> None:
    """A notebook that shows a name is not flooded, and a table is shown as one."""
    found = hall.run(ASKED)
    results: list[Any] = [hall, hall.log("doors").by("user"), found, hall.run("payroll-check"), found.events()]
    results += [hall.listing(Report(log="doors", period="2026-03-02")), hall.deliveries.table(), found.answer]
    for one in results:
        assert len(repr(one).splitlines()) < 10
        assert len(repr(one)) < 300
    assert "<table" in Result(found.answer, None)._repr_html_()


@pytest.mark.parametrize(
    ("query", "rows"),
    [
        ("SELECT count(*) AS n FROM doors WHERE action = 'refused' AND place = 'Library' AND start >= '2026-03-01' "
         "AND start < '2026-04-01'", [{"n": 19}]),
        ("SELECT sum(duration) / 3600 AS h FROM timesheets WHERE start >= '2026-03-02' AND start < '2026-03-03' "
         "AND user = 'Brisa Vanterpool'", [{"h": 6.0}]),
        ("SELECT label FROM register_departments ORDER BY label LIMIT 1", None),
        ("SELECT count(*) > 100 AS many FROM visits", [{"many": True}]),
    ],
)  # fmt: skip
def test_sql_asks_events_registers_and_derived_logs(hall: Workspace, query: str, rows: Any) -> None:
    """One SELECT sees names of registers, local times, lengths in seconds."""
    found = hall.archive.sql(query).to_pylist()
    assert found
    assert rows is None or found == rows


@pytest.mark.parametrize("query", ["DROP TABLE doors", "SELECT 1; SELECT 2", "COPY doors TO '/tmp/x'", "nonsense", ""])
def test_sql_changes_nothing(hall: Workspace, query: str) -> None:
    """Anything but one SELECT is refused."""
    with pytest.raises(RequestError):
        hall.archive.sql(query)


def test_no_part_needs_what_only_one_system_has(hall: Workspace) -> None:
    """Without the locks of POSIX the library opens a workspace and runs a report. It loads the compiler of its engine
    alone, and gives any other to whoever asks for it.
    """
    code = (
        "import sys, warnings; warnings.simplefilter('ignore'); sys.modules['fcntl'] = None\n"
        f"import fermata; hall = fermata.open({str(hall.path)!r}); print(hall.report('refused-entries').figure())\n"
        "import ibis.backends.sql.compilers as sc; print(sorted(m for m in sys.modules if 'compilers.' in m))\n"
        "print(sc.PostgresCompiler.__name__, sc.MSSQLCompiler.__name__, hasattr(sc, 'NoCompiler'), hasattr(sc, 'x'))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    figure, loaded, others = done.stdout.splitlines()
    assert int(figure) > 0
    assert others == "PostgresCompiler MSSQLCompiler False False"
    assert [m for m in ast.literal_eval(loaded) if not m.split(".")[-1].startswith(("_", "base", "duckdb"))] == []


def test_check_names_every_problem(hall: Workspace, tmp_path: Path) -> None:
    """The sample has none; a broken report, a pattern without files and a stray file are each named."""
    assert hall.archive.check() == []
    (tmp_path / "reports").mkdir()
    (tmp_path / "reports" / "bad.toml").write_text('log = "doors"\ncolumns = ["coun"]\n')
    (tmp_path / "reports" / "notes.txt").write_text("x")
    (tmp_path / "fermata.toml").write_text(
        '[workspace]\nzone = "UTC"\n[logs.doors]\nfiles = "no*.csv"\n[logs.doors.fields]\nstart = "When"\n'
    )
    files = [p.file for p in fermata.open(tmp_path).archive.check()]
    assert files == ["fermata.toml", "reports/bad.toml", "reports/notes.txt"]


def test_the_archive_is_plain_parquet(hall: Workspace) -> None:
    """Other programs count the same events in the files that the archive names."""
    paths = [str(p) for p in hall.archive.paths("doors")]
    counted = duckdb.sql(f"SELECT count(*) FROM read_parquet({paths})", connection=duckdb.connect()).fetchall()
    assert counted == [(hall.log("doors").measure("count").figure(),)]
    assert pl.scan_parquet(paths).select(pl.len()).collect().item() == counted[0][0]


def test_the_ten_lines_of_the_docs(hall: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """From a table to a month's figures, a chart and the events behind one cell, as written."""
    pl.read_csv(hall.path / "incoming" / "doors-2026-03.csv", comment_prefix="#").select(
        pl.col("When").str.to_datetime("%d/%m/%Y %H:%M:%S"), "Badge", pl.col("Reader").alias("Door"), "Event"
    ).write_parquet(tmp_path / "doors.parquet")
    monkeypatch.chdir(tmp_path)
    text = (Path(__file__).parent.parent / "docs" / "library.md").read_text()
    held: dict[str, Any] = {}
    exec(text.split("```python")[1].split("```")[0], held)
    want = hall.log("doors").during("2026-03").only(device="Score vault").measure("count").figure()
    assert held["month"].figure(device="Score vault") == want
    assert (tmp_path / "doors.png").stat().st_size > 10_000
    assert held["month"].events(at={"device": "Score vault"}).total == want


def test_a_report_is_scheduled_as_on_the_command_line(hall: Workspace, tmp_path: Path) -> None:
    """Targets stand beside the other keys; without any, and with what goes with a mail alone, it is said plainly."""
    shutil.copytree(hall.path, tmp_path / "own")
    timetable = fermata.open(tmp_path / "own").deliveries
    keys = {"report": "refused-entries", "period": "last month", "when": "monthly on the 1st at 07:00"}
    path, _ = timetable.schedule("mine", mail="ada@house.example", cc=["bo@house.example"], folder="out", **keys)
    to = tomllib.loads(path.read_text())["to"]
    assert to == [{"mail": ["ada@house.example"], "cc": ["bo@house.example"]}, {"folder": "out"}]
    for wrong, said in (({}, "to: is empty; give at least one"), ({"folder": "o", "cc": "b"}, "cc: goes with mail")):
        with pytest.raises(fermata.RequestError, match=said):
            timetable.schedule("other", **keys, **wrong)
    for table in (timetable.table(), hall.shelf.table(), hall.registers.overview(), hall.archive.survey_all()):
        assert table.to_pandas().shape == (len(table), len(table.names))


@pytest.mark.spark
def test_the_archive_opens_in_spark(hall: Workspace) -> None:
    """As the docs show it: the same events are counted."""
    from pyspark.sql import SparkSession

    spark = SparkSession.builder.master("local[1]").config("spark.ui.enabled", "false").getOrCreate()
    paths = [str(p) for p in hall.archive.paths("doors")]
    assert spark.read.parquet(*paths).count() == hall.log("doors").measure("count").figure()


def test_a_total_that_a_table_does_not_show_is_no_other_figure(hall: Workspace) -> None:
    """Neither as a figure nor below the events behind it; the events are still those of all rows."""
    asked = {"log": "doors", "by": ["place", "device"], "columns": ["count", "last"], "period": "2026-03"}
    whole, without = (hall.run(Report.of(totals=totals, **asked)) for totals in (True, False))
    for at in ({}, {"place": "Stage side"}):
        with pytest.raises(RequestError, match="does not show that total"):
            without.cell(of="Last", at=at)
        listed = without.events(of="Last", at=at)
        assert listed.rows == whole.events(of="Last", at=at).rows
        assert (listed.figure, listed.rows[-1][-1]) == (None, whole.cell(of="Last", at=at))
    one = {"place": "Stage side", "device": "Stage door"}
    assert without.cell(of="Last", at=one) == whole.cell(of="Last", at=one)


@pytest.mark.parametrize(
    "of", [list, set, iter, np.array, pd.Series, pl.Series, pa.array], ids=lambda of: f"{of.__module__}.{of.__name__}"
)
def test_values_may_come_in_a_column_of_another_library(hall: Workspace, of: Callable[[list[str]], Any]) -> None:
    """As those of a list; of an empty one nothing would be kept, and that is said."""
    doors = hall.log("doors").during("2026-03").measure("count")
    assert doors.only(action=of(["refused", "forced"])).figure() == 85
    assert doors.any_of({"action": of(["refused"])}, {"action": of(["forced"])}).figure() == 85
    with pytest.raises(RequestError, match="the list of values is empty, so nothing would be kept"):
        doors.only(action=of([]))
    assert doors.without(action=of([])).report.without == ()
    for none in ((), ({},)):
        with pytest.raises(RequestError, match="there is no alternative, so nothing would be kept"):
            doors.any_of(*none)


def test_what_is_no_number_of_rows_is_refused(hall: Workspace) -> None:
    """Wherever a limit is given."""
    question = hall.log("doors").during("2026-03-02")
    ask = fermata.Report.of(log="doors", period="2026-03-02")
    asking: list[Callable[[int], Any]] = [
        question.listing, question.events, functools.partial(hall.listing, ask),
        lambda n: question.run().events(limit=n), lambda n: hall.trace("Ada Umberlin", limit=n),
        lambda n: hall.run(ask.changed(listing={}), limit=n),
    ]  # fmt: skip
    for one in asking:
        for limit in (0, -1):
            with pytest.raises(RequestError, match="the limit is the most rows"):
                one(limit)
    with pytest.raises(RequestError, match="how many rows to pass over"):
        hall.listing(ask, 1, skip=-1)
    with pytest.raises(RequestError, match=r"ask\.history: should be greater than or equal to 2"):
        hall.unusual(ask, history=0)
