"""Whether a log can be trusted: what it covers, its gaps, what became of its records, and what its fields hold."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from fermata._version import __version__
from fermata.analysis.gaps import Gap
from fermata.analysis.plan import Plan
from fermata.analysis.profile import Profile, profile
from fermata.analysis.stages import inside
from fermata.archive import LogState
from fermata.errors import UnknownName, counted
from fermata.fields import Field, LogSchema
from fermata.kinds import KINDS
from fermata.reports.compile.resolve import known_log, resolve
from fermata.reports.definition.report import Report
from fermata.reports.execute.gaps import gaps, of_devices
from fermata.reports.execute.unresolved import UNRESOLVED, unresolved
from fermata.reports.result import ColumnDef, Context, Page, PagePart, Records
from fermata.timeline.words import span, stamp
from fermata.timeline.zones import zone

__all__ = ["PARTS", "Survey", "each", "survey"]

DAY = timedelta(days=1)


@dataclass(frozen=True)
class Survey:
    """The parts of a survey, each a listing by its name (see `PARTS`)."""

    log: str
    parts: dict[str, Records]

    def part(self, name: str) -> Records:
        """One part. Raises UnknownName."""
        if name not in self.parts:
            raise UnknownName.of("part", name, self.parts, where="of a survey")
        return self.parts[name]

    @property
    def page(self) -> Page:
        """All parts on one page."""
        head = self.parts["overview"].context
        parts = tuple(PagePart(r.title, r) for r in self.parts.values())
        return Page(f"Survey of {self.log}", dataclasses.replace(head, title=f"Survey of {self.log}"), parts)


def survey(log: str, place: Any, now: datetime, period: str = "all") -> Survey:
    """The survey of a log as `place` has it; fields and unresolved names are those of the period."""
    if place.extent(log) is None and place.state(log).files:
        return _of_nothing(log, place, now)
    plan = resolve(Report(log=log, period=period), place, now, listed=())
    strand = plan.strands[0]
    base = Context(
        title=log, period=plan.stretch.words, period_exact=plan.stretch.exact, period_text=plan.stretch.text,
        zone=strand.schema.zone, filters="all events", fresh=(), made_at=now, version=__version__, plan=plan.digest,
    )  # fmt: skip
    source = place.source(plan)
    engine, stored = source(dataclasses.replace(strand, lookups=()))
    here = inside(stored, plan, strand, spans=False)
    profiles = profile(here, engine.run, strand.schema)
    return _made(_Look(log, place, now, plan, strand.schema, source, profiles), base)


def _of_nothing(log: str, place: Any, now: datetime) -> Survey:
    """The survey of a log none of whose records could be used: it says why."""
    schema = known_log(place, log)
    words = "no record could be used"
    base = Context(
        title=log, period=words, period_exact=words, period_text="all", zone=schema.zone, filters="all events",
        fresh=(), made_at=now,
        version=__version__, plan="",
    )  # fmt: skip
    return _made(_Look(log, place, now, None, schema, None, []), base)


def _made(look: _Look, base: Context) -> Survey:
    parts = {}
    for name, make in PARTS.items():
        columns, rows = make(look)
        head = dataclasses.replace(base, title=f"{look.log}: {TITLES[name]}")
        parts[name] = Records(head.title, head, tuple(columns), tuple(rows), len(rows))
    return Survey(look.log, parts)


def each(place: Any, head: Context) -> Records:
    """One line per log of the workspace."""
    columns = [
        ColumnDef("log", "Log"), ColumnDef("kind", "Kind"), ColumnDef("events", "Events", "number"),
        ColumnDef("first", "First", "time"), ColumnDef("last", "Last", "time"), ColumnDef("gaps", "Gaps", "number"),
        ColumnDef("rejected", "Rejected", "number"), ColumnDef("older", "Older mapping", "number"),
    ]  # fmt: skip
    rows = []
    for name in place.logs:
        schema = place.schemas[name]
        state: LogState = place.counted(name)
        files, extent = state.files.values(), place.extent(name)
        found = gaps(name, place) if extent else None
        rows.append(
            (
                name, schema.kind or None, sum(f.events for f in files) if place.held(name) else state.events,
                *(extent or (None, None)), None if found is None else len(found),
                sum(f.rejected for f in files if str(f.import_no) not in state.corrected),
                sum(f.mapping != place.mappings[name] for f in files),
            )
        )  # fmt: skip
    for name, schema in place.schemas.items():
        if name not in place.logs:
            made = schema.derivation
            of = f"made from {', '.join(schema.stored_logs)}" if made.inputs else f"made of {made.register}"
            rows.append((name, of, *[None] * (len(columns) - 2)))
    return Records(head.title, head, tuple(columns), tuple(rows), len(rows))


@dataclass(frozen=True)
class _Look:
    """What the parts of a survey are made from."""

    log: str
    place: Any
    now: datetime
    plan: Plan | None
    schema: LogSchema
    source: Any
    profiles: list[Profile]

    @functools.cached_property
    def state(self) -> LogState:
        """The log as the archive holds it."""
        state: LogState = self.place.counted(self.log)
        return state

    @functools.cached_property
    def extent(self) -> tuple[datetime, datetime] | None:
        """First and last start of the log's events, None without any."""
        found: tuple[datetime, datetime] | None = self.place.extent(self.log)
        return found

    @functools.cached_property
    def silences(self) -> tuple[list[Gap] | None, list[Gap]]:
        """The gaps of the log, None where nothing can be said, and those of single devices."""
        return (gaps(self.log, self.place), list(of_devices(self.log, self.place))) if self.extent else (None, [])


