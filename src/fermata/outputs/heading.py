"""What stands above and below every output: period, filters, freshness; who made it, when, with which version."""

from __future__ import annotations

from fermata.errors import counted
from fermata.outputs.formats import ISO, clean, clock, day, local, people
from fermata.reports.definition.display import Display
from fermata.reports.result import ALL, Context, Records
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone

__all__ = ["exactly", "figured", "made_by", "subtitle"]


def subtitle(context: Context, under: str = "") -> list[str]:
    """Period with zone, filters, freshness and view, those that say something; the period not if `under` said it
    above.
    """
    tz = zone(context.zone)
    words = context.period if context.period_text != "all" else f"everything: {context.period}"
    asked = f" ({context.period_text})" if context.period_text not in ("all", context.period) else ""
    fresh = ", ".join(f"{name}: records to {stamp(at, tz)[:16]}" for name, at in context.fresh)
    filters = clean(context.filters) if context.filters != "all events" else ""
    period = f"{words}, {context.zone}{asked}" if words != under else ""
    view = context.view if context.view != ALL else ""
    return [part for part in (period, filters, fresh, view, context.clock) if part]


def exactly(context: Context) -> str:
    """The period's exact edges, the end not in it; "" where there are none, as in a register as of a day."""
    known = context.period_exact not in ("", context.period)
    return f"exactly {context.period_exact}, the end not included" if known else ""


def figured(item: Records, how: Display = ISO) -> str:
    """The figure that events explain, and how many they are: `8:12:05, from 14 events`; "" where they explain none."""
    if item.figure is None:
        return ""
    kind, scale = item.figure_type
    shown = people(item.figure, kind, scale, zone(item.context.zone), None, how)
    return f"{shown}, from {counted(item.total, 'event')}"


def made_by(context: Context, how: Display = ISO) -> list[str]:
    """The lines at the foot: exact period, and who made it when with which version and plan."""
    at = local(context.made_at, zone(context.zone))
    by = f" by {clean(how.author)}" if how.author else ""
    plan = f", plan {context.plan}" if context.plan else ""
    made = f"made {day(at, how)} {clock(at, how)}{by} with fermata {context.version}{plan}"
    return [line for line in (exactly(context), made) if line]
