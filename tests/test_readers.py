"""Readers: what each format's records become, and that a spoiled file ends in Fermata's own error with nothing
stored.
"""

from __future__ import annotations

import bz2
import datetime as dt
import gzip
import importlib.metadata
import io
import json
import os
import struct
import subprocess
import sys
import tempfile
import types
import warnings
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import fermata
from fermata.api.workspace import Workspace
from fermata.errors import ConfigError, FermataError, SourceError, UnknownName
from fermata.intake.readers import BUILT_IN, jsonarray
from fermata.intake.readers import json as json_reader
from fermata.intake.readers.xlsx import holds_errors, table
from tests.conftest import Maker, examples, sample, some

CONFIG = """
[workspace]
zone = "Europe/Lisbon"
[logs.log]
files = "in.*"
{settings}
[logs.log.fields]
{fields}
"""


def workspace(make: Maker, settings: str, fields: str, content: str | bytes, name: str = "in.log") -> Workspace:
    """A workspace whose one log has one file."""
    made = make(CONFIG.format(settings=settings, fields=fields))
    (made.path / name).write_bytes(content.encode() if isinstance(content, str) else content)
    return made


def stored(made: Workspace, *fields: str) -> list[tuple[Any, ...]]:
    """Imports and lists: (start as text, then the fields), in the order of the records."""
    for outcome in made.archive.import_log("log"):
        assert outcome.file is None or outcome.file.adds_up
    return listed(made, *fields)


def listed(made: Workspace, *fields: str) -> list[tuple[Any, ...]]:
    """The events stored: (start as text, then the fields), in the order of the records."""
    table = made.listing(fermata.Report(log="log"))
    at = {c[0]: i for i, c in enumerate(table.columns)}
    rows = sorted(table.rows, key=lambda r: [int(p) for p in r[at["record"]].split(":")])
    return [(f"{r[at['start']]:%m-%d %H:%M:%S}", *(r[at[f]] for f in fields)) for r in rows]


def reasons(made: Workspace) -> list[tuple[int, str]]:
    """(record number, reason) of every reject."""
    return [(r["record_no"], r["reason"]) for r in made.archive.rejects("log")]


def test_json_lines_by_path_with_flat_keys_and_pointers(make: Maker) -> None:
    """A key written just so comes before a way through objects; what is no object is refused with its number."""
    lines = [
        {"t": "2026-03-01T10:00:00+01:00", "user": {"name": "mira"}, "n": "12", "tags": ["a", "b"], "a.b": "flat"},
        {"t": "2026-03-01T10:00:01Z", "user": {"name": None}, "n": 3, "a": {"b": "deep"}},
    ]
    text = "\n".join([json.dumps(lines[0]), "", json.dumps(lines[1]), "[1]", '{"t": "2026', ""])
    fields = (
        'start = "t"\nuser = "user.name"\npages = { column = "n", type = "number" }\nother = "a.b"\ndevice = '
        '"/user/name"'
    )
    fields += '\nlabels = { column = "tags", type = "tags" }'
    made = workspace(make, 'format = "json lines"', fields, text)
    assert stored(made, "user", "pages", "other", "device", "labels") == [
        ("03-01 09:00:00", "mira", 12, "flat", "mira", ["a", "b"]),
        ("03-01 10:00:01", None, 3, "deep", None, None),
    ]
    assert reasons(made) == [(4, "is no JSON object"), (5, "is no JSON object")]
    assert made.archive.source_record("log", "1:3")["user"] == '{"name": null}'


@pytest.mark.parametrize(
    ("document", "settings"),
    [
        ([{"t": "2026-03-01T10:00", "who": "a"}, {"t": "2026-03-01T11:00", "who": "b"}], ""),
        ({"data": {"items": [{"t": "2026-03-01T10:00", "who": "a"}, {"t": "2026-03-01T11:00", "who": "b"}]}},
         'records = "data.items"'),
    ],
)  # fmt: skip
def test_json_documents(make: Maker, document: Any, settings: str) -> None:
    """An array at the top or at a path; pretty-printed or not makes no difference."""
    made = workspace(
        make, f'format = "json"\n{settings}', 'start = "t"\nuser = "who"', json.dumps(document, indent=3), "in.json"
    )
    assert stored(made, "user") == [("03-01 10:00:00", "a"), ("03-01 11:00:00", "b")]


VALUES = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**70), 2**70), st.floats(allow_nan=False, allow_infinity=False),
    st.text(max_size=8), st.lists(st.text(max_size=3), max_size=3), st.dictionaries(st.text(max_size=3), st.integers(0, 9), max_size=2),
)  # fmt: skip
RECORD = st.one_of(
    st.fixed_dictionaries({"t": st.just("2026-03-01T10:00")}, optional={"a": VALUES, "a.b": VALUES, "n": st.fixed_dictionaries({"x": VALUES})}),
    VALUES,
    st.fixed_dictionaries({"t": st.just("2026-03-01T10:00"), "n": st.just([{"t": "1"}, {"t": "2"}])}),
)  # fmt: skip


@examples(25)
@given(records=st.lists(RECORD, min_size=1, max_size=6))
def test_a_document_in_pieces_is_the_one_read_as_a_stream(records: list[Any]) -> None:
    """The same events, refusals and whole records, whatever the values are."""
    fields = 'start = "t"\naction = "a"\nuser = "a.b"\ndevice = "n.x"\nplace = "/n/x"\noutcome = "n.y[0]"'
    found = []
    ways: list[dict[Any, dict[str, Any]]] = [
        {},
        {jsonarray: {"PIECE": 20}, json_reader: {"WHOLE": 0}},  # cut within nearly every record
        {jsonarray: {"TRIES": 0}},  # as a stream
    ]
    for way in ways:
        with tempfile.TemporaryDirectory() as made_in, pytest.MonkeyPatch.context() as patch:
            (Path(made_in) / "fermata.toml").write_text(CONFIG.format(settings='format = "json"', fields=fields))
            (Path(made_in) / "in.json").write_text(json.dumps(records))
            made = fermata.open(made_in)
            for module, values in way.items():
                for name, value in values.items():
                    patch.setattr(module, name, value)
            try:
                events = stored(made, "action", "user", "device", "place", "outcome")
                refused = made.archive.rejects("log")
                whole_ones = [made.archive.source_record("log", f"1:{n}") for n in range(1, len(records) + 1)]
                found.append((events, [(r["record_no"], r["reason"], r["whole"]) for r in refused], whole_ones))
            except FermataError as e:
                found.append(str(e))
    assert found[0] == found[1] == found[2]


