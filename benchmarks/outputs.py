"""How fast a long listing becomes a file: a million made-up records, in a process of its own.

python -m benchmarks.outputs NAME     prints seconds, size and peak memory of one
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from benchmarks import data, ratios

PLACE = data.DATA / "listing"
MILLION = 1_000_000
COLUMNS = "start_utc, person, device, place, action, remark, file_id, record_no"
CONFIG = """
[workspace]
zone = "Europe/Lisbon"
[logs.doors]
files = "events.csv"
[logs.doors.fields]
start = "When"
user = "Who"
device = "Door"
place = "Place"
action = "What"
remark = "Remark"
"""


def make() -> None:
    """A workspace with a million events of 800 people at 60 doors, imported once."""
    import duckdb

    import fermata

    if (PLACE / "archive").exists():
        return
    PLACE.mkdir(parents=True, exist_ok=True)
    (PLACE / "fermata.toml").write_text(CONFIG)
    duckdb.connect().execute(
        f"""COPY (SELECT strftime(TIMESTAMP '2025-01-01' + to_seconds(i * 31), '%Y-%m-%dT%H:%M:%SZ') AS "When",
        'Person ' || (hash(i) % 800) || ' Ørskov' AS "Who", 'Door ' || (hash(i * 7) % 60) AS "Door", 'Place ' || (hash(i * 7) % 7) AS "Place",
        CASE WHEN hash(i * 3) % 2 = 0 THEN 'in' ELSE 'out' END AS "What", CASE WHEN i % 10 = 0 THEN 'checked by hand' END AS "Remark"
        FROM range({MILLION}) t(i)) TO '{PLACE / "events.csv"}' (HEADER)"""
    )
    fermata.open(PLACE).archive.import_log("doors")


def saved(form: str, count: int | None = None) -> Callable[[Path], None]:
    """Fermata's own way, from the request to the file."""

    def write(path: Path) -> None:
        import fermata
        from fermata import outputs
        from fermata.reports.definition.report import Report

        house = fermata.open(PLACE, now=datetime(2026, 6, 1, tzinfo=UTC))
        outputs.save(house.listing(Report(log="doors"), count), path.with_suffix(f".{form}"))

    return write


def parts() -> str:
    return f"read_parquet('{PLACE}/archive/doors/20*/1.parquet')"


def with_duckdb(path: Path) -> None:
    """COPY of the sorted rows, with local times of the engine's own zone functions."""
    import duckdb

    con = duckdb.connect()
    con.execute("SET TimeZone = 'Europe/Lisbon'")
    con.execute(
        f"COPY (SELECT strftime(timezone('UTC', start_utc), '%Y-%m-%dT%H:%M:%S%z') AS s, * EXCLUDE (start_utc) FROM "
        f"(SELECT {COLUMNS} FROM {parts()} ORDER BY start_utc, file_id, record_no)) TO '{path}.csv' (HEADER)"
    )


def with_polars(path: Path) -> None:
    """Sorted, localised and written by polars."""
    import polars as pl

    frame = pl.scan_parquet(f"{PLACE}/archive/doors/20*/1.parquet").select(COLUMNS.split(", ")).collect()
    local = (
        pl.col("start_utc")
        .dt.replace_time_zone("UTC")
        .dt.convert_time_zone("Europe/Lisbon")
        .dt.strftime("%Y-%m-%dT%H:%M:%S%z")
    )
    frame.sort("start_utc", "file_id", "record_no").with_columns(local).write_csv(f"{path}.csv")


def with_pandas(path: Path) -> None:
    """Sorted, localised and written by pandas."""
    import pandas as pd

    frame = pd.concat(
        pd.read_parquet(p, columns=COLUMNS.split(", ")) for p in sorted(PLACE.glob("archive/doors/20*/1.parquet"))
    )
    frame = frame.sort_values(["start_utc", "file_id", "record_no"])
    frame["start_utc"] = frame["start_utc"].dt.tz_localize("UTC").dt.tz_convert("Europe/Lisbon")
    frame.to_csv(f"{path}.csv", index=False)


def rows() -> Any:
    import duckdb

    return duckdb.connect().execute(f"SELECT {COLUMNS} FROM {parts()} ORDER BY start_utc, file_id, record_no")


def with_xlsxwriter(path: Path) -> None:
    """A plain loop over XlsxWriter's write(), in constant memory."""
    import xlsxwriter

    book = xlsxwriter.Workbook(f"{path}.xlsx", {"constant_memory": True, "default_date_format": "yyyy-mm-dd hh:mm:ss"})
    sheet, found = book.add_worksheet(), rows()
    at = 0
    while batch := found.fetchmany(10_000):
        for row in batch:
            for column, value in enumerate(row):
                sheet.write(at, column, value)
            at += 1
    book.close()


