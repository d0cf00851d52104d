"""What a file is: format, encoding, delimiter, header, and a sample of its columns."""

from __future__ import annotations

import csv
import itertools
import re
import sqlite3
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fermata.archive.duck import connect
from fermata.errors import SourceError
from fermata.intake import opening, signatures
from fermata.intake.field_map import named_once
from fermata.intake.guess import shapes, spooler
from fermata.intake.guess.objects import WITHIN, is_document, ways_of
from fermata.intake.guess.shape import STAMP, Shape
from fermata.intake.guess.widths import places
from fermata.intake.mapping import LogMap
from fermata.intake.readers import Job, counting, delimited, reader, syslog, webaccess, xlsx

__all__ = ["Sniffed", "sniff"]

HEAD = 1 << 18
SAMPLE = 2000
WRAPPED = re.compile(  # an object with an array among its first keys
    r'\{\s*(?:"[^"]*"\s*:\s*(?:"[^"]*"|[\d.]+|true|false|null)\s*,\s*)*"([^"]+)"\s*:\s*\['
)
TABLES = ("delimited", "json", "json lines", "parquet", "sql", "xlsx")  # formats whose columns have names
NUMBER_OR_TIME = re.compile(rf"[\d:./,+-]+( ?[AaPp][Mm])?|{STAMP}")
PAIR = r"[A-Za-z_][\w.\-]*=\S.*?[\s,;&][A-Za-z_][\w.\-]*="
PAIRS = rf"(?:{STAMP} +)?{PAIR}|(?:<\d+>)?(?:{syslog.DAY} \S+ )?(?:date|time|timestamp|eventtime)=\S.*?[\s,;&]\w+="
NOTHING = ("NA", "N/A", "n/a", "#N/A", "-", "--", "null", "NULL", "(null)", "None", "nil", "???")
BRACKETED = r"^\[(?P<time>[^\]]*\d:\d\d[^\]]*)\]:? *(?P<text>.*)$"
WEB_PAGE = re.compile(rb"(?i)\s*(?:\xef\xbb\xbf)?<(?:!doctype html|html|table)\b")
FURTHER = 2000  # columns of a line, beyond those of the others
SCRIPT_END = 0.8  # of the lines must look like a format


@dataclass
class Sniffed:
    """A file's format with the settings it needs, its columns with sample texts, and what is unsure about it."""

    format: str
    settings: dict[str, Any] = field(default_factory=dict)
    columns: dict[str, list[str]] = field(default_factory=dict)
    unsure: list[str] = field(default_factory=list)
    header: bool = True
    shape: Shape | None = None


def sniff(path: Path) -> Sniffed:
    """Looks at a file, packed or not. Raises SourceError where it is empty or cannot be told."""
    with tempfile.TemporaryDirectory() as scratch:
        member = path if opening.is_workbook(path) else opening.members(path, "")[0]
        with opening.unpacked(member, Path(scratch)) as plain:
            with plain.open("rb") as f:
                head = f.read(HEAD)
            if not head.strip():
                raise SourceError(f"{path}: is empty")
            if WEB_PAGE.match(head):
                raise SourceError(f"{path}: is a web page, and no log: save its table as delimited text or a workbook")
            if not (found := _binary(plain, head, path)):
                signatures.refuse_unknown(head, path)
                found = _text(head, path)
            if found.format != "sql":
                found.columns = _columns(plain, path, found, Path(scratch))
            if found.format == "key=value":
                found.columns |= _stamps(head)
            if found.format == "syslog" and (shape := shapes.of_messages(found.columns)):
                found.shape = shape
                found.settings |= shape.settings
                found.unsure += shape.unsure
            if found.shape and "text" in found.columns and found.shape.fields.get("action") == {"column": "level"}:
                found.unsure = [u for u in found.unsure if u not in found.shape.unsure]
                found.shape = shapes.with_pairs(found.shape, "text", found.columns["text"])
                found.unsure += found.shape.unsure
            if found.format == "json lines" and "__REALTIME_TIMESTAMP" in found.columns:
                found.shape = shapes.of_journal(found.columns)
            elif found.shape is None and found.format in TABLES and (shape := shapes.of_columns(found.columns)):
                found.shape = shape
                found.settings |= shape.settings
                found.unsure += shape.unsure
            if found.shape is None and found.format in ("delimited", "json", "json lines", "xlsx"):
                _without_nothing(found)
            if found.shape and found.format == "json lines":
                found.settings |= found.shape.settings
            return found