def test_json_object_with_repeated_keys_loses_none(make: Maker) -> None:
    """One object whose keys repeat holds a record per key, the key among its columns."""
    text = (
        '{"event": {"t": "2026-03-01T10:00"}, "event": {"t": "2026-03-01T11:00"}, "audit": {"t": "2026-03-01T12:00"}}'
    )
    made = workspace(make, 'format = "json"', 'start = "t"\naction = "key"', text)
    assert stored(made, "action") == [
        ("03-01 10:00:00", "event"),
        ("03-01 11:00:00", "event"),
        ("03-01 12:00:00", "audit"),
    ]


def test_regular_expression_lines(make: Maker) -> None:
    """Named groups are columns; a line that does not match is refused, or skipped where the log says so."""
    text = "2026-03-01 10:00 mira opened A\nnoise\n\n2026-03-01 10:05 jon closed B\n"
    rule = r"""format = "regex"
pattern = '^(?P<when>\S+ \S+) (?P<who>\w+) (opened|closed) (?P<door>\w+)$'"""
    fields = 'start = "when"\nuser = "who"\ndevice = "door"\naction = "3"'
    made = workspace(make, rule, fields, text)
    assert stored(made, "user", "action", "device") == [
        ("03-01 10:00:00", "mira", "opened", "A"),
        ("03-01 10:05:00", "jon", "closed", "B"),
    ]
    assert reasons(made) == [(2, "is no line of the declared pattern")]
    assert made.archive.source_record("log", "1:4")["line"].endswith("closed B")
    skipping = workspace(make, rule + '\nunmatched = "skip"', fields, text)
    (outcome,) = skipping.archive.import_log("log", [skipping.path / "in.log"])
    assert outcome.file
    assert outcome.file.skipped == {"blank": 1, "outside the pattern": 1}


SYSLOG = "\n".join(
    [
        "Dec 31 23:59:58 stage-1 sshd[41]: Accepted password for mira from 192.0.2.9 port 22 ssh2",
        "Jan  1 00:00:03 stage-1 sshd[42]: Failed password for invalid user x y from 192.0.2.9 port 22 ssh2",
        "<34>Dec 31 23:59:59 stage-1 late: a late line of the old year",
        '<165>1 2026-01-02T10:00:00.5+01:00 edit-2 app 77 LOGIN [origin ip="192.0.2.7" x="a\\"]b"][m n="1"]  two '
        "blanks before",
        "<165>1 2026-01-02T10:00:01Z edit-2 app - - -  nil data",
        "2026-01-03T08:00:00.25+00:00 edit-2 kernel: no brackets",
        "this is no syslog",
    ]
)
SYSLOG_FIELDS = """start = { column = "time" }
user = { column = "message", part = 'password for (?:invalid user )?(.+) from' }
device = "host"
action = { column = "message", patterns = { "^Accepted" = "login", "^Failed" = "failed", "." = "other" } }
other = "data.origin.ip"
told = "data.origin.x"
"""


def test_syslog_of_every_make_and_the_year_it_leaves_out(make: Maker) -> None:
    """Both RFCs and the RFC 3339 form mix; the year is inferred over New Year, late lines included, and stated."""
    made = workspace(make, 'format = "syslog"', SYSLOG_FIELDS, SYSLOG)
    at = datetime(2026, 1, 4, tzinfo=UTC).timestamp()
    os.utime(made.path / "in.log", (at, at))
    assert [r[0] for r in stored(made)] == [
        "12-31 23:59:58", "01-01 00:00:03", "12-31 23:59:59", "01-02 09:00:00", "01-02 10:00:01", "01-03 08:00:00",
    ]  # fmt: skip
    assert made.base.place().extent("log")[0].year == 2025  # type: ignore[index]
    rows = listed(made, "user", "action", "other", "told")
    assert rows[0][1:] == ("mira", "login", None, None)
    assert rows[1][1:3] == ("x y", "failed")
    assert rows[3][3:] == ("192.0.2.7", 'a"]b')
    assert reasons(made) == [(7, "is no syslog line (RFC 5424 or RFC 3164)")]
    file = made.base.archive.snapshot().manifest.log("log").files[1]
    assert file.inferred == "year 2025 and 2026 inferred from when the file was last written"
    assert made.archive.source_record("log", "1:5")["message"] == "nil data"


def test_syslog_year_declared(make: Maker) -> None:
    """`year` is that of the first line, whatever the file's time says."""
    made = workspace(make, 'format = "syslog"\nyear = 2019', SYSLOG_FIELDS, SYSLOG)
    made.archive.import_log("log")
    assert made.base.place().extent("log")[0].year == 2019  # type: ignore[index]


WEB = r"""192.0.2.7 - mira [28/Mar/2026:13:37:01 +0100] "GET /a?b=1 HTTP/1.1" 200 5120 "-" "Reader \"X\" \x22Y\x22"
192.0.2.8 - - [28/Mar/2026:13:37:02 +0100] "-" 408 -
192.0.2.9 - j k [28/Mar/2026:13:37:03 +0100] "\x16\x03\x01" 400 226 "-" "-"
broken
"""


