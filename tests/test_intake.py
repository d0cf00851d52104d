"""Delimited text to events: every record accounted for, times by the stated policy, repeats and re-imports."""

from __future__ import annotations

import csv
import io
import re
import shutil
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fermata
from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import ConfigError, FermataError, RequestError, SourceError, UnknownName
from fermata.intake import opening, storing
from fermata.intake.field_map import FieldMap, check_forms
from fermata.intake.mapping import LogMap
from fermata.intake.readers import counting, raw_text
from fermata.timeline.zones import classify, to_utc, zone
from tests.conftest import NOW, Maker, examples, plain

HEAD = "When,Who,Door\n"


def doors(*lines: str) -> str:
    return HEAD + "".join(line + "\n" for line in lines)


def starts(workspace: Workspace, log: str = "doors") -> list[str]:
    """The UTC starts stored, in the order of their records."""
    rows = workspace.listing(fermata.Report(log=log)).rows
    ordered = sorted(rows, key=lambda r: [int(p) for p in r[-1].split(":")])
    return [f"{r[0]:%m-%d %H:%M}" for r in ordered]


def fates(workspace: Workspace, log: str = "doors", **options: Any) -> list[tuple[int, int, int, int, int]]:
    """(read, stored, duplicate, rejected, skipped) of each file imported, checked to add up."""
    found = []
    for outcome in workspace.archive.import_log(log, **options):
        if f := outcome.file:
            assert f.read == f.stored + f.duplicate + f.rejected + sum(f.skipped.values())
            found.append((f.read, f.stored, f.duplicate, f.rejected, sum(f.skipped.values())))
    return found


TWICE = """
events = [{ fields = { action = { constant = "in" } } }, { fields = { action = { constant = "out" } } }]
"""


@pytest.mark.parametrize("settings", ["", TWICE])
def test_scattered_records_are_stored_like_others(make: Maker, monkeypatch: pytest.MonkeyPatch, settings: str) -> None:
    """Records of a year without any order: the same files as if each month were looked for in all of them."""
    chance = Random(4)
    times = [datetime(2025, 6, 1) + timedelta(seconds=chance.randrange(31_000_000)) for _ in range(400)]
    lines = [f"{at:%Y-%m-%d %H:%M:%S},{chance.choice('abc')},{chance.choice('xy')}" for at in times]
    stored, config = [], plain(settings, 'key = "Door"')
    for block in (storing.BLOCK, 10):
        monkeypatch.setattr(storing, "BLOCK", block)
        house = make(config, doors=doors(*lines, *lines[:3]))
        assert fates(house)[0][:2] == (403, 403)
        snapshot = house.base.archive.snapshot()
        parts = snapshot.manifest.log("doors").parts
        assert len(parts) == 12
        stored.append([
            (p.path, p.rows, p.first, p.last, pq.read_table(snapshot.root / p.path).to_pylist(),
             sorted(tuple(r.values()) for r in pq.read_table(snapshot.root / p.keys).to_pylist()))
            for p in parts
        ])  # fmt: skip
        shutil.rmtree(snapshot.root)
    assert stored[0] == stored[1]


