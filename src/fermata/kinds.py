"""Kinds of log: the fields and the values of `action` and `outcome` that ready reports expect of each.

A log declares its kind (`kind = "door access"`), and its mapping turns what the source writes into these words. Other
values are no error: they are listed by the survey, and a report that depends on a word refuses while the log writes
others in its place, instead of showing zero.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

__all__ = ["KINDS", "Kind", "headings"]


@dataclass(frozen=True)
class Kind:
    """What a kind of log is about; fields, actions and outcomes with their meaning.

    `cannot` says what such sources usually do not write, so that nobody reads it out of a report; `further` are fields
    that single ready reports ask for, from the source or worked out (`[computed.NAME]`).
    """

    about: str
    fields: dict[str, str]
    actions: dict[str, str]
    outcomes: dict[str, str] = field(default_factory=dict)
    cannot: str = ""
    further: dict[str, str] = field(default_factory=dict)

    def values(self, name: str) -> dict[str, str]:
        """The words of `action` or `outcome`; none for other fields."""
        return {"action": self.actions, "outcome": self.outcomes}.get(name, {})


KINDS = {
    "door access": Kind(
        "who went through which door, and what the doors did",
        {"user": "the card or person", "device": "the reader or door", "place": "where it is",
         "action": "what happened"},
        {
            "in": "an entry granted", "out": "an exit granted", "granted": "a way through, direction unknown",
            "refused": "refused", "forced": "opened without a reading", "held open": "open longer than allowed",
            "closed": "closed again", "locked": "locked", "unlocked": "unlocked", "alarm": "an alarm",
            "fault": "a fault of reader or door",
        },
        cannot="people who go through behind somebody else, and ways out without a reader",
    ),
    "calls": Kind(
        "telephone calls with their talking time",
        {"user": "the extension or person here", "other": "the number at the other end", "device": "line or trunk",
         "direction": "in, out or internal", "duration": "talking time", "action": "how it ended"},
        {"answered": "talked", "missed": "rang, nobody answered", "busy": "the line was busy",
         "failed": "did not come about",
         "diverted": "sent on", "voicemail": "a message was left"},
        cannot="calls made outside this telephone system",
        further={"reach": "internal, national, abroad ...", "charge": "what it costs",
        "call": "what the records of one call share", "group": "the number that rings several telephones",
        "rang": "the telephones that rang", "mos": "how well it was understood, 1 to 5"},
    ),
    "printing": Kind(
        "print jobs",
        {"user": "the owner", "device": "the printer or queue", "title": "the document", "pages": "pages of the job",
         "copies": "copies", "sheets": "sheets of paper", "colour": "whether in colour", "paper": "paper size",
         "cost": "charged"},
        {"printed": "came out", "cancelled": "taken back", "refused": "stopped by a rule", "failed": "went wrong",
         "held": "waits"},
        cannot="jobs sent to a printer past the queue; a raw queue counts 0 pages",
        further={"price": "what it would cost, whether it came out or not", "area": "square metres of paper",
        "weight": "kilograms of paper",
                 "colour_pages": "pages in colour", "mono_pages": "pages in black", "tags": "marks of the job"},
    ),
    "logins": Kind(
        "sessions on computers",
        {"user": "the account", "device": "the computer", "other": "where it came from",
         "outcome": "whether it succeeded"},
        {"login": "a session begins", "logout": "it ends", "failed": "refused", "locked": "the screen was locked",
         "unlocked": "and unlocked", "boot": "the computer started", "shutdown": "it stopped"},
        {"succeeded": "let in", "failed": "refused"},
        cannot="sessions that end with the power",
    ),
    "software use": Kind(
        "programs and licences in use",
        {"user": "who", "device": "on which computer", "other": "the program or feature", "duration": "how long"},
        {"used": "in use for a time", "started": "begins", "stopped": "ends", "refused": "no licence free",
         "queued": "waits for one"},
        cannot="whether somebody sat at the program that was open",
        further={"pool": "the pool of seats it is taken from"},
    ),
    "time entries": Kind(
        "working time",
        {"user": "who worked", "project": "for what", "activity": "doing what", "duration": "how long",
         "charged": "billable"},
        {"worked": "work", "clock in": "begins", "clock out": "ends", "break": "a pause",
         "absence": "away, paid or not"},
        cannot="work that nobody entered",
        further={"billed": "what it is charged at", "wage": "what it is paid", "editor": "who corrected it",
        "paid": "the date it was paid",
        "remark": "a remark"},
    ),
    "network sessions": Kind(
        "sessions of devices on a network",
        {"user": "the account", "device": "the access point or gateway", "other": "the client's address",
         "received": "bytes to the client", "sent": "bytes from it", "outcome": "why it ended"},
        {"start": "a session begins", "stop": "it ends", "interim": "still running", "session": "a whole session",
         "accounting on": "the gateway started anew", "accounting off": "it goes down"},
    ),
    "changes": Kind(
        "what administrators changed",
        {"user": "who changed it", "other": "what was changed", "action": "how", "old": "value before",
         "new": "value after"},
        {"created": "made", "changed": "altered", "deleted": "removed", "enabled": "switched on",
         "disabled": "switched off",
         "granted": "a right was given", "revoked": "a right was taken"},
        cannot="changes made past the program, in its database or files",
    ),
    "credit movements": Kind(
        "movements on credit accounts",
        {"user": "whose account", "amount": "how much, negative when spent", "other": "by whom or for what"},
        {"opening": "balance carried over", "credit": "added", "debit": "spent", "refund": "given back",
         "correction": "put right"},
    ),
    "states": Kind(
        "states a device or case enters",
        {"device": "which", "action": "the state entered", "user": "who set it"},
        {"up": "works", "down": "does not work", "idle": "free", "busy": "in use", "maintenance": "being serviced",
         "unknown": "not known"},
    ),
    "activities": Kind(
        "steps of cases, courses or contacts",
        {"user": "who did it", "other": "the case", "action": "the step"},
        {"opened": "begins", "changed": "goes on", "closed": "ends", "viewed": "looked at", "completed": "finished",
         "sent": "message out", "received": "message in"},
    ),
    "plans": Kind(
        "what is planned: bookings, rosters, estimates",
        {"user": "for whom", "place": "where", "title": "what", "duration": "how long"},
        {"planned": "stands", "tentative": "perhaps", "cancelled": "does not take place"},
    ),
    "web access": Kind(
        "requests to a web server",
        {"user": "the account", "other": "the path", "action": "the method", "outcome": "the status"},
        {},
        cannot="pages shown from a cache, and who sat behind an address",
        further={"size": "bytes sent"},
    ),
}  # fmt: skip

HEADINGS = {  # kind -> what its device and the other end are called
    "door access": {"device": "Door"},
    "calls": {"device": "Line", "place": "Queue", "other": "Number", "group": "Group number"},
    "printing": {"device": "Printer"},
    "logins": {"device": "Computer", "other": "Address"},
    "software use": {"device": "Computer", "other": "Program"},
    "network sessions": {"device": "Access point", "other": "Address"},
    "changes": {"other": "Object"},
    "activities": {"other": "Object"},
    "web access": {"device": "Address", "other": "Path"},
}
ATTRIBUTES_OF = ("user.", "project.", "device.", "place.")  # whose attributes need no owner in their heading


def headings(names: Sequence[str], kind: str) -> list[str]:
    """The headings of fields in logs of a kind: a device is a door, a printer, a line. No two are the same.

    >>> headings(["device", "user.department", "cost_centre"], "printing")
    ['Printer', 'Department', 'Cost centre']
    >>> headings(["title", "user.title"], "printing")
    ['Title', 'User title']
    >>> headings(["device", "line"], "calls")
    ['Device', 'Line']
    """
    short = [_short(name, kind) for name in names]
    return [s if short.count(s) == 1 else _plain(n) for n, s in zip(names, short, strict=True)]


def _short(name: str, kind: str) -> str:
    owner, _, attribute = name.rpartition(".")
    if f"{owner}." in ATTRIBUTES_OF and attribute not in ("id", "written", "parent", "top"):
        return _plain(attribute)
    return HEADINGS.get(kind, {}).get(name) or _plain(name)


def _plain(name: str) -> str:
    return name[:1].upper() + name[1:].replace("_", " ").replace(".", " ")
