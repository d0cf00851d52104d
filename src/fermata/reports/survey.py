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
from fermata.analysis.identify import opened
from fermata.analysis.plan import Plan, Strand
from fermata.analysis.profile import Profile, profile
from fermata.analysis.stages import inside
from fermata.archive import LogState
from fermata.errors import UnknownName
from fermata.fields import Field
from fermata.kinds import KINDS
from fermata.reports.gaps import gaps, of_devices
from fermata.reports.model import Report
from fermata.reports.resolve import resolve
from fermata.reports.result import Context, Page, PagePart, Records
from fermata.timeline.words import span, stamp
from fermata.timeline.zones import zone

__all__ = ["PARTS", "Survey", "each", "survey", "unresolved"]

Column = tuple[str, str, str, str, int]
MOST_UNRESOLVED = 200
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
    parts = {}
    for name, make in PARTS.items():
        columns, rows = make(_Look(log, place, now, plan, strand, source, profiles))
        head = dataclasses.replace(base, title=f"{log}: {TITLES[name]}")
        parts[name] = Records(head.title, head, tuple(columns), tuple(rows), len(rows))
    return Survey(log, parts)


def each(place: Any, head: Context) -> Records:
    """One line per log of the workspace."""
    columns = [
        _column("log", "Log"),
        _column("kind", "Kind"),
        _column("events", "Events", "number"),
        _column("first", "First", "time"),
        _column("last", "Last", "time"),
        _column("gaps", "Gaps", "number"),
        _column("rejected", "Rejected", "number"),
        _column("older", "Older mapping", "number"),
    ]
    rows = []
    for name in place.logs:
        schema = place.schemas[name]
        state: LogState = place.counted(name)
        files, extent = state.files.values(), place.extent(name)
        found = gaps(name, place) if extent else None
        rows.append(
            (
                name, schema.kind or None, sum(f.events for f in files) if place.held(name) else state.events, *(extent or (None, None)), None if found is None else len(found),
                sum(f.rejected for f in files if str(f.import_no) not in state.mended),
                sum(f.mapping != place.mappings[name] for f in files),
            )
        )  # fmt: skip
    for name, schema in place.schemas.items():
        if name not in place.logs:
            made = (
                f"made from {', '.join(schema.stored_logs)}"
                if schema.derivation.inputs
                else f"made of {schema.derivation.register}"
            )
            rows.append((name, made, *[None] * (len(columns) - 2)))
    return Records(head.title, head, tuple(columns), tuple(rows), len(rows))


@dataclass(frozen=True)
class _Look:
    """What the parts of a survey are made from."""

    log: str
    place: Any
    now: datetime
    plan: Plan
    strand: Strand
    source: Any
    profiles: list[Profile]

    @functools.cached_property
    def state(self) -> LogState:
        """The log as the archive holds it."""
        state: LogState = self.place.counted(self.log)
        return state


Made = tuple[list[Column], list[tuple[Any, ...]]]


def _column(name: str, label: str, kind: str = "text", unit: str = "", scale: int = 0) -> Column:
    return name, label, kind, unit, scale


