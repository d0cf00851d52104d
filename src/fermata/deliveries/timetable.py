"""The timetable: `deliveries/NAME.toml` read and checked, when each is due, and new ones written."""

from __future__ import annotations

import getpass
import shlex
from datetime import datetime
from pathlib import Path
from typing import Any

from fermata import tomlfile
from fermata.archive.folder import writable
from fermata.deliveries import conditions, recipients, templates
from fermata.deliveries.channel import channels
from fermata.deliveries.model import NO_SERVER, Delivery, Target
from fermata.errors import FermataError, RequestError, UnknownName
from fermata.proof import fingerprint
from fermata.reports.definition import files
from fermata.reports.definition.report import Report
from fermata.secret import secret
from fermata.timeline.recurrence import Recurrence, recurrence
from fermata.workspace import last_run
from fermata.workspace.base import Base

__all__ = ["FOLDER", "load", "names", "next_run", "problems", "recurrence_of", "report_of", "units", "viewed_house"]

FOLDER = "deliveries"
TEXTS = ("subject", "text", "name")


def names(base: Base) -> list[str]:
    """The names of the deliveries there are."""
    return files.names(base.path / FOLDER)


def load(base: Base, name: str) -> Delivery:
    """The delivery kept under `name`. Raises UnknownName, ConfigError with every problem of the file."""
    path = base.path / FOLDER / f"{name}.toml"
    if name not in names(base):
        raise UnknownName.of("delivery", name, names(base))
    data, text = tomlfile.load(path)
    return tomlfile.parse(Delivery, data, path, text)


def recurrence_of(base: Base, delivery: Delivery) -> Recurrence:
    """When it is due, on the workspace's clock. Raises RequestError."""
    zone_name = base.config.workspace.zone
    working = base.terms.workdays if "working day" in delivery.when else None
    return recurrence(delivery.when, zone_name, first=delivery.starts, at=delivery.at, working=working)


def next_run(base: Base, delivery: Delivery, after: datetime) -> datetime | None:
    """When it is due next after a moment (both aware), runs that are left out aside. Raises RequestError."""
    rule = recurrence_of(base, delivery)
    at = rule.after(after)
    while at in delivery.skip:
        at = rule.after(at)
    return at


def report_of(base: Base, delivery: Delivery) -> Report:
    """What it sends: the report with the delivery's own period and keys. Raises UnknownName, RequestError."""
    if delivery.report == last_run.LAST:
        raise RequestError(
            "report = 'last' would be whatever was run last; save it first: fermata schedule --add NAME --report "
            "last --when ..."
        )
    changes = {**delivery.set, **({"period": delivery.period} if delivery.period else {})}
    report = base.definition(delivery.report)
    return report.with_keys(changes) if changes else report


def viewed_house(base: Base, delivery: Delivery) -> Base:
    """The workspace as the delivery's viewer has it. Raises UnknownName."""
    return base.seen_by(delivery.viewer) if delivery.viewer else base


def problems(base: Base, delivery: Delivery) -> list[str]:
    """All that would keep it from going out, as far as that can be known now."""
    found: list[str] = []

    def tried(check: Any, *arguments: Any) -> Any:
        try:
            return check(*arguments)
        except FermataError as e:
            found.append(str(e))
            return None

    tried(recurrence_of, base, delivery)
    seen = tried(viewed_house, base, delivery)
    report = tried(report_of, seen or base, delivery)
    if report and seen:
        tried(_runnable, seen, delivery, report)
    for number, target in enumerate(delivery.to, 1):
        tried(_target, base, target, number)
    for name in delivery.hold:
        tried(_holding, base, name)
    return found


def works(base: Base, delivery: Delivery) -> None:
    """Raises for what would keep a delivery from going out whenever it is due, as far as a quick look tells: its
    report, viewer, templates.
    """
    report_of(viewed_house(base, delivery), delivery)
    for number, target in enumerate(delivery.to, 1):
        _texts(target, number)
    for name in delivery.hold:
        _holding(base, name)


