"""A log that stays in a PostgreSQL table gives what its rows would give if they were imported, and nothing but figures
travels.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import fermata
from fermata.api.workspace import Workspace
from fermata.archive.duck import connect
from fermata.engines.remote import PostgresEngine
from fermata.errors import ConfigError, DataError, FermataError, RequestError, UnknownName
from fermata.fields import Field
from fermata.intake.expressions import FILES
from fermata.intake.field_map import FieldMap
from fermata.intake.native import Native
from fermata.intake.texts import Dialect, Origin
from fermata.reports.definition.report import Report
from tests import engines
from tests.conftest import examples
from tests.contract.conftest import need_postgres

pytestmark = pytest.mark.postgres
NOW = datetime(2026, 4, 2, 12, tzinfo=UTC)
HEAD = '[workspace]\nname = "Quillmere Hall"\nzone = "Europe/Lisbon"\n'
FIELDS = """
[logs.{name}.fields]
start = "began"
finish = "ended"
user = {{ column = "who", spelling = ["no domain", "lower"] }}
device = {{ columns = ["building", "door"] }}
place = {{ column = "door", part = "^([A-Za-z]+)" }}
action = {{ column = "what", values = {{ "1" = "in", "2" = "out" }} }}
outcome = {{ constant = "ok" }}
pages = {{ column = "pages", type = "number", unit = "pages" }}
cost = {{ column = "cost", type = "money", unit = "EUR" }}
talk = {{ column = "talk", type = "duration", form = "minutes" }}
colour = {{ column = "colour", type = "flag" }}
tags = {{ column = "tags", type = "tags", separator = "|" }}
seen = {{ column = "seen", type = "time", form = ["epoch s"] }}
told = {{ column = "told", type = "money" }}
"""


@pytest.fixture(scope="module")
def server() -> Iterator[dict[str, Any]]:
    need_postgres()
    with tempfile.TemporaryDirectory() as place, engines.postgres_server(Path(place)) as dsn:
        os.environ["HOUSE_DB"] = f"postgresql://owner@/postgres?host={dsn['host']}"
        yield dsn
        del os.environ["HOUSE_DB"]


@pytest.fixture
def owner(server: dict[str, Any]) -> Iterator[Any]:
    import psycopg

    with psycopg.connect(**server, autocommit=True) as con:
        yield con


def table(owner: Any, began: str = "timestamp") -> None:
    """Readings of doors, some of them not as mapped; the column of the time is local wall clock, or as `began` says."""
    owner.execute("DROP TABLE IF EXISTS readings CASCADE")
    owner.execute(
        f"CREATE TABLE readings (id bigint PRIMARY KEY, began {began}, ended {began}, who text, building text, door "
        "text, what smallint, "
        "pages integer, cost numeric, talk double precision, colour boolean, tags text, seen bigint, told text)"
    )
    owner.execute("CREATE INDEX ON readings (began)")
    random = Random(11)
    rows = []
    for number in range(1, 400):
        start = datetime(2026, 3, 27) + timedelta(seconds=random.randrange(5 * 86400))
        if start.date() == date(2026, 3, 29) and start.hour == 1:
            start += timedelta(hours=1)  # an hour that never was
        length = random.choice((None, 0, 60, 7200, 100_000))
        rows.append((
            number, start, None if length is None else start + timedelta(seconds=length),
            random.choice(("HALL\\Ann", "bob@quillmere.example", " Cy ", "Élodie", "", None)), random.choice(("East",
            None)),
            random.choice(("Door 1", "Door 2", "gate_3")), random.choice((1, 2, 3, None)), random.choice((None, 0, 3,
            2000)),
            random.choice((None, Decimal("1.25"), Decimal("0.1"), Decimal("99999.99"))), random.choice((None, 0.5,
            1.25, 90.0)),
            random.choice((True, False, None)), random.choice((None, "x|y", "y||x| y", "ž")), random.choice((None,
            1774900000)),
            random.choice((None, "3.5", "-12.25")),
        ))  # fmt: skip
    rows += [
        (1001, None, None, "nobody", None, "Door 1", 1, 1, None, None, None, None, None, None),
        (1002, datetime(2026, 3, 28, 9), datetime(2026, 3, 28, 8), "back", None, "Door 1", 1, 1, None, None, None,
         None, None, None),
        (1003, datetime(2026, 3, 28, 9), None, "fine", None, "Door 1", 1, 1, Decimal("1.005"), None, None, None, None,
         None),
        (1004, datetime(2026, 3, 28, 9), None, "talks", None, "Door 1", 1, 1, None, -1.5, None, None, None, None),
        (1005, datetime(2026, 3, 28, 9), None, "told", None, "Door 1", 1, 1, None, None, None, None, None, "3,5"),
    ]  # fmt: skip
    with owner.cursor() as cursor:
        cursor.executemany(f"INSERT INTO readings VALUES ({', '.join(['%s'] * 14)})", rows)
    owner.execute("GRANT SELECT ON readings TO reader")


def workspace(
    path: Path,
    *,
    imported: bool = False,
    name: str = "doors",
    more: str = "",
    fields: str = FIELDS,
    of: str = "readings",
) -> Workspace:
    asks = f'query = "SELECT * FROM {of}"' if imported else f'table = "{of}"\nrecord = "id"'
    path.mkdir(exist_ok=True)
    (path / "fermata.toml").write_text(
        f'{HEAD}[logs.{name}]\nformat = "sql"\nambiguous = "earlier"\n[logs.{name}.database]\n{asks}\naddress_env = '
        '"HOUSE_DB"\n'
        f"{fields.format(name=name)}{more}"
    )
    found = fermata.open(path, now=NOW)
    if imported:
        found.archive.import_log(name)
    return found


def events(house: Workspace, **asked: Any) -> list[tuple[Any, ...]]:
    found = house.listing(Report.of(log="doors", **asked))
    keep = [i for i, c in enumerate(found.columns) if c[0] not in ("file", "record")]
    return sorted(([row[i] for i in keep] for row in found.rows), key=repr)


@pytest.mark.parametrize("began", ["timestamp", "timestamptz", "text"])
def test_rows_read_in_place_are_what_their_import_would_be(owner: Any, tmp_path: Path, began: str) -> None:
    """Field by field, refused records and reasons, totals and subtotals, and the mark of the events too."""
    table(owner, began)
    here, copied = workspace(tmp_path / "here"), workspace(tmp_path / "copied", imported=True)
    assert events(here, period="all") == events(copied, period="all")
    assert len(events(here, period="all")) == 399
    asked = {
        "log": "doors",
        "by": ("user", "day"),
        "columns": ("count", "time", "total cost", "distinct device", "median talk"),
        "period": "2026-03",
    }
    one, two = here.run(Report.of(**asked)), copied.run(Report.of(**asked))
    assert [(r.shown, r.cells) for r in one.table.rows] == [(r.shown, r.cells) for r in two.table.rows]
    reasons = [sorted(r["reason"] for r in w.archive.rejects("doors")) for w in (here, copied)]
    assert len(reasons[0]) == 5
    assert [r for r in reasons[0] if "finish" not in r] == [r for r in reasons[1] if "finish" not in r]
    said = " ".join(one.answer.notes)
    assert "there is no snapshot" in said
    assert "5 records of doors" in said
    from fermata.proof import fingerprint

    marks = []
    for w in (here, copied):
        plans = fingerprint.plans_of(Report.of(**asked), w.base.place(), NOW)
        marks.append(fingerprint.contents(plans, w.base.place())[0]["sum"])
    assert marks[0] == marks[1]


def test_a_table_whose_times_are_texts_is_read_once_a_report(owner: Any, tmp_path: Path) -> None:
    """Figures, a page and a survey read every record once, a listing once more for its rows; what they say is what an
    import gives.
    """
    table(owner, "text")
    here, copied = workspace(tmp_path / "here"), workspace(tmp_path / "copied", imported=True)
    held = here.base.tables.get("doors")
    assert held
    rows, stream, read = held.engine.rows, held.engine.stream, []
    held.engine.rows = lambda text: read.append(text) or rows(text)  # type: ignore[method-assign, func-returns-value]
    held.engine.stream = lambda expr: read.append(held.engine.compiled(expr)) or stream(expr)  # type: ignore[method-assign, func-returns-value]
    parts = [
        {"log": "doors", "by": ["user"], "columns": ["count", "time"]},
        {"log": "doors", "by": ["device"], "columns": ["distinct user"], "only": {"action": ["in"]}},
    ]
    asked = [
        (Report.of(log="doors", by=("user", "day"), columns=("count", "time", "peak"), period="all"), 1),
        (Report.of(log="doors", by=("day",), columns=("count",), period="2026-03", compare="before"), 1),
        (Report.of(title="Both", period="2026-03", parts=parts), 1),
    ]
    for report, reads in asked:
        del read[:]
        shown = [told(w.run(report).answer) for w in (here, copied)]
        assert shown[0] == shown[1]
        assert sum('FROM "readings"' in text for text in read) == reads
    del read[:]
    assert here.archive.survey("doors").part("fields").rows == copied.archive.survey("doors").part("fields").rows
    assert sum('FROM "readings"' in text for text in read) == 2  # the number of its rows apart
    del read[:]
    assert events(here, period="2026-03-28") == events(copied, period="2026-03-28")
    assert sum('FROM "readings"' in text for text in read) <= 3


def told(answer: Any) -> list[Any]:
    """The figures of an answer."""
    tables = [p.item.table for p in answer.parts] if hasattr(answer, "parts") else [answer.table]
    return [[(r.shown, r.cells) for r in t.rows] for t in tables]


def test_the_ends_of_a_table_are_found_whatever_stands_first(owner: Any, tmp_path: Path) -> None:
    """Also where the first thousand rows by time are refused, and without an index."""
    owner.execute("DROP TABLE IF EXISTS uneven CASCADE")
    owner.execute(
        "CREATE TABLE uneven AS SELECT n AS id, TIMESTAMP '2026-03-01' + n * INTERVAL '1 minute' AS began, "
        "TIMESTAMP '2026-03-01' + n * INTERVAL '1 minute' + INTERVAL '5 minutes' * (CASE WHEN n <= 1500 THEN -1 ELSE 1 END) "
        "AS ended, 'ann' AS who FROM generate_series(1, 3000) AS n"
    )
    owner.execute("GRANT SELECT ON uneven TO reader")
    fields = '[logs.doors.fields]\nstart = "began"\nfinish = "ended"\nuser = "who"\n'
    house = workspace(tmp_path / "house", fields=fields, of="uneven")
    first, last = datetime(2026, 3, 1) + timedelta(minutes=1501), datetime(2026, 3, 1) + timedelta(minutes=3000)
    held = house.base.tables.get("doors")
    assert held
    assert held.ends() == (first, last, last + timedelta(minutes=5))


FIXED = [
    "", " ", "2026-02-29", "2026-02-30T10:00", "31/02/2026 09:30:00", "2026-13-01", "2026-03-01T24:00",
    "2026-03-01T10:60", "12.5",
    "1/1/2026 1:2:3", "0/1/2026 10:00:00", "2026-03-01T10:00:00,5", "1e5", "1E-3", ".5", "2.e1", "1e", "-5", "--5",
    "1.", "1,234.50", "1.234,5", "007", "+3",
    "1h 02m 03s", "2 hours, 5 minutes", "1d", "90 min", "3 Std. 20 Min.", "1.5 h", "4.25s", "1 day and 2 hours", "12 m 3", "h",
    "999999999h", "5 Minuten und 3 Sek", "01/03/2026 24:00:00", "31/12/2026 24:00:01", "31/12/2026 24:01:00", "07 Mar 2026 24:00:00.0",
    "28/02/2026 24:00", "1/2/2026 24:00:00", "07 sept 2026 10:00:00.5", "sam. 7 août 2026 10:00:00.5",
    "07 MÄRZ 2026 10:00:00.25", "7 paź. 2026 10:00:00.0", "07 mar. 2026 10:00:00.0", "7 xyz 2026 10:00:00.0", "46082.416666667",
    "46082,41667", "46082", "-1.5", "2958466.25", "1/2/26 3:04 a. m.", "1/2/26 3:04 am.",
    "1:02:03", "1:02", "61:00", "0:59.5", "P1DT2H3M4.5S", "PT", "P", "P1D", "yes", "NO", "1", "true", "x|y|x", "|",
    "12:00 AM", "🙂",
    "999999999999999999", "9999999999999999999", "0.005", "123456789012345.67", "1234567890123456.7",
]  # fmt: skip
TEXTS = st.one_of(
    st.datetimes(datetime(1980, 1, 1), datetime(2090, 1, 1)).flatmap(
        lambda t: st.sampled_from([
            t.isoformat(), t.isoformat(" ", "minutes"), t.isoformat(timespec="seconds") + "+02:00",
            t.isoformat() + "Z", f"{t:%Y-%m-%d}", t.isoformat(timespec="minutes") + "z", f"{t:%Y-%m-%d %H:%M:%S} +0530",
            t.isoformat(timespec="seconds") + "-0330", f"{t:%d/%m/%Y %H:%M:%S}", f"{t:%m/%d/%y %I:%M %p}",
            f"{t:%d %b %Y %H:%M:%S.%f}", f"{t:%d %b %Y %H:%M:%S.%f}".upper(), f"{t:%d %b %Y %H:%M:%S.%f}".replace("Sep", "Sept"),
            f"{t:%m/%d/%y %I:%M} {'ap'[t.hour > 11]}.m.", f"{t:%m/%d/%y %I:%M} {'AP'[t.hour > 11]}.\u00a0M.",
            str(t.timestamp()), str(int(t.timestamp())), str(int(t.timestamp() * 1000)),
        ])
    ),
    st.sampled_from(FIXED),
    st.text(st.characters(exclude_categories=("Z", "C")), max_size=12),
)  # fmt: skip
READINGS: dict[str, tuple[dict[str, Any], str]] = {
    "iso": ({}, "time"),
    "day first": ({"form": "%d/%m/%Y %H:%M:%S"}, "time"),
    "twelve hours": ({"form": "%m/%d/%y %I:%M %p"}, "time"),
    "month names": ({"form": "%d %b %Y %H:%M:%S.%f"}, "time"),
    "seconds of 1970": ({"form": "epoch s"}, "time"),
    "milliseconds of 1970": ({"form": "epoch ms"}, "time"),
    "days of a spreadsheet": ({"form": "spreadsheet day"}, "time"),
    "two forms": ({"form": ["iso", "%d/%m/%Y %H:%M:%S"]}, "time"),
    "seconds": ({}, "duration"),
    "hours": ({"form": "hours"}, "duration"),
    "clock lengths": ({"form": ["h:mm:ss", "mm:ss"]}, "duration"),
    "iso lengths": ({"form": "iso"}, "duration"),
    "lengths in words": ({"form": ["words", "minutes"]}, "duration"),
    "numbers": ({"type": "number"}, "number"),
    "money": ({"type": "money"}, "money"),
    "money with a comma": ({"type": "money", "decimal": ",", "thousands": "."}, "money"),
    "flags": ({"type": "flag"}, "flag"),
    "tags": ({"type": "tags", "separator": "|"}, "tags"),
    "parts": ({"part": r"(\d+)"}, "text"),
    "patterns": ({"patterns": {"^[0-9]+$": "a number", "[xyz]": "letters"}}, "text"),
    "telephone numbers": ({"spelling": "phone +44"}, "text"),
    "addresses of cards": ({"spelling": "mac"}, "text"),
}


@pytest.mark.parametrize("name", READINGS)
def test_texts_are_read_as_in_files(owner: Any, name: str) -> None:
    """Whatever a column's text holds, the database reads it as an import does, or refuses it where an import does."""
    asked, kind = READINGS[name]
    mapped, spec = (
        FieldMap.model_validate({"column": "given", **asked}),
        Field("x", kind, scale=2 if kind == "money" else 0),
    )  # type: ignore[arg-type]
    con = connect()

    def read(dialect: Dialect, text: str) -> list[str]:
        origin = Origin(Path("given"), {"given": text}, dialect)
        if kind == "time":
            local, utc = dialect.instant(mapped, origin)
            return [local.value, utc.value]
        column = dialect.duration(mapped, origin) if kind == "duration" else dialect.typed(mapped, spec, origin)
        return [column.value, column.refused]

    native = Native({"given": "text"}, {"given": "given"})
    files, database = read(FILES, "given"), read(native, native.text("given"))

    def check(texts: list[str]) -> None:
        marks = ", ".join(f"({i}, %s)" for i in range(len(texts)))
        theirs = owner.execute(
            f"SELECT {', '.join(database)} FROM (VALUES {marks}) AS v (n, given) ORDER BY n".replace("%", "%%").replace(
                "%%s", "%s"
            ),
            texts,
        ).fetchall()
        con.execute("CREATE OR REPLACE TEMP TABLE v (n INTEGER, given VARCHAR)")
        con.executemany("INSERT INTO v VALUES (?, nullif(?, ''))", list(enumerate(texts)))
        ours = con.execute(f"SELECT {', '.join(files)} FROM v ORDER BY n").fetchall()
        for text, a, b in zip(texts, ours, theirs, strict=True):
            if not (
                kind == "time" and any(t and not 1970 < t.year < 2200 for t in a)
            ):  # as an import refuses it afterwards
                assert a == b, text

    check(FIXED)
    cleaned = TEXTS.map(lambda t: t.replace("\0", "").strip("\t\r\n\v\f\x1c\x1d\x1e\x1f\x85"))
    settings(examples(60), derandomize=True)(given(st.lists(cleaned, min_size=1, max_size=30))(check))()


