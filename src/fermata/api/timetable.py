"""The timetable: `deliveries/NAME.toml` read and checked, when each is due, and new ones written."""

from __future__ import annotations

import shlex
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from fermata import tomlfile
from fermata.api import conditions, content, keeping, recipients
from fermata.api.making import stretch_of
from fermata.delivery import wording
from fermata.delivery.folder import writable
from fermata.delivery.model import Delivery, Target
from fermata.delivery.progress import History, Run
from fermata.errors import ConfigError, FermataError, RequestError, UnknownName
from fermata.reports import files
from fermata.reports.model import Report
from fermata.reports.registers import context
from fermata.reports.result import Records
from fermata.secret import secret
from fermata.timeline.recurrence import Recurrence, recurrence
from fermata.timeline.zones import local, zone

if TYPE_CHECKING:
    from fermata.api.workspace import Workspace

__all__ = ["FOLDER", "add", "load", "names", "problems", "recurrence_of", "report_of", "table", "units", "viewed_house"]

FOLDER = "deliveries"
TEXTS = ("subject", "text", "name")
EMPTY = ("problem",)  # shown where there is one
BELOW = ("when", "to", "last", "problem")  # on a line of their own
COLUMNS = (
    ("delivery", "Delivery"), ("report", "Report"), ("next", "Next run"), ("period", "Its period"), ("when", "When"), ("to", "Goes by"), ("last", "Last run"), ("problem", "Problem"),
)  # fmt: skip


def names(house: Workspace) -> list[str]:
    """The names of the deliveries there are."""
    return files.names(house.path / FOLDER)


def load(house: Workspace, name: str) -> Delivery:
    """The delivery kept under `name`. Raises UnknownName, ConfigError with every problem of the file."""
    path = house.path / FOLDER / f"{name}.toml"
    if name not in names(house):
        raise UnknownName.of("delivery", name, names(house))
    data, text = tomlfile.load(path)
    return tomlfile.parse(Delivery, data, path, text)


def recurrence_of(house: Workspace, delivery: Delivery) -> Recurrence:
    """When it is due, on the workspace's clock. Raises RequestError."""
    zone_name = house.config.workspace.zone
    working = house.terms.workdays if "working day" in delivery.when else None
    return recurrence(delivery.when, zone_name, first=delivery.starts, at=delivery.at, working=working)


def report_of(house: Workspace, delivery: Delivery) -> Report:
    """What it sends: the report with the delivery's own period and keys. Raises UnknownName, RequestError."""
    if delivery.report == keeping.LAST:
        raise RequestError(
            "report = 'last' would be whatever was run last; save it first: fermata schedule --add NAME --report last --when ..."
        )
    changes = {**delivery.set, **({"period": delivery.period} if delivery.period else {})}
    report = house.definition(delivery.report)
    return report.with_keys(changes) if changes else report


def viewed_house(house: Workspace, delivery: Delivery) -> Workspace:
    """The workspace as the delivery's viewer has it. Raises UnknownName."""
    return house.seen_by(delivery.viewer) if delivery.viewer else house


def problems(house: Workspace, delivery: Delivery) -> list[str]:
    """All that would keep it from going out, as far as that can be known now."""
    found: list[str] = []

    def tried(check: Any, *arguments: Any) -> Any:
        try:
            return check(*arguments)
        except FermataError as e:
            found.append(str(e))
            return None

    tried(recurrence_of, house, delivery)
    seen = tried(viewed_house, house, delivery)
    report = tried(report_of, seen or house, delivery)
    if report and seen:
        tried(_runnable, seen, delivery, report)
    for number, target in enumerate(delivery.to, 1):
        tried(_target, house, target, number)
    for name in delivery.hold:
        tried(_holding, house, name)
    return found


