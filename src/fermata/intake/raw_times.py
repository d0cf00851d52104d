"""What holds for the raw columns of a table within a time, so that the database finds the rows by an index."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from fermata.archive.duck import ident
from fermata.intake.field_map import FieldMap
from fermata.intake.localtime import ts
from fermata.intake.mapping import LogMap
from fermata.intake.native import EPOCH, Native

__all__ = ["DAY", "RawTimes"]

DAY = timedelta(days=1)  # no zone is further from UTC


@dataclass(frozen=True)
class RawTimes:
    """The times of a mapping as conditions on columns that hold `families` (see `fermata.intake.native`)."""

    log: LogMap
    native: Native
    families: dict[str, str]

    def within(self, start: datetime, end: datetime, *, spans: bool) -> str:
        """A condition on raw columns that holds for all rows of that time, so that an index can find them; "" where
        there is none.
        """
        tests = []
        for mapped in self.log.parts():
            test = self._within(mapped, start, end, spans)
            if not test:
                return ""
            tests.append(test)
        return f"({' OR '.join(tests)})"

    def _within(self, mapped: dict[str, FieldMap], start: datetime, end: datetime, spans: bool) -> str:
        begun, ended = mapped.get("start"), mapped.get("finish")
        if begun is None:  # known by its end: it starts before that by its duration, if it has one
            edges = self._between(ended, start, end) if ended else None
            return (edges[0] if "duration" in mapped else " AND ".join(edges)) if edges else ""
        edges = self._between(begun, start, end)
        if not edges or not spans:
            return f"({' AND '.join(edges)})" if edges else ""
        if ended is None:
            return f"({' AND '.join(edges)})" if "duration" not in mapped else edges[1]
        reaching = self._between(ended, start, end)
        column = ident(ended.read_columns[0])
        return f"({edges[1]} AND ({edges[0]} OR {reaching[0]} OR {column} IS NULL))" if reaching else edges[1]

    def _between(self, field: FieldMap, start: datetime, end: datetime) -> tuple[str, str] | None:
        """What holds for a raw column from, and up to, these instants, no tighter than its own reading; None where it
        cannot be compared.
        """
        family, column = self.native.family(field), ident(field.column or "")
        if field.columns and self.families.get(field.columns[0]) == "date":
            family, column = "date", ident(field.columns[0])
        if family == "instant":
            return (
                f"{column} >= TIMESTAMP WITH TIME ZONE '{start}+00'",
                f"{column} < TIMESTAMP WITH TIME ZONE '{end}+00'",
            )
        early = DAY * 2 if field.next_day else DAY
        if family == "wall":
            return f"{column} >= {ts(start - early)}", f"{column} < {ts(end + DAY)}"
        if family == "date":
            return f"{column} >= DATE '{start - early:%Y-%m-%d}'", f"{column} <= DATE '{end + DAY:%Y-%m-%d}'"
        if family == "number" and len(field.form) == 1 and field.form[0] in EPOCH:
            low, high = (
                (t - datetime(1970, 1, 1)) // timedelta(microseconds=1) // EPOCH[field.form[0]] for t in (start, end)
            )
            return f"{column} >= {low - 1}", f"{column} <= {high + 1}"
        return None

    def or_nothing(self, start: datetime, end: datetime) -> str:
        """The condition of a time, or that there is none."""
        here = self.within(start, end, spans=False)
        timed = [p.get("start") or p["finish"] for p in self.log.parts()]
        nothing = [f"{ident(c)} IS NULL" for f in timed for c in f.read_columns]
        return f"({' OR '.join([here, *nothing])})" if here else ""