def test_web_access_with_escaped_quotes_garbage_and_no_size(make: Maker) -> None:
    """Both forms mix; `-` is empty, a request may be anything, escaped quotes are undone."""
    fields = """start = { column = "time", form = "%d/%b/%Y:%H:%M:%S %z" }
user = "user"
action = "method"
other = "path"
outcome = "status"
size = { column = "bytes", type = "number" }
agent = "agent"
request = "request" """
    made = workspace(make, 'format = "web access"', fields, WEB)
    assert stored(made, "user", "action", "other", "outcome", "size", "agent", "request") == [
        ("03-28 12:37:01", "mira", "GET", "/a?b=1", "200", 5120, 'Reader "X" "Y"', "GET /a?b=1 HTTP/1.1"),
        ("03-28 12:37:02", None, None, None, "408", None, None, None),
        ("03-28 12:37:03", "j k", None, None, "400", 226, None, r"\x16\x03\x01"),
    ]
    assert reasons(made) == [(4, "is no access log line")]


def test_w3c_whose_fields_change_inside_the_file(make: Maker) -> None:
    """Columns go by the last directive; quoted values hold blanks; a record of another width is refused."""
    text = """#Version: 1.0
#Date: 2026-03-01 00:00:00
#Fields: time c-ip cs-user x-comment
10:00:01 192.0.2.1 mira "says ""hi"" twice"
#Date: 2026-03-02
#Fields: date cs-user time
2026-03-02 jon 11:00:00
2026-03-02 - 11:00:01
2026-03-02 too many 11:00:01
"""
    fields = 'start = { columns = ["date", "time"] }\nuser = "cs-user"\ndevice = "c-ip"\nother = "x-comment"'
    made = workspace(make, 'format = "w3c"\nzone = "UTC"', fields, text)
    assert stored(made, "user", "device", "other") == [
        ("03-01 10:00:01", "mira", "192.0.2.1", 'says "hi" twice'),
        ("03-02 11:00:00", "jon", None, None),
        ("03-02 11:00:01", None, None, None),
    ]
    assert reasons(made) == [(9, "has 4 values, not 3 as #Fields: says")]


PAGE_LOG = """office-1 mira 12 [28/Mar/2026:13:37:01 +0000] 3 2 - localhost Programme [draft] total 99 - localhost x A4 one-sided
office-1 ann "b" c 13 [28/Mar/2026:13:38:01 +0000] total 4 ??? localhost notes; final - two-sided-long-edge
cut short
"""


def test_page_log_anchored_on_its_date(make: Maker) -> None:
    """Users and titles hold blanks, quotes and text like the log's own fields; `-` and `???` are empty."""
    fields = """start = { column = "time", form = "%d/%b/%Y:%H:%M:%S %z" }
user = "user"
device = "printer"
title = "job-name"
pages = "page"
copies = { column = "copies", type = "number" }
billing = "job-billing"
paper = "media" """
    made = workspace(make, 'format = "page log"', fields, PAGE_LOG)
    assert stored(made, "user", "title", "pages", "copies", "billing", "paper") == [
        ("03-28 13:37:01", "mira", "Programme [draft] total 99 - localhost x", "3", 2, None, "A4"),
        ("03-28 13:38:01", 'ann "b" c', "notes; final", "total", 4, None, None),
    ]
    assert [n for n, _ in reasons(made)] == [3]


def test_page_log_in_its_own_layout(make: Maker) -> None:
    """A custom format string is read by the same codes; an unknown code is an error that lists them."""
    fields = 'start = { column = "time", form = "%d/%b/%Y:%H:%M:%S %z" }\nuser = "user"\ntitle = "job-name"'
    line = "12|mira|[28/Mar/2026:13:37:01 +0000]|a|b|100%\n"
    made = workspace(
        make, "format = 'page log'\nlayout = '%j|%u|%T|%{job-name}|%C%%'", fields, line.replace("100", "1")
    )
    assert stored(made, "user", "title") == [("03-28 13:37:01", "mira", "a|b")]
    spoiled = workspace(make, "format = 'page log'\nlayout = '%j %x'", fields, line)
    with pytest.raises(SourceError, match="%x is no code of a page log; there are %p, %u"):
        spoiled.archive.import_log("log")


def xlsx(*rows: list[Any], more: list[list[Any]] | None = None) -> bytes:
    import openpyxl

    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(row)
    if more:
        second = book.create_sheet("Second")
        for row in more:
            second.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def test_a_sheet_that_is_named_and_not_there_is_said(make: Maker) -> None:
    """As of a workbook that lost a part of itself."""
    whole, out = zipfile.ZipFile(io.BytesIO(xlsx(["When"], [datetime(2026, 3, 1)]))), io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        for part in whole.namelist():
            if "worksheets" not in part:
                packed.writestr(part, whole.read(part))
    made = workspace(make, 'format = "xlsx"', 'start = "When"', out.getvalue(), "in.xlsx")
    with pytest.raises(SourceError, match=r"in\.xlsx: (the sheet cannot be read|cannot be read as a workbook)"):
        made.archive.import_log("log")


def test_spreadsheet_cells_keep_what_they_hold(make: Maker) -> None:
    """Real dates, whole numbers, money and blanks; another sheet by name; rows above the header."""
    at = datetime(2026, 3, 1, 10, 0, 5)
    data = xlsx(
        ["Banner"], ["When", "Who", "Amount"], [at, 1234, 2.5], [None, None, None], [at, "jon", "x"], [at, None, 3]
    )
    fields = 'start = "When"\nuser = "Who"\namount = { column = "Amount", type = "money", unit = "EUR" }'
    made = workspace(make, 'format = "xlsx"\nskip_lines = 1', fields, data, "in.xlsx")
    assert stored(made, "user", "amount") == [("03-01 10:00:05", "1234", 250), ("03-01 10:00:05", None, 300)]
    assert reasons(made) == [(2, "the time is empty"), (3, "amount: 'x' is not a number with at most 2 decimals")]
    assert made.archive.source_record("log", "1:1") == {
        "file": "in.xlsx",
        "record": "1",
        "When": "2026-03-01 10:00:05",
        "Who": "1234",
        "Amount": "2.5",
    }
    other = workspace(
        make, 'format = "xlsx"\nsheet = "Second"', fields, xlsx(["x"], more=[["When", None, "Amount"]]), "in.xlsx"
    )
    with pytest.raises(
        SourceError, match=r"row 1 of sheet 'Second' is no header: column 2 has no name \(merged cells\?\)"
    ):
        other.archive.import_log("log")


