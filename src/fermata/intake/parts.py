"""The events a record gives, as expressions over its columns, and why a record is refused.

What an expression looks like is the dialect's: that of the engine which reads files, or that of a database in which a
log is read where it is.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from fermata.archive.duck import lit
from fermata.fields import TIMES, LogSchema
from fermata.intake.field_map import FieldMap
from fermata.intake.localtime import FIRST, LAST, Extent, to_utc, ts
from fermata.intake.mapping import LogMap
from fermata.intake.texts import Column, Dialect, Origin, raw_text, spelt

__all__ = ["Columns", "Part", "is_one_of", "parts_of", "refused"]

SHOWN = 60  # characters of a refused text that its reason repeats


class Columns:
    """The columns of the stage table: each expression once, however many events use it.

    `late` ones are made of other columns; they come after them, in the order they were asked for.
    """

    def __init__(self) -> None:
        self.names: dict[str, str] = {}
        self.late: list[str] = []

    def __call__(self, sql: str, *, late: bool = False) -> str:
        if late and sql not in self.names:
            self.late.append(sql)
        return self.names.setdefault(sql, f"c{len(self.names)}")

    def over(self, source: str, skip: str, *, fenced: bool = False) -> str:
        """A query of all columns, and those of `source`, one nesting per late column that needs the one before.

        `fenced` has a database that takes nestings apart work each out once.
        """
        fence = " OFFSET 0" if fenced else ""
        early = ", ".join(f"{sql} AS {name}" for sql, name in self.names.items() if sql not in self.late)
        query = f"SELECT *, {early}, {skip} AS skip FROM {source}"
        for sql in self.late:
            query = f"SELECT *, {sql} AS {self.names[sql]} FROM ({query}{fence}) AS q"
        return query


@dataclass
class Part:
    """One event of a record, as columns of the stage table: wall clock and UTC, and what else it holds.

    `local` are all wall clocks that become UTC within `extent`.
    """

    extent: Extent = (FIRST, LAST)
    local: list[str] = field(default_factory=list)
    walls: dict[str, str] = field(default_factory=dict)
    start: str = ""
    finish: str = ""
    duration: str = ""
    fields: dict[str, str] = field(default_factory=dict)


def parts_of(
    log: LogMap, schema: LogSchema, origin: Origin, columns: Columns, extent: Extent = (FIRST, LAST)
) -> tuple[list[Part], list[tuple[str, str]]]:
    """The events a record gives, and (suspicion, reason or NULL) for every text that may be refused.

    The wall clocks of the file lie within `extent`.
    """
    parts: list[Part] = []
    reasons: list[tuple[str, str]] = []
    for mapped in log.parts():
        part = Part(extent)
        if "start" in mapped:
            earlier = parts[0].walls.get("start", "") if parts else ""
            part.start = _time(part, "start", mapped, schema, log, origin, columns, reasons, earlier)
        if "finish" in mapped:
            part.finish = _time(part, "finish", mapped, schema, log, origin, columns, reasons)
        if "duration" in mapped:
            part.duration = _checked("duration", origin.dialect.duration(mapped["duration"], origin), columns, reasons)
            given, sign = part.start or part.finish, "+" if part.start else "-"
            other = columns(f"{given} {sign} {origin.dialect.interval(part.duration)}", late=True)
            if part.start:
                part.finish = other
            else:  # without a duration it is not known when it began: an instant
                part.start = columns(f"coalesce({other}, {given})", late=True)
                part.finish = columns(f"CASE WHEN {part.duration} IS NOT NULL THEN {given} END", late=True)
        elif not part.start:
            part.start, part.finish = part.finish, ""
        for name in (n for n in mapped if n not in TIMES):
            spec = schema.by_name[name]
            if spec.type == "time":
                part.fields[name] = _time(part, name, mapped, schema, log, origin, columns, reasons)
                continue
            part.fields[name] = _checked(name, origin.dialect.typed(mapped[name], spec, origin), columns, reasons)
            if mapped[name].spelling:
                written = raw_text(mapped[name], origin)
                part.fields[f"{name}_written"] = columns(
                    f"CASE WHEN {written} <> {spelt(mapped[name], origin)} THEN {written} END"
                )
            if name in log.key:
                reasons.append((f"{part.fields[name]} IS NULL", lit(f"{name}, a key of the log, is empty")))
        parts.append(part)
    reasons.append((" AND ".join(f"{p.start} IS NULL" for p in parts), "'the time is empty'"))
    times = [t for p in parts for t in (p.start, p.finish) if t]
    reasons += [(f"{t} NOT BETWEEN {ts(FIRST)} AND {ts(LAST)}", "'the time lies outside 1970 to 2099'") for t in times]
    return parts, reasons


def _time(
    part: Part,
    name: str,
    mapped: dict[str, FieldMap],
    schema: LogSchema,
    log: LogMap,
    origin: Origin,
    columns: Columns,
    reasons: list[tuple[str, str]],
    earlier: str = "",
) -> str:
    """The UTC column of a time; its wall-clock column, if it has one, is noted in the part. A start may have an
    `earlier` one in its record, a finish has that of its own event.
    """
    spec = mapped[name]
    local, utc = origin.dialect.instant(spec, origin)
    wall = columns(local.value)
    told = columns(utc.value) if "CAST(NULL" not in utc.value else "NULL"
    reasons.append((f"{wall} IS NULL AND {told} IS NULL", _unless_empty(name, local)))
    begun = part.walls.get("start") if name == "finish" else earlier
    if name == "finish" and begun and origin.dialect.clock(spec, origin):
        wall = columns(f"date_trunc('day', {begun}) + ({wall} - TIMESTAMP '1900-01-01')", late=True)
    if begun and spec.next_day:
        wall = columns(f"CASE WHEN {wall} < {begun} THEN {wall} + INTERVAL '1 day' ELSE {wall} END", late=True)
    if spec.past_midnight:
        wall = _past_midnight(wall, columns)
    if "CAST(NULL" in local.value:
        return told
    if name in TIMES:  # of other times no order in the file tells which pass of a repeated hour is meant
        part.walls[name] = wall
    part.local.append(wall)
    converted = to_utc(wall, schema.zone, log.ambiguous, log.nonexistent, part.extent, origin.dialect.less)
    return columns(converted if told == "NULL" else f"coalesce({told}, {converted})", late=True)


def _past_midnight(wall: str, columns: Columns) -> str:
    """The wall clock with as many days more as the clock stepped back since a line of another date."""
    so_far = "(ORDER BY {} ROWS UNBOUNDED PRECEDING)"
    row = columns("row_number() OVER ()", late=True)
    upto = so_far.format(row)
    earlier = f"OVER (ORDER BY {row} ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING)"
    last = columns(f"last_value({wall} IGNORE NULLS) {earlier}", late=True)
    same = f"CAST({last} AS DATE) = CAST({wall} AS DATE)"
    back = columns(f"CASE WHEN {same} AND {wall} < {last} - INTERVAL 12 HOURS THEN 1 ELSE 0 END", late=True)
    steps = columns(f"sum({back}) OVER {upto}", late=True)
    other = f"CASE WHEN {wall} IS NOT NULL AND NOT coalesce({same}, false) THEN {steps} - {back} END"
    begun = columns(f"max({other}) OVER {upto}", late=True)
    return columns(f"{wall} + to_days(CAST({steps} - {begun} AS INTEGER))", late=True)


def _checked(name: str, column: Column, columns: Columns, reasons: list[tuple[str, str]]) -> str:
    here = columns(column.value)
    if column.refused != "false":
        reasons.append((f"{here} IS NULL", _unless_empty(name, column)))
    return here


def _unless_empty(name: str, column: Column) -> str:
    """Why a text that gave nothing is refused; NULL if there was no text."""
    quote = lit("'")
    says = f"concat({lit(name + ': ')}, {quote}, left({column.raw}, {SHOWN}), {quote}, {lit(' ' + column.reason)})"
    return f"CASE WHEN ({column.raw}) IS NOT NULL THEN {says} END"


def refused(reasons: list[tuple[str, str]], shape: str) -> str:
    """The first reason there is. What a text was is only looked at where one of the conditions holds."""
    shapes = [("NOT shaped", shape)] if shape else []
    conditions = " OR ".join(f"({c})" for c, _ in [*shapes, *reasons])
    first = ", ".join(f"CASE WHEN {c} THEN {r} END" for c, r in [*shapes, *reasons])
    return f"CASE WHEN {conditions} THEN coalesce({first}) END"


def is_one_of(text: str, values: tuple[str, ...], dialect: Dialect) -> str:
    """Whether a column's text is one of `values`; `like:` begins a pattern with * and ?."""
    exact, here = [v for v in values if not v.startswith("like:")], dialect.trimmed(text)
    tests = [f"{here} IN ({', '.join(lit(v) for v in exact)})"] if exact else []
    tests += [dialect.alike(here, v.removeprefix("like:")) for v in values if v not in exact]
    return f"({' OR '.join(tests)})"
