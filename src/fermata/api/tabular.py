"""What every table has that the library gives: rows, names of columns, and the forms of other libraries."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from fermata.api.values import Row, Value
from fermata.outputs import parquet
from fermata.outputs.writing import bare
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer, Page, Records

if TYPE_CHECKING:
    import pandas
    import polars
    import pyarrow

__all__ = ["Listing", "Tabular", "frame", "whole"]


class Tabular:
    """The rows of the finest level of an answer, in the forms of other libraries: durations as lengths of time, times
    with the zone, days and months as dates, money exact; subtotals left out.

    Columns are called by their headings, those of a listing by the fields' names.
    """

    @abstractmethod
    def _shown(self) -> tuple[Answer, Display]:
        """The answer, and how it is shown."""

    def to_arrow(self) -> pyarrow.Table:
        """The rows as an Arrow table. Raises RequestError for figures below each other and for a page whose parts
        differ.

        >>> hall.registers.overview().to_arrow().num_rows
        16
        """
        import pyarrow as pa

        answer, how = self._shown()
        named = isinstance(answer, Records)
        return pa.concat_tables(t for _, t in parquet.tables(answer, bare(how), named=named))

    def batches(self) -> Iterator[pyarrow.RecordBatch]:
        """The rows as Arrow record batches, one after the other, so that a long listing is never whole in memory.

        >>> [b.num_rows for b in hall.registers.overview().batches()]
        [16]
        """
        answer, how = self._shown()
        for _, table in parquet.tables(answer, bare(how), named=isinstance(answer, Records)):
            yield from table.to_batches()

    def to_pandas(self) -> pandas.DataFrame:
        """The rows as a pandas table: timedelta64, datetime64 with the zone, nullable Int64 and boolean, Decimal for
        money.

        >>> hall.registers.overview().to_pandas().shape
        (16, 5)
        """
        return frame(self.to_arrow())

    def to_polars(self) -> polars.DataFrame:
        """The rows as a polars table.

        >>> hall.registers.overview().to_polars().shape
        (16, 5)
        """
        import polars

        found = polars.from_arrow(self.to_arrow())
        assert isinstance(found, polars.DataFrame)
        return found

    def to_dicts(self) -> list[dict[str, Value]]:
        """Each row as a dictionary by the names of columns.

        >>> len(hall.registers.overview().to_dicts())
        16
        """
        rows: list[dict[str, Any]] = self.to_arrow().to_pylist()
        return rows

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the columns.

        >>> hall.registers.overview().names
        ('register', 'rows', 'entries', 'names', 'attributes')
        """
        return tuple(self.to_arrow().column_names)

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The rows for any library that reads Arrow streams (the Arrow C stream interface)."""
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __iter__(self) -> Iterator[Row]:
        """The rows as tuples."""
        table = self.to_arrow()
        return iter(zip(*(column.to_pylist() for column in table.columns), strict=True))

    def __len__(self) -> int:
        """How many rows there are."""
        answer, _ = self._shown()
        if isinstance(answer, Page):
            return int(self.to_arrow().num_rows)
        rows: Sequence[Any] = answer.rows if isinstance(answer, Records) else answer.table.body
        return len(rows)

    def __bool__(self) -> bool:
        """An answer is one, however many rows it has."""
        return True

    def _repr_html_(self) -> str:
        from fermata.outputs import html

        return html.fragment(*self._shown())

    def __str__(self) -> str:
        from fermata.outputs import text

        return text.render(*self._shown())


class Listing(Tabular, Records):
    """A listing of rows: events, a register, a timetable."""

    def _shown(self) -> tuple[Answer, Display]:
        return self, Display()

    @classmethod
    def of(cls, records: Records) -> Listing:
        """The same rows with all that a table of the library has."""
        kept = {name: getattr(records, name) for name in Records.__dataclass_fields__}
        return cls(**kept)

    def __reduce__(self) -> tuple[Any, tuple[Records]]:
        return Listing.of, (whole(self),)


def whole(answer: Records) -> Records:
    """The listing with all its rows, and no connection to where they are read."""
    kept = {name: getattr(answer, name) for name in Records.__dataclass_fields__}
    return Records(**{**kept, "rows": tuple(answer.rows), "earlier": tuple(answer.earlier)})


def frame(table: pyarrow.Table) -> pandas.DataFrame:
    """An Arrow table as a pandas one, whole numbers and flags nullable."""
    import pandas as pd
    import pyarrow as pa

    return table.to_pandas(types_mapper={pa.int64(): pd.Int64Dtype(), pa.bool_(): pd.BooleanDtype()}.get)