def test_a_table_and_the_archive_meet_in_one_report(owner: Any, tmp_path: Path) -> None:
    """Columns of both logs side by side by person; only rows of the answer travel, however many events there are."""
    table(owner)
    csv = "when,who\n" + "".join(f"2026-03-{d:02}T10:00,ann\n" for d in range(27, 31))
    house = workspace(
        tmp_path / "house", more='[logs.desk]\nfiles = "desk.csv"\n[logs.desk.fields]\nstart = "when"\nuser = "who"\n'
    )
    (tmp_path / "house" / "desk.csv").write_text(csv)
    house.archive.import_log("desk")
    columns = [
        {"measure": "count", "log": "doors", "label": "Doors"},
        {"measure": "count", "log": "desk", "label": "Desk"},
    ]
    held = house.base.tables.get("doors")
    assert held
    rows, travelled = held.engine.rows, []
    held.engine.rows = lambda text: travelled.append(found := rows(text)) or found  # type: ignore[method-assign, func-returns-value]
    result = house.run(Report.of(log="doors", by=("user",), columns=columns, period="2026-03"))
    cells = {r.shown: r.cells for r in result.table.rows if r.level}
    counted = dict(
        owner.execute(
            "SELECT lower(regexp_replace(regexp_replace(btrim(who), '^.*\\\\', ''), '@.*', '')), count(*) FROM "
            "readings WHERE id < 1000 GROUP BY 1"
        )
    )
    assert cells[("ann",)] == (counted["ann"], 4)
    assert cells[("bob",)] == (counted["bob"], 0)
    assert max(map(len, travelled)) <= len(result.table.rows)
    steps = house.trace("ann", period="2026-03").parts[-1]
    starts = [row[0] for row in steps.rows]
    assert len(starts) == counted["ann"] + 4
    assert starts == sorted(starts)
    few = house.trace("ann", period="2026-03", limit=3).parts[-1].answer
    assert (list(few.rows), few.total) == (list(steps.rows)[:3], len(starts))


