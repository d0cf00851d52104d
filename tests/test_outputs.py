"""One result in many forms: the same figures in each, shown as chosen; text from logs never does anything; large ones
stay small.
"""

from __future__ import annotations

import contextlib
import csv
import io
import itertools
import json
import operator
import re
import signal
import subprocess
import sys
import textwrap
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import openpyxl
import pandas as pd
import pyarrow.parquet as pq
import pytest
from lxml import etree, html
from pypdf import PdfReader

from fermata import outputs
from fermata.analysis import drill
from fermata.api.result import Result
from fermata.api.workspace import Workspace, open_workspace
from fermata.errors import RequestError
from fermata.outputs.workbook import Book
from fermata.reports.definition.display import Display
from fermata.reports.definition.report import Report
from fermata.reports.execute.attention import RANKS
from fermata.reports.execute.drill_down import behind
from fermata.reports.result import RunResult
from tests.conftest import DEEP, NOW, ROOT, Maker, fermata, plain, some
from tests.test_over_all import READY, asked

ENTRIES = plain(
    'kind = "time entries"',
    'finish = "End"\nproject = "Project"\ncost = { column = "Cost", type = "money", unit = "EUR" }',
)
LINES = """When,End,Who,Door,Project,Cost
2026-03-02 09:00:00,2026-03-02 10:30:00,Ada,d,Gala,1234.50
2026-03-03 08:00:00,2026-03-03 08:15:30,Ada,d,Gala,0.25
2026-03-04 07:00:00,2026-03-04 07:30:00,Ada,d,Hire,
2026-03-02 22:00:00,2026-03-03 02:00:00,Bo,d,Hire,10.00
"""
ASKED: dict[str, Any] = {
    "by": "user,project", "columns": ["count", "time", "total cost", "mean duration", "share", "last"],
    "period": "2026-03"
}  # fmt: skip
HEADS = ["User", "Project", "Count", "Time", "Total cost", "Mean duration", "Share", "Last"]
SHOWN = [  # the finest rows as people read them
    ["Ada", "Gala", "2", "1:45:30", "1,234.75", "0:52:45", "50.0 %", "2026-03-03 08:00:00"],
    ["Ada", "Hire", "1", "0:30:00", "0.00", "0:30:00", "25.0 %", "2026-03-04 07:00:00"],
    ["Bo", "Hire", "1", "4:00:00", "10.00", "4:00:00", "25.0 %", "2026-03-02 22:00:00"],
]
TOTALS = [["4", "6:15:30", "1,244.75", "1:33:53", "100.0 %"], ["3", "2:15:30", "1,234.75", "0:45:10", "75.0 %"]]
HOSTILE = {
    "escape": "\x1b[31mred\x1b[0m", "formula": "=HYPERLINK(\"http://x.example\",\"go\")", "plus": "+1+1|' /C calc'!A0",
    "at": "@SUM(A1)",
    "markup": "<script>alert(1)</script><b>b</b>", "end": "</script><img src=x onerror=alert(1)>",
    "mail": "a\r\nBcc: all@hall.example",
    "xml": "a&b]]>\x0b\x00<!--", "bidi": "abc\u202etxt.exe\u2066",
    "mark": "| *a* `b` [c](http://d.example) www.e.example $x$", "tab": "\tcmd",
    "wide": "Ωμέγα Жанна 漢字", "long": "x" * 40_000, "style": "</style><style>*{display:none}",
    "template": "{{ 7*7 }}{% raw %}",
}  # fmt: skip


@pytest.fixture
def entries(make: Maker) -> Workspace:
    """Four time entries of two people."""
    house = make(ENTRIES, entries=LINES)
    house.archive.import_log("doors")
    return house


@pytest.fixture
def result(entries: Workspace) -> Result:
    return entries.run(Report.of(log="doors", **ASKED))


@pytest.fixture
def hostile(make: Maker) -> Workspace:
    """Events whose users are what an attacker would be called."""
    text = io.StringIO()
    rows = csv.writer(text)
    rows.writerow(["When", "Who", "Door", "Page"])
    pages = [
        "javascript:alert(1)",
        "http://plain.example/",
        "https://ok.example/a?b=1",
        'https://bad.example/"onclick="x',
    ]
    for n, bad in enumerate(HOSTILE.values()):
        rows.writerow([f"2026-03-02 10:{n:02d}:00", bad, f"d{n}", pages[n % 4]])
    house = make(plain("", 'page = { column = "Page", type = "link" }'), doors=text.getvalue())
    house.archive.import_log("doors")
    assert not house.archive.rejects("doors")
    return house


def read_csv(path: Path, delimiter: str = ",") -> list[list[str]]:
    return list(csv.reader(path.read_text("utf-8-sig").splitlines(), delimiter=delimiter))


def pdf_text(path: Path) -> str:
    return "\n".join(page.extract_text() for page in PdfReader(path).pages)