def _without_nothing(found: Sniffed) -> None:
    """Words that stand for nothing among other values: declared, and left out of the sample."""
    words = {t for texts in found.columns.values() if len(set(texts)) > 1 for t in texts if t in NOTHING}
    if words:
        found.settings["empty"] = sorted(words)
        found.columns = {n: [t for t in texts if t not in words] for n, texts in found.columns.items()}


def _binary(path: Path, head: bytes, shown: Path) -> Sniffed | None:
    if head.startswith(b"PAR1"):
        return Sniffed("parquet")
    if head.startswith((opening.ZIP, opening.OLD_WORKBOOK)):
        return _workbook(path, str(shown))
    if head.startswith(b"SQLite format 3\x00"):
        try:
            return _database(path, shown)
        except sqlite3.Error as e:
            raise SourceError(f"{shown}: is a damaged database: {e}") from None
    size = path.stat().st_size
    if b"\x00" in head and size % 384 == 0 and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        kinds = {int.from_bytes(head[i : i + 2], "little") for i in range(0, min(len(head), size), 384)}
        if kinds <= set(range(10)):
            return Sniffed("login records")
    return None


def _workbook(path: Path, shown: str) -> Sniffed:
    """A workbook: its largest sheet; the rows above the fullest of its first ones are a banner."""
    found = Sniffed("xlsx")
    sizes = xlsx.sheets(path, shown)
    largest = max(sizes, key=lambda n: sizes[n], default=None)
    if largest is not None and largest != next(iter(sizes)):
        found.settings["sheet"] = largest
        found.unsure.append(f"the sheets are {', '.join(sizes)}; the largest was taken")
    _, rows = xlsx.table(path, shown, largest, 0, header=False)
    top = [sum(c is not None for c in row) for row in itertools.islice(rows, 20)]
    if above := top.index(max(top)) if top else 0:
        found.settings["skip_lines"] = above
    return found


def _database(path: Path, shown: Path) -> Sniffed:
    """A database file: the table with the most rows, and the column that may grow."""
    with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as db:
        tables = [
            r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
        ]
        counts = {t: db.execute(f'SELECT count(*) FROM "{t}"').fetchone()[0] for t in tables}
        if not counts:
            raise SourceError(f"{shown}: the database has no tables")
        table = max(counts, key=lambda t: counts[t])
        cursor = db.execute(f'SELECT * FROM "{table}" LIMIT {SAMPLE}')
        names = [d[0] for d in cursor.description]
        rows = cursor.fetchall()
        growing = [r[1] for r in db.execute(f'PRAGMA table_info("{table}")') if r[5] == 1]
    db.close()
    found = Sniffed("sql", {"query": f'SELECT * FROM "{table}"'})
    if growing:
        found.settings["growing"] = growing[0]
    found.columns = {n: [str(r[i]) for r in rows if r[i] is not None] for i, n in enumerate(names)}
    if len(counts) > 1:
        found.unsure.append(
            f"the tables are {', '.join(f'{t} ({n:,} rows)' for t, n in counts.items())}; the largest was taken"
        )
    return found


def _text(head: bytes, path: Path) -> Sniffed:
    encoding, unsure = _encoding(head)
    text = head.decode(encoding, "replace")
    lines = [line for line in text.splitlines()[: SAMPLE + 20] if line.strip()]
    if len(head) == HEAD and len(lines) > 1:
        lines.pop()  # cut in the middle
    found = _marked(text.lstrip("\ufeff \r\n\t"), lines) or _delimited(lines, text.splitlines(), path)
    found.unsure[:0] = unsure
    if encoding != "utf-8" and found.format in delimited.TEXTS:
        found.settings["encoding"] = encoding
    return found


