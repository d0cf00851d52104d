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
from fermata.fields import TIMES
from fermata.intake.localtime import FIRST, LAST, to_utc, windows, within
from fermata.intake.native import Native
from fermata.intake.parts import Columns, Part, is_one_of, parts_of, refused
from fermata.intake.questions import Questions
from fermata.intake.raw_times import RawTimes
from fermata.intake.texts import Origin

__all__ = ["InPlace", "quoted"]

NEAREST = 1000  # rows by whose times the first or last event is found


def quoted(table: str) -> str:
    """The name of a table, with or without its schema, as SQL."""
    return ".".join(ident(part) for part in table.split("."))


@dataclass(frozen=True)
class InPlace(Questions):
    """A log's mapping over a table whose columns hold `families` (see `fermata.intake.native`)."""

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

    @property
    def parts(self) -> list[Part]:
        """The events a record gives, as columns of `records`."""
        return self._mapped[1]

    @property
    def number(self) -> str:
        """The column of `records` with the record's number."""
        return self.read[self.record]

    def within(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """A raw condition that holds for all records of that time; "" where there is none."""
        return self.raw.within(start, end, spans=spans)

    def or_nothing(self, start: datetime, end: datetime) -> str:
        """The same, or that a record has no time."""
        return self.raw.or_nothing(start, end)

    @functools.cached_property
    def long(self) -> bool:
        """Whether times are read from texts or local clocks, whose expressions are long: a database should not take
        them apart.
        """
        return bool(self._times - {"instant", "number", "length"})

    @property
    def _times(self) -> set[str]:
        return {self.native.family(f) for p in self.log.parts() for n, f in p.items() if n in TIMES or f.type == "time"}

    def records(self, where: str, *, first: str = "") -> str:
        """The table's rows under a raw condition with the mapping's columns, `bad` saying why a record is refused; of
        the rows chosen only those that `first` (an order with a limit) leaves.

        Where expressions are long the database has to work each row out once.
        """
        columns, _, why = self._mapped
        listed = ", ".join(f"{ident(name)} AS {short}" for name, short in self.read.items())
        tests = [where or "true"]
        chosen = {c: self.native.text(c, ident(c)) for c in (*self.log.keep, *self.log.drop)}
        tests += [f"coalesce({is_one_of(chosen[c], v, self.native)}, false)" for c, v in self.log.keep.items()]
        tests += [f"NOT coalesce({is_one_of(chosen[c], v, self.native)}, false)" for c, v in self.log.drop.items()]
        source = f"(SELECT {listed} FROM {quoted(self.table)} WHERE {' AND '.join(tests)} {first}) AS t"
        fence = " OFFSET 0" if self.long else ""
        return f"SELECT *, {why} AS bad FROM ({columns.over(source, 'NULL', fenced=self.long)}{fence}) AS e"

    @property
    def compared(self) -> bool:
        """Whether the columns of its times can be compared as they are."""
        return bool(self.within(FIRST, LAST, spans=False))

    def outermost(self, *, last: bool) -> str:
        """A query of the first or last start among the `NEAREST` rows that the raw column puts first or last, near
        enough: local times may lie an hour apart. It gives NULL where all of these are refused.
        """
        found = []
        for i, part in enumerate(self._mapped[1]):
            mapped = self.log.parts()[i]
            timed = mapped.get("start") or mapped["finish"]
            raw = ident(timed.column or timed.read_columns[0])
            first = f"ORDER BY {raw} {'DESC' if last else 'ASC'} LIMIT {NEAREST}"
            rows = self.records(f"{raw} IS NOT NULL", first=first)
            found.append(f"SELECT {part.start} AS at FROM ({rows}) AS r WHERE {self.stands(i)}")
        return f"SELECT {'max' if last else 'min'}(at) AS at FROM ({' UNION ALL '.join(found)}) AS o"

    def row(self, number: int) -> str:
        """A query of the whole row of that number."""
        return f"SELECT * FROM {quoted(self.table)} WHERE {ident(self.record)} = {int(number)}"

    @property
    def size(self) -> str:
        """A query of how many rows the table has."""
        return f"SELECT count(*) FROM {quoted(self.table)}"