@examples(15)
@given(
    days=st.lists(st.sampled_from((0, 1, 30, 31, 32, 59, 60, 90)), min_size=2, max_size=9),
    settings=st.sampled_from(["", TWICE]),
)
def test_files_of_a_month_are_in_the_order_of_time(
    days: list[int], settings: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Whatever order the records come in; what is in order already is not put in order again."""
    path = tmp_path_factory.mktemp("order")
    (path / "fermata.toml").write_text(plain(settings))
    lines = [f"{datetime(2025, 3, 1, 12) + timedelta(days=d):%Y-%m-%d %H:%M:%S},a,x" for d in days]
    (path / "doors.csv").write_text(doors(*lines))
    house = fermata.open(path)
    house.archive.import_log("doors")
    snapshot = house.base.archive.snapshot()
    for part in snapshot.manifest.log("doors").parts:
        rows = pq.read_table(snapshot.root / part.path).to_pylist()
        order = [(r["start_utc"], r["file_id"], r["record_no"], r["event_no"]) for r in rows]
        assert order == sorted(order)


@examples(60)
@given(
    lines=st.lists(st.sampled_from([b"a,b", b"", b"x\r,y", b" ", b"longer,line"]), max_size=12),
    wanted=st.sets(st.integers(1, 12), min_size=1),
    columns=st.sampled_from([1, 2]),
    chunk=st.sampled_from([2, 5, 9, 1 << 20]),
    end=st.sampled_from([b"\n", b"\r\n"]),
)
def test_texts_of_records_are_found_by_their_number(
    lines: list[bytes], wanted: set[int], columns: int, chunk: int, end: bytes, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """In pieces of the file as line by line, and what is counted of a file does not depend on the pieces."""
    path = tmp_path_factory.mktemp("texts") / "f.csv"
    path.write_bytes(end.join([b"When,Who", *lines]))
    log = LogMap(files=("f.csv",), fields={"start": "When"})
    records = [(n, line) for n, line in enumerate(path.read_bytes().split(b"\n"), 1) if n > 1]
    if records and not records[-1][1]:
        records.pop()  # what ends with a line end has no line after it
    kept = [(n, line.rstrip(b"\r").decode()) for n, line in records if columns == 1 or line.strip(b"\r")]
    with pytest.MonkeyPatch.context() as patch:
        whole = counting.count(path)
        patch.setattr(counting, "CHUNK", chunk)
        pieces = counting.count(path)
        assert pieces == whole
        found = raw_text.raw_records(path, log, sorted(wanted), columns, False, pieces)
        assert raw_text.raw_records(path, log, sorted(wanted), columns, True, pieces) == found
    assert found == [kept[n - 1] for n in sorted(wanted) if n <= len(kept)]


def test_every_record_has_one_fate(make: Maker) -> None:
    """Broken, blank, comment and unselected records are counted, rejects carry record number, line and reason."""
    text = HEAD + (
        "2026-03-01 10:00,Ann,A\n"
        "\n"
        '2026-03-01 10:01,"Bob\nsecond line",A\n'
        "short,row\n"
        "# a remark\n"
        "not a time,Ann,A\n"
        "2026-03-01 10:02,Ann,TEST\n"
        ",Ann,A\n"
        "2026-03-01 10:03,Cy,A,too,many\n"
        ",,\n"
        "2026-03-01 10:04,Ann,A"
    )
    workspace = make(plain('comment = "#"\ndrop = { Door = "TEST" }'), x=text)
    assert fates(workspace) == [(11, 3, 0, 4, 4)]
    assert [(r["record_no"], r["line"], r["reason"]) for r in workspace.archive.rejects("doors")] == [
        (3, 6, "has fewer columns than the header"),
        (5, 8, "start: 'not a time' is not a time written as ISO 8601"),
        (7, 10, "the time is empty"),
        (8, 11, "has more columns than the header"),
    ]
    file = workspace.base.archive.snapshot().manifest.log("doors").files[1]
    assert file.skipped == {"blank": 2, "comment": 1, "outside the selection": 1}


@given(data=st.data())
@examples(40)
def test_any_file_is_read_as_the_csv_module_reads_it(
    data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Random fields with quotes, delimiters, line ends and other scripts come back exactly, record numbers included."""
    field = st.text(st.sampled_from("ab\"',;\n #é日"), max_size=6)
    rows = data.draw(st.lists(st.tuples(field, field), min_size=1, max_size=30))
    ending = data.draw(st.sampled_from(["\n", "\r\n"]))
    target = io.StringIO()
    writer = csv.writer(target, lineterminator=ending, quoting=csv.QUOTE_ALL)
    writer.writerow(["When", "Who", "Door"])
    for i, (a, b) in enumerate(rows):
        writer.writerow([f"2026-03-01T10:{i:02d}", a, b])
    path = tmp_path_factory.mktemp("f") / "x.csv"
    path.write_text(target.getvalue(), encoding="utf-8", newline="")
    question = fermata.read(path, time="When", user="Who", device="Door", zone="UTC")
    listed = question.workspace.listing(question.report).rows
    assert [(r[1] or "", r[2] or "") for r in listed] == [(a.strip(" "), b.strip(" ")) for a, b in rows]
    assert [r[-1] for r in listed] == [f"1:{i}" for i in range(1, len(rows) + 1)]


@given(st.binary(max_size=300), st.sampled_from([b"", HEAD.encode()]))
@examples(60)
def test_junk_ends_in_a_message_and_nothing_stored(
    tmp_path_factory: pytest.TempPathFactory, junk: bytes, head: bytes
) -> None:
    """Whatever bytes a file holds, the import either accounts for every record or raises one of our errors."""
    place = tmp_path_factory.mktemp("junk")
    (place / "fermata.toml").write_text(plain())
    (place / "x.csv").write_bytes(head + junk)
    workspace = open_workspace(place, now=NOW)
    try:
        fates(workspace)
    except FermataError:
        stored = workspace.base.archive.snapshot().manifest
        assert (stored.number, stored.logs) == (0, {})


def test_the_repeated_hour_is_told_apart_by_the_order_of_records(make: Maker) -> None:
    """Where the file steps back the second pass begins; a line a minute late does not count as the step."""
    walls = ["00:50", "01:10", "01:09", "01:55", "01:02", "01:50", "02:05"]
    workspace = make(plain(), x=doors(*(f"2025-10-26 {w},Ann,A" for w in walls)))
    fates(workspace)
    assert [s[6:] for s in starts(workspace)] == ["23:50", "00:10", "00:09", "00:55", "01:02", "01:50", "02:05"]


def test_a_file_newest_first_is_read_from_its_end(make: Maker) -> None:
    """Descending exports step forward where they enter the first pass."""
    walls = ["02:05", "01:50", "01:02", "01:55", "01:10", "00:50"]
    workspace = make(plain(), x=doors(*(f"2025-10-26 {w},Ann,A" for w in walls)))
    fates(workspace)
    assert [s[6:] for s in starts(workspace)] == ["02:05", "01:50", "01:02", "00:55", "00:10", "23:50"]


@pytest.mark.parametrize(
    ("policy", "wall", "expected"),
    [
        ('ambiguous = "earlier"', "2025-10-26 01:30", "10-26 00:30"),
        ('ambiguous = "later"', "2025-10-26 01:30", "10-26 01:30"),
        ('ambiguous = "reject"', "2025-10-26 01:30", "start: 2025-10-26 01:30:00 happens twice in Europe/Lisbon"),
        ('nonexistent = "earlier"', "2026-03-29 01:30", "03-29 00:30"),
        ('nonexistent = "later"', "2026-03-29 01:30", "03-29 01:30"),
        ('nonexistent = "reject"', "2026-03-29 01:30", "start: 2026-03-29 01:30:00 never happens in Europe/Lisbon"),
    ],
)
def test_clock_change_policies(make: Maker, policy: str, wall: str, expected: str) -> None:
    """Times that happen twice or never follow the policy and are counted."""
    workspace = make(plain(policy), x=doors(f"{wall},Ann,A", "2026-03-30 10:00,Bob,A"))
    fates(workspace)
    file = workspace.base.archive.snapshot().manifest.log("doors").files[1]
    if "reject" in policy:
        assert [r["reason"] for r in workspace.archive.rejects("doors")] == [expected]
    else:
        assert starts(workspace)[0] == expected
        assert file.twice + file.never == 1


def test_a_record_in_the_repeated_hour_counts_once(make: Maker) -> None:
    """Whether one end of its span happens twice, or both; a year later as well."""
    spans = {"00:10": "01:20", "01:10": "01:20", "01:30": "02:20", "00:20": "02:20"}
    lines = [f"{day} {a},Ann,A,{day} {b}" for day in ("2025-10-26", "2026-10-25") for a, b in spans.items()]
    lines += [",Ann,A,2026-10-25 01:50", "2026-10-25 01:40,Ann,A,"]  # the one is refused, the other has no end
    workspace = make(plain('ambiguous = "earlier"', 'finish = "To"'), x="\n".join(["When,Who,Door,To", *lines]) + "\n")
    workspace.archive.import_log("doors")
    file = workspace.base.archive.snapshot().manifest.log("doors").files[1]
    assert (file.twice, file.never, file.rejected) == (7, 0, 1)


@given(
    st.sampled_from(["Europe/Lisbon", "Asia/Kathmandu", "America/St_Johns", "Australia/Lord_Howe"]),
    st.integers(0, 10**6),
)
@examples(20)
def test_local_times_become_utc_as_the_zone_says(
    tmp_path_factory: pytest.TempPathFactory, name: str, seed: int
) -> None:
    """In any year from 1985 to 2040 the engine's conversion is that of the zone data."""
    random = Random(seed)
    base = datetime(random.randrange(1985, 2040), random.randrange(1, 13), 1)
    days = random.choice([300, 9000])
    walls = [base + timedelta(minutes=random.randrange(days * 1440), microseconds=i) for i in range(300)]
    tz = zone(name)
    walls = [w for w in walls if classify(w, tz) == "once"]
    path = tmp_path_factory.mktemp("z") / "x.csv"
    path.write_text(doors(*(f"{w.isoformat()},u,d" for w in walls)))
    question = fermata.read(path, time="When", zone=name)
    rows = question.workspace.listing(question.report).rows
    assert sorted(r[0].replace(tzinfo=UTC) for r in rows) == sorted(to_utc(w, tz) for w in walls)


TIMES = {
    "2026-03-01T10:00:00.25Z": {},
    "2026-03-01T11:00:00,25+01:00": {},
    "1772359200": {"form": "epoch s"},
    "1772359200250": {"form": "epoch ms"},
    "01/Mar/2026:15:45:00 +0545": {"form": "%d/%b/%Y:%H:%M:%S %z"},
    "01.03.26 10:00": {"form": ["%d/%m/%y %H:%M", "%d.%m.%y %H:%M"]},
    "3/1/2026 10:00:00 AM": {"form": "%m/%d/%Y %I:%M:%S %p"},
    "3/1/2026 10:00 a. m.": {"form": "%m/%d/%Y %I:%M %p"},
    "46082.41667": {"form": "spreadsheet day"},
    "46082,416666667": {"form": ["iso", "spreadsheet day"]},
    "dim. 1 mars 2026 10:00": {"form": "%d %b. %Y %H:%M"},
    "Sonntag, 1. März 2026 10:00": {"form": "%d. %B %Y %H:%M"},
    "1 de marzo de 2026 10:00": {"form": "%d de %B de %Y %H:%M"},
}


@pytest.mark.parametrize("text", TIMES)
def test_time_forms(make: Maker, text: str) -> None:
    """ISO 8601, epochs and named forms, with or without their own offset."""
    config = plain().replace('start = "When"', f'start = {{ column = "When"{_form(TIMES[text])} }}')
    workspace = make(config, x=HEAD + f'"{text}",Ann,A\n')
    fates(workspace)
    assert starts(workspace) == ["03-01 10:00"], workspace.archive.rejects("doors")


def _form(options: dict[str, Any]) -> str:
    return "".join(f", {k} = {v!r}" for k, v in options.items())


@pytest.mark.parametrize(
    ("fields", "row", "seconds"),
    [
        ('duration = "L"', "90", 90), ('duration = { column = "L", form = "minutes" }', "1.5", 90),
        ('duration = { column = "L", form = "h:mm:ss" }', "100:00:01", 360_001),
        ('duration = { column = "L", form = "h:mm" }', "1:30", 5400),
        ('duration = { column = "L", form = "mm:ss" }', "90:30", 5430),
        ('duration = { column = "L", form = "iso" }', "P1DT2H3M4.5S", 93784.5),
        ('duration = { column = "L", form = "seconds", decimal = "," }', '"0,25"', 0.25),
        ('finish = { column = "L", form = "%H:%M", next_day = true }', "02:00", 14_400 * 1.0),
        ('finish = "L"', "2026-03-28T23:00:00Z", 3600),
        ('finish = { column = "L", form = "%d %b %Y %H:%M" }', "28 Mar 2026 24:00", 7200),
        ('finish = { column = "L", form = "%H:%M", next_day = true }', "24:00", 7200),
        ('duration = { column = "L", form = "words" }', "1 hour 3 min 4.5s", 3784.5),
    ],
)  # fmt: skip
def test_durations_and_finishes(make: Maker, fields: str, row: str, seconds: float) -> None:
    """A duration in any form, or a finish that may be a clock time of the next day, after a clock change too."""
    config = plain(fields=fields).replace('device = "Door"', 'device = "D"')
    workspace = make(config, x=f"When,Who,D,L\n2026-03-28 22:00,Ann,A,{row}\n")
    fates(workspace)
    expected = 3 * 3600 if row == "02:00" else seconds  # 22:00 to 02:00 that night is three hours
    listed = workspace.listing(fermata.Report(log="doors")).rows
    assert [r[2] for r in listed] == [round(expected * 1_000_000)], workspace.archive.rejects("doors")


@pytest.mark.parametrize(
    "fields",
    [
        'start = { column = "When", next_day = true }', 'finish = { column = "L", next_day = true }\nuser = "Who"',
        'start = "When"\nuser = { column = "Who", next_day = true }',
    ],
)  # fmt: skip
def test_a_next_day_needs_one_before_it(make: Maker, fields: str) -> None:
    with pytest.raises(fermata.ConfigError, match="next_day is for a finish beside its start"):
        make(f'[logs.doors]\nfiles = "x.csv"\n[logs.doors.fields]\n{fields}\n', x="When,Who,L\n")


@pytest.mark.parametrize(
    ("spec", "good", "stored", "bad", "reason"),
    [
        ('{ column = "V", type = "number" }', "12", 12, "1.5", "n: '1.5' is not a number without decimals"),
        ('{ column = "V", type = "money" }', "12.5", 1250, "1.255",
         "n: '1.255' is not a number with at most 2 decimals"),
        ('{ column = "V", type = "decimal", decimal = ",", thousands = "." }', '"1.234,5"', 1_234_500, "x",
         "n: 'x' is not a number with at most 3 decimals"),
        ('{ column = "V", type = "flag", true = ["J"], false = ["N"] }', "j", True, "?",
         "n: '?' is neither yes (J) nor no (N)"),
        ('{ column = "V", type = "tags", separator = "|" }', "b| a||b", ["a", "b"], None, ""),
        ('{ column = "V", type = "duration", form = "h:mm" }', "0:05", 300_000_000, "0:65",
         "n: '0:65' is not a duration written as h:mm"),
    ],
)  # fmt: skip
def test_typed_fields(make: Maker, spec: str, good: str, stored: Any, bad: str | None, reason: str) -> None:
    """A typed field is exact or its record is rejected with what was wanted; empty stays empty."""
    rows = ["2026-03-01 10:00,Ann,A," + v for v in (good, "", *([bad] if bad else []))]
    workspace = make(plain(fields=f"n = {spec}"), x="When,Who,Door,V\n" + "\n".join(rows) + "\n")
    fates(workspace)
    assert [r[3] for r in workspace.listing(fermata.Report(log="doors")).rows] == [stored, None]
    assert [r["reason"] for r in workspace.archive.rejects("doors")] == ([reason] if bad else [])


@pytest.mark.parametrize(
    ("settings", "fields"),
    [
        ("keep = { Door = WORDS }", ""),
        ("drop = { Door = WORDS }", ""),
        ("empty = WORDS", ""),
        ("", 'good = { column = "Door", type = "flag", true = WORDS, false = ["A"] }'),
    ],
)
def test_records_keep_their_numbers_beside_long_lists(make: Maker, settings: str, fields: str) -> None:
    """However many values a mapping lists, each event is that of the record whose number it has."""
    words = [f"w{n}" for n in range(9)]
    config = plain(settings.replace("WORDS", str(words)), fields.replace("WORDS", str(words)))
    workspace = make(config.replace('"*.csv"', '"x.parquet"\nformat = "parquet"'))
    rows = {
        "When": [f"2026-03-01 {n // 3600:02}:{n // 60 % 60:02}" for n in range(9000)],
        "Who": [f"u{n}" for n in range(9000)],
        "Door": ["A" if settings.startswith("drop") else "w3"] * 9000,
    }
    pq.write_table(pa.table(rows), workspace.path / "x.parquet", row_group_size=100)
    fates(workspace)
    (path,) = workspace.archive.paths("doors")
    found = pq.read_table(path, columns=["record_no", "person"]).to_pydict()
    assert sorted(found["record_no"]) == list(range(1, 9001))
    assert all(who == f"u{n - 1}" for n, who in zip(found["record_no"], found["person"], strict=True))


def test_one_record_may_give_several_events(make: Maker) -> None:
    """A row with an opened and a closed date is two events, or one while it is open; the record is counted once."""
    config = """
[workspace]
zone = "UTC"
[logs.cases]
files = "*.csv"
fields = { user = "Who" }
events = [
    { fields = { start = "Opened", action = { constant = "opened" } } },
    { fields = { start = "Closed", action = { constant = "closed" } } },
]
"""
    workspace = make(config, x="Who,Opened,Closed\nAnn,2026-03-01,2026-04-02\nBob,2026-03-02,\nCy,,\n")
    assert fates(workspace, "cases") == [(3, 2, 0, 1, 0)]
    table = workspace.log("cases").by("action").measure("count").run().table
    assert {r.shown: r.cells for r in table.body} == {("closed",): (1,), ("opened",): (2,)}


def test_one_column_is_enough(make: Maker) -> None:
    """A file of bare times; its empty lines are skipped, and the text of a reject is the file's own."""
    config = '[workspace]\nzone = "UTC"\n[logs.doors]\nfiles = "*.csv"\nfields = { start = "When" }\n'
    workspace = make(config, x="When\n2026-03-01\n\n2026-03-02\n\n\n x \n")
    assert fates(workspace) == [(6, 2, 0, 1, 3)]
    assert [(r["record_no"], r["line"], r["whole"]) for r in workspace.archive.rejects("doors")] == [(6, 7, " x ")]


def test_columns_may_be_called_anything(make: Maker) -> None:
    """Names that differ only in case, repeat, or look like ours, quotes and SQL words in them."""
    config = plain(fields='a = "skip"\nb = "SKIP"\nc = "skip_2"\nd = "select \\"x\\""\ne = "c0"')
    workspace = make(
        config, x='When,Who,Door,skip,SKIP,skip,"select ""x""",c0,bad\n2026-03-01 10:00,Ann,A,1,2,3,4,5,6\n'
    )
    assert fates(workspace) == [(1, 1, 0, 0, 0)]
    assert workspace.listing(fermata.Report(log="doors")).rows[0][1:8] == ("Ann", "A", "1", "2", "3", "4", "5")
    assert list(workspace.archive.source_record("doors", "1:1").values())[2:] == [
        "2026-03-01 10:00",
        "Ann",
        "A",
        *"123456",
    ]


def test_fields_from_the_file_name_keep_servers_apart(make: Maker) -> None:
    """Equal records of two servers are no duplicates; a file whose name does not fit is refused by name."""
    config = plain(fields="server = { file_name = 'srv-([a-z]+)' }")
    both = doors("2026-03-01 10:00,Ann,A", "2026-03-01 10:01,Ann,A")
    workspace = make(config, **{"srv-a": both, "srv-b": both})
    assert fates(workspace) == [(2, 2, 0, 0, 0), (2, 2, 0, 0, 0)]
    table = workspace.log("doors").by("server").run().table
    assert [(r.shown, r.cells) for r in table.body] == [(("a",), (2,)), (("b",), (2,))]
    (workspace.path / "other.csv").write_text(both)
    with pytest.raises(SourceError, match=r"other.csv: its name does not match"):
        workspace.archive.import_log("doors")


def test_delimiter_encoding_banner_and_no_header(make: Maker) -> None:
    """UTF-16 with a banner, a wide delimiter and columns by number; the source record comes back whole."""
    config = plain('delimiter = ";"\nencoding = "utf-16"\nskip_lines = 2\nheader = false')
    config = config.replace('"When"', '"1"').replace('"Who"', '"2"').replace('"Door"', '"4"')
    data = "Réseau\nexporté\n2026-03-01 10:00;Žofie;secret;A\n2026-03-01 10:01;Bob;other;B\n".encode("utf-16")
    workspace = make(config, x=data)
    assert fates(workspace) == [(2, 2, 0, 0, 0)]
    assert workspace.archive.source_record("doors", "1:1") == {
        "file": "x.csv", "record": "1", "1": "2026-03-01 10:00", "2": "Žofie", "3": "secret", "4": "A"
    }  # fmt: skip
    (workspace.path / "x.csv").write_bytes(data + b"  ")
    with pytest.raises(SourceError, match="has changed since it was imported"):
        workspace.archive.source_record("doors", "1:1")
    (workspace.path / "x.csv").unlink()
    with pytest.raises(SourceError, match="is gone"):
        workspace.archive.source_record("doors", "1:1")
    with pytest.raises(RequestError, match="has records 1 to 2, not 3"):
        workspace.archive.source_record("doors", "1:3")


def test_the_same_file_again_changes_nothing(make: Maker) -> None:
    """Not a byte of the archive differs after importing a known file again, under another name too."""
    workspace = make(plain(), x=doors(*(f"2026-03-01 10:{i:02d},Ann,A" for i in range(20))))
    fates(workspace)
    before = _bytes(workspace.base.archive.root)
    assert fates(workspace) == []
    (workspace.path / "y.csv").write_bytes((workspace.path / "x.csv").read_bytes())
    assert fates(workspace) == []
    assert _bytes(workspace.base.archive.root) == before


def _bytes(root: Path) -> dict[str, bytes]:
    return {
        str(p.relative_to(root)): p.read_bytes() for p in sorted(root.rglob("*")) if p.is_file() and p.name != "lock"
    }


@pytest.mark.parametrize(
    ("first", "second"), [(range(20_000), range(260_000)), (range(90_000, 100_000), range(60_000, 320_000))]
)
def test_what_is_left_of_an_overlap_is_in_the_order_of_time(make: Maker, first: range, second: range) -> None:
    """Of a file that has grown, and of one that holds what is known in its middle."""

    def text(seconds: range) -> str:
        begun = datetime(2026, 3, 1)
        return doors(*(f"{begun + timedelta(seconds=n)},u{n},door {n % 17}" for n in seconds))

    workspace = make(plain(), x=text(first))
    fates(workspace)
    (workspace.path / "x.csv").write_text(text(second))
    assert fates(workspace) == [(len(second), len(second) - len(first), len(first), 0, 0)]
    path = next(p for p in workspace.archive.paths("doors") if p.name == "2.parquet")
    found = pq.read_table(path, columns=["start_utc", "record_no"]).to_pydict()
    assert found["start_utc"] == sorted(found["start_utc"])
    assert len(set(found["record_no"])) == len(second) - len(first)


def test_overlaps_are_duplicates_and_lone_equals_are_kept(make: Maker) -> None:
    """A run of known records is not stored again; one equal record in two rotated files is two events, and reported."""
    lines = [f"2026-03-01 10:{i:02d},Ann,A" for i in range(30)]
    workspace = make(plain(), a=doors(*lines[:20]), b=doors(*lines[15:]), c=doors(lines[29], "2026-03-01 11:00,Bob,A"))
    assert fates(workspace) == [(20, 20, 0, 0, 0), (15, 10, 5, 0, 0), (2, 2, 0, 0, 0)]
    files = workspace.base.archive.snapshot().manifest.log("doors").files
    assert (files[2].leaned_on, files[3].possible_repeats) == ({"1": 5}, 1)
    assert len(starts(workspace)) == 32


def test_genuine_repeats_within_a_file_stay_however_often_it_comes(make: Maker) -> None:
    """Two equal lines are two events; a grown file brings only its growth, even when it grew from one line."""
    twice = ["2026-03-01 10:00,Ann,A"] * 2
    workspace = make(plain(), a=doors(twice[0]))
    assert fates(workspace) == [(1, 1, 0, 0, 0)]
    (workspace.path / "a.csv").write_text(doors(*twice))
    assert fates(workspace) == [(2, 1, 1, 0, 0)]
    (workspace.path / "a.csv").write_text(doors(*twice, "2026-03-01 10:05,Ann,A"))
    assert fates(workspace) == [(3, 1, 2, 0, 0)]
    assert starts(workspace) == ["03-01 10:00", "03-01 10:00", "03-01 10:05"]


@pytest.mark.parametrize("settings", ['repeats = "drop"', 'record_id = "id"'])
def test_lone_repeats_go_where_the_log_says_so(make: Maker, settings: str) -> None:
    """With `repeats = "drop"` or a declared record id a lone equal record is a duplicate, also within one file."""
    config = plain(settings, 'id = "N"')
    head = "When,Who,Door,N\n"
    workspace = make(
        config,
        a=head + "2026-03-01 10:00,Ann,A,1\n" * 2,
        b=head + "2026-03-01 10:00,Ann,A,1\n2026-03-02 10:00,Ann,A,2\n",
    )
    assert fates(workspace) == [(2, 1, 1, 0, 0), (2, 1, 1, 0, 0)]


def test_a_changed_mapping_replaces(make: Maker) -> None:
    """Until it is imported again reports say so; then the former events are gone and the new ones there."""
    lines = [f"2026-03-01 10:{i:02d},Ann,A" for i in range(5)]
    workspace = make(plain(), a=doors(*lines[:4]), b=doors(*lines[2:]))
    fates(workspace)
    config = plain('zone = "Asia/Kathmandu"')
    (workspace.path / "fermata.toml").write_text(config)
    workspace = open_workspace(workspace.path, now=NOW)
    assert any(
        "older mapping (a.csv, b.csv)" in c and c.more == "fermata import doors"
        for c in workspace.log("doors").run().notes
    )
    assert fates(workspace, sources=[workspace.path / "b.csv"]) == [
        (4, 4, 0, 0, 0),
        (3, 1, 2, 0, 0),
    ]  # a.csv had to come along
    assert starts(workspace) == [f"03-01 04:{15 + i}" for i in range(5)]
    assert not workspace.log("doors").run().notes


def test_the_ledger_shows_every_import_and_any_change_to_it(make: Maker) -> None:
    """The ledger is a chain: figures add up in every line, and a changed line is found."""
    workspace = make(plain(), a=doors("2026-03-01 10:00,Ann,A"))
    fates(workspace)
    (workspace.path / "b.csv").write_text(doors("2026-03-02 10:00,Ann,A"))
    fates(workspace)
    assert [e["files"][0]["path"] for e in workspace.base.archive.ledger()] == ["a.csv", "b.csv"]
    path = workspace.base.archive.root / "ledger.jsonl"
    path.write_text(path.read_text().replace('"stored": 1', '"stored": 2', 1))
    with pytest.raises(FermataError, match=r"does not follow|does not end"):
        workspace.base.archive.ledger()


def test_the_archive_is_plain_parquet(make: Maker) -> None:
    """Any Parquet tool reads it: events by UTC month in time order, carried spans apart, keys beside."""
    import pyarrow.parquet as pq

    workspace = make(plain(fields='finish = "To"'), a="When,Who,Door,To\n2026-02-28 23:00,Ann,A,2026-03-01 "
                                                      "01:00\n2026-02-01 10:00,Bob,A,2026-02-01 11:00\n2026-03-05 "
                                                      "10:00,Cy,A,\n")  # fmt: skip
    fates(workspace)
    root = workspace.base.archive.root / "doors"
    february = pq.read_table(root / "2026-02/1.parquet").to_pylist()
    assert [r["person"] for r in february] == ["Bob", "Ann"]
    assert pq.read_table(root / "2026-02/1.keys.parquet").column_names == ["key", "file_id", "record_no"]
    assert [r["person"] for r in pq.read_table(root / "carry/1.parquet").to_pylist()] == ["Ann", "Cy"]
    march = workspace.log("doors").during("2026-03").by("user").measure("count", "time").run()
    assert [(r.shown, r.cells) for r in march.table.body] == [(("Ann",), (0, 3_600_000_000)), (("Cy",), (1, 0))]
    assert any("1 event of this period without a finish" in c for c in march.notes)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("start = \"When\"", "start = \"Wen\""), r"there is no column 'Wen' in x.csv; did you mean 'When'\?"),
        (('files = "*.csv"', 'files = "*.csv"\ndelimiter = ";"'),
         r"there is no column 'When' in x.csv.*is the delimiter ','\?"),
        (('files = "*.csv"', 'files = "*.csv"\nencoding = "utf-16"'), r"x.csv: is not utf-16 text"),
        (('files = "*.csv"', 'files = "*.log"'), r"the log doors matches no file; its patterns: \*\.log"),
    ],
)  # fmt: skip
def test_files_that_do_not_fit_their_mapping(make: Maker, change: tuple[str, str], message: str) -> None:
    """The error names what is wrong, what exists and the nearest match; the archive stays empty."""
    workspace = make(plain().replace(*change), x=doors("2026-03-01 10:00,Ann,A"))
    with pytest.raises(FermataError, match=message):
        workspace.archive.import_log("doors")
    assert workspace.base.archive.snapshot().manifest.number == 0