def test_every_form_shows_the_same_figures(result: Result, tmp_path: Path) -> None:
    """Exact values in data forms, the displayed text in the others, all of one result."""
    at = {form: result.save(tmp_path / f"r.{form}") for form in outputs.FORMS}
    exact = [(2, 6330, "1234.75", 3165, 0.5), (1, 1800, "0.00", 1800, 0.25), (1, 14400, "10.00", 14400, 0.25)]
    told = [["Ada", "Gala", "2", "1:45:30", "1234.75", "0:52:45", "0.5", "2026-03-03T08:00:00+00:00"]]
    assert read_csv(at["csv"])[:2] == [HEADS, *told]
    assert read_csv(at["tsv"], "\t") == read_csv(at["csv"])
    lines = [json.loads(line) for line in at["jsonl"].read_text().splitlines()]
    assert [tuple(r.values())[2:7] for r in lines] == exact
    whole = json.loads(at["json"].read_text())
    assert [tuple(r["values"][2:7]) for r in whole["rows"] if r["level"] == 2] == exact
    tree = etree.parse(at["xml"], etree.XMLParser(resolve_entities=False))
    etree.XMLSchema(etree.parse(ROOT / "docs" / "result.xsd")).assertValid(tree)
    rows = [[v.text if v.tag == "v" else None for v in row] for row in tree.iterfind(".//row[@level='2']")]
    assert rows[0][2:7] == ["2", "PT6330S", "1234.75", "PT3165S", "0.5"]
    frame = pq.read_table(at["parquet"])
    assert frame.column("Time").to_pylist() == [timedelta(seconds=s) for _, s, *_ in exact]
    assert frame.column("Total cost").to_pylist() == [Decimal("1234.75"), Decimal("0.00"), Decimal("10.00")]
    assert json.loads(frame.schema.metadata[b"fermata"])["filters"] == "all events"
    for form, text in (("txt", at["txt"].read_text()), ("md", at["md"].read_text()), ("pdf", pdf_text(at["pdf"]))):
        for row in [*SHOWN, *TOTALS]:
            for cell in row:
                assert cell in text, (form, cell)
    page = html.parse(at["html"])
    cells = [[c.text_content() for c in tr.iterfind("td")] for tr in page.iterfind(".//tbody/tr")]
    assert cells[0] == ["", "", *TOTALS[1], "2026-03-04 07:00:00"][1:]  # the group's subtotal, beside its name
    assert [c[1:] for c in cells[1:3]] == [row[1:] for row in SHOWN[:2]]
    assert cells[3] == SHOWN[2]
    assert [c.text_content() for c in page.iterfind(".//tfoot/tr/td")][2:7] == TOTALS[0]
    data = openpyxl.load_workbook(at["xlsx"])["Data"]
    first = next(data.iter_rows(min_row=2, values_only=True))
    assert first[:3] == ("Ada", "Gala", 2)
    assert first[3:] == (timedelta(seconds=6330), 1234.75, timedelta(seconds=3165), 0.5, datetime(2026, 3, 3, 8))
    for form in ("png", "svg"):
        assert at[form].stat().st_size > 5_000


def test_listings_are_the_same_in_every_exact_form(hall: Workspace, tmp_path: Path) -> None:
    """Times with their offsets (on both sides of a clock change), lengths and money of events agree, whichever form
    they are in.
    """
    listed = Result(hall.listing(Report(log="calls", period="2026-03-28/2026-03-30")), hall.base.place())
    rows = [dict(zip(r0, r, strict=True)) for r0, *rest in [read_csv(listed.save(tmp_path / "l.csv"))] for r in rest]
    assert {r["Start"][-6:] for r in rows} == {"+00:00", "+01:00"}
    lines = [json.loads(line) for line in listed.save(tmp_path / "l.jsonl").read_text().splitlines()]
    whole = json.loads(listed.save(tmp_path / "l.json").read_text())
    tree = etree.parse(listed.save(tmp_path / "l.xml"))
    frame = pq.read_table(listed.save(tmp_path / "l.parquet"))
    book = openpyxl.load_workbook(listed.save(tmp_path / "l.xlsx"))["Records"]
    starts = [r["Start"] for r in rows]
    assert [r["Start"] for r in lines] == [r["values"][0] for r in whole["rows"]] == starts
    assert [row[0].text for row in tree.iterfind(".//row")] == starts
    assert [t.isoformat() for t in frame.column("Start").to_pylist()] == starts
    assert [c.value.isoformat() for c in book["A"][1:]] == [s[:-6] for s in starts]
    lengths = [r["Duration"] for r in lines]
    assert [t.total_seconds() if t is not None else None for t in frame.column("Duration").to_pylist()] == lengths
    assert [c.value.total_seconds() if c.value is not None else None for c in book["C"][1:]] == lengths
    texts = [v.text and float(v.text[2:-1]) for v in (row[2] for row in tree.iterfind(".//row"))]
    assert texts == [float(v) if v is not None else None for v in lengths]