@pytest.mark.parametrize("error", [False, True])
def test_a_sheet_is_read_the_same_with_cells_of_any_kind(error: bool) -> None:
    """Midnight stays a moment, lengths, clocks, flags, empty columns; an error such as #N/A is no empty cell."""
    at, day = datetime(2026, 3, 1, 10, 0, 5), datetime(2026, 3, 2)
    rows = [
        [None, "a", "b", "c", "d"],
        [],
        [None, at, timedelta(hours=30), True, 7.0],
        [None, day, dt.time(9, 5), "x", 0.5],
    ]
    if error:
        rows.append([None, None, "#N/A"])
    data = io.BytesIO(xlsx(*rows))
    with zipfile.ZipFile(data, "a") as packed, warnings.catch_warnings():
        sheet = packed.read("xl/worksheets/sheet1.xml").replace(
            b't="inlineStr"><is><t>#N/A</t></is>', b't="e"><v>#N/A</v>'
        )
        warnings.simplefilter("ignore")
        packed.writestr("xl/worksheets/sheet1.xml", sheet)
    with tempfile.NamedTemporaryFile() as f:
        f.write(data.getvalue())
        f.flush()
        names, found = table(f.name, "in", None, 0, False)
        told = [[*row, *[None] * (5 - len(row))] for row in found]
    assert names == ["1", "2", "3", "4", "5"]
    assert told[2:4] == [
        [None, "2026-03-01 10:00:05", "30:00:00", "true", "7"],
        [None, "2026-03-02 00:00:00", "09:05:00", "x", "0.5"],
    ]
    assert told[4:] == ([[None, None, "#N/A", None, None]] if error else [])


def test_pairs_in_a_line_and_in_a_column(make: Maker) -> None:
    """Values with and without quotes, any of the usual separators; a line without pairs is refused, a name that no
    line has is named.
    """
    text = 'time=2026-03-28T09:12:00 user=mira,note="a; b \\"c\\""\ntime=2026-03-28T09:13:00;user=jo;x=1\nnothing\n'
    made = workspace(make, 'format = "key=value"', 'start = "time"\nuser = "user"\nnote = "note"', text)
    assert stored(made, "user", "note") == [("03-28 09:12:00", "mira", 'a; b "c"'), ("03-28 09:13:00", "jo", None)]
    assert reasons(made) == [(3, "holds no pair such as name=value")]
    wrong = workspace(make, 'format = "key=value"', 'start = "time"\nuser = "usr"', text)
    with pytest.raises(UnknownName, match=r"there is no pair 'usr' in in\.log; did you mean 'user'"):
        wrong.archive.import_log("log")


def test_pairs_within_a_column(make: Maker) -> None:
    """A field may be one value of a column that holds pairs."""
    field = 'start = "t"\nuser = { column = "m", pair = "user" }'
    made = workspace(make, 'format = "delimited"', field, "t,m\n2026-03-28 09:00,(user=a b)\n2026-03-28 09:01,x=1\n")
    assert stored(made, "user") == [("03-28 09:00:00", "a"), ("03-28 09:01:00", None)]


def test_columns_of_fixed_width(make: Maker) -> None:
    """Each column by its place; a header is passed over, what lacks its end is empty."""
    text = "Name  When              N\nÅsa   2026-03-28 09:12  7\n\njo    2026-03-28 09:13\n"
    positions = 'format = "fixed width"\npositions = { Name = "1-5", When = "7-22", N = "25-" }'
    fields = 'start = "When"\nuser = "Name"\nn = { column = "N", type = "number" }'
    made = workspace(make, positions, fields, text)
    assert stored(made, "user", "n") == [("03-28 09:12:00", "Åsa", 7), ("03-28 09:13:00", "jo", None)]
    with pytest.raises(ConfigError, match="positions: N = '25-9' is no place in a line"):
        workspace(make, positions.replace("25-", "25-9"), fields, text)


def test_records_of_several_lines(make: Maker) -> None:
    """A line that begins one ends the one before; what stands above the first is skipped, what fits no pattern refused."""
    text = "Report\n--- 2026-03-28 09:12\nUser: mira\n\nDoor: North\n--- 2026-03-28 09:13\nnone\n"
    settings = "format = 'regex'\nbegins = '^--- '\npattern = '(?s)^--- (?P<when>[^\\n]+)\\n.*?User: (?P<who>[^\\n]+)'"
    made = workspace(make, settings, 'start = "when"\nuser = "who"', text)
    assert stored(made, "user") == [("03-28 09:12:00", "mira")]
    assert reasons(made) == [(3, "is no line of the declared pattern")]


