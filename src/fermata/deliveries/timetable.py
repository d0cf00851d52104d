"""The timetable: `deliveries/NAME.toml` read and checked, when each is due, and new ones written."""

from __future__ import annotations

import getpass
import shlex
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from fermata import tomlfile
from fermata.archive.folder import writable
from fermata.deliveries import conditions, recipients, templates
from fermata.deliveries.model import Delivery, Target
from fermata.deliveries.progress import History, Run
from fermata.errors import ConfigError, FermataError, RequestError, UnknownName
from fermata.notes import Note
from fermata.proof import fingerprint
from fermata.proof.snapshot import stretch_of
from fermata.reports.definition import files
from fermata.reports.definition.report import Report
from fermata.reports.execute.register_list import context
from fermata.reports.result import ColumnDef, Records
from fermata.secret import secret
from fermata.timeline.recurrence import Recurrence, recurrence
from fermata.timeline.zones import local, zone
from fermata.workspace import last_run
from fermata.workspace.base import Base

__all__ = ["FOLDER", "add", "load", "names", "problems", "recurrence_of", "report_of", "table", "units", "viewed_house"]

FOLDER = "deliveries"
TEXTS = ("subject", "text", "name")
EMPTY = ("problem",)  # shown where there is one
BELOW = ("when", "to", "last", "problem")  # on a line of their own
COLUMNS = (
    ("delivery", "Delivery"), ("report", "Report"), ("next", "Next run"), ("period", "Its period"), ("when", "When"),
     ("to", "By"), ("last", "Last run"), ("problem", "Problem"),
)  # fmt: skip


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
        raise RequestError(f"to {number}: mail needs a server: [mail] in fermata.toml with server and sender")
    if target.mail and mail and mail.user:
        secret("the password of the mail server", mail.password_env, _file(base, mail.password_file))
    if target.mail and mail and mail.share and (why := writable(base.path / mail.share)):
        raise RequestError(f"mail.share: {why}")
    if target.folder and (why := writable(base.path / target.folder)):
        raise RequestError(f"to {number}: {why}")
    if target.token_env or target.token_file:
        secret("the token of the webhook", target.token_env, _file(base, target.token_file))


def _file(base: Base, name: str) -> Path | None:
    return base.path / name if name else None


def _holding(base: Base, name: str) -> None:
    """Raises for a report that could never hold anything back."""
    report = base.definition(name)
    if not (report.warn or report.checks or any(p.expect for p in report.parts)):
        raise RequestError(f"hold: {name} has no verdict; it needs parts with expect, or warn, or checks")


def warnings(base: Base, delivery: Delivery) -> list[str]:
    """What will work and may not be meant."""
    report = report_of(base, delivery)
    if report.register_name or report.parts:
        return []
    relative, exact, _ = last_run.period_words(report, base.place(), base.now())
    if relative:
        return []
    return [f"the period is always {exact}: it does not move, so every run tells of the same time; write 'last month'"]


def table(base: Base, history: History, name: str = "", *, count: int = 2) -> Records:
    """Each delivery with its next runs, what they are about, and how the last one ended. With a `name`, its next
    `count` runs, a line each.
    """
    zone_name = base.config.workspace.zone
    now = base.now()
    title = f"Next runs of {name}" if name else "Timetable"
    notes: list[Note] = []
    rows: list[tuple[str, ...]] = []
    for one in [name] if name else names(base):
        try:
            delivery = load(base, one)
        except ConfigError as e:
            rows.append((one, *("",) * 6, "; ".join(e.problems)))
            continue
        wrong = problems(base, delivery)
        notes += [Note(f"{one}: {w}", "setting") for w in (warnings(base, delivery) if not wrong else [])]
        rows += _rows(base, one, delivery, wrong, history, count if name else 1)
    shown = [i for i, (key, _) in enumerate(COLUMNS) if key not in EMPTY or any(r[i] for r in rows)]
    columns = tuple(ColumnDef(*COLUMNS[i]) for i in shown)
    rows = [tuple(r[i] for i in shown) for r in rows]
    head = context(zone_name, now, title, f"as of {local(now, zone(zone_name)):%Y-%m-%d %H:%M}")
    if not rows:
        how = "fermata schedule --add NAME --report REPORT --when 'weekly on Monday at 07:00'"
        notes.append(Note("nothing is on the timetable; put something on it", "setting", how))
    return Records(title, head, columns, tuple(rows), len(rows), notes=tuple(notes), second=BELOW)


