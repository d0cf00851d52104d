"""Periods, zones and calendars: pure, without data, engine or clock."""

from fermata.timeline.cycles import Calendar, Cycle
from fermata.timeline.periods import Period, Stretch
from fermata.timeline.units import Slot, slots

__all__ = ["Calendar", "Cycle", "Period", "Slot", "Stretch", "slots"]