def test_the_raw_time_is_asked_so_that_an_index_answers(owner: Any, tmp_path: Path) -> None:
    for began in ("timestamp", "timestamptz", "date", "bigint"):
        owner.execute("DROP TABLE IF EXISTS long CASCADE")
        value = "extract(epoch FROM t)::bigint" if began == "bigint" else f"t::{began}"
        owner.execute(
            f"CREATE TABLE long AS SELECT n AS id, {value} AS began, 'ann' AS who FROM "
            "(SELECT n, TIMESTAMP '2020-01-01' + n * INTERVAL '1 hour' AS t FROM generate_series(1, 60000) AS n) AS s"
        )
        owner.execute("CREATE INDEX ON long (began)")
        owner.execute("ANALYZE long")
        form = '{{ column = "began", form = "epoch s" }}' if began == "bigint" else '"began"'
        house = workspace(tmp_path / began, fields=f'[logs.doors.fields]\nstart = {form}\nuser = "who"\n', of="long")
        held = house.base.tables.get("doors")
        assert held
        plan = "\n".join(
            r[0]
            for r in held.engine.rows(
                "EXPLAIN " + held.at.events(datetime(2026, 3, 1), datetime(2026, 3, 2), spans=False)
            )
        )
        assert "Index Cond" in plan, plan
        plan = "\n".join(r[0] for r in held.engine.rows("EXPLAIN " + held.at.outermost(last=True)))
        assert "Seq Scan" not in plan, plan
        assert held.ends()[1].date() in (date(2026, 11, 4), date(2026, 11, 5))  # type: ignore[index]