def _encoding(head: bytes) -> tuple[str, list[str]]:
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return "utf-16", []
    if head[:400].count(b"\x00") > len(head[:400]) // 3:
        return ("utf-16-le" if head[1:2] == b"\x00" else "utf-16-be"), []
    try:
        head[: head.rfind(b"\n") + 1 or len(head)].decode("utf-8")
        return "utf-8", []
    except UnicodeDecodeError:
        return "cp1252", [
            "not UTF-8; taken for cp1252 (Western European), which reads any byte: look at names with accents"
        ]


def _marked(text: str, lines: list[str]) -> Sniffed | None:
    """Formats that give themselves away."""
    if text.startswith("BEGIN:VCALENDAR"):
        return Sniffed("icalendar")
    if re.match(r"(<\?xml[^>]*>\s*)?(<!--.*?-->\s*)*<log\b", text, re.DOTALL):
        return Sniffed("xes")
    if text.startswith("<") and (repeated := re.findall(r"<([A-Za-z][\w.:-]*)[ >]", text)):
        return _elements(text, repeated)
    if any(line.startswith("#Fields:") for line in lines):
        return Sniffed(
            "w3c",
            {"zone": "UTC"},
            unsure=["times of this format are UTC by its definition; some servers write local time"],
        )
    alone = len(lines) == 1 and (is_document(lines[0]) or bool(WRAPPED.match(lines[0]) and re.search(r"\}, *\{", text)))
    if _share(lines, r"\{.*\}$") > SCRIPT_END and not alone:
        return Sniffed("json lines")
    if text[:1] == "{" or re.match(r"\[\s*[\[{\]\"]", text):
        return _document(text)
    if len(lines) > 1 and re.match(r"\s+[A-Za-z][\w.:-]* [+:]?= ", lines[1]):
        return _accounting(text)
    if _share(lines, PAIRS) > SCRIPT_END:
        return Sniffed("key=value")
    if _share(lines, f"(?:{syslog.NEW})|(?:{syslog.OLD})") > SCRIPT_END:
        yearless = any(not re.match(r"(<\d+>)?(1 )?\d{4}-", line) for line in lines)
        year = "lines without a year get it inferred; year = 2026 declares that of the first line"
        return Sniffed("syslog", unsure=[year] if yearless else [])
    if _share(lines, webaccess.PATTERN) > SCRIPT_END:
        return Sniffed("web access")
    if told := spooler.layout_of(lines):
        return Sniffed("page log", {"layout": told[0]}, unsure=[told[1]])
    if shape := shapes.of_text(lines):
        return Sniffed(
            "delimited" if shape is shapes.DATABASE_SERVER else "regex",
            dict(shape.settings), unsure=list(shape.unsure), shape=shape,
        )  # fmt: skip
    return None


def _stamps(head: bytes) -> dict[str, list[str]]:
    """The times that lines of pairs begin with, as the column `line`."""
    lines = [line for line in head.decode("utf-8", "replace").splitlines() if line.strip()][:SAMPLE]
    stamps = [m[0] for line in lines if (m := re.match(STAMP, line))]
    return {"line": stamps} if len(stamps) > SCRIPT_END * len(lines) else {}


def _elements(text: str, names: list[str]) -> Sniffed:
    """XML: a record is the outermost element that comes again, below the one that holds all."""
    depth, at = 0, dict[str, int]()
    for closing, name, alone in re.findall(r"<(/?)([A-Za-z][\w.:-]*)[^<>]*?(/?)>", text):
        if closing:
            depth -= 1
            continue
        at.setdefault(name, depth)
        depth += not alone
    several = [n for n in dict.fromkeys(names) if names.count(n) > 1 and at.get(n, 0) > 0]
    record = min(several, key=lambda n: at[n], default="")
    if not record or at[record] == 1:
        return Sniffed("xml")
    return Sniffed("xml", {"records": record.rpartition(":")[2]})