def _runnable(house: Workspace, delivery: Delivery, report: Report) -> None:
    """Raises for names there are none of, parts that cannot be told apart, and conditions on columns there are none of."""
    place = house.place()
    plans = content.plans_of(report, place, house.now())
    asked = [
        f
        for f in report.asks_for
        if f not in {c.field for c in report.only} and not (delivery.split and delivery.split.by == f)
    ]
    if asked and not house.view.scope:
        raise RequestError(
            f"{delivery.report} asks for {asked[0]}: set = {{ only = {{ {asked[0]} = 'NAME' }} }}, or [split]"
        )
    if delivery.split:
        recipients.check(house, delivery.split, report)
    if delivery.only_if and delivery.only_if.condition:
        name, _, _ = conditions.read(delivery.only_if.condition)
        figures = [
            leaf for leaf in content.leaves(report, place) if not (leaf.listing or leaf.ask or leaf.register_name)
        ]
        known = [c.label for p in plans for c in p.columns if not c.hidden] if figures else []
        if name not in ("rows", *(k.lower() for k in known)):
            raise UnknownName.of("column", name, ["rows", *known], where="for only_if.condition")


def _target(house: Workspace, target: Target, number: int) -> None:
    """Raises for what is missing to reach a target."""
    for key in TEXTS:
        if text := getattr(target, key):
            wording.checked(text, f"to {number}, {key}")
    mail = house.config.mail
    if target.mail and mail is None:
        raise RequestError(f"to {number}: mail needs a server: [mail] in fermata.toml with server and sender")
    if target.mail and mail and mail.user:
        secret("the password of the mail server", mail.password_env, _file(house, mail.password_file))
    if target.mail and mail and mail.share and (why := writable(house.path / mail.share)):
        raise RequestError(f"mail.share: {why}")
    if target.folder and (why := writable(house.path / target.folder)):
        raise RequestError(f"to {number}: {why}")
    if target.token_env or target.token_file:
        secret("the token of the webhook", target.token_env, _file(house, target.token_file))


def _file(house: Workspace, name: str) -> Path | None:
    return house.path / name if name else None


def _holding(house: Workspace, name: str) -> None:
    """Raises for a report that could never hold anything back."""
    report = house.definition(name)
    if not (report.warn or report.checks or any(p.expect for p in report.parts)):
        raise RequestError(f"hold: {name} has no verdict; it needs parts with expect, or warn, or checks")


def warnings(house: Workspace, delivery: Delivery) -> list[str]:
    """What will work and may not be meant."""
    report = report_of(house, delivery)
    if report.register_name or report.parts:
        return []
    relative, exact, _ = keeping.period_words(report, house.place(), house.now())
    if relative:
        return []
    return [f"the period is always {exact}: it does not move, so every run tells of the same time; write 'last month'"]


def table(house: Workspace, history: History, name: str = "", *, count: int = 2) -> Records:
    """Each delivery with its next runs, what they are about, and how the last one ended. With a `name`, its next `count` runs,
    a line each.
    """
    house.view.refuse("the timetable")
    zone_name = house.config.workspace.zone
    now = house.now()
    title = f"Next runs of {name}" if name else "Timetable"
    notes: list[str] = []
    rows: list[tuple[str, ...]] = []
    for one in [name] if name else names(house):
        try:
            delivery = load(house, one)
        except ConfigError as e:
            rows.append((one, *("",) * 6, "; ".join(e.problems)))
            continue
        wrong = problems(house, delivery)
        notes += [f"{one}: {w}" for w in (warnings(house, delivery) if not wrong else [])]
        rows += _rows(house, one, delivery, wrong, history, count if name else 1)
    shown = [i for i, (key, _) in enumerate(COLUMNS) if key not in EMPTY or any(r[i] for r in rows)]
    columns = tuple((*COLUMNS[i], "text", "", 0) for i in shown)
    rows = [tuple(r[i] for i in shown) for r in rows]
    head = context(zone_name, now, title, f"as of {local(now, zone(zone_name)):%Y-%m-%d %H:%M}")
    if not rows:
        notes.append(
            "nothing is on the timetable; put something on it: fermata schedule --add NAME --report REPORT --when 'weekly on Monday at 07:00'"
        )
    return Records(title, head, columns, tuple(rows), len(rows), notes=tuple(notes), second=BELOW)


