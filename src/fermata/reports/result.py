"""What a run of a report gives: a table, and all that is needed to trust it."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from fermata.analysis.explain import Step
from fermata.analysis.plan import Plan
from fermata.analysis.table import Table
from fermata.reports.model import Report

__all__ = ["Context", "Records", "RunResult"]


@dataclass(frozen=True, slots=True)
class Context:
    """What stands above and below every output. Times are aware UTC."""

    title: str
    period: str
    period_exact: str
    period_text: str
    zone: str
    filters: str
    fresh: tuple[tuple[str, datetime], ...]
    made_at: datetime
    version: str
    plan: str


@dataclass(frozen=True, slots=True)
class RunResult:
    """A finished run. `caveats` are what a reader must know; `steps` what each filter took away, if asked for."""

    report: Report
    plan: Plan
    table: Table
    context: Context
    caveats: tuple[str, ...]
    steps: tuple[tuple[str, tuple[Step, ...]], ...] = ()


@dataclass(frozen=True, slots=True)
class Records:
    """The events behind a figure. `columns` are (name, label, type, unit, scale); `total` counts all there are.

    Each row ends with file, record number and, behind a figure, the contribution; `figure` is the cell they explain (None
    for a share, whose records are those of its measure).
    """

    title: str
    context: Context
    columns: tuple[tuple[str, str, str, str, int], ...]
    rows: tuple[tuple[Any, ...], ...]
    total: int
    figure: Any = None
    notes: tuple[str, ...] = field(default=())