def test_a_date_and_a_time_joined_are_asked_by_the_date(owner: Any, tmp_path: Path) -> None:
    """Start and finish in two columns each: local times, found by the date, those that reach into the period too."""
    owner.execute("DROP TABLE IF EXISTS shifts")
    owner.execute("CREATE TABLE shifts (id integer, day date, came time, left_on date, went time, who text)")
    owner.execute(
        "INSERT INTO shifts VALUES (1, '2026-03-01', '22:00', '2026-03-02', '06:00', 'ann'), (2, '2026-03-02', "
        "'08:00', NULL, NULL, 'bob'), "
        "(3, '2026-02-01', '08:00', '2026-02-01', '09:00', 'cy')"
    )
    fields = (
        '[logs.doors.fields]\nstart = {{ columns = ["day", "came"] }}\nfinish = {{ columns = ["left_on", '
        '"went"] }}\nuser = "who"\n'
    )
    house = workspace(tmp_path / "house", fields=fields, of="shifts")
    table = house.run(Report.of(log="doors", by=("user",), columns=("count", "time"), period="2026-03-02")).table
    hours = 3_600_000_000
    assert {r.shown: r.cells for r in table.rows if r.level} == {("ann",): (0, 6 * hours), ("bob",): (1, 0)}


def test_the_next_day_of_a_further_event_is_found(owner: Any, tmp_path: Path) -> None:
    """Comings and goings in one row: who goes the next day stands under the day before, also far west of UTC."""
    owner.execute("DROP TABLE IF EXISTS turns")
    owner.execute("CREATE TABLE turns (id integer, day date, came time, went time, who text)")
    owner.execute(
        "INSERT INTO turns VALUES (1, '2026-03-02', '22:00', '21:00', 'ann'), "
        "(2, '2026-03-03', '08:00', '21:30', 'bob'), "
        "(3, '2026-03-03', '21:40', NULL, 'cy'), (4, '2026-03-01', '22:00', '21:00', 'dee')"
    )
    owner.execute("GRANT SELECT ON turns TO reader")
    (tmp_path / "fermata.toml").write_text(
        '[workspace]\nzone = "America/Los_Angeles"\n[logs.turns]\nformat = "sql"\nevents = [\n'
        '{ fields = { start = { columns = ["day", "came"] }, action = { constant = "clock in" } } },\n'
        '{ fields = { start = { columns = ["day", "went"], next_day = true }, action = { constant = "clock out" } } },\n'
        ']\n[logs.turns.database]\ntable = "turns"\nrecord = "id"\naddress_env = "HOUSE_DB"\n'
        '[logs.turns.fields]\nuser = "who"\n'
    )
    house = fermata.open(tmp_path, now=NOW)
    evening = Report.of(log="turns", by=("user", "action"), period="2026-03-03T20:00/2026-03-03T22:00")
    assert [r.shown for r in house.run(evening).table.body] == [
        ("ann", "clock out"), ("bob", "clock out"), ("cy", "clock in")
    ]  # fmt: skip


