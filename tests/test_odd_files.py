"""Files that are no logs, or no whole ones: each is answered in a sentence, in little time and memory."""

from __future__ import annotations

import bz2
import io
import json
import lzma
import tarfile
import zipfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fermata.analysis.formula import LONGEST, Formula
from fermata.analysis.measures import Measure
from fermata.api.workspace import open_workspace
from fermata.errors import FermataError, RequestError, SourceError
from fermata.intake import opening
from fermata.intake.readers import json as json_reader
from fermata.intake.readers import xlsx
from fermata.intake.readers.elements import DEEPEST
from fermata.jsontext import json_object
from fermata.workspace.proposing import add_log
from tests.conftest import NOW, Maker, examples, sample
from tests.test_proposals import as_ods, as_workbook
from tests.test_readers import CSV, CSV_FIELDS, stored, workspace

DEEP = 20_000


def zipped(**members: str) -> bytes:
    """A zip archive with these members."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as held:
        for name, text in members.items():
            held.writestr(name, text)
    return out.getvalue()


OTHERS = {  # what somebody may take for a log -> how it begins, and what is said of it
    "list.pdf": (b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n" + bytes(range(256)) * 9, "is a PDF document"),
    "shot.png": (b"\x89PNG\r\n\x1a\n" + bytes(600), "is a picture"),
    "logs.rar": (b"Rar!\x1a\x07\x01\x00" + bytes(600), "is a RAR archive.*zip archive"),
    "logs.7z": (b"7z\xbc\xaf\x27\x1c" + bytes(600), "is a 7z archive"),
    "security.evtx": (b"ElfFile\x00" + bytes(600), "EVTX.*export its events as XML"),
    "system.journal": (b"LPKSHHRH" + bytes(600), "journalctl -o json"),
    "doors.mdb": (b"\x00\x01\x00\x00Standard Jet DB\x00" + bytes(600), "is a database of Access"),
    "tool.exe": (b"MZ\x90\x00" + bytes(600), "is a program"),
    "some.bin": (bytes(range(256)) * 9, "is no text"),
    "letter.docx": (zipped(**{"[Content_Types].xml": "<x/>", "word/document.xml": "<x/>"}), "is a document"),
    "broken.ods": (zipped(mimetype="application/vnd.oasis.opendocument.spreadsheet"), "cannot be read as a workbook"),
    "old.xls": (opening.OLD_WORKBOOK + bytes(600), "cannot be read as a workbook"),
    "seven.txt": (b"7", "no column reads as a time"),
    "quote.csv": (b'Time,"User\n' + b"2026-03-01 08:00:00,anna\n" * 9_000, "is not closed"),
    "wide.csv": (b"a," * 30_000, "has 30,001 columns; at most 20,000"),
    "lost.csv": (b"Time,User\n" + b"2026-03-01 08:00:00,anna" * 5_000, "the ends of lines are lost there"),
    "lists.json": (b"[" * DEEP, f"more than {DEEPEST} deep in each other"),
    "objects.json": (b'{"a":' * DEEP, f"more than {DEEPEST} deep in each other"),
    "closed.json": (b"[" * DEEP + b"]" * DEEP, f"more than {DEEPEST} deep in each other"),
    "lines.jsonl": (b'{"a":' * DEEP + b"1" + b"}" * DEEP + b'\n{"a":1}\n', "no column reads as a time"),
    "events.xml": (b"<a>" * DEEP, f"more than {DEEPEST} deep in each other"),
    "case.xes": (b"<log>" * DEEP, f"more than {DEEPEST} deep in each other"),
}


def test_what_is_no_log_is_said_to_be_what_it_is(tmp_path: Path, make: Maker) -> None:
    """The same where a file is proposed and, of what is no text, where its mapping takes it for one."""
    (tmp_path / "fermata.toml").write_text('[workspace]\nzone = "UTC"\n')
    for name, (content, said) in OTHERS.items():
        (tmp_path / name).write_bytes(content)
        with pytest.raises(FermataError, match=said) as e:
            add_log(open_workspace(tmp_path, now=NOW).base, tmp_path / name, "log")
        assert name in str(e.value)
    for name in ("list.pdf", "shot.png", "logs.7z"):
        made = workspace(make, "", CSV_FIELDS, OTHERS[name][0], "in.csv")
        with pytest.raises(SourceError, match=f"in.csv: {OTHERS[name][1]}"):
            made.archive.import_log("log")


def test_more_ways_of_packing(make: Maker) -> None:
    """bzip2 and xz are told by their first bytes, what a file manager adds to an archive is none of its logs, and a tar
    archive is named as one.
    """
    made = workspace(make, "", CSV_FIELDS, bz2.compress(CSV.encode()), "in.csv")
    assert stored(made, "user") == [("03-01 10:00:00", "a"), ("03-01 11:00:00", "b")]
    (made.path / "in.csv.1.xz").write_bytes(lzma.compress(CSV.encode()))
    assert [bool(o.unchanged) for o in made.archive.import_log("log")] == [True, True]
    packed = zipped(**{"logs/a.csv": CSV, "__MACOSX/logs/._a.csv": "x", "logs/.DS_Store": "x"})
    made = workspace(make, "", CSV_FIELDS, packed, "in.zip")
    paths = [o.path for o in made.archive.import_log("log", [made.path / "in.zip"])]
    assert paths == ["in.zip/logs/a.csv"]
    for cut in (bz2.compress(CSV.encode())[:-9], lzma.compress(CSV.encode())[:-9]):
        (made.path / "cut").write_bytes(cut)
        with pytest.raises(SourceError, match="the packed file is damaged or cut off"):
            made.archive.import_log("log", [made.path / "cut"])
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w:gz") as tar:
        tar.add(made.path / "fermata.toml", "a.csv")
    (made.path / "logs.tgz").write_bytes(held.getvalue())
    with pytest.raises(SourceError, match="is a tar archive"):
        made.archive.import_log("log", [made.path / "logs.tgz"])


def test_workbooks_of_other_forms_are_the_same_table(tmp_path: Path) -> None:
    """XLSX, ODS, and an XLS that an office program wrote of it: told by what is in them, whatever their names."""
    text = sample("shifts/twice.csv")
    as_workbook(text).save(tmp_path / "a.csv")
    (tmp_path / "b.csv").write_bytes(as_ods(text))
    (tmp_path / "c.csv").write_bytes((Path(__file__).parent / "shifts.xls").read_bytes())
    found = []
    for name in "abc":
        assert opening.is_workbook(tmp_path / f"{name}.csv")
        names, rows = xlsx.table(tmp_path / f"{name}.csv", name, None, 0, header=True)
        found.append((names, [(row + [None] * len(names))[: len(names)] for row in rows]))
    assert found[0] == found[1] == found[2]
    assert found[0][1][0][:3] == ["Ole", "2026-11-13 00:00:00", "08:58:00"]
    (tmp_path / "d.csv").write_bytes(as_ods(text.replace("3:35", "#N/A")))
    with pytest.raises(SourceError, match="cells with an error"):
        xlsx.table(tmp_path / "d.csv", "d", None, 0, header=True)


def test_an_open_quote_in_the_heading_is_named(make: Maker) -> None:
    """The text that it begins has no end."""
    text = 'When,"Who\n' + "2026-03-01 10:00,a\n" * 9_000
    with pytest.raises(SourceError, match="a quote '\"' is not closed"):
        workspace(make, "", CSV_FIELDS, text, "in.csv").archive.import_log("log")


@examples(60)
@given(value=st.recursive(st.text('[]{}"\\a', max_size=5), lambda v: st.lists(v, max_size=3) | st.dictionaries(
    st.text('[]{}"\\a', max_size=3), v, max_size=3)), most=st.integers(0, 5), read=st.integers(1, 9))  # fmt: skip
def test_depth_equals_that_of_the_value(value: Any, most: int, read: int) -> None:
    """Signs in texts do not count, wherever the pieces of the file end."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(json_reader, "READ", read)
        patch.setattr(json_reader, "DEEPEST", most)
        file = io.BytesIO(json.dumps(value).encode())
        if depth(value) > most:
            with pytest.raises(SourceError, match="deep in each other"):
                json_reader.not_too_deep(file, Path("x"))
        else:
            json_reader.not_too_deep(file, Path("x"))
            assert file.tell() == 0


def depth(value: Any) -> int:
    """How many lists and objects stand in each other."""
    held = value.values() if isinstance(value, dict) else value if isinstance(value, list) else None
    return 0 if held is None else 1 + max(map(depth, held), default=0)


def test_what_people_type_has_an_end() -> None:
    """A formula, a measure and an object in a file of the archive: none goes deeper than the interpreter does."""
    for text in ("(" * 3000 + "count" + ")" * 3000, "count" + " + count" * 3000, "-" * 3000 + "count"):
        with pytest.raises(RequestError, match=f"more than {LONGEST} numbers, names and signs"):
            Formula.parse(text)
    deep = (LONGEST - 1) // 2
    assert Formula.parse("(" * deep + "count" + ")" * deep).names == ("count",)
    with pytest.raises(RequestError, match="is no measure"):
        Measure.parse("share " * 3000 + "count")
    assert [json_object(t) for t in ('{"a": 1}', "[1]", "7", "x", b"\xff", "[" * 100_000)] == [{"a": 1}, *[None] * 5]
