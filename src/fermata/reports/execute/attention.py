"""What a reader should look at before the figures: limits crossed, what is unusual, missing, changed, unfinished."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import astuple, dataclass, replace
from datetime import UTC, date, datetime, timedelta
from functools import cached_property

from dateutil.relativedelta import relativedelta

from fermata.analysis.cells import value
from fermata.analysis.combine import gather
from fermata.analysis.derive import Pairing
from fermata.analysis.identify import opened
from fermata.errors import RequestError, counted
from fermata.notes import Note, failed
from fermata.reports.compile.resolve import resolve
from fermata.reports.compile.workplace import Workplace
from fermata.reports.definition.report import Report
from fermata.reports.execute.answer import answer
from fermata.reports.execute.gaps import gaps
from fermata.reports.execute.register_list import of_period
from fermata.reports.execute.unusual import unusual
from fermata.reports.requests import Attention
from fermata.reports.result import ColumnDef, Records
from fermata.timeline import Stretch
from fermata.timeline.words import span, stamp
from fermata.timeline.zones import day_start

__all__ = ["attention"]

QUIET = timedelta(days=1)
WATCHED = {  # kind of log -> what of it is held against everybody's own usual, in words, and the report that shows it
    "door access": ("refused", "refused entries", "refused-by-person"),
    "logins": ("failed", "failed logins", "failed-logins"),
}
COVERAGE = "what-logs-cover"
RANKS = ("Limit", "Unusual", "Wrong file", "No data", "Changed", "Unfinished", "Rejected", "Gap", "Usual")
BEFORE = 3  # periods that tell what is usual
MORE = 1.25  # times the most of them: as far as a figure is still usual


@dataclass(frozen=True)
class Point:
    """One thing to look at: a sentence, what it rests on, the report behind it and the command that shows it."""

    what: str
    log: str
    count: int | None
    words: str
    evidence: str | None
    report: str | None
    look: str | None


COLUMNS = (
    ColumnDef("what", "What"), ColumnDef("log", "Where"), ColumnDef("count", "Count", "number"),
    ColumnDef("words", "In words"), ColumnDef("evidence", "Evidence"), ColumnDef("report", "Report"),
    ColumnDef("look", "To look at it", "command"),
)  # fmt: skip
LOOKED_FOR = (
    "looked for: limits of saved reports, people's own unusual days, logs that went quiet, changes, spans without an "
    "end, rejected records, gaps; what is no more than in the periods before is said once, as usual"
)


def attention(request: Attention, place: Workplace) -> Records:
    """What needs a look in the report's period: what, how many, in words, and the report and command that show it."""
    found = [_titled(p, place) for p in _Look(place, request.now, request.stretch).points()]
    found.sort(key=lambda p: (RANKS.index(p.what), -(p.count or 0), p.log))
    head = of_period(request.report, request.stretch, request.now, "What needs attention")
    notes = [Note(LOOKED_FOR, "scope")]
    if not found:
        notes.insert(0, Note("nothing needs attention", "count"))
    rows = tuple(astuple(p) for p in found)
    return Records(head.title, head, COLUMNS, rows, len(rows), notes=tuple(notes), second=("evidence", "look"))


def _titled(point: Point, place: Workplace) -> Point:
    """The point with the title of its report, as readers know it."""
    if not point.report:
        return point
    return replace(point, report=place.definition(point.report).title or point.report)