Made = tuple[list[ColumnDef], list[tuple[Any, ...]]]


def _overview(look: _Look) -> Made:
    state, tz = look.state, zone(look.schema.zone)
    files = list(state.files.values())
    read = sum(f.read for f in files)
    fates = {n: sum(getattr(f, n) for f in files) for n in ("stored", "replaced", "duplicate", "rejected")}
    skipped: dict[str, int] = {}
    for f in files:
        for why, n in f.skipped.items():
            skipped[why] = skipped.get(why, 0) + n
    said = [f"{n:,} {what}" for what, n in fates.items() if n or what == "stored"]
    if skipped:
        reasons = ", ".join(f"{n:,} {w}" for w, n in skipped.items())
        said.append(f"{sum(skipped.values()):,} skipped ({reasons})")
    held = look.place.held(look.log)
    open_rejects = sum(f.rejected for f in files if str(f.import_no) not in state.corrected)
    older = [f for f in files if f.mapping != look.place.mappings[look.log]]
    rows = [
        ("Kind", look.schema.kind or "not declared, so no vocabulary is checked"),
        *_covered(look, tz),
        ("Complete to", stamp(datetime.fromisoformat(state.complete_to).replace(tzinfo=UTC),
         tz) if state.complete_to else "its last record; no import declared more"),
        ("Gaps", _told(*look.silences, tz)),
        ("Files", held.told if held else f"{len(files):,}, in {counted(len({f.import_no for f in files}), 'import')}"),
        ("Records", f"{read:,} read = {' + '.join(said)}"),
        ("Events",
         f"{look.profiles[0].events if look.profiles else 0:,} in the period, "
         f"{files[0].events if held else state.events:,} in "
         f"{'all' if held else 'the archive'}" + (" with earlier versions" if state.ended else "")),
    ]  # fmt: skip
    if state.ended:
        rows.append(
            (
                "Versions",
                f"{fates['replaced']:,} replaced an earlier one, {sum(f.deleted for f in files):,} entries found "
                "deleted",
            )
        )
    if expired := sum(f.expired for f in files):
        rows.append(("Dropped for age", f"{expired:,} events from before {state.kept_from}"))
    if repeats := sum(f.possible_repeats for f in files):
        rows.append(("Possible repeats", f"{repeats:,} kept: equal to a record of another file, without an overlap"))
    if open_rejects:
        rows.append(("To mend", f"{open_rejects:,} rejected: fermata survey {look.log} --part rejects"))
    if older:
        rows.append(("Older mapping", f"{len(older):,} files: fermata import {look.log} repeats them"))
    if inferred := list(dict.fromkeys(f.inferred for f in files if f.inferred)):
        rows.append(
            ("Inferred", "; ".join(inferred[:3]) + (f" and {len(inferred) - 3} more" if len(inferred) > 3 else ""))
        )
    rows += _cannot_appear(look)
    return [ColumnDef("what", "What"), ColumnDef("value", "")], list(rows)