def test_a_date_above_or_in_the_name_and_clocks_past_midnight(make: Maker) -> None:
    """A clock that steps back by half a day begins the next day; a late line does not; a new heading begins anew."""
    text = "== 28/03/2026 ==\n22:10 a\n23:50 b\n00:20 c\n00:10 d\n== 29/03/2026 ==\n08:00 e\n23:59 f\n00:01 g\n"
    settings = (
        "format = 'regex'\nheading = '^== (?P<date>\\S+) ==$'\npattern = '^(?P<clock>\\d\\d:\\d\\d) (?P<who>\\w)$'"
    )
    start = 'start = { columns = ["date", "clock"], form = "%d/%m/%Y %H:%M", past_midnight = true }'
    made = workspace(make, settings, f'{start}\nuser = "who"', text)
    assert stored(made, "user") == [
        ("03-28 22:10:00", "a"), ("03-28 23:50:00", "b"), ("03-29 00:20:00", "c"), ("03-29 00:10:00", "d"),
        ("03-29 07:00:00", "e"), ("03-29 22:59:00", "f"), ("03-29 23:01:00", "g"),
    ]  # fmt: skip


def test_a_date_in_the_name_of_the_file(make: Maker) -> None:
    """It stands in front of the clock on each line."""
    named = """start = { file_name = '(\\d{4}-\\d\\d-\\d\\d)', column = "t", past_midnight = true }\nuser = "who" """
    night = workspace(make, 'format = "delimited"', named, "t,who\n22:00,a\n01:00,b\n", "in.night-2026-03-27.csv")
    assert stored(night, "user") == [("03-27 22:00:00", "a"), ("03-28 01:00:00", "b")]


def test_an_error_on_the_edge_of_two_pieces_is_found(tmp_path: Path) -> None:
    """The tag of a cell may be cut anywhere where a large sheet is looked through piece by piece."""
    cell = b'<c r="AAA1048576" s="1234" t="e">'
    for cut in range(1, len(cell)):
        path = tmp_path / f"{cut}.xlsx"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
            packed.writestr("xl/worksheets/sheet1.xml", b" " * ((1 << 20) - cut) + cell)
        assert holds_errors(path)


def test_calendar_recurrences_zones_and_whole_days(make: Maker) -> None:
    """Occurrences with exceptions and moves; over the clock change an entry lasts what it lasts; UNTIL may be UTC."""
    made = workspace(
        make,
        'format = "icalendar"',
        'start = "start"\nfinish = "finish"\ntitle = "summary"',
        sample("readers/plan.ics").replace("\n", "\r\n"),
        "in.ics",
    )
    rows = stored(made, "finish", "title")
    long = "Rehearsal, strings; winds and a very long title that has to be folded"
    assert [(r[0], f"{r[1]:%m-%d %H:%M}", r[2]) for r in rows] == [
        ("03-23 01:30:00", "03-23 02:00", "Rehearsal moved"),
        ("03-29 01:30:00", "03-29 02:30", long),
        ("03-31 23:00:00", "04-01 23:00", "House closed"),
    ]


def test_a_calendar_entry_that_ends_before_it_begins_is_refused(make: Maker) -> None:
    """Events that happen once are read as they stand; a length in hours is of clock time that does not change."""
    entry = "BEGIN:VEVENT\r\nUID:{}\r\nSUMMARY:{}\r\nDTSTART;TZID=Europe/Lisbon:{}\r\n{}\r\nEND:VEVENT\r\n"
    text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n" + entry.format(1, "turned", "20260301T100000", "DTEND:20260301T080000Z")
    text += entry.format(2, "night", "20260329T003000", "DURATION:PT2H") + "END:VCALENDAR\r\n"
    mapping = 'start = "start"\nfinish = "finish"\ntitle = "summary"'
    made = workspace(make, 'format = "icalendar"', mapping, text, "in.ics")
    rows = stored(made, "finish", "title")
    assert [(r[0], f"{r[1]:%H:%M}", r[2]) for r in rows] == [("03-29 00:30:00", "02:30", "night")]
    assert "is before start" in reasons(made)[0][1]


def test_event_streams(make: Maker) -> None:
    """XES events with the attributes of their case, defaults and nested ones; entity bombs are refused."""
    text = """<?xml version="1.0"?><log xmlns="http://www.xes-standard.org/">
<global scope="event"><string key="org:resource" value="nobody"/></global>
<trace><string key="concept:name" value="case 1"/>
<event><string key="concept:name" value="opened"/><date key="time:timestamp" value="2026-03-01T10:00:00+01:00"/>
<string key="org:resource" value="mira"><string key="role" value="clerk"/></string></event>
<event><string key="concept:name" value="closed"/><date key="time:timestamp" value="2026-03-01T11:00:00Z"/></event>
</trace></log>"""
    fields = (
        'start = "time:timestamp"\naction = "concept:name"\nuser = "org:resource"\nother = '
        '"case:concept:name"\nrole = "org:resource/role"'
    )
    made = workspace(make, 'format = "xes"', fields, text)
    assert stored(made, "user", "action", "other", "role") == [
        ("03-01 09:00:00", "mira", "opened", "case 1", "clerk"),
        ("03-01 11:00:00", "nobody", "closed", "case 1", None),
    ]
    bomb = workspace(make, 'format = "xes"', fields, '<!DOCTYPE x [<!ENTITY a "b">]><log><trace/></log>')
    with pytest.raises(SourceError, match="is no XES"):
        bomb.archive.import_log("log", [bomb.path / "in.log"])


def utmp(kind: int, user: bytes, line: bytes, sec: int, host: bytes = b"", address: bytes = b"") -> bytes:
    return struct.pack("<hxxi32s4s32s256shhiii16s20x", kind, 77, line, b"1", user, host, 0, 0, 5, sec, 250_000, address)