def test_clock_changes_follow_the_policies(owner: Any, tmp_path: Path) -> None:
    """A local time that happens twice or never is settled, or refused, as the log says; a finish before its start is of
    the second pass.
    """
    owner.execute("DROP TABLE IF EXISTS changes")
    owner.execute("CREATE TABLE changes (id integer, began timestamp, ended timestamp)")
    owner.execute(
        "INSERT INTO changes VALUES (1, '2025-10-26 00:30', '2025-10-26 01:30'), (2, '2025-10-26 01:50', '2025-10-26 "
        "01:10'), "
        "(3, '2026-03-29 01:30', '2026-03-29 03:00')"
    )
    fields = '[logs.doors.fields]\nstart = "began"\nfinish = "ended"\n'

    def found(policy: str) -> list[tuple[Any, ...]]:
        house = workspace(tmp_path / policy.replace(" ", "")[:9], fields=fields, of="changes")
        text = (house.path / "fermata.toml").read_text().replace('ambiguous = "earlier"', policy)
        (house.path / "fermata.toml").write_text(text)
        house = fermata.open(house.path, now=NOW)
        held = house.base.tables.get("doors")
        assert held
        return held.engine.rows(
            f"SELECT record_no, start_utc, finish_utc - start_utc FROM ({held.at.every()}) AS e ORDER BY 1"
        )

    hour, minutes = timedelta(hours=1), timedelta(minutes=20)
    assert found('ambiguous = "order"') == [
        (1, datetime(2025, 10, 25, 23, 30), hour),
        (2, datetime(2025, 10, 26, 0, 50), minutes),
        (3, datetime(2026, 3, 29, 1, 30), timedelta(minutes=30)),
    ]
    assert [r[0] for r in found('ambiguous = "reject"\nnonexistent = "reject"')] == []
    assert [r[0] for r in found('ambiguous = "earlier"')] == [1, 3]  # the second ends before it begins
    house = workspace(tmp_path / "told", fields=fields, of="changes")
    told = " ".join(house.run(Report.of(log="doors", period="2025-10")).answer.notes)
    assert "repeated by the clock change" in told