def _rows(
    house: Workspace, name: str, delivery: Delivery, wrong: list[str], history: History, count: int
) -> list[tuple[str, ...]]:
    now, tz = house.now(), zone(house.config.workspace.zone)
    due: list[datetime | None] = []
    try:
        rule = recurrence_of(house, delivery)
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
        period = _period(house, delivery, at) if at and not wrong else ""
        return name, delivery.report, _moment(at, now, tz), period, delivery.when, to, told, "; ".join(wrong)

    return [line(at) for at in due or [None]]


def _period(house: Workspace, delivery: Delivery, at: datetime) -> str:
    try:
        report = report_of(house, delivery)
        if report.period == "all" and not report.parts:
            return "everything there is"
        found = stretch_of(report, house.at(at))
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
    waiting = [x.why for x in run.letters.values() if x.left and x.why]
    return at + (
        f"{run.stage}: {run.why}" if run.stage else f"to be tried again: {waiting[0]}" if waiting else "under way"
    )


def add(house: Workspace, name: str, *, over: bool = False, **data: Any) -> tuple[Path, list[str]]:
    """Puts a report on the timetable as `deliveries/NAME.toml`; `report="last"` keeps the last run as a report of that name first.

    `data` are the keys of the file. Returns the file, and what will work and may not be meant. Raises RequestError with every
    problem, and writes nothing then.
    """
    house.view.refuse("the timetable")
    if not files.NAME.fullmatch(name):
        raise RequestError(f"{name!r} cannot name a delivery: small letters, digits, - and _")
    path = house.path / FOLDER / f"{name}.toml"
    if path.exists() and not over:
        raise RequestError(f"there is a delivery {name} already ({path}); choose another name, or say to replace it")
    last = house.definition(keeping.LAST) if data.get("report") == keeping.LAST else None
    if last is not None:
        data["report"] = name
    try:
        delivery = Delivery.model_validate(data)
    except ValidationError as e:
        raise RequestError("; ".join(tomlfile.problems(e, Delivery, ""))) from None
    saved = house.save_report(name, last, over=over) if last is not None else None
    if wrong := problems(house, delivery):
        if saved and not over:
            saved.unlink()
        raise RequestError("\n".join(wrong))
    return files.write(path, _text(data)), warnings(house, delivery)


def _text(data: dict[str, Any]) -> str:
    import tomlkit

    plain = {k: v for k, v in data.items() if k != "to"}
    return tomlkit.dumps({**{k: list(v) if isinstance(v, tuple) else v for k, v in plain.items()}, "to": data["to"]})


def units(house: Workspace, program: str, kind: str) -> str:
    """Ready-made lines that run what is due every five minutes: for `cron`, or a service and a timer for `systemd`."""
    command = shlex.join([program, "--workspace", str(house.path), "send", "--quiet"])
    if kind == "cron":
        return f"# crontab -e; what it prints on standard error is mailed by cron\n*/5 * * * * {command}\n"
    title = house.config.workspace.name or house.path.name
    return (
        f"# /etc/systemd/system/fermata-send.service\n[Unit]\nDescription=Deliveries of {title}\n\n[Service]\nType=oneshot\n"
        f"ExecStart={command}\nUMask=0077\nNoNewPrivileges=yes\nProtectSystem=full\n\n"
        "# /etc/systemd/system/fermata-send.timer, then: systemctl enable --now fermata-send.timer\n"
        f"[Unit]\nDescription=Every five minutes: deliveries of {title}\n\n[Timer]\nOnCalendar=*:0/5\nPersistent=true\n\n"
        "[Install]\nWantedBy=timers.target\n"
    )