def test_what_stands_above_and_below(result: Result, tmp_path: Path) -> None:
    """Title, period in words and exactly, zone, freshness, who, when and which version in every form that has room for
    it.
    """
    for form in ("txt", "md", "html", "json", "xml", "pdf", "xlsx", "parquet"):
        path = result.save(tmp_path / f"r.{form}", author="Ina Hall")
        if form == "xlsx":
            about = openpyxl.load_workbook(path)["About"]
            text = " ".join(str(c) for row in about.iter_rows(values_only=True) for c in row)
        else:
            text = pdf_text(path) if form == "pdf" else path.read_bytes().decode("utf-8", "replace")
        for part in (
            "1 to 31 March 2026",
            "Europe/Lisbon",
            "2026-03-01 00:00 +00:00 to 2026-04-01 00:00 +01:00",
            "Ina Hall",
            "0.1.0",
            "2026-04-01",
        ):
            assert part in re.sub(r"\s+", " ", text.replace("\\", "")), (form, part)


@pytest.mark.parametrize("form", some(outputs.FORMS, 2))
def test_the_same_input_gives_the_same_bytes(result: Result, tmp_path: Path, form: str) -> None:
    """Nothing in an output comes from the clock or from chance."""
    a, b = (result.save(tmp_path / f"{n}.{form}").read_bytes() for n in "ab")
    assert a == b


@pytest.mark.parametrize(
    ("chosen", "shown", "hidden"),
    some(
        [
            ({"clock": 12}, "2026-03-02 10:00:00 pm", "22:00:00"),
            ({"seconds": False}, "2026-03-02 22:00", "22:00:00"),
            ({"seconds": False}, "1:46", "1:45:30"),
            ({"durations": "hours"}, "Time (h)", "1:45:30"),
            ({"durations": "hours", "decimal": "comma"}, "1.234,75", "1,234.75"),
            ({"dates": "day first"}, "02/03/2026 22:00:00", "2026-03-02 22"),
            ({"dates": "month first", "clock": 12, "seconds": False}, "03/02/2026 10:00 pm", "2026-03-02 22"),
            ({"columns": "Time"}, "1:45:30", "1,234.75"),
        ],
        2,
    ),
)
def test_display_choices(result: Result, tmp_path: Path, chosen: dict[str, Any], shown: str, hidden: str) -> None:
    """Each choice changes what people see, in all forms that people read, and nothing in the exact ones."""
    for form in ("txt", "md", "html", "pdf"):
        path = result.save(tmp_path / f"r.{form}", **chosen)
        text = pdf_text(path) if form == "pdf" else path.read_text().partition("<script")[0].replace("\\", "")
        table = re.sub(r"\s+", " ", text.split("made 2026")[0]) if form == "pdf" else text.split("made 2026")[0]
        assert shown in table, form
        assert hidden not in table, form
    if "columns" not in chosen:
        with pytest.raises(RequestError, match="has no effect in jsonl; it has in txt"):
            result.save(tmp_path / "a.jsonl", **chosen)


def test_full_minutes_need_no_seconds(entries: Workspace, tmp_path: Path) -> None:
    """Hours of full minutes are h:mm for people, in every row; one length with seconds gives its whole column seconds,
    and exact forms always have them.
    """
    asked = {"log": "doors", "by": "user", "columns": ["time"], "period": "2026-03"}
    full = entries.run(Report.of(**asked, only={"project": ["Hire"]}))
    for form in ("txt", "md", "html", "csv"):
        told = full.save(tmp_path / f"full.{form}").read_text().partition("<script")[0]
        assert "4:00" in told.replace("\\", ""), form
        assert ("4:00:00" in told) == (form == "csv"), form
    mixed = entries.run(Report.of(**asked)).save(tmp_path / "mixed.txt").read_text()
    assert "4:00:00" in mixed
    assert "6:15:30" in mixed


OTHER: dict[str, Any] = {
    "clock": 12, "seconds": False, "durations": "hours", "decimal": "comma", "dates": "day first", "columns": ["Start"],
    "times": "start", "orientation": "landscape", "paper": "A3", "pages": 1, "spreadsheet": True, "author": "A. Name",
}  # fmt: skip


PICTURES = ("png", "svg")


@pytest.mark.parametrize(
    "form",
    [
        *some([f for f in outputs.FORMS if f not in PICTURES], 2),
        *(pytest.param(f, marks=pytest.mark.deep) for f in PICTURES),
    ],
)
def test_a_form_goes_by_what_it_says_and_refuses_the_rest(entries: Workspace, form: str) -> None:
    """A display choice changes an output, or the form does not go by it: none is passed over in silence."""
    assert set(OTHER) == set(Display.model_fields)
    items = [
        entries.run(
            Report.of(**{**ASKED, "by": "hour", "period": "2026-03-02"}, log="doors", chart="bar of Total cost")
        ).answer,
        entries.run(Report.of(**{**ASKED, "by": "day", "columns": ["share"]}, log="doors", chart="bar")).answer,
        *([] if form in ("png", "svg") else [entries.listing(Report(log="doors"))]),
    ]

    def made(item: Any, **chosen: Any) -> bytes:
        out = io.BytesIO()
        outputs.write(item, out, form, Display.of(**chosen))
        return re.sub(rb"/(CreationDate|ModDate) \(.*?\)|/ID\s*\[.*?\]", b"", out.getvalue(), flags=re.DOTALL)

    items = items if DEEP else items[1:]
    plain = [made(item) for item in items]
    for key, value in OTHER.items():
        asked = [-1] if key == "columns" else range(len(items))
        with (
            contextlib.nullcontext() if key in outputs.goes_by(form) else pytest.raises(RequestError, match="no effect")
        ):
            outputs.refuse_unused([key], [form])
        if key != "author":  # it has no place in some
            changed = any(made(items[i], **{key: value}) != plain[i] for i in asked)
            assert changed == (key in outputs.goes_by(form)), key