class _Look:
    """A look at all logs for a period, and at the periods before it."""

    def __init__(self, place: Workplace, now: datetime, stretch: Stretch) -> None:
        self.place, self.now, self.stretch = place, now, stretch
        self.usual: list[str] = []

    def points(self) -> Iterator[Point]:
        """Everything found; what is usual in one point."""
        for log in self.place.schemas:
            yield from self._unfinished(log)
        for log in self.place.logs:
            yield from self._quiet(log)
            yield from self._gaps(log)
            yield from self._changed(log)
            yield from self._unusual(log)
        yield from self._rejected()
        yield from self._limits()
        if self.usual:
            told = "; ".join(self.usual)
            yield Point("Usual", "all logs", len(self.usual), "As in the periods before", told, None, None)

    @cached_property
    def windows(self) -> list[tuple[date, date]]:
        """The period as days [first, last), and those before it: as many months or days; only it where it is not made
        of days.
        """
        if not self.stretch.days:
            return []
        first, last = self.stretch.days
        months = 12 * (last.year - first.year) + last.month - first.month
        whole = first.day == last.day == 1
        step = relativedelta(months=months) if whole else relativedelta(days=(last - first).days)
        found = [(first - n * step, last - n * step) for n in range(BEFORE + 1)]
        return [(a, b if n else last) for n, (a, b) in enumerate(found)]

    def _stretched(self) -> str:
        """The period, with those before it where there are any."""
        if self.windows:
            return f"{self.windows[-1][0]}/{self.windows[0][1] - timedelta(days=1)}"
        return self._exact()

    def _exact(self) -> str:
        """The period by its two instants."""
        start, end = (t.astimezone(UTC).replace(tzinfo=None) for t in (self.stretch.start, self.stretch.end))
        return f"{start.isoformat()}Z/{end.isoformat()}Z"

    def _per_period(self, log: str, *only: dict[str, list[str]]) -> list[list[int]]:
        """How many events there are in the period and in each before it, for each of some filters."""
        unit = "month" if all(a.day == b.day == 1 for a, b in self.windows) else "day"
        columns = [{"label": str(n), "measure": "count", "only": one} for n, one in enumerate(only)]
        by = [unit] if self.windows else []
        report = Report.of(log=log, by=by, totals=False, period=self._stretched(), columns=columns)
        plan = resolve(report, self.place, self.now)
        found = gather(plan, self.place.source(plan))[plan.by]
        counts = [{k: value(plan, column, cells, None) or 0 for k, cells in found.items()} for column in plan.columns]
        if not self.windows:
            return [[sum(one.values())] for one in counts]
        begins = [slot.begins.date() for slot in plan.slots(unit)]
        return [self._summed(Counter({begins[at]: n for (at,), n in one.items()})) for one in counts]

    def _summed(self, days: Counter[date]) -> list[int]:
        return [sum(n for day, n in days.items() if a <= day < b) for a, b in self.windows]

    def _told(self, point: Point, counts: list[int]) -> Iterator[Point]:
        """The point, unless there are no more than in the periods before that the log covers: then it is usual."""
        extent = self.place.extent(point.log)
        zone = self.stretch.calendar.zone
        since = extent[0] - QUIET if extent else self.now
        known = [n for n, (a, _) in zip(counts, self.windows, strict=False) if day_start(a, zone) >= since]
        before = known[1:]
        if len(before) > 1 and max(before) and counts[0] <= MORE * max(before):
            self.usual.append(f"{point.words} ({min(before):,} to {max(before):,} before)")
        elif counts[0]:
            yield point

    def _unfinished(self, log: str) -> Iterator[Point]:
        """Openings without a closing, and spans without a finish."""
        schema = self.place.schemas[log]
        if self.place.extent(log) is None:
            return
        asked: list[tuple[str, dict[str, list[str]], str, str]] = []
        if isinstance(schema.derivation, Pairing):
            for state, said in (("unfinished", "have no end"), ("no opening", "have an end and no beginning")):
                asked.append((f"pairing='{state}'", {"pairing": [state]}, said, ""))
        elif schema.spans and schema.derivation is None:
            asked.append(("finish=", {"finish": [""]}, "have no finish", "they are counted, and in no total of time"))
        if not asked:
            return
        for (told, _, said, evidence), counts in zip(
            asked, self._per_period(log, *(only for _, only, _, _ in asked)), strict=True
        ):
            look = f"fermata events {log} --only {told} --period '{self.stretch.text}'"
            words = f"{counts[0]:,} in {log} {said if counts[0] != 1 else said.replace('have', 'has')}"
            yield from self._told(Point("Unfinished", log, counts[0], words, evidence or None, None, look), counts)

    def _quiet(self, log: str) -> Iterator[Point]:
        """A log whose last record lies longer ago than it was ever silent."""
        extent, look = self.place.extent(log), f"fermata import {log}"
        if extent is None:
            yield Point("No data", log, None, f"{log} holds no events", None, COVERAGE, look)
            return
        quiet = self.now - extent[1]
        if quiet > QUIET and self.stretch.end > extent[1] and quiet > (longest := self._longest(log)):
            words = f"{log} has had no record since {stamp(extent[1], self.stretch.calendar.zone)[:16]}"
            evidence = f"never before silent for more than {_length(longest)}"
            yield Point("No data", log, None, words, evidence, COVERAGE, look)

    def _gaps(self, log: str) -> Iterator[Point]:
        zone = self.stretch.calendar.zone
        silent = gaps(log, self.place) or ()
        found = [g for g in silent if g.start < self.stretch.end and g.end > self.stretch.start]
        if found:
            most = max(found, key=lambda g: g.length)
            words = f"{log} has {counted(len(found), 'gap')}"
            evidence = f"the longest from {stamp(most.start, zone)[:16]}, {_length(most.length)}"
            look = f"fermata survey {log} --part gaps"
            point = Point("Gap", log, len(found), words, evidence, COVERAGE, look)
            edges = [[day_start(d, zone) for d in w] for w in self.windows]
            counts = [sum(g.start < end and g.end > start for g in silent) for start, end in edges]
            yield from self._told(point, counts or [len(found)])

    def _longest(self, log: str) -> timedelta:
        """The longest time between two starts of a log."""
        import ibis

        plan = resolve(Report(log=log), self.place, self.place.until(log))
        engine, table = opened(plan.strands[0], self.place.source(plan))
        following = table.start_utc.lead().over(ibis.window(order_by=table.start_utc))
        apart = table.select(us=following.delta(table.start_utc, unit="microsecond"))
        return timedelta(microseconds=engine.run(apart.aggregate(us=apart.us.max())).column(0)[0].as_py() or 0)

    def _rejected(self) -> Iterator[Point]:
        found: Counter[str] = Counter()
        for log in self.place.logs:
            state = self.place.counted(log)
            found[log] = sum(f.rejected for f in state.files.values() if str(f.import_no) not in state.corrected)
        each = [(log, n) for log, n in found.most_common() if n]
        if each:
            evidence, look = ", ".join(f"{log} {n:,}" for log, n in each), f"fermata survey {each[0][0]} --part rejects"
            words = f"{counted(found.total(), 'record')} could not be read"
            where = each[0][0] if len(each) == 1 else f"{len(each)} logs"
            yield Point("Rejected", where, found.total(), words, evidence, COVERAGE, look)

    def _changed(self, log: str) -> Iterator[Point]:
        """Administrators' changes of the period, and versions of entries that were replaced or deleted."""
        if self.place.schemas[log].kind == "changes" and self.place.extent(log):
            (counts,), name = self._per_period(log, {}), "change-trail"
            words = f"{counted(counts[0], 'change')} by administrators"
        elif self.place.logs[log].key:
            old, _ = self.place.versions(log)
            zone, name = self.stretch.calendar.zone, "edited-entries"
            days = Counter(v["start_utc"].replace(tzinfo=UTC).astimezone(zone).date() for v in old)
            within = [v for v in old if self.stretch.start <= v["start_utc"].replace(tzinfo=UTC) < self.stretch.end]
            counts = self._summed(days) or [len(within)]
            words = f"{counts[0]:,} in {log} replaced or deleted afterwards"
        else:
            return
        look = f"fermata report {name} --period '{self.stretch.text}'"
        yield from self._told(Point("Changed", log, counts[0], words, None, name, look), counts)

    def _unusual(self, log: str) -> Iterator[Point]:
        """People with far more of what is watched than they ever usually have in a day."""
        schema, extent = self.place.schemas[log], self.place.extent(log)
        if schema.kind not in WATCHED or extent is None or extent[0] >= self.stretch.end:
            return
        if not {"user", "action"} <= schema.by_name.keys():
            return
        action, things, name = WATCHED[schema.kind]
        watched = Report.of(log=log, period=self._exact(), only={"action": [action]})
        found = unusual(watched, self.stretch, self.place, self.now).rows
        if found:
            who, day, most, *_ = max(found, key=lambda r: r[2])
            words = f"{most:,} {things} by {who} on {day}, far more than this person's usual"
            evidence = f"{counted(len(found), 'such day')} in all" if len(found) > 1 else None
            look = f"fermata people unusual {log} --only action={action} --period '{self.stretch.text}'"
            yield Point("Unusual", log, len(found), words, evidence, name, look)

    def _limits(self) -> Iterator[Point]:
        """Rows of the workspace's own reports that cross a limit the report declares, and equalities that fail."""
        for name in self.place.own_reports():
            try:
                report = self.place.definition(name)
            except RequestError as e:
                why = str(e).splitlines()[0]
                yield Point("Wrong file", name, None, f"{name} cannot be read", why, None, "fermata archive check")
                continue
            other = report.parts or report.ask or report.listing or report.register_name
            if other or not (report.warn or report.checks):
                continue
            try:
                found = answer(report, self.place, self.now)
            except RequestError:
                continue  # the report says so itself when it is asked for
            for note in failed(found.notes):
                words, _, evidence = note.partition(": ")
                words = f"{report.title or name}: {words}"
                yield Point("Limit", name, None, words, evidence or None, name, f"fermata report {name}")


def _length(length: timedelta) -> str:
    return span(length // timedelta(seconds=1) * 1_000_000)