def _covered(look: _Look, tz: Any) -> list[tuple[str, str]]:
    if look.extent is None:
        return [("Time covered", "none: no record could be used")]
    first, last = look.extent
    behind = look.now - last
    return [
        ("Time covered", f"{stamp(first, tz)} to {stamp(last, tz)}"),
        ("Last record", f"{_ago(behind)} before now" if behind > timedelta(0) else "lies in the future"),
    ]


def _cannot_appear(look: _Look) -> list[tuple[str, str]]:
    """Who or what no report over this log can show (F16)."""
    schema, kind = look.schema, KINDS.get(look.schema.kind)
    rows = []
    for name in ("user", "device"):
        found = next((p for p in look.profiles if p.field.name == name), None)
        if found is None and name not in schema.by_name:
            rows.append(("Cannot appear", f"any {name}: the log has no such field"))
        elif found and found.filled < found.events:
            missing = found.events - found.filled
            rows.append(
                (
                    "Cannot appear",
                    f"the {name} of {missing:,} events ({100 * missing / max(found.events, 1):.1f} %): it is empty",
                )
            )
    if kind:
        written = {v for f in look.state.files.values() for v in f.values.get("action", {})}
        never = [w for w in kind.actions if w not in written]
        if never and "action" in schema.by_name:
            rows.append(("Never written", f"action {', '.join(never)}"))
        if kind.cannot:
            rows.append(("By nature", kind.cannot))
    return rows


def _fields(look: _Look) -> Made:
    columns = [
        ColumnDef("field", "Field"), ColumnDef("type", "Type"), ColumnDef("filled", "Filled", "share"),
        ColumnDef("different", "Values", "number"), ColumnDef("common", "Commonest"), ColumnDef("least", "Smallest"),
        ColumnDef("most", "Largest"), ColumnDef("sample", "Last"),
    ]  # fmt: skip
    rows = []
    for p in look.profiles:
        common = ", ".join(f"{_said(v, p.field, look)} ({n:,})" for v, n in p.common)
        ends = [_said(v, p.field, look) for v in (p.least, p.most, p.sample)]
        rows.append((p.field.name, p.field.type, p.filled / p.events if p.events else None, p.different, common, *ends))
    return columns, rows


def _said(value: Any, field: Field, look: _Look) -> str:
    if value is None:
        return ""
    if field.type == "duration":
        return span(value)
    if field.type == "time":
        return stamp(value.replace(tzinfo=UTC), zone(look.schema.zone))[:19]
    if field.type in ("decimal", "money"):
        return f"{value / 10**field.scale:,.{field.scale}f}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(value) if isinstance(value, list) else f"{value:,}" if isinstance(value, int) else str(value)


def _gaps(look: _Look) -> Made:
    """The longest first; of the log, then of single devices."""
    columns = [
        ColumnDef("device", "Device"), ColumnDef("from", "From", "time"), ColumnDef("to", "To", "time"),
        ColumnDef("length", "Length", "duration", "h:mm:ss"), ColumnDef("usual", "Usual at most", "duration",
        "h:mm:ss"),
    ]  # fmt: skip
    found = [*(look.silences[0] or ()), *look.silences[1]]
    ordered = sorted(found, key=lambda g: (g.of != "", -g.length, g.start))
    return columns, [(g.of or "(all)", g.start, g.end, _micros(g.length), _micros(g.usual)) for g in ordered]


