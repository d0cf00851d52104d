"""A log whose records stay in a PostgreSQL table: the mapping as a query over it, narrowed by conditions its indexes
can serve.

    raw condition -> columns the mapping reads -> typed fields + reason if refused -> events in UTC

The same expressions as for files say what a record means; nothing is copied and no record is read outside the period
where the column of its time can be compared as it is.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fermata.archive.duck import ident, lit
from fermata.errors import RequestError, UnknownName
from fermata.fields import TIMES, LogSchema
from fermata.intake.localtime import FIRST, LAST, to_utc, windows, within
from fermata.intake.mapping import LogMap
from fermata.intake.native import Native
from fermata.intake.parts import Columns, Part, is_one_of, parts_of, refused
from fermata.intake.raw_times import DAY, RawTimes
from fermata.intake.texts import Origin

__all__ = ["InPlace", "quoted"]

STORED = {
    "VARCHAR": "text", "BIGINT": "bigint", "INTEGER": "integer", "SMALLINT": "smallint", "BOOLEAN": "boolean",
    "VARCHAR[]": "text[]", "TIMESTAMP": "timestamp",
}  # fmt: skip


def quoted(table: str) -> str:
    """The name of a table, with or without its schema, as SQL."""
    return ".".join(ident(part) for part in table.split("."))


@dataclass(frozen=True)
class InPlace:
    """A log's mapping over a table whose columns hold `families` (see `fermata.intake.native`)."""

    log: LogMap
    schema: LogSchema
    families: dict[str, str]

    @property
    def table(self) -> str:
        """The table or view, as the mapping names it."""
        return self.log.database.table if self.log.database else ""

    @property
    def record(self) -> str:
        """The column that tells rows apart."""
        return self.log.database.record if self.log.database else ""

    @functools.cached_property
    def read(self) -> dict[str, str]:
        """The columns the mapping reads, and what they are called in the query. Raises UnknownName, RequestError."""
        mapped = [c for p in self.log.parts() for f in p.values() for c in f.read_columns]
        names = dict.fromkeys([*mapped, *self.log.keep, *self.log.drop, self.record])
        for name in names:
            if name not in self.families:
                raise UnknownName.of("column", name, self.families, where=f"in {self.table}")
        if self.families[self.record] != "number":
            raise RequestError(
                f"record = {self.record!r} holds no whole numbers; name a column that does, or add one in a view"
            )
        for field in (f for p in self.log.parts() for f in p.values()):
            if field.file_name is not None:
                raise RequestError(f"file_name = {field.file_name!r}: a table has no file")
        return {name: f"s{i}" for i, name in enumerate(names)}

    @functools.cached_property
    def native(self) -> Native:
        """How the columns are read."""
        return Native(self.families, self.read)

    @functools.cached_property
    def raw(self) -> RawTimes:
        """Its times as conditions on the columns."""
        return RawTimes(self.log, self.native, self.families)

    @functools.cached_property
    def _mapped(self) -> tuple[Columns, list[Part], str]:
        """The columns of the mapping, the events of a record, and why one is refused."""
        columns = Columns()
        origin = Origin(Path(self.table), {c: self.native.text(c) for c in self.read}, self.native)
        parts, reasons = parts_of(self.log, self.schema, origin, columns)
        for part in parts:
            self._settle(part, columns)
            if part.finish and not part.duration:
                says = f"concat('finish ', {part.finish}, ' is before start ', {part.start}, ' (UTC)')"
                reasons.append((f"{part.finish} < {part.start}", says))
            for name, wall in part.walls.items():
                for back, policy in ((True, self.log.ambiguous), (False, self.log.nonexistent)):
                    if policy == "reject" and (found := windows(self.schema.zone, FIRST, LAST, sets_back=back)):
                        why = f" {'happens twice' if back else 'never happens'} in {self.schema.zone}"
                        reasons.append((within(wall, found), f"concat({lit(name + ': ')}, {wall}, {lit(why)})"))
        return columns, parts, refused(reasons, "")

    def _settle(self, part: Part, columns: Columns) -> None:
        """A finish in the hour that happens twice, and before its start in the first pass, lies in the second."""
        wall = part.walls.get("finish")
        if wall and part.start and self.log.ambiguous == "order" and part.finish and not part.duration:
            second = to_utc(wall, self.schema.zone, "later", self.log.nonexistent)
            part.finish = columns(
                f"CASE WHEN {part.finish} < {part.start} THEN {second} ELSE {part.finish} END", late=True
            )

    @functools.cached_property
    def long(self) -> bool:
        """Whether times are read from texts or local clocks, whose expressions are long: a database should not take
        them apart.
        """
        return bool(self._times - {"instant", "number", "length"})

    @property
    def _times(self) -> set[str]:
        return {self.native.family(f) for p in self.log.parts() for n, f in p.items() if n in TIMES or f.type == "time"}

    def _records(self, where: str, *, fenced: bool | None = None) -> str:
        """The table's rows under a raw condition with the mapping's columns, `bad` saying why a record is refused.

        `fenced` has the database work each row out once, as it does by default where expressions are long.
        """
        fenced = self.long if fenced is None else fenced
        columns, _, why = self._mapped
        listed = ", ".join(f"{ident(name)} AS {short}" for name, short in self.read.items())
        tests = [where or "true"]
        chosen = {c: self.native.text(c, ident(c)) for c in (*self.log.keep, *self.log.drop)}
        tests += [f"coalesce({is_one_of(chosen[c], v, self.native)}, false)" for c, v in self.log.keep.items()]
        tests += [f"NOT coalesce({is_one_of(chosen[c], v, self.native)}, false)" for c, v in self.log.drop.items()]
        source = f"(SELECT {listed} FROM {quoted(self.table)} WHERE {' AND '.join(tests)}) AS t"
        fence = " OFFSET 0" if fenced else ""
        return f"SELECT *, {why} AS bad FROM ({columns.over(source, 'NULL', fenced=fenced)}{fence}) AS e"

    def events(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """A query over the events that may matter for naive UTC [start, end), in the schema's columns: those that start
        in it, and with `spans` those that reach into it.
        """
        return self._events(self.raw.within(start, end, spans=spans))

    def every(self) -> str:
        """A query over all events."""
        return self._events("")

    def _events(self, where: str) -> str:
        records = self._records(where)
        return " UNION ALL ".join(
            f"SELECT {self._listed(i)} FROM ({records}) AS r WHERE {self._stands(i)}"
            for i in range(len(self._mapped[1]))
        )

    def _listed(self, number: int) -> str:
        part = self._mapped[1][number]
        given = {
            "start_utc": part.start, "finish_utc": part.finish, **{f.stored: part.fields.get(f.name,
            "") for f in self.schema.fields},
            "file_id": "0", "record_no": self.read[self.record], "event_no": str(number),
        }  # fmt: skip
        return ", ".join(
            f"CAST({given[c] or 'NULL'} AS {STORED[kind]}) AS {ident(c)}" for c, kind in self.schema.columns.items()
        )

    def _stands(self, number: int) -> str:
        return f"bad IS NULL AND {self._mapped[1][number].start} IS NOT NULL"

    def refusals(self, start: datetime, end: datetime) -> str:
        """A query of the reasons why records of naive UTC [start, end), or without a time, are refused: reason, n."""
        return (
            f"SELECT bad, count(*) AS n FROM ({self._records(self.raw.or_nothing(start, end))}) AS r WHERE bad IS "
            "NOT NULL GROUP BY bad"
        )

    def refused(self, most: int) -> str:
        """A query of the refused records of the whole table: record, reason; at most so many, the first by number."""
        number = self.read[self.record]
        return (
            f"SELECT {number} AS record_no, bad FROM ({self._records('')}) AS r WHERE bad IS NOT NULL ORDER BY "
            f"{number} LIMIT {most}"
        )

    def fates(self) -> str:
        """A query of how many rows the table has, how many of them the mapping selects, and how many of these are
        refused.
        """
        return (
            f"SELECT (SELECT count(*) FROM {quoted(self.table)}) AS read, count(*) AS chosen, count(bad) AS "
            f"rejected FROM ({self._records('')}) AS r"
        )

    def unclear(self, start: datetime, end: datetime) -> str:
        """A query of how many local times of naive UTC [start, end) happened twice, and how many never; "" where none
        can have.
        """
        walls = [w for p in self._mapped[1] for w in p.walls.values()]
        told = []
        for back in (True, False):
            found = windows(self.schema.zone, start - DAY, end + DAY, sets_back=back)
            told.append(" OR ".join(within(w, found) for w in walls) if found and walls else "false")
        if told == ["false", "false"]:
            return ""
        counts = f"count(*) FILTER (WHERE {told[0]}) AS twice, count(*) FILTER (WHERE {told[1]}) AS never"
        records = self._records(self.raw.within(start, end, spans=False))
        return f"SELECT {counts} FROM ({records}) AS r WHERE bad IS NULL"

    @property
    def compared(self) -> bool:
        """Whether the columns of its times can be compared as they are."""
        return bool(self.raw.within(FIRST, LAST, spans=False))

    def outermost(self, *, last: bool) -> str:
        """A query of the first or last start there is, near enough: by the raw column, whose local times may lie an
        hour apart.
        """
        found = []
        for i, part in enumerate(self._mapped[1]):
            mapped = self.log.parts()[i]
            timed = mapped.get("start") or mapped["finish"]
            raw = self.read[timed.column or timed.read_columns[0]]
            rows = (
                f"SELECT {part.start} AS at FROM ({self._records('', fenced='text' in self._times)}) AS r WHERE "
                f"{self._stands(i)}"
            )
            found.append(f"({rows} ORDER BY {raw} {'DESC' if last else ''} LIMIT 1)")
        return f"SELECT {'max' if last else 'min'}(at) AS at FROM ({' UNION ALL '.join(found)}) AS o"

    def row(self, number: int) -> str:
        """A query of the whole row of that number."""
        return f"SELECT * FROM {quoted(self.table)} WHERE {ident(self.record)} = {int(number)}"
