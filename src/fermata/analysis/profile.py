"""What the fields of a log hold: how full, how many values, the commonest, smallest and largest, a sample."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from fermata.analysis.filters import column
from fermata.fields import Field, LogSchema

__all__ = ["Profile", "profile"]

COMMONEST = 3
Run = Callable[[Any], Any]


@dataclass(frozen=True, slots=True)
class Profile:
    """One field among `events` events. `common` are (value, how often), the most frequent first."""

    field: Field
    events: int
    filled: int
    different: int
    common: tuple[tuple[Any, int], ...] = ()
    least: Any = None
    most: Any = None
    sample: Any = None


def profile(table: Any, run: Run, schema: LogSchema) -> list[Profile]:
    """The profile of each stored field, and of finish and duration in a log of spans; two queries a field."""
    names = [*(f.name for f in schema.fields), *(("finish", "duration") if schema.spans else ())]
    fields = [schema.field(n) for n in names]
    named: dict[str, Any] = {"events": table.count()}
    for i, field in enumerate(fields):
        here = column(table, field)
        named |= {f"filled{i}": here.count(), f"different{i}": _single(here, field).nunique()}
        if field.type not in ("tags", "flag"):
            named |= {f"least{i}": here.min(), f"most{i}": here.max()}
    row = run(table.aggregate(**named)).to_pylist()[0]
    return [_one(table, run, field, row, i) for i, field in enumerate(fields)]


def _single(here: Any, field: Field) -> Any:
    return here.cast("string") if field.type == "tags" else here


def _one(table: Any, run: Run, field: Field, row: dict[str, Any], i: int) -> Profile:
    filled = row[f"filled{i}"]
    common: tuple[tuple[Any, int], ...] = ()
    sample = None
    if filled:
        here = column(table, field)
        values = table.filter(here.notnull()).select(value=here.unnest() if field.type == "tags" else here)
        if field.type not in ("time", "duration"):
            counted = values.group_by("value").aggregate(n=values.count())
            top = run(counted.order_by([counted.n.desc(), counted.value]).limit(COMMONEST)).to_pylist()
            common = tuple((r["value"], r["n"]) for r in top)
        last = table.filter(here.notnull()).order_by(table.start_utc.desc()).limit(1)
        sample = run(last.select(value=column(last, field))).column(0)[0].as_py()
    different = row[f"different{i}"]
    return Profile(field, row["events"], filled, different, common, row.get(f"least{i}"), row.get(f"most{i}"), sample)
