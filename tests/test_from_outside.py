"""A measure, a reader, an output form and a way to hand over from another package: written from the docs alone, installed beside this one,
with no change to it.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

PACKAGE = {
    "outside_example.py": '''
"""A reader of lines "time | user | pages", the sum of squares of an amount, and a form of one line a row."""
from fermata.analysis.declared import DeclaredMeasure
from fermata.intake.readers import Records, check

SQUARES = DeclaredMeasure("squares", adds="sum", expression=lambda column, where: (column * column).sum(where=where), unit="squares")


def open(job):
    check(job, ["when", "who", "n"])
    lines = job.path.read_text().splitlines()
    job.con.execute(f"CREATE TABLE piped_{job.tag} AS SELECT unnest(?) AS line", [lines])
    parts = {name: f"string_split(line, ' | ')[{i}]" for i, name in enumerate(("when", "who", "n"), 1)}
    return Records(f"piped_{job.tag}", parts, rows=len(lines), whole="line", temporary=f"piped_{job.tag}")


def write(answer, out, how, progress):
    for row in answer.table.body:
        out.write((" / ".join(map(str, (*row.shown, *row.cells))) + "\\n").encode())


def hand_over(letter):
    from pathlib import Path
    from fermata.deliveries.outcome import Outcome
    if letter.options.get("full"):
        raise OSError("the wall is full")
    with Path(letter.address).open("a") as wall:
        wall.write(f"{letter.subject} | {letter.files[0].read_text()} | {letter.token}")
    return Outcome("sent")
''',
    "outside_example-1.0.dist-info/METADATA": "Metadata-Version: 2.1\nName: outside-example\nVersion: 1.0\n",
    "outside_example-1.0.dist-info/entry_points.txt": """
[fermata.readers]
piped = outside_example
[fermata.measures]
squares = outside_example:SQUARES
[fermata.outputs]
slashed = outside_example:write
[fermata.channels]
wall = outside_example:hand_over
""",
}
CONFIG = """
[workspace]
zone = "UTC"
[logs.prints]
files = "*.piped"
format = "piped"
[logs.prints.fields]
start = { column = "when" }
user = "who"
pages = { column = "n", type = "number" }
"""


ONE_AFTER_ANOTHER = """
import contextlib, io, json, sys
from fermata.cli.main import answered
for line in sys.stdin:
    with contextlib.redirect_stdout(io.StringIO()) as told, contextlib.redirect_stderr(told):
        code = answered(json.loads(line))
    print(json.dumps([code, told.getvalue()]), flush=True)
"""
DELIVERY = """
report = "prints"
period = "2026-03"
when = "daily at 07:00"
formats = "slashed"
set = {{ by = ["user"] }}
[[to]]
channel = "{channel}"
address = "{address}"
subject = "{{{{ title }}}} for the wall"
token_env = "WALL"
{more}
"""


def test_a_measure_a_reader_and_an_output_from_outside(tmp_path: Path) -> None:
    """They are found, used in formulas, subtotals and limits, and written to a file, by the command line as it
    stands.
    """
    for name, text in PACKAGE.items():
        path = tmp_path / "site" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    hall = tmp_path / "hall"
    hall.mkdir()
    (hall / "fermata.toml").write_text(CONFIG)
    (hall / "a.piped").write_text(
        "2026-03-01T10:00 | ann | 3\n2026-03-01T11:00 | ann | 4\n2026-03-02T10:00 | bob | 5\n"
    )
    env = {**os.environ, "PYTHONPATH": str(tmp_path / "site"), "NO_COLOR": "1", "WALL": "secret"}
    process = subprocess.Popen(
        [sys.executable, "-c", ONE_AFTER_ANOTHER], env=env, text=True, stdin=subprocess.PIPE, stdout=subprocess.PIPE
    )

    def fermata(*arguments: str, code: int = 0) -> str:
        """One command line of the process, which has the package installed."""
        assert process.stdin
        assert process.stdout
        process.stdin.write(json.dumps(["-w", str(hall), *arguments]) + "\n")
        process.stdin.flush()
        found, told = json.loads(process.stdout.readline())
        assert found == code, told
        return str(told)

    fermata("import")
    asked = ("report", "prints", "--by", "user", "--columns")
    fermata(*asked, 'squares pages,Half = "squares pages" / 2', "--output", str(hall / "x.slashed"))
    assert (hall / "x.slashed").read_text() == "ann / 25 / 12.5\nbob / 25 / 12.5\n"
    assert "50" in fermata(*asked, "squares pages")
    deliveries = hall / "deliveries"
    deliveries.mkdir()
    wall = {"channel": "wall", "address": str(tmp_path / "wall.txt")}
    (deliveries / "daily.toml").write_text(DELIVERY.format(**wall, more=""))
    (deliveries / "full.toml").write_text(DELIVERY.format(**wall, more="options = { full = 'yes' }"))
    (deliveries / "gone.toml").write_text(DELIVERY.format(channel="wal", address="", more=""))
    assert "wall" in fermata("send", "daily", "--try")
    assert not (tmp_path / "wall.txt").exists()
    assert "sent" in fermata("send", "daily", "--now")
    assert (tmp_path / "wall.txt").read_text() == "Prints: Count by user for the wall | ann / 2\nbob / 1\n | secret"
    assert "the wall is full" in fermata("send", "full", "--now", code=1)
    assert "there is no channel 'wal'" in fermata("send", "gone", "--now", code=1)
    process.communicate()