def test_a_wrong_configuration_lists_every_problem_with_its_line(tmp_path: Path) -> None:
    """All mistakes of a file at once: file, line, key and the mend."""
    path = tmp_path / "fermata.toml"
    path.write_text(
        '[workspace]\nzone = "Lisbon"\nweekstart = "monday"\n\n[logs.doors]\nencoding = "utf-99"\n'
        '[logs.doors.fields]\nuser = { column = "A", constant = "B" }\nstart = { column = "W", form = "dd/mm/yyyy" }\n'
    )
    with pytest.raises(ConfigError) as error:
        open_workspace(tmp_path)
    lines = str(error.value).splitlines()
    assert lines[0] == f"{path}: 4 problems"
    assert re.match(
        r"  line 2, workspace.zone: there is no time zone 'Lisbon' .*did you mean 'Europe/Lisbon'", lines[1]
    )
    assert lines[2] == "  line 3, workspace.weekstart: there is no such key; did you mean week_start?"
    assert lines[3].startswith("  line 6, logs.doors.encoding: there is no encoding 'utf-99'")
    assert (
        lines[4]
        == "  line 8, logs.doors.fields.user: give one of column, columns, constant, file_name (column, constant given)"
    )


def test_mappings_without_a_time_are_refused() -> None:
    """A log needs to know when."""
    with pytest.raises(ValueError, match="no field says when it happened"):
        LogMap.model_validate({"fields": {"user": "Who"}})


