"""One thing of a report changed: columns added, dropped and renamed, filters taken away again."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from fermata.errors import RequestError, UnknownName
from fermata.reports.definition.parts import ColumnSpec
from fermata.reports.definition.report import Part, Report
from fermata.reports.definition.wording import column_of

__all__ = ["mentions", "paged", "with_columns", "without_filters"]

FILTERS = ("only", "without")


def mentions(text: str, names: Iterable[str]) -> bool:
    """Whether an expression over columns names one of them.

    >>> mentions("Colour + Mono = Pages", ["mono"])
    True
    """
    return any(_name(n).search(text) for n in names)


def with_columns(
    report: Report, add: Sequence[str] = (), drop: Sequence[str] = (), rename: Sequence[str] = ()
) -> Report:
    """The report with columns added behind its own (in words, see `column_of`), dropped by heading or measure, and
    renamed (`Old = New`, everywhere it is named); the order stays. Raises UnknownName, RequestError.

    >>> report = Report.of(log="doors", columns=["count", "distinct user", "Each = count / distinct user"])
    >>> [c.heading for c in with_columns(report, drop=["Each"], rename=["distinct user = People"]).columns]
    ['Count', 'People']
    """
    if add:
        columns = Report.of(log="any", columns=[column_of(text) for text in add]).columns
        report = report.changed(columns=(*report.columns, *columns))
    for name in drop:
        report = _dropped(report, _column(report, name))
    for text in rename:
        old, equals, new = (p.strip() for p in text.partition("="))
        if not (equals and old and new):
            raise RequestError(f"--rename {text!r}: write 'OLD = NEW'")
        report = _renamed(report, _column(report, old), new)
    return report


def without_filters(report: Report, fields: Iterable[str]) -> Report:
    """The report without its filters on these fields, those of its columns aside. Raises UnknownName for a field it
    has no filter on.

    >>> without_filters(Report.of(log="doors", only={"place": "Library"}), ["place"]).only
    ()
    """
    for field in fields:
        held = {c.field for key in FILTERS for c in getattr(report, key)}
        held |= {c.field for group in report.any_of for c in group}
        if field not in held:
            if not held:
                raise RequestError("this report has no filter of its own to take away")
            raise UnknownName.of("filter", field, held, where="in this report")
        report = report.changed(
            **{key: tuple(c for c in getattr(report, key) if c.field != field) for key in FILTERS},
            any_of=tuple(g for g in report.any_of if not any(c.field == field for c in g)),
            title=report.title and f"{report.title} · without its filter on {field}",
        )
    return report


def paged(held: Report | None, name: str, add: Sequence[str], drop: Sequence[str], keys: Mapping[str, Any]) -> Report:
    """A page of reports by name: the parts of the page `held` without `drop` (by report, title or number from 1), then
    `add`; `keys` for the whole page. Raises RequestError, UnknownName.

    >>> [p.report for p in paged(None, "monthly", ["refused-entries", "doors-forced"], (), {}).parts]
    ['refused-entries', 'doors-forced']
    """
    if held is not None and not held.parts:
        raise RequestError(f"{name} is a report, and no page; choose another name, or give --replace")
    parts = list(held.parts) if held else []
    for one in drop:
        told = [(str(n), p.report, p.title, p) for n, p in enumerate(parts, 1)]
        found = next((p for *known, p in told if one in known), None)
        if found is None:
            raise UnknownName.of("part", one, [p.report or p.title for p in parts], where=f"on the page {name}")
        parts.remove(found)
    for part in (Part.of(report=n) for n in add):
        if part in parts:
            raise RequestError(f"{part.report} is on the page {name} already, as part {parts.index(part) + 1}")
        parts.append(part)
    if not parts:
        raise RequestError(f"the page {name} would have no part; name at least one report")
    changes = {"title": name.replace("-", " ").capitalize(), **({} if held else {"log": ""}), **keys}
    return held.changed(**keys, parts=tuple(parts)) if held else Report.of(**changes, parts=tuple(parts))


def _column(report: Report, name: str) -> ColumnSpec:
    """The column of that heading or measure. Raises UnknownName."""
    for column in report.columns:
        if name.lower() in (column.heading.lower(), column.measure.lower()):
            return column
    raise UnknownName.of("column", name, [c.heading for c in report.columns], where="in this report")


def _renamed(report: Report, column: ColumnSpec, new: str) -> Report:
    """The report with another heading of a column, also where other columns, limits and the order name it."""
    known, quoted = _name(column.heading), new if re.fullmatch(r"\w+", new) else f'"{new}"'
    columns = []
    for one in report.columns:
        changes = {"label": new} if one is column else {"formula": known.sub(lambda _: quoted, one.formula)}
        columns.append(one.model_copy(update=changes))
    texts = {k: tuple(known.sub(lambda _: quoted, t) for t in getattr(report, k)) for k in ("rows", "warn", "checks")}
    sort = tuple(known.sub(lambda _: new, s) for s in report.sort)
    return report.changed(columns=tuple(columns), sort=sort, chart=known.sub(lambda _: new, report.chart), **texts)


def _dropped(report: Report, column: ColumnSpec) -> Report:
    """The report without a column, and without limits, order and chart that go by it. Raises RequestError where a
    formula or a check needs it.
    """
    name = (column.heading,)
    needs = [c.heading for c in report.columns if c is not column and mentions(c.formula, name)]
    needs += [c for c in report.checks if mentions(c, name)]
    if needs:
        raise RequestError(f"column {column.heading}: {needs[0]} needs it; drop that first")
    if len(report.columns) == 1:
        raise RequestError(f"column {column.heading} is the only one; add another first")
    return report.changed(
        columns=tuple(c for c in report.columns if c is not column),
        chart="" if mentions(report.chart, name) else report.chart,
        **{k: tuple(t for t in getattr(report, k) if not mentions(t, name)) for k in ("sort", "rows", "warn")},
    )


def _name(name: str) -> re.Pattern[str]:
    """A column's name in an expression, quoted or not."""
    return re.compile(rf'"{re.escape(name)}"|(?<!\w){re.escape(name)}(?!\w)', re.I)
