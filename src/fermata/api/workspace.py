"""A workspace as the library's users have it: a directory with `fermata.toml`, `reports/` and the archive."""

from __future__ import annotations

import dataclasses
import functools
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NoReturn, Self, overload

from fermata.analysis.derive import Merge
from fermata.api.question import Question
from fermata.api.registers import Registers
from fermata.api.reports import Catalogue, Reports
from fermata.api.result import Result
from fermata.api.tabular import Listing
from fermata.config.workspace_file import CONFIG, Config, load
from fermata.errors import NotForViewers, RequestError
from fermata.reports.compile.request import Asking
from fermata.reports.definition.report import Report
from fermata.reports.result import Answer, Records
from fermata.run_log import tell
from fermata.timeline.zones import Moment, instant, zone
from fermata.workspace.base import Base
from fermata.workspace.whole import Clock

if TYPE_CHECKING:
    from fermata.api.archive import Upkeep
    from fermata.api.deliveries import Deliveries
    from fermata.api.evacuation import Clearing
    from fermata.api.shelf import KeptRuns

__all__ = ["ViewerWorkspace", "Workspace", "open_workspace"]

FIGURES_ONLY = (  # keys that shape figures, which a listing has not
    "by", "across", "zero_rows", "no_others", "sort", "top", "compare", "full_period", "rows", "checks", "warn",
    "measures",
    "columns", "totals",
    "chart",
)  # fmt: skip


@overload
def open_workspace(
    path: str | Path | None = None, *, now: Moment | None = None, viewer: Literal[""] = ""
) -> Workspace: ...


@overload
def open_workspace(path: str | Path | None = None, *, now: Moment | None = None, viewer: str) -> ViewerWorkspace: ...


def open_workspace(path: str | Path | None = None, *, now: Moment | None = None, viewer: str = "") -> ViewerWorkspace:
    """The workspace at `path`, the directory of `fermata.toml`; without one, the one that the current directory is in.

    `now` stands in for the clock (that of this machine, or `clock` of `fermata.toml`), so that "last month" means what
    it meant then: a time, a date or a text; without an offset it is in the workspace's zone. With `viewer`, all that
    it gives is what that viewer of `fermata.toml` may see, and it has nothing that writes. Raises RequestError if there
    is no workspace or viewer, ConfigError if its file is wrong.

    >>> fermata.open("quillmere")
    <Workspace 'Quillmere Hall': 34 logs>
    >>> fermata.open("quillmere", viewer="front-desk")
    <Workspace 'Quillmere Hall': 34 logs, seen by front-desk>
    """
    start = Path(path or ".").resolve()
    for directory in (start, *(() if path else start.parents)):
        if (directory / CONFIG).is_file():
            config = load(directory / CONFIG)
            base = Base(directory, config, clock_of(now or config.workspace.stands, config.workspace.zone), viewer)
            _ = base.view  # a viewer there is none of is an error here
            return of_base(base)
    above = "" if path else " or above"
    raise RequestError(f"there is no workspace at {start} (no {CONFIG} there{above}); make one with: fermata new DIR")


def of_base(base: Base) -> ViewerWorkspace:
    """The workspace that whoever opened it may have."""
    return ViewerWorkspace(base) if base.viewer else Workspace(base)


def clock_of(now: Moment | None, zone_name: str) -> Clock:
    """The clock, or one that stands still at `now`, which may be in the zone. Raises RequestError."""
    if now is None:
        return functools.partial(datetime.now, UTC)
    still = instant(now, zone(zone_name))
    return lambda: still


def _instant(base: Base, moment: Moment) -> datetime:
    return instant(moment, zone(base.config.workspace.zone), "at")