def test_one_run_sees_one_state_and_another_says_what_changed(owner: Any, tmp_path: Path) -> None:
    table(owner)
    house = workspace(tmp_path / "house")
    report = Report.of(log="doors", by=("user",), period="2026-03")
    place = house.base.place()
    with place.keeping():
        held = place.held("doors")
        assert held
        count = f"SELECT count(*) FROM ({held.at.every()}) AS e"  # type: ignore[attr-defined]
        before = held.engine.rows(count)  # type: ignore[attr-defined]
        owner.execute("DELETE FROM readings WHERE id = 7")
        assert held.engine.rows(count) == before  # type: ignore[attr-defined]
    item = house.shelf.keep(report, ["csv"], named="")
    assert house.shelf.verify(item.number)[-1].state == "same"
    owner.execute("DELETE FROM readings WHERE id < 20")
    verdict = house.shelf.verify(item.number)[-1]
    assert verdict.state == "changed"
    assert "doors: -18 events in its time" in " ".join(verdict.why)
    with pytest.raises(RequestError, match="what was known of it at another time is not kept"):
        house.run(report.changed(as_known="2026-04-01"))


def test_a_figure_is_followed_to_its_rows(owner: Any, tmp_path: Path) -> None:
    table(owner)
    house = workspace(tmp_path / "house")
    result = house.run(Report.of(log="doors", by=("user",), period="2026-03"))
    found = result.events(at={"user": "ann"})
    names = [c[0] for c in found.columns]
    rows = list(found.rows)
    assert len(rows) == found.total == next(r.cells[0] for r in result.table.rows if r.shown == ("ann",))
    assert {r[names.index("file")] for r in rows} == {"readings"}
    record = rows[0][names.index("record")]
    whole = house.archive.source_record("doors", record)
    assert whole["who"] == "HALL\\Ann"
    assert set(whole) >= {"id", "building", "told"}
    with pytest.raises(RequestError, match="no row whose id is 999999"):
        house.archive.source_record("doors", "0:999999")