def _accounting(text: str) -> Sniffed:
    """Accounting records: a session is told by the identity that all its records share, where the server writes one."""
    settings: dict[str, Any] = {"key": ["session", "action"]}
    unsure = []
    if re.search(r"Acct-Status-Type = Accounting-O", text):
        settings["drop"] = {"Acct-Status-Type": ["Accounting-On", "Accounting-Off"]}
        unsure.append("records that an access point was switched on or off belong to no session, and are skipped")
    return Sniffed("radius detail", settings, unsure=unsure)


def _share(lines: list[str], pattern: str) -> float:
    compiled = re.compile(pattern)
    return sum(bool(compiled.match(line)) for line in lines) / max(len(lines), 1)


def _document(text: str) -> Sniffed:
    """A JSON document: an array at the top, or the first array of objects on the way in."""
    if text[0] == "[":
        return Sniffed("json")
    if way := WRAPPED.match(text):
        return Sniffed("json", {"records": way[1]})
    inner = WITHIN.search(text)
    if inner:
        return Sniffed(
            "json", {"records": f"{inner[1]}.{inner[2]}"}, unsure=["records is the first array of objects found"]
        )
    return Sniffed("json", unsure=["taken for an object with one record per key"])


def _delimited(lines: list[str], raw: list[str], path: Path) -> Sniffed:
    comment = "#" if any(line.startswith("#") for line in lines[:50]) else ""
    kept = [line for line in lines if not (comment and line.startswith(comment))]
    best = max(",;\t|", key=lambda d: _fit(kept, d))
    if _fit(kept, best) < 1 and (at := places(kept)):
        return _fixed(kept, raw, at)
    cells = _cells(kept, best)
    widths = [len(r) for r in cells]
    if not widths or max(widths) < 2:
        return Sniffed(
            "regex",
            {"pattern": BRACKETED if _share(kept, BRACKETED) > SCRIPT_END else r"^(?P<time>\S+ \S+) (?P<text>.*)$"},
            unsure=["no delimiter and no known form; write the pattern with a named group per field"],
        )
    width = Counter(w for w in widths if w > 1).most_common(1)[0][0]
    above = next(i for i, w in enumerate(widths) if w == width)
    if max(widths) > width + FURTHER:
        raise SourceError(
            f"{path}: record {widths.index(max(widths)) + 1:,} has {max(widths):,} columns, the most have {width}: the "
            "ends of lines are lost there; have the file written again, or take that part out"
        )
    found = Sniffed("delimited", {"delimiter": best} if best != "," else {})
    if skipped := raw.index(kept[above]):
        found.settings["skip_lines"] = skipped  # blank lines and comments count, too
    if comment:
        found.settings["comment"] = comment
    if _is_data(cells[above : above + 200]):
        found.settings["header"] = False
        found.unsure.append("the first line looks like data, so there seems to be no header; columns are numbers")
    misfit = sum(w != width for w in widths[above:])
    if misfit:
        found.unsure.append(
            f"{misfit} of the first {len(widths) - above:,} records have another number of columns than {width}"
        )
    return found


def _is_data(rows: list[list[str]]) -> bool:
    """Whether the first row has numbers or times, as those below; several of another sort are days as headings."""
    found = [i for i, c in enumerate(rows[0]) if NUMBER_OR_TIME.fullmatch(c.strip())]
    below = [re.sub(r"\d+", "0", c) for c in rows[1]] if len(rows) > 1 else []
    headed = len(found) > 1 and all(i < len(below) and below[i] != re.sub(r"\d+", "0", rows[0][i]) for i in found)
    return bool(found) and not headed