@dataclass(frozen=True, repr=False)
class ViewerWorkspace:
    """A workspace to ask: what a viewer has, and the part of a workspace that changes nothing."""

    base: Base

    @property
    def path(self) -> Path:
        """Its directory.

        >>> hall.path.name
        'quillmere'
        """
        return self.base.path

    @property
    def config(self) -> Config:
        """What `fermata.toml` says.

        >>> hall.config.workspace.zone
        'Europe/London'
        """
        return self.base.config

    def now(self) -> datetime:
        """The moment relative periods count from (aware).

        >>> hall.now().isoformat()
        '2026-04-01T07:12:00+00:00'
        """
        return self.base.now()

    @property
    def reports(self) -> Catalogue:
        """The reports there are.

        >>> hall.reports.definition("refused-entries").log
        ''
        """
        return Catalogue(self.base)

    @property
    def registers(self) -> Registers:
        """People, devices, projects and assignments.

        >>> [f.label for f in hall.registers.find("umberlin")]
        ['Ada Umberlin', 'Jonas Umberlin', 'Tamsin Umberlin', 'TAMSIN UMBERLIN (name)', 'Viggo Umber...
        """
        return Registers(self.base)

    def log(self, name: str) -> Question:
        """A question to one log, to be narrowed and grouped step by step. Raises UnknownName.

        >>> hall.log("doors")
        <Question doors>
        """
        self.base.known(name)
        return Question(self, Report(log=name))

    def with_steps(self, log: str) -> Self:
        """The same workspace, in which a log that puts records together holds them one by one, with `thing`, the
        file:record they count as. Raises RequestError for other logs.

        >>> "thing" in hall.with_steps("cases").log("cases").listing(1).names
        True
        """
        schema = self.base.known(log)
        if not isinstance(schema.derivation, Merge):
            raise RequestError(f"{log} does not put records together, so it has no steps")
        how = dataclasses.replace(schema.derivation, spread=True)
        other = self.base.at(self.now())
        other.schemas = {**self.base.schemas, log: dataclasses.replace(schema, fields=how.fields, derivation=how)}
        return type(self)(other)

    def report(self, name: str, **changes: object) -> Result:
        """Runs the report kept under `name` with some keys changed for this run: `period="last month"`.

        >>> hall.report("refused-entries", period="2026-02").figure()
        94
        """
        return self.run(self.reports.definition(name).changed(**changes))

    def run(self, report: Report | str, *, explain: bool = False, limit: int | None = None) -> Result:
        """Runs a report, or the one of a name. With `explain`, the result says what each filter took away; `limit` is
        the most events of a listing.

        >>> hall.run(fermata.Report.of(log="doors", period="2026-03", columns=["count"])).figure()
        16273
        """
        return self._result(_defined(self, report), Asking(limit=limit, explained=explain))

    def listing(self, report: Report | str, limit: int | None = None, *, skip: int = 0, **layout: object) -> Listing:
        """The events a report's filters keep in its period, oldest first unless the layout says otherwise.

        `layout` has the keys of `[listing]`: fields, second, sort, numbers, totals, most, overlapping. The groups,
        columns and limits of the report do not matter here.

        >>> len(hall.listing(fermata.Report.of(log="doors", period="2026-03-02"), 3).rows)
        3
        """
        report = _defined(self, report)
        asked = _without_shape(report).changed(listing=layout or report.listing or {})
        return self._records(asked, Asking(limit=limit, skip=skip))

    def trace(self, name: str, *, field: str = "", limit: int | None = None, **chosen: object) -> Result:
        """All that a person, device, place or shared id did in every log: a summary, then the events in time order.

        `field` says which kind of name it is where it may mean several; `period`, `zone`, `log` narrow it. Raises
        RequestError with the candidates where the name is ambiguous or unknown.

        >>> hall.trace("Ada Umberlin", period="2026-03-02", log="doors").context.title
        'Trail of Ada Umberlin'
        """
        if chosen.get("log"):
            self.base.known(str(chosen["log"]))
        return self._result(Report.of(**{"ask": "trail", **chosen}), Asking(limit=limit, name=name, field=field))

    def inside(self, log: str, *, at: Moment | None = None, **asked: object) -> Listing:
        """Who is inside at an instant (now): whose last reading in `log` in the `back` ("24 hours") before it is an
        entry. Without an offset it is in the workspace's zone.

        `opening` and `closing` are the actions of entries and exits; `only`, `without`, `any_of` narrow the readings.

        >>> len(hall.inside("doors", at=datetime(2026, 3, 3, 14, tzinfo=UTC)).rows) > 10
        True
        """
        self.base.known(log)
        chosen = {k: asked.pop(k) for k in ("only", "without", "any_of") if k in asked}
        return self._records(
            Report.of(log=log, ask={"what": "inside", **asked}, **chosen),
            Asking(at=_instant(self.base, at) if at else self.now()),
        )

    def contacts(
        self, log: str | Report, person: str, *, within: str = "15 minutes", at: str = "place", **chosen: object
    ) -> Listing:
        """Who was at the same place (the field `at`) as `person`, no more than `within` apart ("0" for at once).

        `period`, `only`, `without`, `any_of` narrow the events of the log as in a report; or they are those of a report
        given instead.

        >>> hall.contacts("doors", "Ada Umberlin", period="2026-03-02").names[:3]
        ('user', 'place', 'times')
        """
        report = log if isinstance(log, Report) else Report.of(log=log, **chosen)
        self.base.known(report.log)
        asked = report.changed(ask={"what": "contacts", "within": within, "at": at})
        return self._records(asked, Asking(name=person, field="user"))

    def unusual(self, report: Report | str, *, unit: str = "day", history: int = 28, factor: float = 2.0) -> Listing:
        """Units of a report's period with more of its first column than `factor` times what is usual for the group.

        >>> hall.unusual(fermata.Report.of(log="doors", period="2026-03", by=["user"], columns=["count"])).names
        ('user', 'day', 'figure', 'usual', 'median', 'highest', 'history')
        """
        ask = {"what": "unusual", "unit": unit, "history": history, "factor": factor}
        asked = _without_shape(_defined(self, report), besides=("by", "columns", "measures"))
        return self._records(asked.changed(ask=ask, columns=asked.columns[:1]), Asking())

    def at(self, moment: Moment) -> Self:
        """The same workspace as it would be asked at another moment, on the same engine: a time, a date or a text;
        without an offset it is in the workspace's zone.

        >>> hall.at(datetime(2026, 3, 1, tzinfo=UTC)).report("refused-entries").context.period
        '1 to 28 February 2026'
        """
        return type(self)(self.base.at(_instant(self.base, moment)))

    def _answer(self, report: Report, asking: Asking, place: Any) -> Answer:
        answer = self.base.answer(report, asking, place=place)
        head = answer.context
        tell(
            "info",
            "report ran",
            logs=", ".join(n for n, _ in head.fresh),
            plan=head.plan,
            debug={"title": head.title, "filters": head.filters, "view": self.base.view.words},
        )
        return answer

    def _result(self, report: Report, asking: Asking) -> Result:
        place = self.base.place()
        return Result(self._answer(report, asking, place), place, self.config.display.merged(report.display))

    def _records(self, report: Report, asking: Asking) -> Listing:
        found = self._answer(report, asking, self.base.place())
        assert isinstance(found, Records)
        return Listing.of(found)

    def __repr__(self) -> str:
        viewer = f", seen by {self.base.viewer}" if self.base.viewer else ""
        return f"<Workspace {self.config.workspace.name or self.path.name!r}: {len(self.base.schemas)} logs{viewer}>"

    if not TYPE_CHECKING:  # what is not there is found when types are checked, too

        def __getattr__(self, name: str) -> NoReturn:
            if name in WRITING:
                raise NotForViewers(f"{WRITING[name]} is not for {self.base.view.words}: a viewer reads")
            raise AttributeError(f"{type(self).__name__!r} object has no attribute {name!r}")