def with_canvas(path: Path) -> None:
    """Plain canvas calls of ReportLab, 31 rows of eight texts a page, a thousand pages."""
    from reportlab.pdfgen.canvas import Canvas

    canvas, found = Canvas(f"{path}.pdf"), rows()
    for _ in range(1000):
        canvas.setFont("Helvetica", 8)
        for line, row in enumerate(found.fetchmany(31)):
            for column, value in enumerate(row):
                canvas.drawString(40 + 65 * column, 800 - 20 * line, str(value))
        canvas.showPage()
    canvas.save()


READY = """const done = arguments[0], said = document.querySelector('main output'), began = performance.now();
new MutationObserver(() => { if (said.textContent.startsWith('201')) done((performance.now() - began) / 1000) }).observe(said, {childList: true, characterData: true, subtree: true});
document.querySelector('main .next').click()"""


def opened(path: Path) -> tuple[float, float]:
    """Seconds until a page of 100,000 embedded records has loaded in headless Chromium, and until all of them are at hand; medians of five."""
    from selenium import webdriver

    saved("html", 100_000)(path)
    options = webdriver.ChromeOptions()
    for argument in ("--headless=new", "--no-sandbox"):
        options.add_argument(argument)
    options.binary_location = shutil.which("chromium") or ""
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService(shutil.which("chromedriver")))
    loaded, ready = [], []
    for _ in range(5):
        driver.get(path.with_suffix(".html").as_uri())
        loaded.append(
            driver.execute_script("const t = performance.timing; return t.loadEventEnd - t.navigationStart") / 1000
        )
        ready.append(driver.execute_async_script(READY))
    driver.quit()
    return sorted(loaded)[2], sorted(ready)[2]


TASKS: dict[str, Callable[[Path], Any]] = {
    "CSV": saved("csv"),
    "CSV: DuckDB COPY": with_duckdb,
    "CSV: polars": with_polars,
    "CSV: pandas": with_pandas,
    "XLSX": saved("xlsx"),
    "XLSX: plain XlsxWriter": with_xlsxwriter,
    "PDF": saved("pdf", 600_000),
    "PDF: plain canvas calls (1,000 pages)": with_canvas,
    "HTML": saved("html", 500_000),
}


def table() -> list[str]:
    """Each task in a process of its own, as lines of Markdown."""
    lines = [
        "",
        "## Long listings (1,000,000 records of eight columns; PDF 600,000, HTML 500,000)",
        "",
        "From the request to the finished file, sorting included, loading of libraries not (CSV: the second file of a process, medians of three). The peers write the same rows by hand; "
        "their times have no gap, fold or hostile text looked after, their PDF neither fitted columns nor an embedded font.",
        "",
        "| | wall s | MB | pages | s per 1,000 pages | peak MB |",
        "|---|---:|---:|---:|---:|---:|",
    ]
    found: dict[str, list[dict[str, Any]]] = {name: [] for name in TASKS}
    walls: dict[str, float] = {}
    for number in range(3):  # the short ones three times, in turn
        for name in TASKS:
            if number == 0 or name.startswith("CSV"):
                command = [sys.executable, "-m", "benchmarks.outputs", name]
                done = subprocess.run(command, cwd=data.ROOT, capture_output=True, text=True, check=True)
                found[name].append(json.loads(done.stdout.splitlines()[-1]))
    for name, runs in found.items():
        walls[name] = sorted(r["wall"] for r in runs)[len(runs) // 2]
        r = sorted(runs, key=lambda r: r["wall"])[len(runs) // 2]
        pages = f"{r['pages']:,} | {1000 * r['wall'] / r['pages']:.2f}" if r["pages"] else " | "
        lines.append(f"| {name} | {r['wall']:.2f} | {r['size'] / 1e6:,.1f} | {pages} | {r['peak']:,.0f} |")
    ratios.note("CSV out / COPY", walls["CSV"] / walls["CSV: DuckDB COPY"])
    if not (shutil.which("chromium") and shutil.which("chromedriver")):
        return [*lines, "", "There is no Chromium on this machine: how fast a page opens was not measured."]
    with tempfile.TemporaryDirectory() as place:
        loaded, ready = opened(Path(place) / "page")
    said = (
        f"A page with 100,000 embedded records has loaded in Chromium after {loaded:.2f} s, and all of them can be sorted "
        f"{ready:.2f} s after the first click (medians of five)."
    )
    return [*lines, "", said]


def main() -> None:
    """One measurement."""
    make()
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "out"
        if sys.argv[1].startswith("CSV"):  # the second in a process counts; the first also loads what is needed
            TASKS[sys.argv[1]](path)
        began = time.perf_counter()
        TASKS[sys.argv[1]](path)
        wall = time.perf_counter() - began
        made = next(Path(place).iterdir())
        size = made.stat().st_size
        found = re.findall(rb"/Count (\d+)", made.read_bytes()) if made.suffix == ".pdf" else []
    print(json.dumps({"wall": wall, "size": size, "peak": data.peak(), "pages": max(map(int, found), default=0)}))


if __name__ == "__main__":
    main()