def test_login_records(make: Maker) -> None:
    """Names of 32 bytes have no terminator; a login without user is a logout; addresses of both families."""
    name = b"a-name-of-exactly-thirty-two-byt"
    data = b"".join(
        [
            utmp(2, b"reboot", b"~", 1_772_000_000),
            utmp(7, name, b"pts/0", 1_772_000_100, b"192.0.2.9", bytes([192, 0, 2, 9])),
            utmp(7, b"", b"pts/0", 1_772_000_200),
            utmp(8, b"", b"pts/1", 1_772_000_300),
            utmp(1, b"shutdown", b"~", 1_772_000_400),
        ]
    )
    fields = (
        'start = { column = "time", form = "epoch s" }\nuser = "user"\naction = "event"\ndevice = "line"\nother '
        '= "address"'
    )
    made = workspace(make, 'format = "login records"', fields, data, "in.wtmp")
    rows = stored(made, "user", "action", "device", "other")
    assert [r[1:] for r in rows] == [
        ("reboot", "boot", "~", None),
        (name.decode(), "login", "pts/0", "192.0.2.9"),
        (None, "logout", "pts/0", None),
        (None, "logout", "pts/1", None),
        ("shutdown", "shutdown", "~", None),
    ]
    assert rows[1][0] == f"{datetime.fromtimestamp(1_772_000_100, UTC):%m-%d %H:%M:%S}"
    cut = workspace(make, 'format = "login records"', fields, data[:-7], "in.wtmp")
    with pytest.raises(SourceError, match=r"1,913 bytes are no whole number of login records \(384 bytes each\)"):
        cut.archive.import_log("log")


DETAIL_FIELDS = """start = { column = "time", form = "%a %b %d %H:%M:%S %Y" }
user = "User-Name"
action = { column = "Acct-Status-Type", values = { Start = "start", Stop = "stop" } }
session = "Acct-Session-Id"
sent = { column = "Output-Octets", type = "number", unit = "bytes" }
"""


def test_accounting_detail(make: Maker) -> None:
    """Blocks of attributes, counters with their wraps, quotes undone; an attribute nobody sends is an error."""
    made = workspace(make, 'format = "radius detail"', DETAIL_FIELDS, sample("readers/detail"), "in.detail")
    assert stored(made, "user", "action", "session", "sent") == [
        ("10-31 08:58:06", 'Mira "M" Vale', "stop", "A1", 2 * 2**32 + 5),
        ("10-31 09:58:06", "mira", "start", "A2", 7),
        ("10-31 09:59:00", 'Mira "M" Vale', "stop", "A1", 2 * 2**32 + 6),
    ]
    wrong = workspace(
        make,
        'format = "radius detail"',
        DETAIL_FIELDS + 'other = "Acct-Sesion-Id"',
        sample("readers/detail"),
        "in.detail",
    )
    with pytest.raises(
        UnknownName, match=r"there is no attribute 'Acct-Sesion-Id' in in\.detail; did you mean 'Acct-Session-Id'"
    ):
        wrong.archive.import_log("log")


def test_parquet_columns_of_every_type(make: Maker) -> None:
    """Typed columns arrive as what they are; a column that is not there is named."""
    import pyarrow as pa
    from pyarrow import parquet

    made = workspace(
        make,
        'format = "parquet"',
        'start = "t"\nuser = "u"\nok = { column = "ok", type = "flag" }\nlabels = { column = "l", type = "tags" }',
        b"",
        "in.parquet",
    )
    at = pa.array([datetime(2026, 3, 1, 10, tzinfo=UTC)], type=pa.timestamp("us", tz="Europe/Paris"))
    parquet.write_table(pa.table({"t": at, "u": ["a"], "ok": [True], "l": [["x", "y"]]}), made.path / "in.parquet")
    assert stored(made, "user", "ok", "labels") == [("03-01 10:00:00", "a", True, ["x", "y"])]


CSV = "When,Who\n2026-03-01 10:00,a\n2026-03-01 11:00,b\n"
CSV_FIELDS = 'start = "When"\nuser = "Who"'


