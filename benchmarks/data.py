"""Six million invented events as a CSV export of about 430 MB, made once into bench-data/."""

from __future__ import annotations

from pathlib import Path

ROOT = Path(__file__).parent.parent
DATA = ROOT / "bench-data"
CSV = DATA / "events.csv"
LONG = 5  # seconds; a question that takes longer is not asked again and again
EVENTS = 6_000_000
SCATTERED = DATA / "scattered"  # a workspace with half of them, in no order
VISITS = """
[logs.visits]
kind = "door access"
files = "incoming/*.csv"
zone = "UTC"
[logs.visits.fields]
start = { column = "When", form = "%Y-%m-%d %H:%M:%S" }
finish = { column = "Until", form = "%Y-%m-%d %H:%M:%S" }
user = "Badge"
device = "Reader"
place = "Area"
action = "Event"
"""
ZONE = "Europe/Lisbon"
FORM = "%d/%m/%Y %H:%M:%S"
VALUES = {"ENTRY OK": "in", "EXIT OK": "out", "NO ENTRY": "refused", "HELD OPEN": "held open"}
COLUMNS = ("When", "Until", "Badge", "Reader", "Event", "Remark", "Serial")
CONFIG = f"""
[workspace]
zone = "{ZONE}"
[logs.visits]
files = "events.csv"
[logs.visits.fields]
start = {{ column = "When", form = "{FORM}" }}
finish = {{ column = "Until", form = "{FORM}" }}
user = "Badge"
device = "Reader"
action = {{ column = "Event", values = {{ {", ".join(f'"{k}" = "{v}"' for k, v in VALUES.items())} }} }}
[logs.presence]
from = "visits"
pairing = {{ opening = "in", closing = "out", by = "user", reach = "12 hours" }}
"""


def make() -> None:
    """Writes the export: local wall-clock times in order, 2,000 people, 40 doors, stays of up to eight hours."""
    import duckdb

    if CSV.exists():
        return
    DATA.mkdir(exist_ok=True)
    con = duckdb.connect()
    con.execute("SET TimeZone = 'UTC'")
    events = ", ".join(f"'{e}'" for e in VALUES)
    con.execute(
        f"""COPY (
        SELECT strftime(timezone('{ZONE}', timezone('UTC', begun)), '{FORM}') AS "When",
               strftime(timezone('{ZONE}', timezone('UTC', begun + to_seconds((60 + hash(i * 3) % 28800)::BIGINT))), '{FORM}') AS "Until",
               'B-' || lpad((1000 + hash(i) % 2000)::VARCHAR, 5, '0') AS "Badge",
               'Door ' || lpad((hash(i * 7) % 40)::VARCHAR, 2, '0') AS "Reader",
               [{events}][(1 + hash(i * 13) % 4)::INTEGER] AS "Event",
               CASE WHEN i % 50 = 0 THEN 'left, with "care"' END AS "Remark", i AS "Serial"
        FROM (SELECT i, TIMESTAMP '2025-01-01' + to_microseconds(i * {31_536_000_000_000 // EVENTS}) AS begun FROM range({EVENTS}) t(i))
        ORDER BY i) TO '{CSV}' (HEADER)"""
    )


def scatter() -> None:
    """Half of the export's records in a random order, the same every time."""
    import duckdb

    if (SCATTERED / "events.csv").exists():
        return
    SCATTERED.mkdir(parents=True, exist_ok=True)
    (SCATTERED / "fermata.toml").write_text(CONFIG)
    types = ", ".join(f"'{c}': 'VARCHAR'" for c in COLUMNS)
    source = f"read_csv('{CSV}', header = true, columns = {{{types}}})"
    duckdb.connect().execute(
        f'COPY (SELECT * FROM {source} WHERE "Serial"::BIGINT % 2 = 0 ORDER BY hash("Serial")) '
        f"TO '{SCATTERED}/events.csv' (HEADER)"
    )


def peak(process: Path = Path("/proc/self")) -> float:
    """The most memory a process ever held, MB; what its parent held is no part of it, as it is of `ru_maxrss`."""
    line = next((x for x in (process / "status").read_text().splitlines() if x.startswith("VmHWM")), "VmHWM 0 kB")
    return int(line.split()[1]) / 1024