def _defined(workspace: ViewerWorkspace, report: Report | str) -> Report:
    """A report, or the one of a name."""
    return workspace.reports.definition(report) if isinstance(report, str) else report


def _without_shape(report: Report, besides: tuple[str, ...] = ()) -> Report:
    """The report without what shapes figures and means nothing elsewhere."""
    fields = Report.model_fields
    return report.changed(
        **{k: fields[k].get_default(call_default_factory=True) for k in FIGURES_ONLY if k not in besides}
    )


WRITING = {  # what a viewer's workspace does not have
    "archive": "the archive", "shelf": "the shelf", "deliveries": "the timetable", "evacuation": "an evacuation",
    "seen_by": "another view",
}  # fmt: skip


@dataclass(frozen=True, repr=False)
class Workspace(ViewerWorkspace):
    """A workspace, opened by `fermata.open`.

    >>> hall = fermata.open("quillmere")
    >>> hall.log("doors").during("2026-03").by("place").measure("count").run()
    <Result 'Doors: Count by place': 5 rows, 1 columns, 1 to 31 March 2026>
    """

    @property
    def reports(self) -> Reports:
        """The reports there are, and those to be made.

        >>> [e.name for e in hall.reports.catalogue("licence")][:1]
        ['licences-monthly']
        """
        return Reports(self.base)

    @property
    def archive(self) -> Upkeep:
        """Logs come in, are judged, and are taken out.

        >>> hall.archive.logs[:3]
        ['doors', 'calls', 'prints']
        """
        from fermata.api.archive import Upkeep

        return Upkeep(self.base)

    @property
    def shelf(self) -> KeptRuns:
        """Finished outputs, with what proves them.

        >>> hall.shelf.items()
        []
        """
        from fermata.api.shelf import KeptRuns

        return KeptRuns(self.base)

    @property
    def deliveries(self) -> Deliveries:
        """Reports that go out by themselves.

        >>> hall.deliveries.names()[:2]
        ['client-statements', 'doors-silent']
        """
        from fermata.api.deliveries import Deliveries

        return Deliveries(self.base)

    def evacuation(self, name: str) -> Clearing:
        """The evacuation of that name: to be prepared, begun, marked and ended.

        >>> hall.evacuation("house").doors("doors")[0][0]
        'Stage door'
        """
        from fermata.api.evacuation import Clearing

        return Clearing(self.base, name)

    def seen_by(self, viewer: str) -> ViewerWorkspace:
        """The same workspace as the viewer of that name has it. Raises UnknownName.

        >>> hall.seen_by("front-desk")
        <Workspace 'Quillmere Hall': 34 logs, seen by front-desk>
        """
        return of_base(self.base.seen_by(viewer))
