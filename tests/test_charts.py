"""What a chart draws, chosen from the shape of a result: exact figures, gaps as gaps, nothing that would be untrue."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

import pytest

from fermata.api.result import Result
from fermata.api.workspace import Workspace
from fermata.errors import RequestError, UnknownName
from fermata.outputs import charts, drawing, looks
from fermata.outputs.canvas import Drawing
from fermata.reports.definition.report import CHARTS, Report
from tests.conftest import ROOT, Maker, fermata, plain, some

CALLS: dict[str, Any] = {"log": "calls", "period": "2026-03"}


def drawn(hall: Workspace, kind: str = "", column: str = "", **report: Any) -> Drawing:
    return drawing.of(hall.run(Report.of(**report)).answer, kind=kind, column=column)


@pytest.mark.parametrize(
    ("report", "kind"),
    [
        ({**CALLS, "by": "device"}, "ranked"),
        ({**CALLS, "by": "day"}, "line"),
        ({**CALLS, "by": "month", "period": "2026-Q1"}, "bar"),
        ({**CALLS, "by": "weekday"}, "bar"),
        ({**CALLS, "by": "weekday", "across": "hour of day"}, "heat map"),
        ({**CALLS, "by": ["hour of day", "weekday"]}, "heat map"),
        ({**CALLS, "by": "month", "across": "device", "period": "2026-Q1"}, "stacked"),
        ({**CALLS, "by": "day", "across": "device"}, "line"),
        ({**CALLS, "by": "month", "across": "device", "columns": ["mean duration"], "period": "2026-Q1"}, "line"),
        ({**CALLS, "by": "device", "across": "action"}, "stacked"),
        ({**CALLS, "by": "device", "across": "action", "columns": ["distinct user"]}, "bar"),
        ({"log": "doors", "by": "place,device", "period": "2026-03"}, "ranked"),
    ],
)
def test_the_kind_suits_the_shape(hall: Workspace, report: dict[str, Any], kind: str) -> None:
    """Time runs along, parts of the week make a map, what does not add up is not stacked, what lies within is one
    series.
    """
    assert drawn(hall, **report).kind == kind


def test_figures_are_those_of_the_table(hall: Workspace) -> None:
    """Every kind draws the table's figures; at forty names the rest is one bar, exact and grey, and says how many it
    stands for.
    """
    result = hall.run(Report.of(log="timesheets", by="user", columns=["time"], period="2026-03"))
    found = drawing.of(result.answer)
    figures = sorted((r.cells[0] for r in result.table.body), reverse=True)
    assert found.names[-1] == f"all others ({len(figures) - 40})"
    assert [round(v * 3_600_000_000) for v in found.figures[0]] == [*figures[:40], sum(figures[40:])]
    assert found.measure == "Time (h)"
    assert found.texts[0][0] in str(result)
    share = drawing.of(result.answer, kind="share")
    assert len(share.names) == 6
    assert round(sum(share.figures[0]) * 3_600_000_000) == sum(figures)


def test_the_measure_to_draw_is_a_choice(hall: Workspace, tmp_path: Path) -> None:
    """One option chooses the kind, one the column; the report file says both in one line."""
    at = tmp_path / "c.svg"
    asked = [
        "-w",
        str(hall.path),
        "report",
        "calls",
        "--period",
        "2026-03",
        "--by",
        "device",
        "--columns",
        "count,mean duration",
        "--output",
        str(at),
    ]
    fermata(*asked, "--chart", "bar", "--chart-of", "Mean duration")
    assert (
        drawn(hall, "bar", "Mean duration", **CALLS, by="device", columns=["count", "mean duration"]).measure
        == "Mean duration (min)"
    )
    assert (
        "there is no column 'Mean' to draw; did you mean 'Mean duration'?"
        in fermata(*asked, "--chart-of", "Mean", code=2).stderr
    )
    assert (
        "'pie': did you mean 'share'? There are bar, stacked, ranked"
        in fermata(*asked, "--chart", "pie", code=2).stderr
    )
    assert Report.of(**CALLS, chart="line of Mean duration").charted == ("line", "Mean duration")
    assert Report.of(**CALLS, chart="of Count").charted == ("", "Count")
    with pytest.raises(UnknownName):
        drawn(hall, **CALLS, by="device", chart="bar of Nothing")


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        ({"kind": "share", "columns": ["mean duration"]}, "Mean duration has no shares: its parts do not add up"),
        (
            {"kind": "stacked", "across": "action", "columns": ["distinct user"]},
            "cannot be drawn as stacked: its parts do not add up",
        ),
        ({"kind": "timeline"}, "a timeline draws events, not figures"),
        ({"kind": "pie"}, "there is no chart 'pie'; there are bar"),
        ({"column": "Last", "columns": ["count", "last"]}, "Last is a time; a chart needs numbers or durations"),
    ],
)
def test_nothing_untrue_is_drawn(hall: Workspace, asked: dict[str, Any], said: str) -> None:
    """Shares and stacks of what does not add up, lengths of times: refused with what would be right."""
    kind, column = asked.pop("kind", ""), asked.pop("column", "")
    with pytest.raises(RequestError, match=re.escape(said)):
        drawn(hall, kind, column, **CALLS, by="device", **asked)


def test_many_series_have_a_small_chart_each(hall: Workspace) -> None:
    """All on one scale, so that they can be compared, each with the figures of the table."""
    asked = {"log": "doors", "by": ["week", "device"], "columns": ["count"], "period": "2026-01-05/2026-03-29"}
    answer = hall.run(Report.of(**asked)).answer
    found = drawing.of(answer)
    assert found.kind == "panels"
    with charts.settings():
        small = charts.draw(found).axes[0].child_axes
    assert [axes.get_title(loc="left") for axes in small] == list(found.series)
    assert len({axes.get_ylim() for axes in small}) == 1
    for axes, line in zip(small, found.figures, strict=True):
        assert [bar.get_height() for bar in axes.containers[0]] == [v or 0 for v in line]
    assert sum(sum(v or 0 for v in line) for line in found.figures) == next(
        r.cells[0] for r in answer.table.rows if not r.level
    )


def test_gaps_are_gaps_and_zero_is_zero(make: Maker) -> None:
    """Time the log does not cover has no figure; a day without events has 0; a line breaks at the former."""
    house = make(plain(), doors="When,Who,Door\n2026-03-02 10:00:00,a,x\n2026-03-04 10:00:00,a,x\n")
    house.archive.import_log("doors")
    result = house.run(Report.of(log="doors", by="day", period="2026-03-01/2026-03-07"))
    found = drawing.of(result.answer, kind="line")
    assert found.figures[0] == (None, 1.0, 0.0, 1.0, None, None, None)
    with charts.settings():
        axes = charts.draw(found).axes[0]
    line = axes.lines[0].get_ydata()
    assert [v != v for v in line] == [True, False, False, False, True, True, True]
    assert len([p for p in axes.patches if p.get_hatch()]) == 4
    with charts.settings():
        heat = charts.draw(drawing.of(result.answer, kind="heat map")).axes[0]
    known, unknown = heat.collections
    assert [(bool(c.get_hatch()), len(c.get_paths())) for c in (known, unknown)] == [(False, 3), (True, 4)]
    assert [fill[3] > 0 for fill in known.get_facecolor()] == [True, False, True]


@pytest.mark.parametrize("kind", some((k for k in CHARTS if k not in ("timeline", "tiles")), 2))
def test_every_kind_draws(hall: Workspace, kind: str) -> None:
    """Each kind of the same figures gives a figure whose labels lie within it."""
    answer = hall.run(Report.of(**CALLS, by="device", across="action")).answer
    with charts.settings():
        figure = charts.draw(drawing.of(answer, kind=kind))
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        canvas = FigureCanvasAgg(figure)
        canvas.draw()
        box = figure.get_tightbbox(canvas.get_renderer())
        wide, high = figure.get_size_inches()
    assert box.x0 >= -0.02
    assert box.y0 >= -0.02
    assert box.x1 <= wide + 0.02
    assert box.y1 <= high + 0.02
    with charts.settings():
        light, dark = (svg(charts.draw(drawing.of(answer, kind=kind), look)) for look in (looks.LIGHT, looks.DARK))
    assert looks.darkened(light) == dark != light


def test_a_timeline_of_spans(hall: Workspace) -> None:
    """Events of a listing as spans on lanes by user; those without a finish have none, moments are moments."""
    listed = Result(hall.listing(Report(log="sessions", period="2026-03-05")), hall.base.place())
    found = drawing.of(listed.answer)
    spans = sum(len(lane.spans) for lane in found.lanes)
    assert found.kind == "timeline"
    assert 0 < spans <= len(listed.rows) + len(listed.answer.earlier)
    assert len(listed.answer.earlier) == 3, "sessions that began the evening before are drawn, too"
    assert not found.moments
    by_place = drawing.of(hall.listing(Report(log="doors", period="2026-03-05")), column="place")
    assert by_place.moments
    assert {lane.name for lane in by_place.lanes} <= {
        "Stage side",
        "Library",
        "Rehearsal wing",
        "Front of house",
        "Workshop",
    }
    assert len(by_place.lanes) > 1
    assert listed.chart().axes


def test_colours_are_legible() -> None:
    """Text on every ground of the page, light and dark, has the contrast of WCAG 2.2 AA (4.5 to 1)."""
    style = (ROOT / "src" / "fermata" / "outputs" / "html" / "page.css").read_text()
    light, dark = (
        dict(re.findall(r"--(\w+): (#[0-9a-f]{6})", part)) for part in style.split("@media screen and (prefers", 1)
    )

    for colours in (light, dark):
        for ink in ("ink", "soft", "strong", "off"):
            for ground in ("ground", "sheet", "tint"):
                assert contrast(colours[ink], colours[ground]) >= 4.5, (ink, ground)


@pytest.mark.parametrize("look", [looks.LIGHT, looks.DARK])
def test_figures_on_a_heat_map_are_legible(hall: Workspace, look: looks.Look) -> None:
    """Whatever their field is filled with."""
    from matplotlib.colors import to_rgb

    answer = hall.run(Report.of(**CALLS, by="weekday", across="hour of day")).answer
    with charts.settings():
        axes = charts.draw(drawing.of(answer, kind="heat map"), look).axes[0]
    fills, ground = axes.collections[0].get_facecolor(), to_rgb(look.ground)
    assert len(axes.texts) == len(fills) == 7 * 24
    for text, (*colour, alpha) in zip(axes.texts, fills, strict=True):
        shown = [c * alpha + g * (1 - alpha) for c, g in zip(colour, ground, strict=True)]
        assert contrast(text.get_color(), "#" + "".join(f"{round(255 * c):02x}" for c in shown)) >= 4.5


def contrast(one: str, other: str) -> float:
    """The contrast ratio of two colours by WCAG 2.2."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue  # relative luminance

    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


def svg(figure: Any) -> str:
    """The figure as a page holds it; names within it do not count."""
    out = io.StringIO()
    figure.savefig(out, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    return re.sub(r"\b[a-z][0-9a-f]{10}\b", "name", out.getvalue())