def test_logs_made_from_a_table_are_made_in_the_database(owner: Any, tmp_path: Path) -> None:
    table(owner)
    pairs = (
        '[logs.stays]\nfrom = "doors"\npairing = { opening = "in", closing = "out", by = "user", reach = "12 hours" }\n'
    )
    asked = Report.of(log="stays", by=("user",), columns=("count", "time"), period="2026-03")
    results = []
    for place, imported in (("here", False), ("copied", True)):
        house = workspace(
            tmp_path / place, imported=imported, more=pairs, fields=FIELDS.replace('finish = "ended"\n', "")
        )
        results.append([(r.shown, r.cells) for r in house.run(asked).table.rows])
    assert results[0] == results[1]
    assert len(results[0]) > 3


def test_a_session_only_reads_and_ends_in_time(owner: Any, tmp_path: Path) -> None:
    """Also where the role could write: the owner of the table."""
    table(owner)
    house = workspace(tmp_path / "house")
    held = house.base.tables.get("doors")
    assert held
    with pytest.raises(DataError, match="read-only"):
        held.engine.rows("DELETE FROM readings")
    owner.execute("CREATE OR REPLACE VIEW slow AS SELECT r.* FROM readings r WHERE pg_sleep(0.01) IS NOT NULL")
    slow = workspace(tmp_path / "slow", of="slow")
    text = (
        (slow.path / "fermata.toml").read_text().replace("[logs.doors.database]", "[logs.doors.database]\ntimeout = 1")
    )
    (slow.path / "fermata.toml").write_text(text)
    with pytest.raises(DataError, match="longer than the database may take"):
        fermata.open(slow.path, now=NOW).run(Report.of(log="doors", period="2026-03"))


def test_a_time_without_end_is_none_yet(owner: Any, tmp_path: Path) -> None:
    """`infinity` as a finish; as a start it is refused by name; the survey of such a table works."""
    table(owner)
    row = "INSERT INTO readings (id, began, ended, who, door, what) VALUES"
    owner.execute(
        f"{row} (1100, '2026-03-28 10:00', 'infinity', 'fine', 'Door 1', 1), (1101, 'infinity', NULL, 'x', 'Door 1', 1)"
    )
    house = workspace(tmp_path / "here")
    (fine,) = house.listing(
        Report.of(log="doors", period="all", only={"user": "fine"}, listing={"fields": ["finish", "duration"]})
    ).rows
    assert fine == (None, None)  # neither an end nor a length
    survey = house.archive.survey("doors")
    refused = {row[2]: row[4] for row in survey.part("rejects").rows}
    assert (refused[1101], 1100 in refused) == ("the time is empty", False)
    assert survey.part("overview").rows


