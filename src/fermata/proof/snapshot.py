"""A finished run with all that is needed to repeat and prove it, on the shelf."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, TypeVar

from fermata import outputs, tomlfile
from fermata.archive.shelf import BODY, FRAGMENT, Facts, Item, Shelf
from fermata.outputs import heading
from fermata.outputs.formats import clean, people
from fermata.outputs.grid import shows
from fermata.proof import fingerprint
from fermata.registers.scope import Scope
from fermata.reports.compile.parts import whole
from fermata.reports.compile.request import compiled
from fermata.reports.compile.resolve import stretch_over
from fermata.reports.definition import files
from fermata.reports.definition.display import Display
from fermata.reports.definition.report import Report
from fermata.reports.execute.answer import execute
from fermata.reports.requests import Request
from fermata.reports.result import Answer, Page, Records, RunResult
from fermata.timeline import Stretch
from fermata.timeline.zones import zone
from fermata.workspace.base import Base
from fermata.workspace.place import Place

__all__ = ["Made", "empty", "keep", "made", "read_definition", "small", "stretch_of"]

MOST_NOTES = 12
SMALL_ROWS, SMALL_COLUMNS = 30, 8
A = TypeVar("A", bound=RunResult | Records | Page)


@dataclass(frozen=True)
class Made:
    """A run: its request, its answer and how it is shown, the workspace it saw, its definition without names that lead
    elsewhere, and the period it was for (None: of a register).
    """

    request: Request
    answer: Answer
    display: Display
    place: Place
    report: Report
    named: str
    stretch: Stretch | None
    planned: datetime
    at: datetime

    @property
    def verdict(self) -> str:
        """What a page's checks come to; "" where nothing is expected of it."""
        return self.answer.verdict if isinstance(self.answer, Page) else ""

    @property
    def dates(self) -> str:
        """The period as the name of a file has it: `2026-03`, `2026-03-05`, `2026-03-02--2026-03-08`,
        `2026-03-05T1400`.
        """
        zone_name = self.answer.context.zone
        if self.stretch is None:
            return f"{self.planned.astimezone(zone(zone_name)):%Y-%m-%d}"
        if not self.stretch.days:
            here = [t.astimezone(zone(zone_name)) for t in (self.stretch.start, self.stretch.end)]
            return "--".join(f"{t:%Y-%m-%dT%H%M}" for t in here)
        first, end = self.stretch.days
        last = end - timedelta(days=1)
        if first == last:
            return first.isoformat()
        whole = first.day == 1 and end.day == 1 and first.month == last.month and first.year == last.year
        return f"{first:%Y-%m}" if whole else f"{first}--{last}"

    def said(self) -> dict[str, Any]:
        """What subjects, texts and names of files can say of it."""
        context = self.answer.context
        figures = _figures(self.answer, self.display)
        return {
            "title": clean(context.title), "period": context.period, "period_text": context.period_text,
            "dates": self.dates,
            "exact": heading.exactly(context), "zone": context.zone, "figures": figures, "verdict": clean(self.verdict),
            "view": context.view if context.view != "all data" else "",
            "notes": [clean(n) for n in self.answer.notes if n.weight == "figures"][:MOST_NOTES],
        }  # fmt: skip


def made(base: Base, report: Report, named: str, planned: datetime, at: datetime) -> Made:
    """Runs a report as at its planned time, and says of the result that it was made `at`. Raises what a run raises."""
    before = base.at(planned)
    place = before.place()
    request = compiled(report, place, planned)
    answer = _made_at(execute(request, place), at)
    how = base.config.display.merged(report.display)
    return Made(request, answer, how, place, whole(report, place), named, stretch_of(report, before), planned, at)


def stretch_of(report: Report, base: Base) -> Stretch | None:
    """The period a report is for now, over its log or all logs; None for a register's. Raises RequestError."""
    place = base.place()
    if report.register_name:
        return None
    plans = fingerprint.plans_of(report, place, base.now()) if not report.parts else []
    logs = {n for p in plans for s in p.strands for n in s.schema.stored_logs} or place.logs
    return stretch_over(report, place, logs, base.now())


def _made_at(answer: A, at: datetime) -> A:
    context = dataclasses.replace(answer.context, made_at=at)
    if isinstance(answer, Page):
        parts = tuple(dataclasses.replace(p, item=_made_at(p.item, at) if p.item else None) for p in answer.parts)
        return dataclasses.replace(answer, context=context, parts=parts)
    return dataclasses.replace(answer, context=context)


