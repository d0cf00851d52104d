"""SQL over a workspace: views of the events of logs, with the names of registers, of derived logs and of registers."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC
from typing import Any

from fermata.analysis.identify import opened
from fermata.errors import DataError, RequestError
from fermata.fields import Field, LogSchema
from fermata.registers.register import Register
from fermata.reports.compile.resolve import resolve
from fermata.reports.definition.report import Report
from fermata.workspace.base import Base
from fermata.workspace.place import Place

__all__ = ["asked", "tables"]

PREFIX = "register_"


def tables(base: Base) -> dict[str, list[str]]:
    """The names of what can be asked, each with its columns: logs, derived logs, and registers as `register_NAME`."""
    found = {name.replace("-", "_"): _names(schema) for name, schema in base.schemas.items()}
    for name, table in base.directory.tables.items():
        columns = ["id", "label", *table.names, *table.links, *table.attributes, "since", "until"]
        found[PREFIX + name.replace("-", "_")] = list(dict.fromkeys(columns))
    return found


def _names(schema: LogSchema) -> list[str]:
    lead = ["start", *(["finish", "duration"] if schema.spans else [])]
    return [*lead, *(f.name for f in schema.fields)]


def asked(base: Base, query: str) -> Any:
    """The rows of a query as an Arrow table: one SELECT over `tables`; times are on the workspace's clock, lengths of
    time in seconds, money exact. Nothing can be changed by it. Raises RequestError, DataError.
    """
    import duckdb

    if not base.view.everything:
        raise RequestError(f"SQL is not for {base.view.words}: it could tell anything")
    statements = _statements(query)
    if len(statements) != 1 or statements[0].type != duckdb.StatementType.SELECT:
        raise RequestError("one SELECT is asked for; nothing else is done here")
    place = base.place()
    if base.config.workspace.engine.name != "embedded" or any(place.held(n) for n in base.config.logs):
        raise RequestError("SQL is asked of logs in the archive, on the embedded engine")
    used = {t.lower() for t in duckdb.get_table_names(query)} if query.strip() else set()
    engine = base.engine
    engine.do(f"SET TimeZone = '{base.config.workspace.zone}'")
    try:
        for name, schema in base.schemas.items():
            if name.replace("-", "_") in used:
                engine.do(f'CREATE OR REPLACE TEMP VIEW "{name.replace("-", "_")}" AS {_view(base, place, schema)}')
        for name in base.directory.tables:
            if PREFIX + name.replace("-", "_") in used:
                rows = _rows(base.directory.register(name))
                engine.own.cursor.register(PREFIX + name.replace("-", "_"), rows)
        return engine.sql(query)
    except DataError as e:
        said = str(e).splitlines()[0].removeprefix("the engine failed: ")
        listed = f" (tables: {', '.join(tables(base))})" if "Table with name" in said else ""
        raise RequestError(f"{said}{listed}") from None
    finally:
        engine.do("SET TimeZone = 'UTC'")


def _statements(query: str) -> list[Any]:
    """What the text asks for. Raises RequestError where it is no SQL."""
    import duckdb

    try:
        return list(duckdb.extract_statements(query))
    except duckdb.Error as e:
        raise RequestError(f"the query cannot be read: {str(e).splitlines()[0]}") from None


def _view(base: Base, place: Place, schema: LogSchema) -> str:
    """The events of a log as SQL: its fields by name, in their own types."""
    plan = resolve(Report(log=schema.name, period="all"), place, base.now(), listed=())
    _, table = opened(plan.strands[0], place.source(plan))
    inner = base.engine.compiled(table)
    columns = ["timezone('UTC', start_utc) AS start"]
    if schema.spans:
        length = _scaled("(epoch_us(finish_utc) - epoch_us(start_utc))", 6)
        columns += ["timezone('UTC', finish_utc) AS finish", f"{length} AS duration"]
    columns += [f'{_typed(f)} AS "{f.name}"' for f in schema.fields]
    return f"SELECT {', '.join(columns)} FROM ({inner}) AS events"


def _typed(field: Field) -> str:
    """A stored field as SQL shows it."""
    stored = f'"{field.stored}"'
    if field.type == "time":
        return f"timezone('UTC', {stored})"
    if field.type == "duration":
        return _scaled(stored, 6)
    if field.type in ("money", "decimal"):
        return _scaled(stored, field.scale) if field.scale else stored
    return stored


def _scaled(number: str, scale: int) -> str:
    """A whole number with so many decimals, exact."""
    one = f"0.{'0' * (scale - 1)}1"
    return f"CAST({number} AS DECIMAL(28, 0)) * CAST('{one}' AS DECIMAL({scale + 1}, {scale}))"


def _rows(register: Register) -> Any:
    """A register as an Arrow table: a row for each version or assignment."""
    import pyarrow as pa

    table = register.table
    rows: list[Mapping[str, Any]] = [
        {"id": v.id, "label": v.label, **{k: ", ".join(v.names.get(k, ())) for k in table.names},
         **{a: _text(register.value(v, a)) for a in table.attributes}, "since": v.since, "until": v.until}
        for v in register.versions
    ]  # fmt: skip
    rows += [
        {**{k: a.links[k] for k in table.links}, **{n: _text(a.attributes[n]) for n in table.attributes},
         "since": a.since, "until": a.until}
        for a in register.assignments
    ]  # fmt: skip
    made = [{**r, "since": r["since"].replace(tzinfo=UTC), "until": r["until"].replace(tzinfo=UTC)} for r in rows]
    return pa.Table.from_pylist([dict(r) for r in made]) if made else pa.table({"id": pa.array([], pa.string())})


def _text(value: Any) -> Any:
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else value
