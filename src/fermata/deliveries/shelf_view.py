"""The shelf as people use it: runs put there by hand, looked through, sent again."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from pydantic import ValidationError

from fermata import outputs, tomlfile
from fermata.archive.shelf import BODY, Item
from fermata.deliveries import dispatch, templates
from fermata.deliveries.dispatch import Parcel
from fermata.deliveries.model import Target
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import GIVE_UP, History, pause
from fermata.errors import RequestError
from fermata.notes import Note
from fermata.proof import snapshot
from fermata.proof.verify import Verdict
from fermata.reports.definition.report import Report
from fermata.reports.execute.register_list import context
from fermata.reports.result import ColumnDef, Records
from fermata.timeline.lengths import ago
from fermata.timeline.zones import local, zone
from fermata.workspace.base import Base

__all__ = ["facts", "keep", "pending", "send_again", "table", "verdicts"]

COLUMNS = (
    ColumnDef("item", "Item", "number"), ColumnDef("title", "Title"), ColumnDef("part", "Part"), ColumnDef("period",
    "Period"),
    ColumnDef("made", "Made", "time"), ColumnDef("delivery", "Delivery"), ColumnDef("files", "Files"),
    ColumnDef("label", "Label"),
    ColumnDef("until", "Kept until"), ColumnDef("history", "Since"),
)  # fmt: skip

WORDS = {"later": "not taken", "doubt": "in doubt"}  # of outcomes, where their own word would mislead
BELOW = ("files", "history")  # on a line of their own


def keep(
    base: Base, report: Report, forms: Sequence[str], *, named: str, label: str, keep_for: str, author: str
) -> Item:
    """See `KeptRuns.keep`."""
    for form in forms:
        if not outputs.known(form):
            raise RequestError(f"there is no form {form!r} (forms: {', '.join(outputs.FORMS)})")
    now = base.now()
    run = snapshot.made(base, report, named, now, now)
    stem = templates.file_name(f"{named or run.answer.context.title}-{run.dates}")
    until = now + (now - ago(keep_for, now, zone(base.config.workspace.zone))) if keep_for else None
    changes: dict[str, Any] = {}
    item = snapshot.keep(base.shelf, base, run, forms, stem, until=until, changes=changes, author=author)
    return base.shelf.label(item.number, label, now) if label else item


def table(base: Base, *, gone: bool) -> Records:
    """See `KeptRuns.table`."""
    tz, rows = zone(base.config.workspace.zone), []
    for item in reversed(base.shelf.items(gone=gone)):
        period = "" if item.gone else base.shelf.facts(item)["said"]["period"]
        until = f"{local(item.until, tz):%Y-%m-%d}" if item.until else "for ever"
        rows.append((
            item.number, item.title, item.part, period, item.made, item.delivery, ", ".join(item.outputs), item.label,
            item.gone or until, _history(item, tz),
        ))  # fmt: skip
    now = base.now()
    head = context(base.config.workspace.zone, now, "Shelf", f"as of {local(now, tz):%Y-%m-%d %H:%M}")
    notes = () if rows else (Note("nothing is on the shelf", "setting", "keep a run: fermata report NAME --keep"),)
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


def facts(base: Base, number: int) -> list[tuple[str, str]]:
    """See `KeptRuns.facts`."""
    item, tz = base.shelf.item(number), zone(base.config.workspace.zone)
    held = base.shelf.facts(item)
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
        *(("File", f"{p} ({p.stat().st_size:,} bytes)") for p in base.shelf.paths(item)),
        *(("Saw", e) for e in events),
        ("Fingerprint", f"{held['fingerprint']}, figures {held['figures']}"),
        ("Versions", ", ".join(f"{n} {v}" for n, v in held["versions"].items())),
        *(("Label", item.label) for _ in range(bool(item.label))),
        *(("Done", done) for done in _history(item, tz).split("; ") if done),
    ]
    return [*lines, ("Definition", "\n" + held["definition"].rstrip())]


def _stamp(text: str, tz: Any) -> str:
    return f"{local(datetime.fromisoformat(text), tz):%Y-%m-%d %H:%M}"


def verdicts(base: Base, found: Sequence[Verdict]) -> Records:
    """See `KeptRuns.verdicts`."""
    columns = tuple(ColumnDef(k, label) for k, label in (("subject", "What"), ("state", "State"), ("why", "Details")))
    rows = tuple((v.subject, v.state, "; ".join([*v.why, *v.also])) for v in found)
    now, tz = base.now(), zone(base.config.workspace.zone)
    head = context(base.config.workspace.zone, now, "Verified", f"as of {local(now, tz):%Y-%m-%d %H:%M}")
    return Records("Verified", head, columns, rows, len(rows))


def send_again(base: Base, number: int, **given: Any) -> list[Sent]:
    """See `KeptRuns.send_again`."""
    try:
        target = Target.model_validate(given)
    except ValidationError as e:
        raise RequestError("; ".join(tomlfile.problems(e, Target, ""))) from None
    if target.mail == ("recipient",):
        raise RequestError("name the address it goes to")
    item, now, told = base.shelf.item(number), base.now(), []
    if target.webhook and BODY not in item.files:
        raise RequestError(f"item {number} was not made for a webhook; send it by mail or into a folder")
    again = f"again {len(item.history)}"
    for parcel in dispatch.parcels(base, item, target, (), again):
        told += hand_over_by_hand(base, parcel, again, parcel.to, now, 1)
    return told


def hand_over_by_hand(
    base: Base, parcel: Parcel, again: str, to: Sequence[str], now: datetime, tries: int
) -> list[Sent]:
    """Hands a parcel over outside of any timetable, and records it so that `fermata send` tries again what could not be
    taken.
    """
    entry = {"item": parcel.item.number, "identity": parcel.identity, "at": now.isoformat()}
    target = parcel.target.model_dump(mode="json", exclude_defaults=True)
    base.shelf.record.add({"what": "intent", **entry, "to": list(parcel.to), "target": target, "again": again})
    outcomes = dispatch.hand_over(base, parcel, to, now)
    said = [{"state": o.state, "why": o.why, "to": list(o.to or to)} for o in outcomes]
    base.shelf.record.add({"what": "outcome", **entry, "outcomes": said})
    tz = zone(base.config.workspace.zone)
    told = []
    for o in outcomes:
        next_time = (
            f" (fermata send tries again from {local(now + pause(tries), tz):%Y-%m-%d %H:%M})"
            if o.state == "later"
            else ""
        )
        told.append(Sent("", None, o.state, ", ".join(o.to or to), o.why + next_time, parcel.item.part))
    return told


def pending(base: Base, history: History, now: datetime, *, at_once: bool) -> list[Sent]:
    """Tries again what was sent by hand and not taken, when it is time; what became of it."""
    told: list[Sent] = []
    for identity, one in history.by_hand.items():
        item, letter = base.shelf.item(one.item, gone=True), one.letter
        if item.gone or letter.open or not letter.next or not (at_once or now >= letter.next):
            continue
        if letter.first and now - letter.first >= GIVE_UP:
            given_up = [
                {"state": "given up", "why": f"after {letter.tries} tries: {letter.why}", "to": list(letter.left)}
            ]
            entry = {"item": one.item, "identity": identity, "at": now.isoformat()}
            base.shelf.record.add({"what": "outcome", **entry, "outcomes": given_up})
            told.append(Sent("", None, "given up", ", ".join(letter.left), letter.why, item.part))
            continue
        for parcel in dispatch.parcels(base, item, Target.model_validate(one.target), (), one.again):
            if parcel.identity == identity:
                told += hand_over_by_hand(base, parcel, one.again, letter.left, now, letter.tries + 1)
    return told
