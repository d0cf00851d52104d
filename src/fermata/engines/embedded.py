"""The seam to the engines: expressions in, Arrow tables out, engine errors turned into Fermata's.

An engine differs from the others only by what stands in its class here.
"""

from __future__ import annotations

import dataclasses
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from typing import Any, Protocol

from fermata.engines import compilers
from fermata.engines.answers import FEW, Answers
from fermata.engines.problems import foreign
from fermata.errors import TooLarge

__all__ = [
    "BATCH",
    "KINDS",
    "POSTGRES",
    "SPARK",
    "TYPES",
    "DuckEngine",
    "Engine",
    "exact",
    "marked",
    "summing",
    "values",
]

KINDS = {  # of the columns of a lookup: as SQL, as Ibis
    "text": ("text", "string"),
    "texts": ("text[]", "array<string>"),
    "time": ("timestamp", "timestamp(6)"),
    "number": ("bigint", "int64"),
}

TYPES = {  # of stored columns: as the archive calls them, as Ibis does
    "INTEGER": "int32",
    "BIGINT": "int64",
    "SMALLINT": "int16",
    "BOOLEAN": "boolean",
    "VARCHAR": "string",
    "VARCHAR[]": "array<string>",
    "TIMESTAMP": "timestamp(6)",
}

COMPILING = threading.RLock()  # Ibis keeps its options for all threads
BATCH = 50_000  # rows of a stream that are held at once


class Engine(Protocol):
    """Runs Ibis expressions. `builtin_percentile` says whether a nearest-rank aggregate exists, `peaks_in_pieces`
    whether the most at once is found sooner by looking at pieces of the period first than by sorting all spans.
    """

    name: str
    builtin_percentile: bool
    peaks_in_pieces: bool

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""

    def stream(self, expr: Any) -> Iterator[Any]:
        """The expression's rows as Arrow tables of some rows each; nothing else may run meanwhile."""

    def in_order(self, table: Any, by: Sequence[str], edges: Sequence[datetime]) -> Iterator[Any]:
        """The rows by columns, of which the first is a time, as `stream` gives them; an engine that sorts in this
        process puts them in order between two of the `edges` (naive UTC, the last one excluded) at a time. All rows are
        within the edges.
        """

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, never empty; the same `name` stands for the same rows. Columns are of
        `KINDS`.
        """

    def view(self, query: str, columns: Mapping[str, str]) -> Any:
        """A query in the engine's SQL as a table of the given columns (name -> type as Ibis calls it)."""

    def keep(self, expr: Any, *, throughout: bool = False) -> Any:
        """The expression, worked out once if the engine is told to keep what several queries of a run need; with
        `throughout`, for all parts of a run, else for the part that asks.
        """

    def keeping(self) -> AbstractContextManager[None]:
        """While it lasts, all queries see one state of the events, what is kept stays, and a question asked again is
        not worked out again. A part of a run has its own within that of the run.
        """

    def summed(self, table: Any, columns: Mapping[str, str]) -> tuple[int, int]:
        """How many events there are, and the sum modulo 2^64 of the marks of their `columns` (name -> type as the
        archive calls it).

        The mark of an event is a number made of the MD5 (RFC 1321) of its text: the last eight bytes, the lowest first.
        """


class Names(threading.local):
    """What a thread has of an engine: a cursor of its own, and the names of its temporary tables and views, which no
    other thread sees.
    """

    def __init__(self) -> None:
        self.cursor: Any = None
        self.held: set[str] = set()
        self.views: dict[str, str] = {}
        self.kept: list[dict[str, str]] = []  # of a run and its part: tables by their queries
        self.reading = 0  # pages, one within another, whose parts read the same files
        self.made = 0  # tables kept so far, whose names are not used again


