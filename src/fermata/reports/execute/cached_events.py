"""Events that several questions ask about, read once."""

from __future__ import annotations

import functools
import operator
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from fermata.analysis.combine import Source
from fermata.analysis.plan import Plan, Strand
from fermata.engines.embedded import Engine
from fermata.fields import Field
from fermata.reports.compile.workplace import Workplace

__all__ = ["Once"]


@dataclass
class Once:
    """A workspace with nothing in it but the events in which one of a log's `fields` (log -> fields) is `name`.

    The engine keeps them, so that the log itself is read once. Where registers decide who is meant all events are
    there, as ever.
    """

    place: Workplace
    name: str
    fields: Mapping[str, tuple[Field, ...]]

    def __getattr__(self, name: str) -> Any:
        return getattr(self.place, name)

    def source(self, plan: Plan) -> Source:
        """Opens a strand's events."""
        inner = self.place.source(plan)

        def open_strand(strand: Strand) -> tuple[Engine, Any]:
            engine, table = inner(strand)
            fields = self.fields.get(strand.schema.name, ())
            told = any(self.place.registers.of(f) for f in fields)
            if not fields or told or strand.schema.derivation is not None:
                return engine, table
            tests = [table[f.stored] == self.name for f in fields]
            return engine, engine.keep(table.filter(functools.reduce(operator.or_, tests)), throughout=True)

        return open_strand