def _imports(look: _Look) -> Made:
    names = ("read", "stored", "replaced", "duplicate", "rejected")
    columns = [
        ColumnDef("import", "Import", "number"),
        ColumnDef("known", "Known since", "time"),
        ColumnDef("file", "File"),
    ]
    columns += [ColumnDef(n, n.capitalize(), "number") for n in (*names, "skipped", "events")]
    columns += [
        ColumnDef("first", "First", "time"),
        ColumnDef("last", "Last", "time"),
        ColumnDef("mapping", "Mapping"),
        ColumnDef("inferred", "Inferred"),
    ]
    now = look.place.mappings[look.log]
    rows = [
        (
            f.import_no, _time(f.known), f.path, *(getattr(f, n) for n in names), sum(f.skipped.values()), f.events,
            _time(f.first), _time(f.last), "current" if f.mapping == now else "older", f.inferred,
        )
        for _, f in sorted(look.state.files.items())
    ]  # fmt: skip
    return columns, rows


def _values(look: _Look) -> Made:
    """Actions and outcomes outside the vocabulary of the log's kind, with the line that would map them."""
    columns = [
        ColumnDef("field", "Field"),
        ColumnDef("value", "Value"),
        ColumnDef("events", "Events", "number"),
        ColumnDef("mend", "To map it"),
    ]
    kind = KINDS.get(look.schema.kind)
    counted: dict[tuple[str, str], int] = {}
    for f in look.state.files.values():
        for name, values in f.values.items():
            for value, n in values.items():
                if kind and kind.values(name) and value not in kind.values(name):
                    counted[name, value] = counted.get((name, value), 0) + n
    rows = [
        (name, value, n, f'[logs.{look.log}.fields] {name}: values = {{ "{value}" = "..." }}')
        for (name, value), n in sorted(counted.items(), key=lambda c: (-c[1], c[0]))
    ]
    return columns, rows


def _unresolved(look: _Look) -> Made:
    """Names not in any register at the time, with how much they carry."""
    return unresolved(look.plan, look.source) if look.plan else (UNRESOLVED, [])


def _rejects(look: _Look) -> Made:
    columns = [
        ColumnDef("import", "Import", "number"),
        ColumnDef("file", "File"),
        ColumnDef("record", "Record", "number"),
        ColumnDef("line", "Line", "number"),
        ColumnDef("reason", "Reason"),
        ColumnDef("text", "Text"),
    ]
    files, corrected = look.state.files, look.state.corrected
    rows = [
        (files[r["file_id"]].import_no, files[r["file_id"]].path, r["record_no"], r["line"], r["reason"], r["whole"])
        for r in look.place.rejects(look.log)
        if str(files[r["file_id"]].import_no) not in corrected
    ]
    return columns, rows


PARTS: dict[str, Callable[[_Look], Made]] = {
    "overview": _overview,
    "fields": _fields,
    "gaps": _gaps,
    "imports": _imports,
    "values": _values,
    "unresolved": _unresolved,
    "rejects": _rejects,
}
TITLES = {
    "overview": "can it be trusted",
    "fields": "what its fields hold",
    "gaps": "silences longer than usual",
    "imports": "its files and what became of their records",
    "values": "values outside the vocabulary of its kind",
    "unresolved": "names not in any register",
    "rejects": "records that could not be used",
}


def _time(text: str | None) -> datetime | None:
    return datetime.fromisoformat(text).replace(tzinfo=UTC) if text else None


def _micros(length: timedelta) -> int:
    return length // timedelta(microseconds=1)


def _told(found: list[Gap] | None, devices: list[Gap], tz: Any) -> str:
    single = f"; and {len(devices):,} of single devices" if devices else ""
    if found is None:
        return f"no claim: less than four weeks, or too few records{single}"
    if not found:
        return f"none{single}"
    longest = max(found, key=lambda g: g.length)
    told = f"{len(found):,}, the longest {span(_micros(longest.length))} from {stamp(longest.start, tz)[:16]}"
    return f"{told}{single}"


def _ago(length: timedelta) -> str:
    return f"{length.days:,} days" if length >= 2 * DAY else span(_micros(length) // 1_000_000 * 1_000_000)