def zipped(**members: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as held:
        for name, text in members.items():
            held.writestr(f"{name}.csv", text)
    return out.getvalue()


def flagged(data: bytes) -> bytes:
    """A zip archive whose member says that it is encrypted."""
    found = bytearray(data)
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        found[data.index(mark) + at] |= 1
    return bytes(found)


def test_packed_files_are_what_they_hold(make: Maker) -> None:
    """gzip and zstd in several frames; the content's hash decides, so packing a known file changes nothing."""
    import zstandard

    half = len(CSV) // 2
    frames = zstandard.compress(CSV[:half].encode()) + zstandard.compress(CSV[half:].encode())
    parts = gzip.compress(CSV[:half].encode()) + gzip.compress(CSV[half:].encode())
    made = workspace(make, "", CSV_FIELDS, frames, "in.csv.zst")
    assert stored(made, "user") == [("03-01 10:00:00", "a"), ("03-01 11:00:00", "b")]
    (made.path / "in.csv.1.gz").write_bytes(parts)
    assert [bool(o.unchanged) for o in made.archive.import_log("log")] == [True, True]
    assert made.archive.source_record("log", "1:2")["Who"] == "b"


def test_members_of_a_zip_archive_are_files_of_their_own(make: Maker) -> None:
    """Each member is imported under the archive's name and its own, in natural order."""
    data = zipped(d10="When,Who\n2026-03-03 10:00,c\n", d9=CSV)
    made = workspace(make, "", CSV_FIELDS, data, "in.zip")
    assert [o.path for o in made.archive.import_log("log")] == ["in.zip/d9.csv", "in.zip/d10.csv"]
    assert made.archive.source_record("log", "2:1") == {
        "file": "in.zip/d10.csv",
        "record": "1",
        "When": "2026-03-03 10:00",
        "Who": "c",
    }


def test_rotated_files_come_oldest_first(make: Maker) -> None:
    """The highest number of a rotated log is the oldest; numbers in names count as numbers."""
    made = workspace(make, "", CSV_FIELDS, "", "in.csv")
    for name in ("in.csv.10.gz", "in.csv.2", "in.csv.1"):
        (made.path / name).write_bytes(b"")
    assert [p.name for p in made.archive.files("log")] == ["in.csv.10.gz", "in.csv.2", "in.csv.1", "in.csv"]


def test_time_forms_of_real_logs(make: Maker) -> None:
    """HHMM numbers, Julian days, epoch inside key=value text, and abbreviations of zones only where declared."""
    text = (
        "d,c,j,e,z\n2026-03-01,517,2461100.75,a=1;t=1772358000;b=2,Mar 01 2026 05:00:00 "
        "EDT\n2026-03-01,2400,,,Mar 01 2026 05:00:00 IST\n"
    )
    fields = """start = { columns = ["d", "c"], form = "%Y-%m-%d hhmm" }
julian = { column = "j", type = "time", form = "julian day" }
epoch = { column = "e", type = "time", form = "epoch s", part = 't=(\\d+)' }
zoned = { column = "z", type = "time", form = "%b %d %Y %H:%M:%S %Z" }"""
    with pytest.raises(ConfigError, match="abbreviations of zones are ambiguous"):
        make(CONFIG.format(settings="", fields=fields))
    made = workspace(make, 'zones = { EDT = "-04:00" }', fields.replace("zoned", "zoned"), text, "in.csv")
    made.archive.import_log("log")
    table = made.listing(fermata.Report(log="log"))
    at = {c[0]: i for i, c in enumerate(table.columns)}
    first = table.rows[0]
    assert f"{first[at['start']]:%d %H:%M}" == "01 05:17"
    assert f"{first[at['julian']]:%Y-%m-%d %H:%M}" == "2026-03-01 06:00"
    assert first[at["epoch"]].timestamp() == 1_772_358_000
    assert f"{first[at['zoned']]:%H:%M}" == "09:00"
    assert len(table.rows) == 1
    assert "EDT" not in reasons(made)[0][1]


def test_identities_in_declared_spellings(make: Maker) -> None:
    """MAC addresses, domains and phone numbers become one spelling; what was written stays beside it."""
    text = (
        "t,u,m,n\n2026-03-01 10:00,HALL\\Mira,AA-BB-CC-00-11-22,00351 21 555 0101\n2026-03-01 "
        "11:00,mira@hall.example,aa:bb:cc:00:11:22,215550101\n2026-03-01 12:00,MIRA,x,117\n"
        "2026-03-01 13:00,Rene\u0301,x,117\n"
    )
    fields = """start = "t"
user = { column = "u", spelling = ["no domain", "composed", "lower"] }
device = { column = "m", spelling = "mac" }
other = { column = "n", spelling = "phone +351" }"""
    made = workspace(make, "", fields, text, "in.csv")
    assert stored(made, "user", "device", "other", "user_written", "other_written") == [
        ("03-01 10:00:00", "mira", "aa:bb:cc:00:11:22", "+351215550101", "HALL\\Mira", "00351 21 555 0101"),
        ("03-01 11:00:00", "mira", "aa:bb:cc:00:11:22", "+351215550101", "mira@hall.example", "215550101"),
        ("03-01 12:00:00", "mira", "x", "117", "MIRA", None),
        ("03-01 13:00:00", "ren\u00e9", "x", "117", "Rene\u0301", None),
    ]


def in_zone(zone: str, name: str) -> bytes:
    """A calendar of one entry with one time in a zone that nobody knows."""
    times = {"DTSTART": "DTSTART:20260301T100000Z", name: f"{name};TZID={zone}:20260301T100000"}
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "BEGIN:VEVENT", "UID:1", *times.values(), "RRULE:FREQ=DAILY;COUNT=3",
             "END:VEVENT", "END:VCALENDAR", ""]  # fmt: skip
    return "\r\n".join(lines).encode()


SPOILED = [
    ("", gzip.compress(CSV.encode() * 900)[:-20], "in.csv.gz", "the packed file is damaged or cut off"),
    ("", b"\x28\xb5\x2f\xfd" + b"\x00" * 40, "in.csv.zst", "packed file is damaged"),
    ("", zipped(a=CSV)[:-30], "in.zip", "is no whole zip archive"),
    ("", zipped(ü=CSV).replace("ü".encode(), b"\x90\x90"), "in.zip", "is no whole zip archive"),
    ("", flagged(zipped(a=CSV)), "in.zip", "packed file is damaged or cut off .*encrypted"),
    ("", "When,Who\n2026-03-01 10:00,a\n".encode("utf-16"), "in.csv", "utf-16"),
    ('encoding = "utf-16"', CSV.encode() + b"x", "in.csv", "is not utf-16 text"),
    ('format = "xlsx"', b"PK\x03\x04" + b"junk" * 99, "in.xlsx", "cannot be read as a workbook"),
    ('format = "json"', b'[{"When": "2026-', "in.json", "is not JSON"),
    ('format = "parquet"', b"PAR1" + b"x" * 99 + b"PAR1", "in.parquet", "is no Parquet file"),
    ('format = "icalendar"', b"\x00\x01\x02", "in.ics", "is no calendar"),
    *(
        ('format = "icalendar"', in_zone(*z), "in.ics", f"time zone '{z[0][:80]}' of {z[1]} is not known")
        for z in (("Foo/Bar", "DTSTART"), ("Our own time", "EXDATE"), ("Foo/" + "x" * 90, "RDATE"))
    ),
    *(
        ('format = "icalendar"', in_zone(z, "DTSTART"), "in.ics", "a time zone that it names is none")
        for z in ("Europe", "Europe/" + "x" * 9000)
    ),
    ('format = "xes"', b"<log><trace>", "in.xes", "is no XES"),
    ('format = "w3c"', b"a b c\n", "in.log", "has no #Fields: line"),
    ("", bz2.compress(CSV.encode())[:-9], "in.csv", "damaged or cut off"),
]