def _fixed(kept: list[str], raw: list[str], at: list[tuple[int, int]]) -> Sniffed:
    """Text of fixed width: the first line that has something in every column is its header."""
    cells = [[line[a:b].strip() for a, b in at] for line in kept]
    above = next((i for i, row in enumerate(cells) if all(row)), 0)
    head = cells[above]
    found = Sniffed("fixed width")
    header = not any(NUMBER_OR_TIME.fullmatch(c) for c in head)
    names = named_once(head) if header else [str(i) for i in range(1, len(at) + 1)]
    upto = [str(b) for _, b in at[:-1]] + [""]
    found.settings["positions"] = {n: f"{a + 1}-{b}" for n, (a, _), b in zip(names, at, upto, strict=True)}
    if skipped := raw.index(kept[above]):
        found.settings["skip_lines"] = skipped
    if not header:
        found.settings["header"] = False
        found.unsure.append("the first line looks like data, so there seems to be no header; columns are numbers")
    found.unsure.append("positions are where every line has blanks; look at a long name that may reach further")
    return found


def _cells(lines: list[str], delimiter: str) -> list[list[str]]:
    """The lines as rows of a table; none where a text is longer than any cell."""
    try:
        return list(csv.reader(lines, delimiter=delimiter))
    except csv.Error:
        return []


def _fit(lines: list[str], delimiter: str) -> float:
    """How well a delimiter explains the lines: how many have the commonest number of columns, more columns first."""
    widths = Counter(len(r) for r in _cells(lines[:300], delimiter))
    wide = Counter({w: n for w, n in widths.items() if w > 1})  # lines above and below a table are of one column
    width, n = wide.most_common(1)[0] if wide else (1, 0)
    return n / sum(widths.values()) + width / 1000 if n > 1 or (n and not widths[1]) else 0


def _columns(plain: Path, path: Path, found: Sniffed, scratch: Path) -> dict[str, list[str]]:
    """The columns with their first texts, read by the format's own reader."""
    given = {k: v for k, v in found.settings.items() if k not in ("zone", "key")}
    log = LogMap.model_validate({"format": found.format, "fields": {"start": "x"}, **given})
    con = connect()
    text = plain
    if found.format in delimited.TEXTS:
        text = delimited.prepare(plain, log, counting.count(plain), scratch, path)
    wanted = tuple(ways_of(text, path)) if found.format in ("json lines",) else ()
    job = Job(con, text, path, log, "sniffed", wanted, scratch, plain.stat().st_mtime)
    records = reader(found.format).open(job)
    if found.format in ("json", "icalendar", "xes", "xml") and records.text:
        wanted = tuple(ways_of(records.text, path))
        records = reader("json lines").open(Job(con, records.text, path, log, "again", wanted, scratch))
    names = [n for n in records.columns if n != records.whole]
    listed = ", ".join(f"{records.columns[n]} AS v{i}" for i, n in enumerate(names))
    try:  # rows from all over the file: its first ones may all be of one day
        con.execute(f"CREATE TABLE sampled AS SELECT row_number() OVER () AS n, {listed} FROM {records.source}")
        step = con.execute(f"SELECT greatest(max(n) // {SAMPLE}, 1) FROM sampled").fetchone()[0] or 1
        rows = con.execute(f"SELECT * EXCLUDE n FROM sampled WHERE n % {step} = 0 ORDER BY n").fetchall()
    except Exception as e:
        raise SourceError(f"{path}: cannot be read as {found.format}: {str(e).splitlines()[0]}") from None
    rows = _records(rows, names)
    return {n: [r[i].strip() for r in rows if r[i] and r[i].strip()] for i, n in enumerate(names)}


def _records(rows: list[tuple[Any, ...]], names: list[str]) -> list[tuple[Any, ...]]:
    """The rows without those of a printout that are no records, where they are few: its heading once more on each page,
    and lines with little more than a number of the page, a sum or an end.
    """
    filled = [[(n, v.strip()) for n, v in zip(names, row, strict=True) if v and v.strip()] for row in rows]
    kept = [
        row
        for row, held in zip(rows, filled, strict=True)
        if sum(n == v for n, v in held) < 2 and len(held) > (len(names) > 3) + (len(names) > 4)
    ]
    return kept if len(kept) >= 0.8 * len(rows) else rows