def small(answer: Answer) -> bool:
    """Whether it is one table that has room in a message."""
    if isinstance(answer, Page):
        return False
    if isinstance(answer, Records):
        return 0 < answer.total <= SMALL_ROWS and len(answer.columns) <= SMALL_COLUMNS
    rows, columns = len(answer.table.rows), len(answer.table.dimensions) + len(answer.table.measures)
    return 0 < rows <= SMALL_ROWS and columns <= SMALL_COLUMNS


def empty(answer: Answer) -> bool:
    """Whether there is nothing in it: no row, or only zeros."""
    if isinstance(answer, Page):
        return all(p.item is None or empty(p.item) for p in answer.parts)
    if isinstance(answer, Records):
        return not answer.total
    return not any(cell for row in answer.table.rows for cell in row.cells)


def _figures(answer: Answer, how: Display) -> dict[str, str]:
    """The totals of a table, how many rows a listing has; of a page, both of its parts."""
    if isinstance(answer, Page):
        found: dict[str, str] = {}
        for part in answer.parts:
            own = _figures(part.item, how) if part.item is not None else {}
            found |= {
                f"{clean(part.title)}, {label}" if len(own) > 1 else clean(part.title): v for label, v in own.items()
            }
        return found
    if isinstance(answer, Records):
        return {"Rows": f"{answer.total:,}"}
    total = next((r for r in answer.table.rows if not r.level), None)
    if total is None:
        return {"Rows": f"{answer.table.size:,}"}
    tz = zone(answer.context.zone)
    cells = zip(answer.table.measures, total.cells, shows(answer, answer.table), strict=True)
    return {
        c.label: people(v, c.type, c.scale, tz, show, how) for c, v, show in cells if c.across_total and v is not None
    }


def keep(
    shelf: Shelf,
    base: Base,
    run: Made, forms: Sequence[str], stem: str, *, until: datetime | None = None, changes: Mapping[str,
    Any] | None = None,
    scope: Scope | None = None, fragment: bool = False, body: bool = False, author: str = "", **more: Any,
) -> Item:  # fmt: skip
    """Writes a run in the given forms, named `stem`, and keeps it on the shelf with the facts that prove it; `base` is
    as it was seen.

    `changes` are the keys that made the report from the one it is called by, `scope` what narrowed it beside the
    workspace's viewer, `more` the delivery, planned time and part. With `fragment`, the tables are kept for the text of
    a message too; with `body`, the whole as JSON for a webhook.
    """
    how = run.display.merged(Display(author=author) if author else None)

    def make(target: Path) -> Facts:
        for form in forms:
            outputs.save(run.answer, target / f"{stem}.{form}", form, how)
        if body:
            outputs.save(run.answer, target / BODY, "json", how)
        if fragment:
            from fermata.outputs import html

            (target / FRAGMENT).write_text(html.fragment(run.answer, how, headed=False), encoding="utf-8")
        return facts(base, run, changes or {}, scope, how)

    return shelf.keep(make, title=run.answer.context.title, at=run.at, until=until, **more)


def facts(base: Base, run: Made, changes: Mapping[str, Any], scope: Scope | None, how: Display) -> Facts:
    """What proves a run: its definition, plans, fingerprint, inputs, versions, and a mark of its figures."""
    place, before = run.place, run.planned
    plans = fingerprint.plans_of(run.report, place, before)
    seen = fingerprint.contents(plans, place)
    manifest = place.snapshot.manifest
    period = [fingerprint.utc(t) for t in (run.stretch.start, run.stretch.end)] if run.stretch else []
    return {
        "report": run.named, "changes": dict(changes), "definition": files.text_of(run.report),
        "planned": fingerprint.utc(before),
        "made": fingerprint.utc(run.at), "viewer": base.viewer, "scope": dataclasses.asdict(scope) if scope else None,
        "view": base.view.words,
        "period": period, "logs": sorted({s["log"] for s in seen}), "request": run.request.digest, "seen": seen,
        "fingerprint": fingerprint.fingerprint(run.request, seen), "figures": fingerprint.figures(run.answer),
        **fingerprint.inputs(base, place, plans), "archive": {"imports": manifest.next_import - 1,
        "ledger": manifest.ledger_head},
        "author": how.author, "said": run.said(),
    }  # fmt: skip


def read_definition(text: str, where: str) -> Report:
    """A kept definition. Raises ConfigError."""
    import tomllib

    return tomlfile.parse(Report, tomllib.loads(text), where, text)
