"""Proof: whether what is kept is as it was kept, and whether a run repeated today gives the same figures; if not, why.

A run is repeated with the definition it had, at its planned time, under its viewer. Same figures are same figures;
where they differ, what changed since is named, and the run is repeated once more with only what was known when it was
made: if that gives the same figures, later records are all there is to it.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fermata.archive.shelf import Facts, Item
from fermata.errors import ArchiveDamaged, FermataError, counted
from fermata.proof import fingerprint, snapshot
from fermata.registers.scope import Scope
from fermata.reports.compile.parts import whole
from fermata.reports.compile.request import compiled
from fermata.reports.definition import files
from fermata.reports.definition.report import Report
from fermata.reports.execute.answer import execute
from fermata.workspace.base import Base
from fermata.workspace.last_run import LAST

__all__ = ["Verdict", "archive", "repeat", "shelf"]

KINDS = {
    "mappings": "the mapping of",
    "registers": "the register",
    "hours": "the hours",
    "factors": "the factor",
    "patterns": "the working pattern",
    "workdays": "the workdays",
    "computed": "the computed field",
    "settings": "the settings",
    "zones": "the zone data of",
    "versions": "the version of",
}


@dataclass(frozen=True)
class Verdict:
    """What was verified, and how it stands: `same`, `changed`, `damaged`, `not repeated`, `nothing stored` or `nothing
    kept`; `why` are the reasons, `also` what changed without changing figures.
    """

    subject: str
    state: str
    why: tuple[str, ...] = ()
    also: tuple[str, ...] = ()

    @property
    def holds(self) -> bool:
        """Whether it is as it was. That a shelf is empty is usual; of an archive without anything nothing is proved."""
        return self.state in ("same", "nothing kept")


def archive(base: Base) -> Verdict:
    """Whether the ledger is unbroken and every file of the archive as it was stored."""
    try:
        wrong = base.archive.changed_files()
        entries = base.archive.ledger()
    except ArchiveDamaged as e:
        return Verdict("archive", "damaged", (str(e),))
    manifest = base.archive.snapshot().manifest
    known = {p for e in entries for p in e.get("made", {})}
    live = manifest.paths() - set(manifest.retired)
    also = [
        f"{len(live):,} files, {len(entries):,} imports in the ledger, which ends "
        f"{manifest.ledger_head[:16] or '(empty)'}"
    ]
    if unknown := len(live - known):
        also.append(f"{unknown:,} files are older than the marks kept of files, and cannot be compared")
    state = "same" if entries else "nothing stored"
    return Verdict("archive", "damaged" if wrong else state, tuple(wrong), tuple(also))


def shelf(base: Base) -> Verdict:
    """Whether the record of the shelf is unbroken and every kept file as it was kept."""
    try:
        items = base.shelf.items()
        head = base.shelf.record.head
    except ArchiveDamaged as e:
        return Verdict("shelf", "damaged", (str(e),))
    wrong = [w for i in items for w in base.shelf.changed(i)]
    also = (f"{counted(len(items), 'item')}, its record ends {head[:16] or '(empty)'}",)
    state = "same" if items else "nothing kept"
    return Verdict("shelf", "damaged" if wrong else state, tuple(wrong), also)


def repeat(base: Base, item: Item) -> Verdict:
    """Repeats the run of an item and compares."""
    subject = f"{item.number}: {item.title}{f', {item.part}' if item.part else ''}"
    try:
        facts = base.shelf.facts(item)
    except ArchiveDamaged as e:
        return Verdict(subject, "damaged", (str(e),))
    try:
        return _compared(base, item, facts, subject)
    except FermataError as e:
        return Verdict(subject, "not repeated", (f"it can no longer be run: {e}", *_definition(base, facts)))


def _compared(base: Base, item: Item, facts: Facts, subject: str) -> Verdict:
    planned = datetime.fromisoformat(facts["planned"])
    before = base.seen_by(facts["viewer"]) if facts["viewer"] else base
    before = before.at(planned)
    if facts["scope"]:
        scope = facts["scope"]
        before = before.narrowed_to(Scope(scope["field"], tuple(scope["values"]), scope["words"]))
    report = snapshot.read_definition(facts["definition"], f"shelf item {item.number}")
    place = before.place()
    request = compiled(report, place, planned, part=True)  # which reports a viewer may run was asked when it was made
    now = execute(request, place)
    plans = fingerprint.plans_of(report, place, planned)
    differing = [*_differing(facts, fingerprint.inputs(before, place, plans)), *_definition(base, facts)]
    if not differing and facts.get("request", request.digest) != request.digest:
        differing.append("what the definition means changed, by something that no mark above tells")
    same = fingerprint.figures(now) == facts["figures"]
    if same and not any(place.held(n) for p in plans for s in p.strands for n in s.schema.stored_logs):
        return Verdict(subject, "same", (), tuple(differing))
    seen = fingerprint.contents(plans, place)
    if same:  # no ledger vouches for the records of a table
        others = _events(base, facts, seen)
        return Verdict(subject, "changed" if others else "same", tuple(others), tuple(differing))
    why = [*_events(base, facts, seen), *differing]
    if _as_known(before, report, facts):
        why.insert(
            0,
            f"as known when it was made ({facts['made'][:16].replace('T', ' ')} UTC) the figures are the same: only "
            "later records differ",
        )
    return Verdict(subject, "changed", tuple(why) or ("nothing that is kept of it explains it",))


def _as_known(base: Base, report: Report, facts: Facts) -> bool:
    """Whether the figures are the same with only what had come in when the run was made."""
    if report.as_known or report.register_name or report.ask:
        return False
    try:
        place = base.place()
        known = execute(compiled(report.changed(as_known=facts["made"]), place, base.now(), part=True), place)
    except FermataError:
        return False
    return bool(fingerprint.figures(known) == facts["figures"])


def _differing(facts: Facts, now: dict[str, Any]) -> list[str]:
    """The inputs that are not what they were."""
    found = []
    for kind, words in KINDS.items():
        if kind not in facts:
            continue  # kept before there was such a mark
        for name, held in facts[kind].items():
            today = now[kind].get(name)
            if today == held:
                continue
            told = f" ({held}, now {today or 'gone'})" if kind == "versions" else "" if today else " (it is gone)"
            found.append(f"{words} {name} changed{told}")
        found += [f"{words} {name} is new" for name in now[kind] if name not in facts[kind]]
    return found


def _definition(base: Base, facts: Facts) -> list[str]:
    """That the report of that name says something else today; the repetition took the definition it had."""
    if facts["report"] in ("", LAST):
        return []
    try:
        report = base.definition(facts["report"])
        report = report.with_keys(facts["changes"]) if facts["changes"] else report
        today = files.text_of(whole(report, base.place()))
    except FermataError as e:
        return [f"the report {facts['report']} of today: {e}"]
    return [] if today == facts["definition"] else [f"the report {facts['report']} says something else today"]


def _events(base: Base, facts: Facts, seen: list[dict[str, Any]]) -> list[str]:
    """Which logs' events are not those it saw, and what the ledger says was done to them since."""
    held = {(s["log"], s["from"], s["to"]): s for s in facts["seen"]}
    logs: dict[str, int] = {}
    for one in seen:
        former = held.get((one["log"], one["from"], one["to"]))
        if former is None or former["sum"] != one["sum"]:
            more = one["events"] - (former["events"] if former else 0)
            logs[one["log"]] = logs.get(one["log"], 0) + more
    since = [e for e in base.archive.ledger() if e["import"] > facts["archive"]["imports"]]
    found = []
    for log, more in logs.items():
        done = [_told(e) for e in since if e["log"] == log]
        count = f"{more:+,} events" if more else "as many events, but not the same"
        found.append(f"{log}: {count} in its time" + (f" ({'; '.join(done)})" if done else ""))
    return found


def _told(entry: dict[str, Any]) -> str:
    at = entry["at"][:16].replace("T", " ")
    if entry.get("what") == "taken back":
        return f"import {entry['taken_back']} was taken back {at}"
    if entry.get("what") == "expired":
        return f"events before {entry['before'][:10]} expired {at}"
    if entry.get("what") == "compacted":
        return f"files were put together {at}"
    names = ", ".join(f["path"] for f in entry["files"][:3])
    more = f" and {len(entry['files']) - 3} more" if len(entry["files"]) > 3 else ""
    return f"import {entry['import']} {at}: {names}{more}" + (
        ", replacing an earlier import" if entry.get("superseded") else ""
    )