def test_display_of_times_and_days(entries: Workspace, tmp_path: Path) -> None:
    """A listing shows start and finish or not; days among the groups follow the order of dates; workspace, report and
    call choose in turn.
    """
    listed = Result(entries.listing(Report(log="doors")), entries.base.place())
    heads = [read_csv(listed.save(tmp_path / "l.csv", times=t))[0][:2] for t in ("both", "start", "finish", "none")]
    assert heads == [["Start", "Finish"], ["Start", "Duration"], ["Finish", "Duration"], ["Duration", "User"]]
    (entries.path / "fermata.toml").write_text(ENTRIES + '[display]\ndates = "day first"\nclock = 12\n')
    house = open_workspace(entries.path, now=NOW)
    by_day = house.run(
        Report.of(log="doors", by="day", columns=["last"], period="2026-03-02", display={"dates": "day first"})
    )
    assert "02/03/2026  02/03/2026 10:00:00 pm" in str(by_day)
    assert "02/03/2026  02/03/2026 22:00:00" in by_day.save(tmp_path / "d.txt", clock=24).read_text()
    with pytest.raises(RequestError, match=re.escape("display.clock: should be 24 or 12, not 13")):
        by_day.save(tmp_path / "d.txt", clock=13)
    with pytest.raises(RequestError, match=re.escape("names no pages; write 1-3, 7 or 5-")):
        by_day.save(tmp_path / "d.pdf", pages="a-b")


def test_csv_for_spreadsheets(hostile: Workspace, tmp_path: Path) -> None:
    """A byte order mark, guarded formulas, a decimal comma with semicolons; plain CSV is exact."""
    found = hostile.log("doors").by("user").measure("count", "share").run()
    plain_rows = list(csv.reader(io.StringIO(found.save(tmp_path / "a.csv").read_bytes().decode(), newline="")))
    assert {r[0] for r in plain_rows[1:]} == set(HOSTILE.values())
    guarded = found.save(tmp_path / "b.csv", spreadsheet=True, decimal="comma")
    assert guarded.read_bytes().startswith(b"\xef\xbb\xbf")
    rows = read_csv(guarded, ";")
    assert not [r for r in rows if r[0][:1] in "=+-@\t"]
    assert rows[1][2] == f"{100 / len(HOSTILE):.1f} %".replace(".", ",")


def test_text_from_logs_never_executes(hostile: Workspace, tmp_path: Path) -> None:
    """One hostile data set through every form, read by the form's real reader."""
    found = hostile.log("doors").by("user").measure("count").run()
    at = {form: found.save(tmp_path / f"h.{form}") for form in outputs.FORMS}
    for form in ("txt", "md"):
        assert not set("\x1b\u202e\u2066\x0b\x00") & set(at[form].read_text()), form
    assert "<script>" not in at["md"].read_text()
    assert r"\[c\](http&#58;//d.example) www&#46;e.example \$x\$" in at["md"].read_text()
    assert {json.loads(line)["User"] for line in at["jsonl"].read_text().splitlines()} == set(HOSTILE.values())
    for form in ("json", "jsonl"):
        assert not set("\x1b\u202e\u2066\x0b\x00") & set(at[form].read_text()), form
    tree = etree.parse(at["xml"], etree.XMLParser(resolve_entities=False))  # strict: it fails on anything ill formed
    users = {row[0].text for row in tree.iterfind(".//row[@level='1']")}
    assert {re.sub("[\x00-\x08\x0b\x0c\x0e-\x1f]", "\ufffd", v) for v in HOSTILE.values()} == users
    assert set(pq.read_table(at["parquet"]).column("User").to_pylist()) == set(HOSTILE.values())
    for sheet in openpyxl.load_workbook(at["xlsx"]).worksheets:
        for row in sheet.iter_rows():
            assert all(c.data_type in ("s", "n") and c.hyperlink is None for c in row)
    names = [c.value for c in openpyxl.load_workbook(at["xlsx"])["Data"]["A"]]
    assert HOSTILE["formula"] in names
    assert len(next(n for n in names if n.startswith("xxx"))) == 32_767
    page = html.parse(at["html"])
    assert len(page.findall(".//script")) == 3  # the page's own: events, marks, behaviour
    assert not page.findall(".//main//style")
    assert [i.get("src")[:5] for i in page.findall(".//img")] == ["data:"]
    texts = {td.text_content() for td in page.iterfind(".//tbody//td")}
    assert {HOSTILE["markup"], HOSTILE["end"], HOSTILE["template"], "abctxt.exe"} <= texts
    written = pdf_text(at["pdf"])
    assert "=HYPERLINK" in written
    assert "Ωμέγα Жанна" in written
    assert "characters the font does not have are shown as" in written
    assert "U+6F22" in written
    assert b"/JavaScript" not in at["pdf"].read_bytes()
    assert b"<script" not in at["svg"].read_bytes()
    assert "<script>" not in found._repr_html_()