def test_a_lock_and_a_lost_server_are_named(
    owner: Any, server: dict[str, Any], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another session's lock, and a connection that the server ends; the next question connects again."""
    import psycopg

    from fermata.engines import postgresql

    monkeypatch.setattr(postgresql, "LOCKED", 1)
    table(owner)
    house = workspace(tmp_path / "here")
    asked = Report.of(log="doors", period="2026-03", columns=["count"])
    before = house.run(asked).table.total
    with psycopg.connect(**server) as other:
        other.execute("LOCK TABLE readings IN ACCESS EXCLUSIVE MODE")
        with pytest.raises(DataError, match="locked by another session"):
            house.run(asked)
    owner.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'fermata'")
    with pytest.raises(DataError, match=r"ended the connection|connection"):
        house.run(asked)
    assert house.run(asked).table.total == before


@pytest.mark.parametrize("began", ["timestamp", "text"])
def test_a_server_may_go_away_at_any_step(
    owner: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, began: str
) -> None:
    """Before every single thing that it is asked for a page: it is said, and the next question connects again."""
    table(owner, began)
    house = workspace(tmp_path / "here")
    parts = [
        {"log": "doors", "by": ["user"], "columns": ["count", "time"], "period": "2026-03"},
        {"log": "doors", "listing": {"fields": ["user"]}, "period": "2026-03-28"},
    ]
    asked = Report.of(title="Both", parts=parts)
    whole = told(house.run(asked.changed(parts=asked.parts[:1])).answer)
    steps, last, ours = [0], 0, "FROM pg_stat_activity WHERE application_name = 'fermata'"

    def counted(inner: Any) -> Any:
        def ask(engine: Any, *given: Any) -> Any:
            steps[0] += 1
            if steps[0] == last:
                owner.execute(f"SELECT pg_terminate_backend(pid, 9000) {ours}")
            return inner(engine, *given)

        return ask

    for name in ("rows", "dicts", "stream"):
        monkeypatch.setattr(PostgresEngine, name, counted(getattr(PostgresEngine, name)))

    def why() -> str:
        steps[0] = 0
        try:
            page = house.run(asked).answer
            list(page.parts[1].item.rows)  # type: ignore[union-attr]
        except DataError as e:
            return str(e)
        return ""

    while last <= steps[0]:
        last += 1
        said = why()
        assert "ended the connection" in said or last > steps[0]
        last, seen = -1, last  # the next ones are left alone
        assert told(house.run(asked.changed(parts=asked.parts[:1])).answer) == whole
        assert why() == ""
        last = seen
    assert last > (3 if began == "text" else 8)


def test_the_same_figures_of_other_rows_are_no_proof(owner: Any, tmp_path: Path) -> None:
    """`verify` compares what the table holds, not only the figures."""
    table(owner)
    house = workspace(tmp_path / "here")
    report = Report.of(log="doors", period="2026-03", columns=["count"])
    item = house.shelf.keep(report, ("csv",))
    assert house.shelf.verify(item.number)[-1].state == "same"
    owner.execute("UPDATE readings SET door = 'gate_9' WHERE id = 5")
    verdict = house.shelf.verify(item.number)[-1]
    assert verdict.state == "changed"
    assert "as many events, but not the same" in verdict.why[0]


def test_an_interrupt_cancels_the_question_on_the_server(owner: Any, tmp_path: Path) -> None:
    table(owner)
    owner.execute("CREATE OR REPLACE VIEW slow AS SELECT r.* FROM readings r WHERE pg_sleep(0.2) IS NOT NULL")
    house = workspace(tmp_path / "house", of="slow")
    running = "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'fermata' AND state = 'active'"
    command = [str(Path(sys.executable).with_name("fermata")), "report", "doors", "--period", "2026-03"]
    process = subprocess.Popen(command, cwd=house.path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    until = time.monotonic() + 60
    while owner.execute(running).fetchone()[0] == 0:
        assert time.monotonic() < until, process.stderr and process.stderr.read()
        time.sleep(0.1)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=30)
    assert process.returncode == 130, said
    assert "Traceback" not in said
    until = time.monotonic() + 10
    while owner.execute(running).fetchone()[0]:
        assert time.monotonic() < until
        time.sleep(0.1)


@pytest.mark.parametrize("within", ["a run", "rows as they come"])
def test_an_interrupt_before_the_answer_is_taken_back_stays_one(
    server: dict[str, Any], owner: Any, within: str
) -> None:
    """It may fall where the driver has sent a question and does not take its answer back."""
    import ibis

    engine = PostgresEngine(ibis.postgres.connect(user="owner", host=server["host"], database="postgres"))
    asking = "SELECT count(*) FROM pg_stat_activity WHERE state = 'active' AND query LIKE 'SELECT pg_sleep%'"

    def rows_as_they_come() -> Iterator[None]:
        for _ in engine.stream(engine.view("SELECT 1 AS n", {"n": "int32"})):
            yield

    def broken_off() -> None:
        engine.con.con.pgconn.send_query(b"SELECT pg_sleep(60)")
        raise KeyboardInterrupt

    begun = engine.keeping() if within == "a run" else contextlib.contextmanager(rows_as_they_come)()
    with pytest.raises(KeyboardInterrupt), begun:
        broken_off()
    until = time.monotonic() + 10
    while owner.execute(asking).fetchone()[0]:
        assert time.monotonic() < until
        time.sleep(0.1)
    assert engine.con.con.closed


@pytest.mark.parametrize(
    ("change", "error", "says"),
    [
        (('column = "who"', 'column = "whom"'), UnknownName, "there is no column 'whom' in readings"),
        (
            ('"began"', '{ column = "began", form = "%d/%m/%Y" }'),
            RequestError,
            "began is a time already; leave its form out",
        ),
        (('"began"', '{ column = "told", form = "%d/%j" }'), RequestError, "make the column a timestamp in a view"),
        (('record = "id"', 'record = "who"'), RequestError, "holds no whole numbers"),
        (('record = "id"', ""), ConfigError, "needs record"),
        (('table = "readings"', 'table = "nothing"'), DataError, "the table nothing cannot be read"),
        (('part = "^([A-Za-z]+)"', 'part = "^([A-Z]+?)x"'), RequestError, "lazy repetitions"),
        (("ambiguous", "keep_for = '3 months'\nambiguous"), ConfigError, "imported records only"),
        (("HOUSE_DB", "NO_SUCH_VARIABLE"), RequestError, "NO_SUCH_VARIABLE is not set"),
    ],
)
def test_what_is_wrong_is_told_with_what_to_do(
    owner: Any, tmp_path: Path, change: tuple[str, str], error: type[FermataError], says: str
) -> None:
    table(owner)
    house = workspace(tmp_path / "house")
    text = (house.path / "fermata.toml").read_text()
    assert change[0] in text
    (house.path / "fermata.toml").write_text(text.replace(*change))
    with pytest.raises(error, match=says):
        fermata.open(house.path, now=NOW).run(Report.of(log="doors", period="2026-03"))
