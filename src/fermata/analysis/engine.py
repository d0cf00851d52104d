"""The seam to the engines: expressions in, Arrow tables out, engine errors turned into Fermata's.

An engine differs from the others only by what stands in its class here.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol

from fermata.errors import ArchiveDamaged, DataError, FermataError, TooLarge

__all__ = ["KINDS", "DuckEngine", "Engine", "PostgresEngine", "SparkEngine"]

KINDS = {  # of the columns of a lookup: as SQL, as Ibis
    "text": ("text", "string"),
    "texts": ("text[]", "array<string>"),
    "time": ("timestamp", "timestamp(6)"),
    "number": ("bigint", "int64"),
}

BATCH = 50_000  # rows of a stream that are held at once


class Engine(Protocol):
    """Runs Ibis expressions. `builtin_percentile` says whether a nearest-rank aggregate exists."""

    name: str
    builtin_percentile: bool

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""

    def stream(self, expr: Any) -> Iterator[Any]:
        """The expression's rows as Arrow tables of some rows each; nothing else may run meanwhile."""

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, never empty; the same `name` stands for the same rows. Columns are of `KINDS`."""

    def keep(self, expr: Any) -> Any:
        """The expression, worked out once if the engine is told to keep what several queries of a run need."""


class DuckEngine:
    """The embedded engine over Parquet files or tables of `con`, an Ibis DuckDB backend."""

    name = "duckdb"
    builtin_percentile = True

    def __init__(self, con: Any = None, *, memory: str = "1GB", spill: str = "") -> None:
        """An engine of its own within `memory`; what does not fit goes to the directory `spill`, made and removed by the engine."""
        if con is None:
            import ibis

            con = ibis.duckdb.connect()
            con.raw_sql(f"SET memory_limit = '{memory}'; SET enable_progress_bar = false")
            if spill:
                con.raw_sql("SET temp_directory = '" + spill.replace("'", "''") + "'")
        self.con = con
        self.held: set[str] = set()
        self.kept: dict[str, Any] | None = None

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """While it lasts, what `keep` is given stands in temporary tables; afterwards they are gone."""
        self.kept = {}
        try:
            yield
        finally:
            for number in range(len(self.kept)):
                self.do(f"DROP TABLE kept_{number}")
            self.kept = None

    def keep(self, expr: Any) -> Any:
        """The expression as a temporary table, the same for the same query; unchanged outside of `keeping`."""
        import ibis

        if self.kept is None:
            return expr
        query = self.con.compile(expr)
        if query not in self.kept:
            name = f"kept_{len(self.kept)}"
            self.do(f"CREATE TEMP TABLE {name} AS {query}")
            self.kept[query] = ibis.table(expr.schema(), name=name)
        return self.kept[query]

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table, without going through pandas."""
        return _exact(self.sql(self.con.compile(expr)), expr)

    def stream(self, expr: Any) -> Iterator[Any]:
        """The rows as they come: what does not need all of them (a sort does, and spills) is never held whole."""
        import duckdb
        import pyarrow as pa

        try:
            reader = self.do(self.con.compile(expr)).to_arrow_reader(BATCH)
            yield _exact(reader.schema.empty_table(), expr)
            for batch in reader:
                yield _exact(pa.Table.from_batches([batch]), expr)
        except (duckdb.InterruptException, RuntimeError) as e:
            if "interrupted" in str(e).lower():  # by a signal, of which the driver tells so
                raise KeyboardInterrupt from None
            raise
        except duckdb.Error as e:
            raise foreign(e) from e

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, made once."""
        import ibis

        if name not in self.held:
            self.do(f"CREATE TEMP TABLE {name} AS {_values(columns, rows)}")
            self.held.add(name)
        return ibis.table({c: KINDS[k][1] for c, k in columns.items()}, name=name)

    def sql(self, text: str) -> Any:
        """The rows of a plain query as an Arrow table."""
        return self.do(text).to_arrow_table()

    def do(self, text: str) -> Any:
        """Executes a plain statement. Raises DataError with the engine's reason."""
        import duckdb

        try:
            return self.con.con.execute(text)
        except duckdb.InterruptException:
            raise KeyboardInterrupt from None
        except duckdb.Error as e:
            raise foreign(e) from e