def test_links_are_https_only(hostile: Workspace, tmp_path: Path) -> None:
    """A field of type link is a link where it is https and nothing else; a spreadsheet holds it as text."""
    listed = Result(hostile.listing(Report(log="doors")), hostile.base.place())
    page = html.parse(listed.save(tmp_path / "l.html"))
    assert {a.get("href") for a in page.iterfind(".//tbody//a")} == {"https://ok.example/a?b=1"}
    assert all(a.get("rel") == "noopener noreferrer" for a in page.iterfind(".//a"))
    book = openpyxl.load_workbook(listed.save(tmp_path / "l.xlsx"))["Records"]
    assert not [c for row in book.iter_rows() for c in row if c.hyperlink]


def asks_for_nothing(text: str) -> None:
    """The policy forbids every request, and there is nothing in the page to make one."""
    policy = re.search(r'Content-Security-Policy" content="([^"]+)"', text)
    assert policy
    assert policy[1].startswith("default-src &#39;none&#39;; style-src &#39;sha256-")
    assert not re.search(r'(?:src|srcset|href|action)="(?!data:)', text)
    assert "url(" not in text
    assert "@import" not in text


def test_the_workbook(hall: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Subtotals as outline, header frozen and filtered, chart and about sheets; rows beyond a sheet's limit go on to
    the next.
    """
    book = openpyxl.load_workbook(hall.report("pages-by-printer").save(tmp_path / "p.xlsx"))
    assert book.sheetnames == ["Report", "Data", "Chart", "Chart data", "About"]
    sheet = book["Report"]
    assert sheet.freeze_panes == "C5"
    assert sheet.auto_filter.ref.startswith("A4:")
    assert {sheet.row_dimensions[r].outlineLevel for r in range(5, sheet.max_row + 1)} == {0, 1, 2}
    assert len(book.chartsheets[0]._charts) == 1
    rows = read_csv(hall.report("pages-by-printer").save(tmp_path / "p.csv"))
    flat = list(book["Data"].iter_rows(min_row=2, values_only=True))
    assert [sum(r[i] for r in flat) for i in (2, 3)] == [sum(int(r[i]) for r in rows[1:]) for i in (2, 3)]
    assert book["Data"]["F2"].number_format == "#,##0.00"
    monkeypatch.setattr(Book, "last_row", 100)
    listed = Result(hall.listing(Report(log="doors", period="2026-03-02")), hall.base.place())
    many = openpyxl.load_workbook(listed.save(tmp_path / "m.xlsx"))
    assert many.sheetnames == ["Records", "Records 2", "Records 3", "Records 4", "About"]
    assert [many[n].max_row - 1 for n in many.sheetnames[:4]] == [100, 100, 100, 69]
    assert len({many[n]["A1"].value for n in many.sheetnames[:4]}) == 1
    assert "Records: 369 rows on 4 sheets, as one holds 100" in [
        r[1] for r in many["About"].iter_rows(values_only=True)
    ]


def test_the_document(hall: Workspace, tmp_path: Path) -> None:
    """Every page has its header and number, groups are bookmarked, wide tables are turned or split with the key
    repeated, and said.
    """
    listed = Result(hall.listing(Report(log="doors", period="2026-03-02/2026-03-03")), hall.base.place())
    reader = PdfReader(listed.save(tmp_path / "l.pdf"))
    count = len(reader.pages)
    assert count > 10
    for n, page in enumerate(reader.pages, 1):
        text = page.extract_text()
        assert f"page {n} of" in text
        assert "Start" in text
    assert {str(f["/BaseFont"]).partition("+")[2] for p in reader.pages[:1] for f in (x.get_object() for x in p["/Resources"]["/Font"].values()) if "+" in str(f["/BaseFont"])} <= {"DejaVuSans", "DejaVuSans-Bold"}  # fmt: skip
    told = pdf_text(tmp_path / "l.pdf")
    assert sum(told.count(f"2026-03-0{d} ") for d in (2, 3)) >= len(listed.rows)
    few = PdfReader(listed.save(tmp_path / "few.pdf", pages="2-3,5"))
    assert [re.search(r"page (\d+) of", p.extract_text())[1] for p in few.pages] == ["2", "3", "5"]  # type: ignore[index]
    refused = PdfReader(hall.report("refused-entries").save(tmp_path / "r.pdf"))
    titles = [o["/Title"] if not isinstance(o, list) else [i["/Title"] for i in o] for o in refused.outline]
    assert titles[0] == "Refused entries by door"
    assert {"Stage side", "Library"} <= set(titles[1])
    grouped = (
        hall.log("doors").during("2026-03").by("place", "user").measure("count", "last").run().save(tmp_path / "g.pdf")
    )
    pages = [p.extract_text() for p in PdfReader(grouped).pages]
    going_on = [(n, m[1]) for n, text in enumerate(pages) for m in [re.search(r"\n(.+) \(continued\)", text)] if m]
    assert going_on
    assert all(f"All of {group}" not in pages[n - 1] for n, group in going_on)
    wide = hall.report("timesheet").save(tmp_path / "w.pdf")
    first = PdfReader(wide).pages[0]
    assert first.mediabox.width > first.mediabox.height
    assert re.search(r"part 1 of 2: columns 2 to \d+ of 33, User repeated", pdf_text(wide))
    assert all("Ada Ørskov" in pdf_text(wide).split("part 2 of 2")[n] for n in (0, 1))
    tall = PdfReader(hall.report("timesheet").save(tmp_path / "t.pdf", orientation="portrait", paper="A3")).pages[0]
    assert round(tall.mediabox.width) == 842


BY_UNITS: dict[str, dict[str, Any]] = {
    "a period before": {"log": "calls", "by": ["day"], "columns": ["count", "time"], "compare": "before"},
    "within hours": {"log": "software", "by": ["weekday"], "columns": ["time", "present user"], "hours": "office"},
    "days used": {"log": "software", "by": ["user", "week"], "columns": ["distinct day", "max duration"]},
    "a rest": {"log": "software", "by": ["user"], "across": "weekday", "columns": ["time", "present user"], "top": 3},
    "another time": {"log": "timesheets", "by": ["day"], "columns": ["count", "time"], "date_field": "paid"},
    "at once": {"log": "software", "by": ["pool"], "columns": ["concurrency", "utilisation pool", "mean duration"]},
    "tags": {"log": "prints", "by": ["day", "tags"], "columns": ["count", "total pages"]},
}


FEW_UNITS = ("a period before", "a rest", "at once")  # each time, all when testing deeply


@pytest.mark.parametrize(
    "name", [*FEW_UNITS, *(pytest.param(n, marks=pytest.mark.deep) for n in (*BY_UNITS, *READY) if n not in FEW_UNITS)]
)
def test_all_events_behind_a_table_explain_each_figure(hall: Workspace, name: str) -> None:
    """What a page embeds for a figure is what `--records` lists for it: the same events with the same contributions."""
    whole = hall.run(Report.of(period="2026-03", **BY_UNITS[name])) if name in BY_UNITS else hall.run(asked(name))
    for result in whole.parts or [whole]:
        if isinstance(result.answer, RunResult):
            figures_are_explained(result, name in BY_UNITS)


def figures_are_explained(result: Result, some: bool) -> None:
    """Some of the figures of each measure; there are any where `some` are wanted."""
    found = behind(result.data, 200_000)
    table, plan = result.table, result.data.plan
    assert found.figures or not some
    by_column = itertools.groupby(sorted(found.figures, key=operator.itemgetter(1, 0)), operator.itemgetter(1))
    for number, (_, cells) in enumerate(by_column):
        if number % 3 and not DEEP:
            continue
        for n, (row, column) in enumerate(list(cells)[:: max(len(found.figures) // 6, 1)]):
            log, numbers, brought = found.figures[row, column]
            keys, head = table.rows[row].shown, table.measures[column]
            at = {d.name: k for d, k in zip(plan.by, keys, strict=False)}
            if plan.across and not head.across_total:
                at[plan.across.name] = head.across_label
            listed = result.events(of=plan.columns[head.measure].label, at=at)
            measure = plan.columns[head.measure].measure
            if measure.needs_spans and measure.records == "contributors":
                assert listed.columns[-1].type == "duration"
            assert (n and not DEEP) or "Figure" in str(listed) or measure.base
            records = found.logs[log]
            place = [c[0] for c in records.columns].index("record")
            own = sorted((records.rows[n][place], b) for n, b in zip(numbers, brought, strict=True))
            at_record = [c[0] for c in listed.columns].index("record")
            assert own == sorted((r[at_record], r[-1]) for r in listed.rows), (row, column)
    assert behind(result.data, 1).logs == () or found.total <= 1


def test_long_listings_are_read_in_stretches(hall: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    """Sorting a stretch of time at a time gives the rows that sorting all of them gives."""
    whole = tuple(hall.listing(Report(log="doors", period="2026-03")).rows)
    monkeypatch.setattr(drill, "WINDOW", 700)
    assert tuple(hall.listing(Report(log="doors", period="2026-03")).rows) == whole
    assert len(whole) > 2 * drill.WINDOW  # else it is not read in stretches


@pytest.mark.deep
def test_several_outputs_at_once(hall: Workspace, tmp_path: Path) -> None:
    """Files by their endings and a form for standard output in one run; a wrong ending stops it before anything is
    written.
    """
    asked = ["-w", str(hall.path), "--now", "2026-04-01T08:12", "report", "refused-entries"]
    done = fermata(
        *asked,
        "--output",
        str(tmp_path / "a.pdf"),
        "--output",
        str(tmp_path / "a.xlsx"),
        "--output",
        "csv",
        "--display",
        "author=Ina",
    )
    assert done.stdout.startswith("Place,Door,Refused,People,Last\n")
    assert done.stderr.count("written: ") == 2
    assert PdfReader(tmp_path / "a.pdf").metadata["/Author"] == "Ina"  # type: ignore[index]
    wrong = fermata(*asked, "--output", str(tmp_path / "b.csv"), "--output", str(tmp_path / "b.docx"), code=2)
    assert "has the ending '.docx', which names no form; there are txt, csv" in wrong.stderr
    assert not (tmp_path / "b.csv").exists()
    assert (
        "display.clok: there is no such key; did you mean clock?"
        in fermata(*asked, "--display", "clok=12", code=2).stderr
    )
    assert "choose one with --part: 1: " in fermata(*asked[:-1], "overview", "--output", "csv", code=2).stderr


@pytest.mark.deep
def test_a_large_output_tells_its_size_and_leaves_no_half_file(hall: Workspace, tmp_path: Path) -> None:
    """The size is said before, and a run that is ended on the way leaves nothing behind."""
    asked = [sys.executable, "-c", "from fermata.cli.main import main; main()", "-w", str(hall.path), "events",
    "doors", "--output", str(tmp_path / "d.pdf")]  # fmt: skip
    with subprocess.Popen(asked, stderr=subprocess.PIPE, text=True) as child:
        assert child.stderr
        said = child.stderr.readline()
        assert re.fullmatch(r".*d\.pdf: 95,219 rows, about [\d,]+ pages, about \d+\.\d MB\n", said)
        pages = int(said.split("about ")[1].split()[0].replace(",", ""))
        assert 1_000 < pages < 4_000
        deadline = time.monotonic() + 30
        while not list(tmp_path.iterdir()) and time.monotonic() < deadline:
            time.sleep(0.02)
        child.send_signal(signal.SIGTERM)
        said = child.stderr.read()
        assert child.wait() == 130, said
        assert "interrupted" in said
    assert list(tmp_path.iterdir()) == []


def test_an_interrupt_nobody_could_take_comes_again(hall: Workspace, tmp_path: Path) -> None:
    """A request to end that falls into the end of an object, where Python drops what is raised, ends the run all the
    same.
    """
    falls = """
        import os, signal, time
        from fermata import outputs
        from fermata.cli.main import main

        class Ending:
            def __del__(self):
                os.kill(os.getpid(), signal.SIGTERM)

        def save(*_):
            Ending()
            time.sleep(30)

        outputs.save = save
        main()
    """
    asked = [sys.executable, "-c", textwrap.dedent(falls), "-w", str(hall.path), "report", "doors", "--output",
    str(tmp_path / "d.csv")]  # fmt: skip
    ran = subprocess.run(asked, capture_output=True, text=True, timeout=25, check=False)
    assert (ran.returncode, ran.stderr.strip()) == (130, "interrupted")


@pytest.mark.deep
def test_a_long_listing_as_a_page(hall: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Rows beyond what a page may hold are said on it, and all are in a file beside it."""
    from fermata.outputs.html import page

    listed = Result(hall.listing(Report(log="doors", period="2026-02/2026-03")), hall.base.place())
    text = listed.save(tmp_path / "l.html").read_text()
    asks_for_nothing(text)
    assert text.count('class="chunk"') == -(-len(listed.rows) // 20_000)
    monkeypatch.setattr(page, "LARGEST", 200_000)
    cut = listed.save(tmp_path / "c.html").read_text()
    found = re.search(
        r"this page holds the first ([\d,]+) of ([\d,]+) rows; all of them are in the CSV file beside it", cut
    )
    assert found
    assert int(found[2].replace(",", "")) == len(listed.rows) > int(found[1].replace(",", ""))
    assert len(read_csv(tmp_path / "c.csv")) == len(listed.rows) + 1


def test_in_a_notebook(result: Result, entries: Workspace) -> None:
    """Results show themselves as a table, give a figure to change, and data frames with proper types."""
    shown = html.fromstring(result._repr_html_())
    assert [td.text_content() for td in shown.findall(".//tbody/tr")[0].iterfind("td")] == SHOWN[0]
    assert type(result.chart()).__name__ == "Figure"
    assert not result.chart(kind="line", of="Total cost").axes[0].get_title()
    frame = result.to_pandas()
    assert [str(t) for t in frame.dtypes][2:] == [
        "Int64",
        "timedelta64[us]",
        "object",
        "timedelta64[us]",
        "float64",
        "datetime64[us, Europe/Lisbon]",
    ]
    listed = entries.log("doors").listing().to_pandas()
    assert str(listed["start"].dtype) == "datetime64[us, Europe/Lisbon]"
    assert listed["cost"].tolist()[0] == Decimal("1234.50")
    assert listed["duration"].sum() == pd.Timedelta(hours=6, minutes=15, seconds=30)


def test_a_page_of_parts(hall: Workspace, tmp_path: Path) -> None:
    """The verdict and what is wrong with each part stand in every form that people read; each part has its sheet."""
    page = hall.report("payroll-check")
    assert page.verdict
    wrong = re.search(r"Entries without a finish \((\d+ found)\)", page.verdict)
    assert wrong
    text = re.sub(r"\s+", " ", pdf_text(page.save(tmp_path / "p.pdf")))
    assert f"[{wrong[1]}] Entries without a finish" in text
    assert f"## \\[{wrong[1]}\\] Entries without a finish" in page.save(tmp_path / "p.md").read_text()
    whole = page.save(tmp_path / "p.html")
    asks_for_nothing(whole.read_text())
    marks = [m.text_content() for m in html.parse(whole).iterfind(".//h2/small")]
    assert marks[0] == wrong[1]
    assert "in order" in marks
    book = openpyxl.load_workbook(page.save(tmp_path / "p.xlsx"))
    assert book.sheetnames[-1] == "About"
    assert len(book.sheetnames) > len(marks)


def test_key_figures_are_rows_on_paper(result: Result, entries: Workspace) -> None:
    """One row for each column with its total, whatever the days; nothing is said of filters that there are none of."""
    told = str(
        entries.run(Report.of(log="doors", **{**ASKED, "by": "day", "columns": ["count", "time"]}, chart="tiles"))
    )
    rows = [line.split() for line in told.splitlines() if line.startswith(("Count", "Time"))]
    assert rows == [["Count", "4"], ["Time", "6:15:30"]]
    assert all(line.removeprefix("Note").strip() for line in told.splitlines() if line.startswith("Note"))


def test_what_needs_attention_leads_to_its_part(hall: Workspace, tmp_path: Path) -> None:
    """Sentences by consequence with what they rest on; a part of the page that shows the report behind one is a link to
    it; what is no more than before is said once, with true counts.
    """
    parts = [{"title": "Look", "ask": "attention"}, {"report": "print-credit"}]
    page = hall.run(Report.of(title="Look", period="2026-03", parts=parts))
    (points,) = html.parse(page.save(tmp_path / "p.html")).findall(".//ul[@class='points']")
    links = [a.get("href") for a in points.iterfind(".//a")]
    assert links == ["#s2"]
    rows = hall.report("needs-attention", period="2026-03").to_dicts()
    ranks = [RANKS.index(r["what"]) for r in rows]
    assert ranks == sorted(ranks)
    assert [r["what"] for r in rows].count("Usual") == 1
    told = rows[-1]["evidence"]
    open_ones = hall.log("visits").only(pairing="unfinished").measure("count")
    counts = [open_ones.during(m).figure() for m in ("2026-03", "2026-02", "2026-01", "2025-12")]
    assert f"{counts[0]} in visits have no end ({min(counts[1:])} to {max(counts[1:])} before)" in told
    if DEEP:
        first = hall.report("needs-attention", period="2025-10").to_dicts()
        assert "Usual" not in [r["what"] for r in first]  # there is nothing before


def test_measures_below_each_other(result: Result, entries: Workspace, tmp_path: Path) -> None:
    """Figures of several kinds in one column keep each its own form; where a column must have one type it is refused."""
    down = entries.run(Report.of(log="doors", measures="down", **{**ASKED, "by": "user"}))
    sheet = openpyxl.load_workbook(down.save(tmp_path / "d.xlsx"))["Report"]
    values = [row[2] for row in sheet.iter_rows(min_row=5, values_only=True)]
    assert values[:3] == [3, timedelta(hours=2, minutes=15, seconds=30), 1234.75]
    assert "2:15:30" in pdf_text(down.save(tmp_path / "d.pdf"))
    with pytest.raises(RequestError, match="ask for measures across"):
        down.save(tmp_path / "d.parquet")
    assert not (tmp_path / "d.parquet").exists()


def test_empty_results_have_every_form(entries: Workspace, tmp_path: Path) -> None:
    """Nothing found is a page, a sheet and a document that say why, not an error."""
    nothing = entries.run(Report.of(log="doors", by="user", columns=["count"], period="2026-01"))
    writes: list[Callable[[], Any]] = [
        lambda f=f: nothing.save(tmp_path / f"n.{f}") for f in outputs.FORMS if f not in ("png", "svg")
    ]  # type: ignore[misc]
    for write in writes:
        write()
    for form in ("txt", "md", "html"):
        assert "nothing found" in (tmp_path / f"n.{form}").read_text()
    assert "nothing found" in pdf_text(tmp_path / "n.pdf")
    assert isinstance(nothing.answer, RunResult)
    with pytest.raises(RequestError, match="there is nothing to draw"):
        nothing.save(tmp_path / "n.png")
    quiet = entries.run(nothing.data.report.changed(chart="bar"))
    for form in ("html", "pdf", "xlsx"):  # a month in which nothing happened stops no delivery
        quiet.save(tmp_path / f"q.{form}")
    assert "no chart: " in (tmp_path / "q.html").read_text()
    assert "no chart: " in pdf_text(tmp_path / "q.pdf")
