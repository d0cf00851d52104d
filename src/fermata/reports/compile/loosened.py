"""A ready report on a log that lacks some of its fields: what needs them drops out, said in one line; what the report
is about may not.

Groups, columns, fields of a listing and orders that the log has nothing for are left out. A filter is left out only
where it keeps what a log without the field holds anyway (`printed` of a log of finished jobs); of calls without a
word of how they ended, those with talking time were answered, the others not.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable

from fermata.analysis.filters import Condition
from fermata.analysis.formula import Formula
from fermata.analysis.measures import Measure, begins_measure
from fermata.errors import RequestError, UnknownName
from fermata.fields import LogSchema
from fermata.notes import Note
from fermata.reports.definition.changes import mentions
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Report

__all__ = ["fields_of", "loosened", "measures_of"]

EVERY_LOG = ("start", "finish", "duration", "pairing", "file", "record", "number", "inside")
HELD_ANYWAY = {
    "printing": ("printed",), "software use": ("used",), "door access": ("in", "out", "granted"),
    "network sessions": ("stop", "session"),
}  # fmt: skip
NEAREST = {"device": ("user",), "place": ("device",), "user.department": ("user",)}
CALLED = {
    "device": ("line", "door", "reader", "printer", "computer"),
    "user": ("person", "people"),
    "other": ("program", "number"),
}
TALKED = Condition("duration", "between", (1_000_000, None), "with talking time")  # a second
UNTALKED = Condition("duration", "between", (None, 999_999), "without talking time")


def loosened(report: Report, schema: LogSchema, missing: Collection[str], notes: list[Note]) -> Report | None:
    """The report without what a log lacks (`schema` with its attributes), and a note that says so; None where nothing
    sensible is left.
    """
    if not schema.spans and any(n == "finish or duration" for n in missing):
        return None
    lacking = {n for n in missing if n not in EVERY_LOG}
    report, instead = _stood_in(report, schema, lacking)
    try:
        chosen = _filtered(report, schema, lacking)
    except LookupError:
        return None
    by = tuple(n for n in chosen.by if n not in lacking)
    if {*_subjects(report, by), chosen.each, report.zero_rows, report.across} & lacking:
        return None
    columns = _columns(chosen.columns, schema, lacking)
    listing = chosen.listing
    if listing:
        kept = {
            k: tuple(f for f in getattr(listing, k) if f.removeprefix("-") not in lacking)
            for k in ("fields", "second", "sort")
        }
        if listing.fields and not [f for f in kept["fields"] if f not in EVERY_LOG]:
            return None
        listing = listing.model_copy(update=kept)
    elif not any(c.show for c in columns):
        return None
    gone = {c.heading for c in chosen.columns} - {c.heading for c in columns}
    told = [
        *(f"by {n}" for n in report.by if n in lacking),
        *(c.heading for c in report.columns if c.heading in gone),
    ]
    told += [
        f
        for f in (
            *(report.listing.fields if report.listing else ()),
            *(report.listing.second if report.listing else ()),
        )
        if f in lacking
    ]
    if any(mentions(text, gone) for text in (*report.checks, *report.rows)):
        return None
    have = ", ".join(sorted(lacking))
    said = f"{', '.join(dict.fromkeys(told))} left out, and " if told else ""
    said = " ".join([*(f"it is by {new} in the place of {old};" for old, new in instead.items()), said])
    counted = _said(report, schema, lacking)
    notes.append(
        Note(
            f"{schema.name} has no {have}: {said}{counted or 'nothing else changes'}",
            "left out",
            f"[logs.{schema.stored_logs[0]}.fields] maps what is missing",
        )
    )
    return chosen.changed(
        by=by, columns=columns, listing=listing, sort=tuple(s for s in chosen.sort if not mentions(s, gone | lacking)),
        warn=tuple(w for w in chosen.warn if not mentions(w, gone)), chart="" if mentions(chosen.chart,
        gone) else chosen.chart,
    )  # fmt: skip


def _stood_in(report: Report, schema: LogSchema, lacking: set[str]) -> tuple[Report, dict[str, str]]:
    """The report by the nearest group that the log has, where its title does not say by what it is; old and new."""
    first = report.by[0] if report.by else ""
    new = next((n for n in NEAREST.get(first, ()) if n in schema.by_name), None)
    if first not in lacking or not new or new in report.by or _titled(report, first):
        return report, {}
    every = "" if report.zero_rows == first else report.zero_rows  # no register lists what stands in
    return report.changed(by=(new, *report.by[1:]), zero_rows=every), {first: new}


def _titled(report: Report, name: str) -> bool:
    return any(word in report.title.lower() for word in (name.partition(".")[2] or name, *CALLED.get(name, ())))


def _subjects(report: Report, by: tuple[str, ...]) -> set[str]:
    """The groups a report is about: its first, unless that is the place with the device behind it, and those its title
    names.
    """
    first = {report.by[0]} if report.by and not (report.by[0] == "place" and "device" in by) else set()
    return first | {n for n in report.by if _titled(report, n)}


def fields_of(spec: ColumnSpec) -> tuple[str, ...]:
    """The fields a column needs, beside those that every log has."""
    found = [*(c.field for c in spec.selection.conditions), *((m.base or m).of for m in measures_of(spec))]
    return tuple(n for n in found if n and n not in EVERY_LOG)


def measures_of(spec: ColumnSpec) -> list[Measure]:
    """The measures a column or its formula asks for; names of columns and factors are none."""
    texts = [spec.measure] if spec.measure else list(Formula.parse(spec.formula).names) if spec.formula else []
    found = []
    for text in filter(begins_measure, texts):
        try:
            found.append(Measure.parse(text))
        except (RequestError, UnknownName):
            continue
    return found


def _filtered(report: Report, schema: LogSchema, lacking: set[str]) -> Report:
    """The report without filters on fields that are not there. Raises LookupError where that would make it another
    report.
    """
    changes = {key: _kept(getattr(report, key), schema, lacking, key) for key in ("only", "without")}
    if any(c.field in lacking for group in report.any_of for c in group):
        raise LookupError
    columns = []
    for spec in report.columns:
        try:
            own = {key: _kept(getattr(spec, key), schema, lacking, key) for key in ("only", "without")}
        except LookupError:
            own = {}  # the column goes
        columns.append(spec.model_copy(update=own))
    return report.changed(**changes, columns=tuple(columns))


def _kept(conditions: Iterable[Condition], schema: LogSchema, lacking: set[str], key: str) -> tuple[Condition, ...]:
    """The conditions of `only` or `without` that a log without those fields can do."""
    anyway = () if schema.kind == "network sessions" and not schema.spans else HELD_ANYWAY.get(schema.kind, ())
    found = []
    for one in conditions:
        if key == "without" and one.field == "action" and "action" in lacking and one.kind == "is" and anyway:
            if set(one.values).isdisjoint(anyway):
                continue  # the log holds none of them
            raise LookupError(one.field)
        if one.field not in lacking:
            found.append(one)
        elif one.kind == "is" and set(one.values) <= {"answered"} and schema.kind == "calls" and schema.spans:
            found.append(TALKED)
        elif one.kind == "is" and set(one.values) <= {"missed", "busy"} and schema.kind == "calls" and schema.spans:
            found.append(UNTALKED)
        elif not (one.kind == "is" and set(one.values) <= set(anyway)):
            raise LookupError(one.field)
    return tuple(found)


def _columns(columns: Iterable[ColumnSpec], schema: LogSchema, lacking: set[str]) -> tuple[ColumnSpec, ...]:
    """The columns that can be answered, and formulas over these alone."""
    kept: list[ColumnSpec] = []
    gone: set[str] = set()
    for spec in columns:
        names = {n.lower() for n in Formula.parse(spec.formula).names} if spec.formula else set()
        own = not (spec.log or spec.kind)
        if (own and set(fields_of(spec)) & lacking) or names & gone:
            gone |= {spec.heading.lower(), str(spec.measure).lower()}
        else:
            kept.append(spec)
    return tuple(kept)


def _said(report: Report, schema: LogSchema, lacking: set[str]) -> str:
    """What became of filters on fields that are not there."""
    filters = [
        c for c in (*report.only, *(c for s in report.columns for c in s.only)) if c.field in lacking and c.kind == "is"
    ]
    words = sorted({str(v) for c in filters for v in c.values})
    if not words and "action" in lacking and any(c.field == "action" for c in report.without):
        words = list(HELD_ANYWAY.get(schema.kind, ()))
    if not words:
        return ""
    if schema.kind == "calls" and {"answered", "missed", "busy"} & set(words):
        return "calls with talking time are taken for answered, others for not answered"
    return f"everything is taken for {' or '.join(words)}"