class PostgresEngine:
    """A PostgreSQL server through `con`, an Ibis PostgreSQL backend; a read-only role is enough."""

    name = "postgres"
    builtin_percentile = False

    def __init__(self, con: Any) -> None:
        self.con = con
        self.con.con.execute("SET standard_conforming_strings = on")  # a backslash in a text is one

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""
        import psycopg
        import pyarrow as pa

        try:
            with self.con.con.cursor() as cursor:
                cursor.execute(self.con.compile(expr))
                rows = cursor.fetchall()
        except psycopg.Error as e:
            self.con.con.rollback()
            raise foreign(e) from e
        names = list(expr.as_table().schema())
        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return _exact(pa.table([pa.array(c) for c in columns], names=names), expr)

    def keep(self, expr: Any) -> Any:
        """The expression as it is: a role that may only read keeps nothing."""
        return expr

    def stream(self, expr: Any) -> Iterator[Any]:
        """All rows at once, as one table."""
        yield self.run(expr)

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values as VALUES, which a read-only role may write."""
        import ibis

        schema = ibis.schema({c: KINDS[k][1] for c, k in columns.items()})
        return self.con.sql(_values(columns, rows), schema=schema)


class SparkEngine:
    """A Spark session whose time zone is UTC through `con`, an Ibis PySpark backend: for logs beyond one machine."""

    name = "spark"
    builtin_percentile = False

    def __init__(self, con: Any) -> None:
        self.con = con
        self.held: set[str] = set()

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""
        from pyspark.errors import PySparkException

        try:
            return _exact(self.con.raw_sql(self.con.compile(expr)).toArrow(), expr)
        except PySparkException as e:
            raise foreign(e) from e

    def keep(self, expr: Any) -> Any:
        """The expression as it is."""
        return expr

    def stream(self, expr: Any) -> Iterator[Any]:
        """All rows at once, as one table."""
        yield self.run(expr)

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, as a view of the session."""
        import ibis

        if name not in self.held:
            self.con.raw_sql(f"CREATE OR REPLACE TEMPORARY VIEW {name} AS {_values(columns, rows, SPARK)}")
            self.held.add(name)
        return ibis.table({c: KINDS[k][1] for c, k in columns.items()}, name=name)


@dataclass(frozen=True, slots=True)
class Dialect:
    """How an engine writes a small table: its names of types, its mark around names, its arrays, how it escapes a text."""

    types: Mapping[str, str]
    mark: str
    array: tuple[str, str]
    escaped: Mapping[str, str]


STANDARD = Dialect({k: sql for k, (sql, _) in KINDS.items()}, '"', ("ARRAY[", "]"), {"'": "''"})
SPARK = Dialect(
    {"text": "string", "texts": "array<string>", "time": "timestamp_ntz", "number": "bigint"},
    "`", ("array(", ")"), {"\\": "\\\\", "'": "\\'"},
)  # fmt: skip


def _values(columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]], dialect: Dialect = STANDARD) -> str:
    """Rows as a query; names and values are quoted."""
    kinds = list(columns.values())
    lines = ", ".join(
        f"({', '.join(_literal(v, k, dialect) for v, k in zip(row, kinds, strict=True))})" for row in rows
    )
    mark = dialect.mark
    named = ", ".join(mark + c.replace(mark, mark * 2) + mark for c in columns)
    return f"SELECT * FROM (VALUES {lines}) AS given ({named})"


def _literal(value: Any, kind: str, dialect: Dialect) -> str:
    """A value in the engine's SQL, cast to `kind`; nothing in a text is ever read as SQL."""
    if isinstance(value, list | tuple):
        text = f"{dialect.array[0]}{', '.join(_literal(v, 'text', dialect) for v in value)}{dialect.array[1]}"
    elif value is None:
        text = "NULL"
    else:
        told = value.isoformat(sep=" ") if isinstance(value, datetime) else str(value)
        text = "'" + "".join(dialect.escaped.get(c, c) for c in told) + "'"
    return f"CAST({text} AS {dialect.types[kind]})"


def _exact(rows: Any, expr: Any) -> Any:
    """The rows in the types the expression promises: engines widen their sums. Raises TooLarge naming the column."""
    import pyarrow as pa

    schema = expr.as_table().schema().to_pyarrow()
    columns = []
    for field in schema:
        try:
            columns.append(rows.column(field.name).cast(field.type))
        except pa.ArrowInvalid:
            raise TooLarge(f"a total in {field.name} is beyond what 64 bits hold; nothing was rounded") from None
    return pa.table(columns, schema=schema)


def foreign(error: Exception) -> FermataError:
    """An engine's error in Fermata's terms."""
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    if "out of range" in text.lower() or "overflow" in text.lower():
        return TooLarge(f"a total is beyond what 64 bits hold; nothing was rounded ({text})")
    if "io error" in text.lower() or "no files found" in text.lower():
        return ArchiveDamaged(f"a file the manifest names cannot be read; restore the archive from a backup ({text})")
    if "out of memory" in text.lower():
        return DataError(f"the engine ran out of its memory limit; take a shorter period or fewer groups ({text})")
    return DataError(f"the engine failed: {text}")