def _texts(target: Target, number: int) -> None:
    for key in TEXTS:
        if text := getattr(target, key):
            templates.checked(text, f"to {number}, {key}")


def _runnable(base: Base, delivery: Delivery, report: Report) -> None:
    """Raises for names there are none of, parts that cannot be told apart, and conditions on columns there are none
    of.
    """
    place = base.place()
    plans = fingerprint.plans_of(report, place, base.now())
    asked = [
        f
        for f in report.must_name
        if f not in {c.field for c in report.only} and not (delivery.split and delivery.split.by == f)
    ]
    if asked and not base.view.scope:
        raise RequestError(
            f"{delivery.report} asks for {asked[0]}: set = {{ only = {{ {asked[0]} = 'NAME' }} }}, or [split]"
        )
    if delivery.split:
        recipients.check(base, delivery.split, report)
    if delivery.only_if and delivery.only_if.condition:
        name, _, _ = conditions.read(delivery.only_if.condition)
        figures = [
            leaf for leaf in fingerprint.leaves(report, place) if not (leaf.listing or leaf.ask or leaf.register_name)
        ]
        known = [c.label for p in plans for c in p.columns if not c.hidden] if figures else []
        if name not in ("rows", *(k.lower() for k in known)):
            raise UnknownName.of("column", name, ["rows", *known], where="for only_if.condition")


def _target(base: Base, target: Target, number: int) -> None:
    """Raises for what is missing to reach a target."""
    _texts(target, number)
    mail = base.config.mail
    if target.mail and mail is None:
        raise RequestError(f"to {number}: {NO_SERVER}")
    if target.mail and mail and mail.user:
        secret("the password of the mail server", mail.password_env, _file(base, mail.password_file))
    if target.mail and mail and mail.share and (why := writable(base.path / mail.share)):
        raise RequestError(f"mail.share: {why}")
    if target.folder and (why := writable(base.path / target.folder)):
        raise RequestError(f"to {number}: {why}")
    if target.channel and target.channel not in channels():
        raise UnknownName.of("channel", target.channel, channels(), where=f"in to {number} (is its package installed?)")
    if target.token_env or target.token_file:
        secret("the token of the webhook", target.token_env, _file(base, target.token_file))


def _file(base: Base, name: str) -> Path | None:
    return base.path / name if name else None


def _holding(base: Base, name: str) -> None:
    """Raises for a report that could never hold anything back."""
    report = base.definition(name)
    if not (report.warn or report.checks or any(p.expect for p in report.parts)):
        raise RequestError(f"hold: {name} has no verdict; it needs parts with expect, or warn, or checks")


def units(base: Base, program: str, kind: str) -> str:
    """Ready-made lines that run what is due every five minutes: for `cron`, or a service and a timer for `systemd`.
    Raises RequestError for another.
    """
    if kind not in ("cron", "systemd"):
        raise RequestError(f"there are lines for cron and for systemd, not for {kind!r}")
    user = getpass.getuser()
    command = shlex.join([program, "--workspace", str(base.path), "send", "--quiet"])
    if kind == "cron":
        line = command.replace("%", r"\%")  # a plain % ends a command of cron
        return f"# crontab -e, as {user}; what it prints on standard error is mailed by cron\n*/5 * * * * {line}\n"
    title = (base.config.workspace.name or base.path.name).replace("%", "%%")
    command = command.replace("%", "%%")
    return (
        f"# /etc/systemd/system/fermata-send.service\n[Unit]\nDescription=Deliveries of "
        f"{title}\n\n[Service]\nType=oneshot\n"
        f"User={user}\nExecStart={command}\nUMask=0077\nNoNewPrivileges=yes\nProtectSystem=full\n\n"
        "# /etc/systemd/system/fermata-send.timer, then: systemctl enable --now fermata-send.timer\n"
        f"[Unit]\nDescription=Every five minutes: deliveries of "
        f"{title}\n\n[Timer]\nOnCalendar=*:0/5\nPersistent=true\n\n"
        "[Install]\nWantedBy=timers.target\n"
    )
