"""A measure, a reader and an output form from another package: written from the docs alone, installed beside this one,
with no change to it.
"""

from __future__ import annotations

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
''',
    "outside_example-1.0.dist-info/METADATA": "Metadata-Version: 2.1\nName: outside-example\nVersion: 1.0\n",
    "outside_example-1.0.dist-info/entry_points.txt": """
[fermata.readers]
piped = outside_example
[fermata.measures]
squares = outside_example:SQUARES
[fermata.outputs]
slashed = outside_example:write
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
    env = {**os.environ, "PYTHONPATH": str(tmp_path / "site"), "NO_COLOR": "1"}

    def fermata(*arguments: str) -> str:
        done = subprocess.run(
            [sys.executable, "-c", "from fermata.cli.main import main; main()", "-w", str(hall), *arguments],
            env=env,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    fermata("import")
    fermata(
        "report",
        "prints",
        "--by",
        "user",
        "--columns",
        'squares pages,Half = "squares pages" / 2',
        "--output",
        str(hall / "x.slashed"),
    )
    assert (hall / "x.slashed").read_text() == "ann / 25 / 12.5\nbob / 25 / 12.5\n"
    assert "50" in fermata("report", "prints", "--by", "user", "--columns", "squares pages")
