"""Engines other than the embedded one: a PostgreSQL server that holds the events, and Spark."""

from __future__ import annotations

import hashlib
import selectors
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from datetime import datetime
from typing import Any

from fermata.engines.answers import Answers
from fermata.engines.embedded import BATCH, KINDS, POSTGRES, SPARK, exact, marked, summing, values
from fermata.engines.problems import first_line, foreign, gone
from fermata.errors import DataError

__all__ = ["PostgresEngine", "SparkEngine"]

CANCELS, WAIT = 20, 0.25  # how often a server is asked to end a question, and seconds for its answer each time
ONE_STATE = "BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY"


class PostgresEngine:
    """A PostgreSQL server through `con`, an Ibis PostgreSQL backend whose connection commits by itself; a read-only
    role is enough.
    """

    name = "postgres"
    builtin_percentile = False
    peaks_in_pieces = False

    def __init__(self, con: Any) -> None:
        self.con = con
        self.inside = False
        self.answers = Answers()
        self.views: dict[str, str] = {}
        self.con.con.autocommit = True
        self.con.con.execute("SET standard_conforming_strings = on")  # a backslash in a text is one

    @contextmanager
    def keeping(self) -> Iterator[None]:
        """One transaction, in which every query sees the same rows whatever others write."""
        if self.inside:
            yield
            return
        self.rows(ONE_STATE)
        self.inside = True
        try:
            with self.answers.held_on_to():
                yield
        finally:
            self.inside = False
            self._end()

    def _end(self) -> None:
        """Ends the transaction. A connection whose question was broken off before its answer could be taken back is
        closed: it takes no other, and the server ends the question.
        """
        import psycopg

        con = self.con.con
        if con.info.transaction_status == psycopg.pq.TransactionStatus.ACTIVE:
            with suppress(psycopg.Error), selectors.DefaultSelector() as answers:
                answers.register(con.fileno(), selectors.EVENT_READ)
                for _ in range(CANCELS):  # one that comes before the server has begun the question is lost
                    con.cancel_safe(timeout=5)
                    if answers.select(WAIT):
                        break
            con.close()
        elif not con.closed:
            con.rollback()

    def view(self, query: str, columns: Mapping[str, str]) -> Any:
        """A query as a table of the given columns (name -> type as Ibis calls it), which no query has to be created
        for.
        """
        import ibis

        name = f"view_{hashlib.sha256(query.encode()).hexdigest()[:16]}"
        self.views[name] = query
        return ibis.table(dict(columns), name=name)

    def compiled(self, expr: Any) -> str:
        """The expression's SQL, with the queries of the views it names in front."""
        text: str = self.con.compile(expr)
        used = [f'"{name}" AS NOT MATERIALIZED ({query})' for name, query in self.views.items() if f'"{name}"' in text]
        if not used:
            return text
        return f"WITH {', '.join(used)}{', ' + text[5:] if text.startswith('WITH ') else ' ' + text}"

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""
        return self.answers.to(expr, lambda: _arrow(self.rows(self.compiled(expr)), expr))

    def rows(self, text: str) -> list[tuple[Any, ...]]:
        """The rows of a plain query, none for a statement without any. Raises DataError with the server's reason.

        An interrupt cancels the query on the server.
        """
        import psycopg

        try:
            with self.con.con.cursor() as cursor:
                cursor.execute(text)
                return cursor.fetchall() if cursor.description else []
        except psycopg.Error as e:
            raise foreign(e) from None

    def dicts(self, text: str) -> list[dict[str, Any]]:
        """The rows of a plain query by the names of its columns."""
        import psycopg

        try:
            with self.con.con.cursor(row_factory=psycopg.rows.dict_row) as cursor:
                found: list[dict[str, Any]] = cursor.execute(text).fetchall()
                return found
        except psycopg.Error as e:
            raise foreign(e) from None

    def keep(self, expr: Any, *, throughout: bool = False) -> Any:
        """The expression as it is: a role that may only read keeps nothing."""
        return expr

    def stream(self, expr: Any) -> Iterator[Any]:
        """The rows as the server gives them, some at a time."""
        import psycopg

        begun = not self.inside
        try:
            if begun:
                self.con.con.execute(ONE_STATE)
            with self.con.con.cursor(name="read") as cursor:
                cursor.execute(self.compiled(expr))
                yield _arrow([], expr)
                while rows := cursor.fetchmany(BATCH):
                    yield _arrow(rows, expr)
        except psycopg.Error as e:
            raise foreign(e) from None
        finally:
            if begun:
                self._end()

    def in_order(self, table: Any, by: Sequence[str], edges: Sequence[datetime]) -> Iterator[Any]:
        """The rows as the server sorts them."""
        return self.stream(table.order_by(list(by)))

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values as VALUES, which a read-only role may write."""
        return self.view(values(columns, rows, POSTGRES), {c: KINDS[k][1] for c, k in columns.items()})

    def summed(self, table: Any, columns: Mapping[str, str]) -> tuple[int, int]:
        """How many events there are, and the sum of their marks."""
        return marked(self.dicts(summing(self.compiled(table), columns, POSTGRES))[0])


class SparkEngine:
    """A Spark session, local or remote, whose time zone is UTC, through `con`, an Ibis PySpark backend: for logs beyond
    one machine.
    """

    name = "spark"
    builtin_percentile = False
    peaks_in_pieces = False

    def __init__(self, con: Any) -> None:
        self.con = con
        self.held: set[str] = set()
        self.answers = Answers()
        self.gone = False  # whether its server has stopped answering

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Spark's errors in Fermata's terms."""
        from py4j.protocol import Py4JError
        from pyspark.errors import PySparkException

        try:
            yield
        except (PySparkException, Py4JError, ConnectionError) as e:
            if not gone(e):
                raise foreign(e) from None
            self.gone = True
            raise DataError(f"Spark does not answer any more; ask again when it runs ({first_line(e)})") from None

    def leave(self) -> None:
        """Ends a session whose server has gone away, so that it is nobody's active session any more."""
        session = self.con._session
        session.release_session_on_close = False  # there is nobody to release it
        with suppress(Exception):
            session.stop()

    def keeping(self) -> AbstractContextManager[None]:
        """The files of an archive do not change; answers are kept, tables are not."""
        return self.answers.held_on_to()

    def parquet(self, paths: Sequence[str]) -> str:
        """The name of a view over Parquet files that hold the same columns; no other file is looked at."""
        name = f"files_{hashlib.sha256(repr(paths).encode()).hexdigest()[:16]}"
        if name not in self.held:
            with self._told():
                self.con._session.read.parquet(*paths).createOrReplaceTempView(name)
            self.held.add(name)
        return name

    def view(self, query: str, columns: Mapping[str, str]) -> Any:
        """A query as a table of the given columns (name -> type as Ibis calls it)."""
        import ibis

        name = f"view_{hashlib.sha256(query.encode()).hexdigest()[:16]}"
        if name not in self.held:
            self.frame(f"CREATE OR REPLACE TEMPORARY VIEW {name} AS {query}")
            self.held.add(name)
        return ibis.table(dict(columns), name=name)

    def frame(self, text: str) -> Any:
        """What a query gives, not yet worked out. Raises DataError with the engine's reason."""
        with self._told():
            return self.con.raw_sql(text)

    def run(self, expr: Any) -> Any:
        """The expression's rows as an Arrow table."""
        return self.answers.to(expr, lambda: self._asked(expr))

    def _asked(self, expr: Any) -> Any:
        with self._told():
            return exact(self.frame(self.con.compile(expr)).toArrow(), expr)

    def keep(self, expr: Any, *, throughout: bool = False) -> Any:
        """The expression as it is."""
        return expr

    def stream(self, expr: Any) -> Iterator[Any]:
        """The rows partition by partition: never all of them at once."""
        yield _arrow([], expr)
        with self._told():
            held = []
            asked = (f"`{n}`" for n in expr.as_table().schema())  # without the row number that a limit counts by
            for row in self.frame(self.con.compile(expr)).select(*asked).toLocalIterator(prefetchPartitions=True):
                held.append(tuple(row))
                if len(held) == BATCH:
                    yield _arrow(held, expr)
                    held = []
            yield _arrow(held, expr)

    def in_order(self, table: Any, by: Sequence[str], edges: Sequence[datetime]) -> Iterator[Any]:
        """The rows as the session sorts them."""
        return self.stream(table.order_by(list(by)))

    def lookup(self, name: str, columns: Mapping[str, str], rows: Sequence[tuple[Any, ...]]) -> Any:
        """A small table of Python values, as a view of the session."""
        import ibis

        if name not in self.held:
            self.frame(f"CREATE OR REPLACE TEMPORARY VIEW {name} AS {values(columns, rows, SPARK)}")
            self.held.add(name)
        return ibis.table({c: KINDS[k][1] for c, k in columns.items()}, name=name)

    def summed(self, table: Any, columns: Mapping[str, str]) -> tuple[int, int]:
        """How many events there are, and the sum of their marks."""
        with self._told():
            return marked(self.frame(summing(self.con.compile(table), columns, SPARK)).toArrow().to_pylist()[0])


def _arrow(rows: Sequence[tuple[Any, ...]], expr: Any) -> Any:
    """Rows of Python values as an Arrow table of the expression's types."""
    import pyarrow as pa

    names = list(expr.as_table().schema())
    columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
    return exact(pa.table([pa.array(c) for c in columns], names=names), expr)