def _rows(
    base: Base, name: str, delivery: Delivery, wrong: list[str], history: History, count: int
) -> list[tuple[str, ...]]:
    now, tz = base.now(), zone(base.config.workspace.zone)
    due: list[datetime | None] = []
    try:
        rule = recurrence_of(base, delivery)
        at = rule.after(now)
        while at and len(due) < count:
            due.append(at)
            at = rule.after(at)
    except RequestError:
        due = []
    to = "; ".join(t.words for t in delivery.to) + (f", a part for each {delivery.split.by}" if delivery.split else "")
    last = next((r for r in reversed(history.of_delivery(name)) if r.over or r.stage or r.made), None)
    told = state(last, tz) if last else "never"
    if delivery.paused:
        told = f"paused; {told}"

    def line(at: datetime | None) -> tuple[str, ...]:
        period = _period(base, delivery, at) if at and not wrong else ""
        return name, delivery.report, _moment(at, now, tz), period, delivery.when, to, told, "; ".join(wrong)

    return [line(at) for at in due or [None]]


def _period(base: Base, delivery: Delivery, at: datetime) -> str:
    try:
        report = report_of(base, delivery)
        if report.period == "all" and not report.parts:
            return "everything there is"
        found = stretch_of(report, base.at(at))
    except FermataError as e:
        return str(e).splitlines()[0]
    return found.words if found else "as of that day"


def _moment(at: datetime | None, now: datetime, tz: Any) -> str:
    """A time in words: `Wed 2026-04-01 07:00, in 3 days`."""
    if at is None:
        return ""
    left = at - now
    if left < timedelta(hours=1):
        words = f"in {max(round(left / timedelta(minutes=1)), 0)} min"
    elif left < timedelta(days=2):
        words = f"in {round(left / timedelta(hours=1))} h"
    else:
        words = f"in {(local(at, tz).date() - local(now, tz).date()).days} days"
    return f"{local(at, tz):%a %Y-%m-%d %H:%M}, {words}"


def state(run: Run, tz: Any) -> str:
    """How a run stands, in words."""
    at = f"{local(run.planned, tz):%Y-%m-%d %H:%M}{' by hand' if run.by_hand else ''}: "
    if run.over:
        return at + run.over + (f", {run.why}" if run.why else "")
    if doubtful := sorted({a for x in run.letters.values() for a in x.doubtful}):
        return f"{at}in doubt: {', '.join(doubtful)}"
    waiting = [(x.next, x.why) for x in run.letters.values() if x.next and x.why]
    if not run.stage and waiting:
        next_time, why = min(waiting)
        return f"{at}to be tried again from {local(next_time, tz):%Y-%m-%d %H:%M}: {why}"
    return at + (f"{run.stage}: {run.why}" if run.stage else "under way")


def add(base: Base, name: str, *, over: bool = False, **data: Any) -> tuple[Path, list[str]]:
    """Puts a report on the timetable as `deliveries/NAME.toml`; `report="last"` keeps the last run as a report of that
    name first.

    `data` are the keys of the file. Returns the file, and what will work and may not be meant. Raises RequestError with
    every problem, and writes nothing then.
    """
    if not files.NAME.fullmatch(name):
        raise RequestError(f"{name!r} cannot name a delivery: small letters, digits, - and _")
    path = base.path / FOLDER / f"{name}.toml"
    if path.exists() and not over:
        raise RequestError(f"there is a delivery {name} already ({path}); choose another name, or say to replace it")
    last = base.definition(last_run.LAST) if data.get("report") == last_run.LAST else None
    if last is not None:
        data["report"] = name
    try:
        delivery = Delivery.model_validate(data)
    except ValidationError as e:
        raise RequestError("; ".join(tomlfile.problems(e, Delivery, ""))) from None
    saved = files.save(base.reports_path, name, last, over=over) if last is not None else None
    if wrong := problems(base, delivery):
        if saved and not over:
            saved.unlink()
        raise RequestError("\n".join(wrong))
    return files.write(path, _text(data)), warnings(base, delivery)


def _text(data: dict[str, Any]) -> str:
    import tomlkit

    plain = {k: v for k, v in data.items() if k != "to"}
    return tomlkit.dumps({**{k: list(v) if isinstance(v, tuple) else v for k, v in plain.items()}, "to": data["to"]})


def units(base: Base, program: str, kind: str) -> str:
    """Ready-made lines that run what is due every five minutes: for `cron`, or a service and a timer for `systemd`."""
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