def test_unknown_names_everywhere(make: Maker) -> None:
    """Unknown log, file and record are named with what exists."""
    workspace = make(plain(), x=doors("2026-03-01 10:00,Ann,A"))
    with pytest.raises(UnknownName, match=r"there is no log 'door'; did you mean 'doors'\?"):
        workspace.archive.import_log("door")
    with pytest.raises(RequestError, match=r"there is no such file"):
        workspace.archive.import_log("doors", ["nothing.csv"])
    assert not (workspace.path / "archive").exists()


def test_an_archive_that_unpacks_without_end_is_refused(make: Maker, monkeypatch: pytest.MonkeyPatch) -> None:
    """A small file that becomes a huge one is left alone, and said."""
    monkeypatch.setattr(opening, "UNPACKED", 1_000_000)
    workspace = make(plain().replace("*.csv", "*.zip"))
    with zipfile.ZipFile(workspace.path / "x.zip", "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("a.csv", "When,Who,Door\n" + "\n" * 9_000_000)
    with pytest.raises(FermataError, match=r"x.zip/a.csv: unpacks to more than 300 times its size"):
        workspace.archive.import_log("doors")


@pytest.mark.parametrize(
    ("form", "meant"),
    [
        ("dd/MM/yyyy HH:mm", "%d/%m/%Y %H:%M"), ("YYYY-MM-DD HH:MM:SS", "%Y-%m-%d %H:%M:%S"),
        ("yyyy-mm-dd hh24:mi:ss", "%Y-%m-%d %H:%M:%S"), ("M/d/yy h:mm a", "%m/%d/%y %I:%M %p"),
        ("d MMM yyyy HH:mm", "%d %b %Y %H:%M"), ("yyyy-MM-dd'T'HH:mm:ss.SSS", "%Y-%m-%dT%H:%M:%S.%f"),
        ("ISO8601", "iso"), ("unix", "epoch s"), ("HH:mm", ""), ("nonsense", ""),
    ],
)  # fmt: skip
def test_a_form_in_letters_is_answered_with_how_it_is_written(form: str, meant: str) -> None:
    """As other programs write it; what says no date is answered with what there is."""
    said = f"did you mean '{meant}'" if meant else "give iso, epoch s"
    with pytest.raises(ValueError, match=re.escape(f"no time form {form!r}; {said}")):
        check_forms("start", FieldMap(column="t", form=(form,)))