class DuckEngine:
    """The embedded engine over Parquet files or tables of `con`, an Ibis DuckDB backend. Threads may share it."""

    name = "duckdb"
    builtin_percentile = True
    peaks_in_pieces = True

    def __init__(self, con: Any = None, *, memory: str = "800MB", spill: str = "") -> None:
        """An engine of its own within `memory`; what does not fit goes to the directory `spill`, made and removed by
        the engine.
        """
        if con is None:
            compilers.load_when_used()
            import ibis

            con = ibis.duckdb.connect()
            con.raw_sql(f"SET memory_limit = '{memory}'; SET enable_progress_bar = false")
            if spill:
                con.raw_sql("SET temp_directory = '" + spill.replace("'", "''") + "'")
        compilers.with_lengths(con)
        self.con = con
        self.own = Names()
        self.answers = Answers()
        self.own.cursor = con.con  # of the thread that makes the engine

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """While it lasts, what `keep` is given stands in temporary tables; afterwards they are gone."""
        kept = self.own.kept
        kept.append({})
        try:
            with self.answers.held_on_to():
                yield
        finally:
            for name in kept.pop().values():
                self.do(f"DROP TABLE {name}")

    @contextmanager
    def reading_once(self) -> Iterator[None]:
        """While it lasts, what is read of files is held as far as there is memory, so that what several questions read
        is taken from the disk once.
        """
        own = self.own
        own.reading += 1
        self.do("SET prefetch_all_parquet_files = true")
        try:
            yield
        finally:
            own.reading -= 1
            if not own.reading:
                self.do("RESET prefetch_all_parquet_files")
                for held in ("false", "true"):  # to switch it off lets go of it
                    self.do(f"SET enable_external_file_cache = {held}")

    def keep(self, expr: Any, *, throughout: bool = False) -> Any:
        """The expression as a temporary table, the same for the same query; unchanged outside of `keeping`."""
        import ibis

        own = self.own
        if not own.kept:
            return expr
        query = self.compiled(expr)
        name = next((tables[query] for tables in own.kept if query in tables), "")
        if not name:
            name, own.made = f"kept_{own.made}", own.made + 1
            self.do(f"CREATE TEMP TABLE {name} AS {query}")
            own.kept[0 if throughout else -1][query] = name
        return ibis.table(expr.schema(), name=name)

    def bring(self, name: str, read: Callable[[], Iterator[Any]]) -> None:
        """Fills a temporary table with Arrow tables as they come; it lasts as long as the run, and is filled once."""
        own = self.own
        if any(name in tables for tables in own.kept):
            return
        try:
            for number, rows in enumerate(read()):
                self.cursor.register("coming", rows)
                self.do(f"INSERT INTO {name} FROM coming" if number else f"CREATE TEMP TABLE {name} AS FROM coming")
                self.cursor.unregister("coming")
        except BaseException:  # a part of it is never taken for the whole
            self.do(f"DROP TABLE IF EXISTS {name}")
            raise
        own.kept[0][name] = name

    def compiled(self, expr: Any) -> str:
        """The expression as SQL, its steps one within another: to merge them takes Ibis two fifths of its time, and the
        engine does that anyway.
        """
        import ibis

        with COMPILING:
            kept, ibis.options.sql.fuse_selects = ibis.options.sql.fuse_selects, False
            try:
                return str(self.con.compile(expr))
            finally:
                ibis.options.sql.fuse_selects = kept

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table, without going through pandas."""
        return self.answers.to(expr, lambda: exact(self.sql(self.compiled(expr)), expr))

    def stream(self, expr: Any) -> Iterator[Any]:
        """The rows as they come: what does not need all of them (a sort does, and spills) is never held whole."""
        return self._coming(self.compiled(expr), expr)

    def in_order(self, table: Any, by: Sequence[str], edges: Sequence[datetime]) -> Iterator[Any]:
        """The rows in order, sorted stretch by stretch; the question is compiled once for all of them."""
        query, time, order = self.compiled(table), by[0], ", ".join(by)
        for start, end in pairwise(edges):
            here = f"{time} >= TIMESTAMP '{start}' AND {time} < TIMESTAMP '{end}'"
            yield from self._coming(f"SELECT * FROM ({query}) AS t WHERE {here} ORDER BY {order}", table)

    def _coming(self, text: str, expr: Any) -> Iterator[Any]:
        import duckdb
        import pyarrow as pa

        try:
            reader = self.do(text).to_arrow_reader(BATCH)
            yield exact(reader.schema.empty_table(), expr)
            for batch in reader:
                yield exact(pa.Table.from_batches([batch]), expr)
        except (duckdb.InterruptException, RuntimeError) as e:
            if "interrupted" in str(e).lower():  # by a signal, of which the driver tells so
                raise KeyboardInterrupt from None
            raise
        except duckdb.Error as e:
            raise foreign(e) from e

    def view(self, query: str, columns: Mapping[str, str]) -> Any:
        """A query as a table of the given columns (name -> type as Ibis calls it)."""
        import ibis

        views = self.own.views
        if query not in views:
            name = f"events_{len(views)}"
            self.do(f"CREATE TEMP VIEW {name} AS {query}")
            views[query] = name
        return ibis.table(dict(columns), name=views[query])

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, made once."""
        import ibis

        if name not in self.own.held:
            self.do(f"CREATE TEMP TABLE {name} AS {values(columns, rows)}")
            self.own.held.add(name)
        return ibis.table({c: KINDS[k][1] for c, k in columns.items()}, name=name)

    def summed(self, table: Any, columns: Mapping[str, str]) -> tuple[int, int]:
        """How many events there are, and the sum of their marks."""
        return marked(self.sql(summing(self.compiled(table), columns, DUCK)).to_pylist()[0])

    @property
    def cursor(self) -> Any:
        """The thread's own."""
        if self.own.cursor is None:
            self.own.cursor = self.con.con.cursor()
            self.own.cursor.execute("SET TimeZone = 'UTC'; SET enable_progress_bar = false")
        return self.own.cursor

    def sql(self, text: str) -> Any:
        """The rows of a plain query as an Arrow table."""
        return self.do(text).to_arrow_table()

    def do(self, text: str) -> Any:
        """Executes a plain statement. Raises DataError with the engine's reason."""
        import duckdb

        try:
            return self.cursor.execute(text)
        except duckdb.InterruptException:
            raise KeyboardInterrupt from None
        except duckdb.Error as e:
            raise foreign(e) from e