@pytest.mark.parametrize(("settings", "content", "name", "message"), SPOILED, ids=[m for *_, m in SPOILED])
def test_a_spoiled_file_changes_nothing(make: Maker, settings: str, content: bytes, name: str, message: str) -> None:
    """Each ends with a clear message that names the file; the archive is as before."""
    made = workspace(make, settings, CSV_FIELDS, content, name)
    with pytest.raises(FermataError, match=message) as e:
        made.archive.import_log("log")
    assert "in." in str(e.value)
    assert made.base.archive.snapshot().manifest.log("log").files == {}
    assert not list((made.path / "archive").rglob("*.parquet"))


@pytest.mark.parametrize("format", some(sorted({*BUILT_IN} - {"delimited"}), 2))
@examples(8)
@given(data=st.one_of(st.binary(max_size=900), st.text(max_size=300).map(lambda t: t.encode("utf-8", "surrogatepass"))))
def test_readers_raise_only_errors_of_their_own(
    format: str, data: bytes, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Whatever the bytes are, a reader stores, rejects, or refuses the file in Fermata's terms."""
    path = tmp_path_factory.mktemp("fuzz")
    extra = {
        "regex": "pattern = '(?P<t>\\S+) (?P<u>\\S+)'",
        "fixed width": 'positions = { t = "1-5", u = "6-" }',
        "sql": 'database = { query = "select 1", address = "sqlite:///x" }',
    }
    columns = {"w3c": ("date", "cs-user"), "syslog": ("time", "app"), "web access": ("time", "user"),
    "page log": ("time", "user"),
               "login records": ("time", "user"), "radius detail": ("time", "time")}.get(format, ("t",
               "u"))  # fmt: skip
    setting = f'format = "{format}"\n{extra.get(format, "")}'
    (path / "fermata.toml").write_text(
        CONFIG.format(settings=setting, fields=f'start = "{columns[0]}"\nuser = "{columns[1]}"')
    )
    (path / "in.log").write_bytes(data)
    made = fermata.open(path)
    try:
        outcomes = made.archive.import_log("log", [path / "in.log"])
    except FermataError:
        assert not Path(path / "archive" / "manifest.json").exists()
    else:
        assert all(o.file is None or o.file.adds_up for o in outcomes)


def test_one_line_of_forty_megabytes_is_refused_alone(make: Maker) -> None:
    """It is rejected with its number, the others are stored; nothing of it is held in an error text."""
    long = b"x" * 40_000_000
    made = workspace(
        make,
        'format = "json lines"',
        'start = "t"',
        b'{"t": "2026-03-01"}\n{"t": "' + long + b'"}\n{"t": "2026-03-02"}\n',
    )
    assert [r[0][:5] for r in stored(made)] == ["03-01", "03-02"]
    ((number, reason),) = reasons(made)
    assert (number, reason) == (2, "is longer than 16 MB")


def test_one_record_over_many_lines_is_read_at_once(make: Maker) -> None:
    """A text in quotes of a third of a million lines takes no longer than its length, and is one record."""
    text = CSV + '2026-03-01 12:00,"' + "abc\n" * 333_333 + '"\n2026-03-01 13:00,d\n'
    made = workspace(make, "", CSV_FIELDS, text, "in.csv")
    assert [len(r[1]) for r in stored(made, "user")][-2:] == [4 * 333_333, 1]


def test_columns_that_change_in_the_middle(make: Maker) -> None:
    """Records of another width are refused one by one, with the header's own kept."""
    text = CSV + "2026-03-01 12:00,c,extra\n2026-03-01 13:00\n2026-03-01 14:00,d\n"
    made = workspace(make, "", CSV_FIELDS, text, "in.csv")
    assert [r[1] for r in stored(made, "user")] == ["a", "b", "d"]
    assert reasons(made) == [(3, "has more columns than the header"), (4, "has fewer columns than the header")]


@pytest.mark.deep
def test_a_full_disk_leaves_the_archive_as_it_was(make: Maker) -> None:
    """What cannot be written ends with a clear message; the import before it stands, the same import works later."""
    made = workspace(make, "", CSV_FIELDS, CSV, "in.csv")
    made.archive.import_log("log")
    lines = "".join(f"2026-03-{d:02d} 10:{i % 60:02d},user {d * i}\n" for d in range(1, 29) for i in range(9_000))
    (made.path / "in2.csv").write_text("When,Who\n" + lines)
    limited = f"ulimit -f 900; exec {sys.executable} -c 'from fermata.cli.main import main; main()' import log in2.csv"
    done = subprocess.run(["bash", "-c", limited], cwd=made.path, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "Traceback" not in done.stderr
    assert "fermata:" in done.stderr
    assert list(fermata.open(made.path).base.archive.snapshot().manifest.log("log").files) == [1]
    made.archive.import_log("log", [made.path / "in2.csv"])
    assert made.base.archive.snapshot().manifest.log("log").events == 2 + 28 * 9_000


def test_a_reader_of_ones_own_comes_by_entry_point(make: Maker, monkeypatch: pytest.MonkeyPatch) -> None:
    """A package that registers a module with open(job) adds a format; an unknown one lists those there are."""
    module = types.ModuleType("pairs")
    exec(
        "from fermata.intake.readers.lines import matched\n"
        "def open(job): return matched(job, job.log.options['pattern'], ['t', 'u'], shape='pair')",
        module.__dict__,
    )
    monkeypatch.setitem(sys.modules, "pairs", module)
    entry = importlib.metadata.EntryPoint("pairs", "pairs", "fermata.readers")
    monkeypatch.setattr("fermata.intake.readers.entry_points", lambda group: [entry])
    made = workspace(
        make,
        "format = \"pairs\"\noptions = { pattern = '^(\\S+)=(\\S+)$' }",
        'start = "t"\nuser = "u"',
        "2026-03-01=a\n",
    )
    assert stored(made, "user") == [("03-01 00:00:00", "a")]
    unknown = workspace(make, 'format = "pears"', 'start = "t"', "x\n")
    with pytest.raises(UnknownName, match="there is no format 'pears'; did you mean 'pairs'"):
        unknown.archive.import_log("log")