def _overview(look: _Look) -> Made:
    state, tz = look.state, zone(look.strand.schema.zone)
    files = list(state.files.values())
    read = sum(f.read for f in files)
    fates = {n: sum(getattr(f, n) for f in files) for n in ("stored", "replaced", "duplicate", "rejected")}
    skipped: dict[str, int] = {}
    for f in files:
        for why, n in f.skipped.items():
            skipped[why] = skipped.get(why, 0) + n
    said = [f"{n:,} {what}" for what, n in fates.items() if n or what != "replaced"]
    said += [
        f"{sum(skipped.values()):,} skipped"
        + (f" ({', '.join(f'{n:,} {w}' for w, n in skipped.items())})" if skipped else "")
    ]
    first, last = look.place.extent(look.log)
    behind = look.now - last
    open_rejects = sum(f.rejected for f in files if str(f.import_no) not in state.mended)
    older = [f for f in files if f.mapping != look.place.mappings[look.log]]
    found, held = gaps(look.log, look.place), look.place.held(look.log)
    rows = [
        ("Kind", look.strand.schema.kind or "not declared, so no vocabulary is checked"),
        ("Time covered", f"{stamp(first, tz)} to {stamp(last, tz)}"),
        ("Last record", f"{_ago(behind)} before now" if behind > timedelta(0) else "lies in the future"),
        ("Complete to", stamp(datetime.fromisoformat(state.complete_to).replace(tzinfo=UTC), tz) if state.complete_to else "its last record; no import declared more"),
        ("Gaps", "no claim: less than four weeks, or too few records" if found is None else _told(found, tz)),
        ("Files", held.told if held else f"{len(files):,}, in {_counted(len({f.import_no for f in files}), 'import')}"),
        ("Records", f"{read:,} read = {' + '.join(said)}"),
        ("Events", f"{look.profiles[0].events if look.profiles else 0:,} in the period, {state.events or files[0].events:,} in {'all' if held else 'the archive'}" + (" with earlier versions" if state.ended else "")),
    ]  # fmt: skip
    if state.ended:
        rows.append(
            (
                "Versions",
                f"{fates['replaced']:,} replaced an earlier one, {sum(f.deleted for f in files):,} entries found deleted",
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
    return [_column("what", "What"), _column("value", "")], list(rows)


def _cannot_appear(look: _Look) -> list[tuple[str, str]]:
    """Who or what no report over this log can show (F16)."""
    schema, kind = look.strand.schema, KINDS.get(look.strand.schema.kind)
    rows = []
    for name in ("user", "device"):
        found = next((p for p in look.profiles if p.field.name == name), None)
        if found is None:
            rows.append(("Cannot appear", f"any {name}: the log has no such field"))
        elif found.filled < found.events:
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
        _column("field", "Field"), _column("type", "Type"), _column("filled", "Filled", "share"),
        _column("different", "Values", "number"), _column("common", "Commonest"), _column("least", "Smallest"),
        _column("most", "Largest"), _column("sample", "Last"),
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
        return stamp(value.replace(tzinfo=UTC), zone(look.strand.schema.zone))[:19]
    if field.type in ("decimal", "money"):
        return f"{value / 10**field.scale:,.{field.scale}f}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(value) if isinstance(value, list) else f"{value:,}" if isinstance(value, int) else str(value)


def _gaps(look: _Look) -> Made:
    """The longest first; of the log, then of single devices."""
    columns = [
        _column("device", "Device"), _column("from", "From", "time"), _column("to", "To", "time"),
        _column("length", "Length", "duration", "h:mm:ss"), _column("usual", "Usual at most", "duration", "h:mm:ss"),
    ]  # fmt: skip
    found = [*(gaps(look.log, look.place) or ()), *of_devices(look.log, look.place)]
    ordered = sorted(found, key=lambda g: (g.of != "", -g.length, g.start))
    return columns, [(g.of or "(all)", g.start, g.end, _micros(g.length), _micros(g.usual)) for g in ordered]


def _imports(look: _Look) -> Made:
    names = ("read", "stored", "replaced", "duplicate", "rejected")
    columns = [_column("import", "Import", "number"), _column("known", "Known since", "time"), _column("file", "File")]
    columns += [_column(n, n.capitalize(), "number") for n in (*names, "skipped", "events")]
    columns += [
        _column("first", "First", "time"),
        _column("last", "Last", "time"),
        _column("mapping", "Mapping"),
        _column("inferred", "Inferred"),
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
        _column("field", "Field"),
        _column("value", "Value"),
        _column("events", "Events", "number"),
        _column("mend", "To map it"),
    ]
    kind = KINDS.get(look.strand.schema.kind)
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
    """Names no register knows at the time, with how much they carry."""
    return unresolved(look.plan, look.source)


def unresolved(plan: Plan, source: Any) -> Made:
    """The same for the first strand of a plan that looks all of its fields up."""
    strand = plan.strands[0]
    columns = [
        _column("field", "Field"),
        _column("names", "Kind of name"),
        _column("name", "Name"),
        _column("events", "Events", "number"),
        _column("time", "Time", "duration", "h:mm:ss"),
        _column("last", "Last", "time"),
    ]
    engine, table = opened(strand, source)
    here = inside(table, plan, strand, spans=False)
    rows = []
    for lookup in strand.lookups:
        stored = strand.schema.field(lookup.field).stored
        written = here[f"{stored}__written"]
        kept = here.filter(here[stored] == _literal(f"{lookup.kind} ") + written)
        total = kept.finish_utc.delta(kept.start_utc, unit="microsecond").sum().cast("int64")
        grouped = kept.group_by(name=kept[f"{stored}__written"]).aggregate(
            n=kept.count(), time=total, last=kept.start_utc.max()
        )
        for r in engine.run(grouped.order_by([grouped.n.desc(), grouped.name]).limit(MOST_UNRESOLVED)).to_pylist():
            rows.append((lookup.field, lookup.kind, r["name"], r["n"], r["time"], r["last"].replace(tzinfo=UTC)))
    return columns, rows


def _literal(text: str) -> Any:
    import ibis

    return ibis.literal(text)


def _rejects(look: _Look) -> Made:
    columns = [
        _column("import", "Import", "number"),
        _column("file", "File"),
        _column("record", "Record", "number"),
        _column("line", "Line", "number"),
        _column("reason", "Reason"),
        _column("text", "Text"),
    ]
    files, mended = look.state.files, look.state.mended
    rows = [
        (files[r["file_id"]].import_no, files[r["file_id"]].path, r["record_no"], r["line"], r["reason"], r["whole"])
        for r in look.place.rejects(look.log)
        if str(files[r["file_id"]].import_no) not in mended
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
    "unresolved": "names no register knows",
    "rejects": "records that could not be used",
}


def _counted(n: int, word: str) -> str:
    return f"{n:,} {word}{'s' * (n != 1)}"


def _time(text: str | None) -> datetime | None:
    return datetime.fromisoformat(text).replace(tzinfo=UTC) if text else None


def _micros(length: timedelta) -> int:
    return length // timedelta(microseconds=1)


def _told(found: list[Gap], tz: Any) -> str:
    if not found:
        return "none"
    longest = max(found, key=lambda g: g.length)
    return f"{len(found):,}, the longest {span(_micros(longest.length))} from {stamp(longest.start, tz)[:16]}"


def _ago(length: timedelta) -> str:
    return f"{length.days:,} days" if length >= 2 * DAY else span(_micros(length) // 1_000_000 * 1_000_000)