@dataclass(frozen=True, slots=True)
class Dialect:
    """How an engine writes a small table: its names of types, its mark around names, its arrays, how it escapes a text;
    and the mark of an event: an instant in microseconds, a list as text, and a text's number from its MD5.
    """

    types: Mapping[str, str]
    mark: str
    array: tuple[str, str]
    escaped: Mapping[str, str]
    micros: str
    joined: str
    number: str


TURNED = " || ".join(f"substr(md5({{0}}), {i}, 2)" for i in range(31, 16, -2))  # the last eight bytes, the lowest first
DUCK = Dialect(
    {k: sql for k, (sql, _) in KINDS.items()}, '"', ("ARRAY[", "]"), {"'": "''"},
    "epoch_us({0})", "array_to_string({0}, chr(30))", "md5_number_lower({0})",
)  # fmt: skip
POSTGRES = dataclasses.replace(
    DUCK,
    types={**DUCK.types, "text": 'text COLLATE "C"'},
    micros="CAST(extract(epoch FROM {0}) * 1000000 AS bigint)",
    number=f"CAST(CAST('x' || {TURNED} AS bit(64)) AS bigint)",  # of either sign, which is the same modulo 2^64
)
SPARK = Dialect(
    {"text": "string", "texts": "array<string>", "time": "timestamp_ntz", "number": "bigint"},
    "`", ("array(", ")"), {"\\": "\\\\", "'": "\\'"},
    "unix_micros(CAST({0} AS timestamp_ltz))", "array_join({0}, chr(30))",
    f"CAST(conv({TURNED}, 16, 10) AS decimal(20, 0))",
)  # fmt: skip


def summing(query: str, columns: Mapping[str, str], dialect: Dialect) -> str:
    """A query for the number of events of `query` and the sum of their marks, as a text `s`: their fields in the order
    of their names, `name=value` joined by U+001F, times as microseconds since 1970, lists joined by U+001E, empty
    fields left out.
    """
    text = "varchar" if dialect.types["text"] == "text" else dialect.types["text"].split()[0]
    told = []
    for name, kind in sorted(columns.items()):
        here = f"e.{dialect.mark}{name}{dialect.mark}"
        value = {"TIMESTAMP": dialect.micros, "VARCHAR[]": dialect.joined}.get(kind, "{0}").format(here)
        told.append(f"'{name}=' || CAST({value} AS {text})")
    number = dialect.number.format("told")
    inner = f"SELECT concat_ws(chr(31), {', '.join(told)}) AS told FROM ({query}) AS e"
    return f"SELECT count(*) AS n, CAST(sum({number}) AS {text}) AS s FROM ({inner}) AS m"


def marked(row: Mapping[str, Any]) -> tuple[int, int]:
    """The row of such a query: the number of events, and their sum modulo 2^64."""
    return row["n"], int(row["s"] or 0) % 2**64


def values(columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]], dialect: Dialect = DUCK) -> str:
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
    kind, _, collated = dialect.types[kind].partition(" ")
    return f"CAST({text} AS {kind}) {collated}".rstrip()


def exact(rows: Any, expr: Any) -> Any:
    """The rows in the types the expression promises: engines widen their sums. Raises TooLarge naming the column."""
    import pyarrow as pa

    schema = expr.as_table().schema().to_pyarrow()
    columns = []
    for field in schema:
        column = rows.column(field.name)
        try:
            columns.append(column if column.type == field.type else _converted(column, field.type))
        except (pa.ArrowInvalid, OverflowError):
            raise TooLarge(f"a total in {field.name} is beyond what 64 bits hold; nothing was rounded") from None
    return pa.table(columns, schema=schema)


def _converted(column: Any, kind: Any) -> Any:
    """A column in another type: few sums by Python, since Arrow's own conversions take long to load."""
    import pyarrow as pa

    whole = pa.types.is_integer(kind) and (pa.types.is_decimal(column.type) or pa.types.is_integer(column.type))
    if len(column) > FEW or not whole:
        return column.cast(kind)
    return pa.chunked_array([pa.array([None if v is None else int(v) for v in column.to_pylist()], kind)])
