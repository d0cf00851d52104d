"""The seam to the engines: expressions in, Arrow tables out, engine errors turned into Fermata's.

An engine differs from the others only by what stands in its class here.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Protocol

from fermata.errors import ArchiveDamaged, DataError, FermataError, TooLarge

__all__ = ["DuckEngine", "Engine", "PostgresEngine"]


class Engine(Protocol):
    """Runs Ibis expressions. `builtin_percentile` says whether a nearest-rank aggregate exists."""

    name: str
    builtin_percentile: bool

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""

    def lookup(self, name: str, rows: Any) -> Any:
        """A small Arrow table as one of the engine's, called `name`; the same name stands for the same rows."""


class DuckEngine:
    """The embedded engine over Parquet files or tables of `con`, an Ibis DuckDB backend."""

    name = "duckdb"
    builtin_percentile = True

    def __init__(self, con: Any = None, *, memory: str = "1GB") -> None:
        if con is None:
            import ibis

            con = ibis.duckdb.connect()
            con.raw_sql(f"SET memory_limit = '{memory}'; SET enable_progress_bar = false")
        self.con = con
        self.held: set[str] = set()

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table, without going through pandas."""
        return _exact(self.sql(self.con.compile(expr)), expr)

    def lookup(self, name: str, rows: Any) -> Any:
        """A small Arrow table as one of the engine's, called `name`; the same name stands for the same rows."""
        import ibis

        if name not in self.held:
            self.con.con.register("given", rows)
            self.do(f"CREATE TEMP TABLE {name} AS SELECT * FROM given")
            self.con.con.unregister("given")
            self.held.add(name)
        return ibis.table(ibis.Schema.from_pyarrow(rows.schema), name=name)

    def sql(self, text: str) -> Any:
        """The rows of a plain query as an Arrow table."""
        return self.do(text).to_arrow_table()

    def do(self, text: str) -> Any:
        """Executes a plain statement. Raises DataError with the engine's reason."""
        import duckdb

        try:
            return self.con.con.execute(text)
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

    def lookup(self, name: str, rows: Any) -> Any:
        """A small Arrow table as VALUES, which a read-only role may write."""
        import ibis

        columns = [rows.column(i).to_pylist() for i in range(rows.num_columns)]
        types = [
            "text[]" if str(f.type).startswith("list") else "timestamp" if str(f.type).startswith("time") else "text"
            for f in rows.schema
        ]
        lines = ", ".join(
            f"({', '.join(_literal(v, t) for v, t in zip(row, types, strict=True))})"
            for row in zip(*columns, strict=True)
        )
        named = ", ".join(rows.column_names)
        query = f"SELECT * FROM (VALUES {lines}) AS given ({named})"
        return self.con.sql(query, schema=ibis.Schema.from_pyarrow(rows.schema))


def _literal(value: Any, kind: str) -> str:
    """A value in standard SQL, cast to `kind`; nothing in a text is ever read as SQL."""
    if isinstance(value, list):
        text = f"ARRAY[{', '.join(_literal(v, 'text') for v in value)}]"
    elif value is None:
        text = "NULL"
    else:
        told = value.isoformat(sep=" ") if isinstance(value, datetime) else str(value)
        text = "'" + told.replace("'", "''") + "'"
    return f"CAST({text} AS {kind})"


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
