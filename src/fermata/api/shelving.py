"""The shelf as people use it: runs put there by hand, looked through, sent again."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from fermata import tomlfile
from fermata.api import handing, making
from fermata.api.base import Base
from fermata.api.proving import Verdict
from fermata.delivery import wording
from fermata.delivery.model import Target
from fermata.delivery.outcome import Sent
from fermata.delivery.shelf import BODY, Item
from fermata.errors import RequestError
from fermata.outputs import FORMS
from fermata.reports.model import Report
from fermata.reports.registers import context
from fermata.reports.result import Records
from fermata.timeline.lengths import ago
from fermata.timeline.zones import local, zone

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["facts", "keep", "of_log", "send_again", "table", "verdicts"]

COLUMNS = (
    ("item", "Item", "number", "", 0), ("title", "Title", "text", "", 0), ("part", "Part", "text", "", 0), ("period", "Period", "text", "", 0),
    ("made", "Made", "time", "", 0), ("delivery", "Delivery", "text", "", 0), ("files", "Files", "text", "", 0), ("label", "Label", "text", "", 0),
    ("until", "Kept until", "text", "", 0), ("history", "Since", "text", "", 0),
)  # fmt: skip

WORDS = {"later": "not taken", "doubt": "in doubt"}  # of outcomes, where their own word would mislead
BELOW = ("files", "history")  # on a line of their own


def keep(
    house: Workspace, report: Report, forms: Sequence[str], *, named: str, label: str, keep_for: str, author: str
) -> Item:
    """See `Workspace.keep`."""
    for form in forms:
        if form not in FORMS:
            raise RequestError(f"there is no form {form!r} (forms: {', '.join(FORMS)})")
    now = house.now()
    run = making.made(house, report, named, now, now)
    stem = wording.file_name(f"{named or run.result.context.title}-{run.dates}")
    until = now + (now - ago(keep_for, now, zone(house.config.workspace.zone))) if keep_for else None
    changes: dict[str, Any] = {}
    item = making.keep(house.shelf, house, run, forms, stem, until=until, changes=changes, author=author)
    return house.shelf.label(item.number, label, now) if label else item


def table(house: Workspace, *, gone: bool) -> Records:
    """See `Workspace.shelf_table`."""
    tz, rows = zone(house.config.workspace.zone), []
    for item in reversed(house.shelf.items(gone=gone)):
        period = "" if item.gone else house.shelf.facts(item)["said"]["period"]
        until = f"{local(item.until, tz):%Y-%m-%d}" if item.until else "for ever"
        rows.append((
            item.number, item.title, item.part, period, item.made, item.delivery, ", ".join(item.outputs), item.label,
            item.gone or until, _history(item, tz),
        ))  # fmt: skip
    now = house.now()
    head = context(house.config.workspace.zone, now, "Shelf", f"as of {local(now, tz):%Y-%m-%d %H:%M}")
    notes = () if rows else ("nothing is on the shelf; keep a run: fermata report NAME --keep",)
    return Records("Shelf", head, COLUMNS, tuple(rows), len(rows), notes=notes, second=BELOW)


def _history(item: Item, tz: Any) -> str:
    """What was done with an item, in words, oldest first."""
    found: list[str] = []
    for entry in item.history:
        at = _stamp(entry["at"], tz)
        if entry["what"] == "outcome":
            found += [f"{WORDS.get(o['state'], o['state'])} {at} {', '.join(o['to'])}" for o in entry["outcomes"]]
        elif entry["what"] == "placed":
            found.append(f"placed {at} {', '.join(entry['to'])}")
    return "; ".join(found)


def facts(house: Workspace, number: int) -> list[tuple[str, str]]:
    """See `Workspace.shelf_facts`."""
    item, tz = house.shelf.item(number), zone(house.config.workspace.zone)
    held = house.shelf.facts(item)
    events = [
        f"{s['log']} {s['events']:,} events {s['from'][:16]} to {s['to'][:16]} UTC, sum {s['sum']}"
        for s in held["seen"]
    ]
    lines = [
        ("Period", f"{held['said']['period']} ({held['said']['zone']})"),
        (
            "Report",
            f"{held['report'] or 'made by hand'}, as at {_stamp(held['planned'], tz)}, made {_stamp(held['made'], tz)}",
        ),
        ("View", held["view"]),
        *(("File", f"{p} ({p.stat().st_size:,} bytes)") for p in house.shelf.paths(item)),
        *(("Saw", e) for e in events),
        ("Fingerprint", f"{held['fingerprint']}, figures {held['figures']}"),
        ("Versions", ", ".join(f"{n} {v}" for n, v in held["versions"].items())),
        *(("Label", item.label) for _ in range(bool(item.label))),
        *(("Done", done) for done in _history(item, tz).split("; ") if done),
    ]
    return [*lines, ("Definition", "\n" + held["definition"].rstrip())]


def _stamp(text: str, tz: Any) -> str:
    return f"{local(datetime.fromisoformat(text), tz):%Y-%m-%d %H:%M}"


def verdicts(house: Workspace, found: Sequence[Verdict]) -> Records:
    """See `Workspace.verdict_table`."""
    columns = tuple(
        (k, label, "text", "", 0) for k, label in (("subject", "What"), ("state", "State"), ("why", "Details"))
    )
    rows = tuple((v.subject, v.state, "; ".join([*v.why, *v.also])) for v in found)
    now, tz = house.now(), zone(house.config.workspace.zone)
    head = context(house.config.workspace.zone, now, "Verified", f"as of {local(now, tz):%Y-%m-%d %H:%M}")
    return Records("Verified", head, columns, rows, len(rows))


def send_again(house: Workspace, number: int, **given: Any) -> list[Sent]:
    """See `Workspace.send_again`."""
    try:
        target = Target.model_validate(given)
    except ValidationError as e:
        raise RequestError("; ".join(tomlfile.problems(e, Target, ""))) from None
    if target.mail == ("recipient",):
        raise RequestError("name the address it goes to")
    item, now, told = house.shelf.item(number), house.now(), []
    if target.webhook and BODY not in item.files:
        raise RequestError(f"item {number} was not made for a webhook; send it by mail or into a folder")
    for parcel in handing.parcels(house, item, target, (), f"again {len(item.history)}"):
        entry = {"item": number, "identity": parcel.identity, "at": now.isoformat()}
        house.shelf.record.add({"what": "intent", **entry, "to": list(parcel.to)})
        outcomes = handing.hand_over(house, parcel, parcel.to, now)
        told += [Sent("", None, o.state, ", ".join(o.to or parcel.to), o.why, item.part) for o in outcomes]
        said = [{"state": o.state, "why": o.why, "to": list(o.to or parcel.to)} for o in outcomes]
        house.shelf.record.add({"what": "outcome", **entry, "outcomes": said})
    return told


def of_log(house: Base, log: str, before: datetime) -> list[int]:
    """The numbers of kept items that tell of a log's events of periods that ended by then."""
    past = []
    for item in house.shelf.items():
        facts = house.shelf.facts(item)
        if log in facts["logs"] and facts["period"] and datetime.fromisoformat(facts["period"][1]) <= before:
            past.append(item.number)
    return past
