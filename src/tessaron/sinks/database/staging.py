"""Tables beside those of a load, in a schema of their own, that several fill at once (PostgreSQL).

Each part is one transaction that begins by noting its number: who comes second with the same part finds it
there and does nothing. Nobody looks at these tables; the load's own transaction takes them over.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import TracebackType
from typing import TYPE_CHECKING

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import Table
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.sinks.database.refused_rows import CarefulSender
from tessaron.sinks.database.row_writers import writer_for
from tessaron.sinks.ddl.create_tables import CreateTables
from tessaron.sinks.ddl.known_dialects import dialect_named

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from sqlalchemy import Connection

_PREFIX = "tessaron_staging_"
_PARTS = "tessaron_parts"


@dataclass(frozen=True, slots=True)
class PartSent:
    """The rows of a part that went in: by table, and the values, null aside, in each column."""

    rows: Mapping[str, int]
    values: Mapping[str, list[int]]


class StagingTables:
    """A context with empty tables in a schema that goes at its end; what killed loads have left goes before.

    Args:
        database: The database, on a connection of its own.
        tables: The tables.
        required: As in `CreateTables`.

    Attributes:
        schema: The schema.

    Raises:
        TargetError: When it cannot be made.
    """

    def __init__(self, database: OpenDatabase, tables: Sequence[Table], required: frozenset[str]):
        self._database, self.schema = database, _PREFIX + secrets.token_hex(6)
        self._made = CreateTables(dialect_named("postgresql"), tables, self.schema, required)

    def __enter__(self) -> StagingTables:
        self._database.__enter__()
        quoted = self._made.dialect.quoted
        with self._database.told():
            for left in self._left_behind():
                self._run(f"DROP SCHEMA {quoted(left)} CASCADE")
                self._run(f"SELECT pg_advisory_unlock(hashtext('{left}'))")
            self._run(f"SELECT pg_advisory_lock(hashtext('{self.schema}'))")
            self._run(f"CREATE SCHEMA {quoted(self.schema)}")
            for table in self._made.tables:
                self._run(self._made.create(table, has_keys=False))
            self._run(f"CREATE TABLE {self._made.name(_PARTS)} (part bigint PRIMARY KEY)")
            self._database.commit()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            with self._database.told():
                self._database.connection.rollback()
                self._run(f"DROP SCHEMA IF EXISTS {self._made.dialect.quoted(self.schema)} CASCADE")
                self._database.commit()
        except Exception:
            # What ended the load is what matters; the next one takes the schema away.
            if kind is None:
                raise
        finally:
            self._database.__exit__(kind, error, trace)

    def _left_behind(self) -> list[str]:
        """Return the schemas of loads that are not under way any more: nobody holds their lock."""
        found = self._database.connection.exec_driver_sql(
            f"SELECT nspname FROM pg_namespace WHERE nspname LIKE '{_PREFIX.replace('_', chr(92) + '_')}%%' "
            "AND pg_try_advisory_lock(hashtext(nspname::text))"
        )
        return [str(name) for (name,) in found]

    def _run(self, statement: str) -> None:
        self._database.connection.exec_driver_sql(statement.replace("%", "%%"))


def send_part(
    database: OpenDatabase,
    schema: str,
    number: int,
    tables: Sequence[Table],
    rows: Iterator[Mapping[str, ArrowRows]],
    most_bytes: int,
) -> PartSent:
    """Copy the rows of a part into staging tables, unless they are there.

    Args:
        database: The database.
        schema: The schema of the staging tables.
        number: The part.
        tables: Its tables.
        rows: Its rows.
        most_bytes: As in `CollectedRows`.

    Raises:
        TargetError: When the database does not take them.
    """
    made = CreateTables(dialect_named("postgresql"), tables, schema)
    by_name = {table.name: table for table in tables}
    with database, database.told():
        connection = database.connection
        is_new = connection.exec_driver_sql(
            f"INSERT INTO {made.name(_PARTS)} VALUES ({number:d}) ON CONFLICT DO NOTHING".replace("%", "%%")
        ).rowcount
        writer = writer_for(connection)
        sender = CarefulSender(writer, connection, database.name)

        def hand_on(name: str, group: ArrowRows) -> None:
            if not is_new or not group.num_rows:
                return
            for reason, found in writer.unfit(group):
                keys = group.filter(found).column(by_name[name].row_key).to_pylist()
                sender.note(by_name[name], reason, keys)
                group = group.filter(_not(found))
            for ready in writer.groups(by_name[name], made.name(name), group):
                sender.send(ready)

        collected = CollectedRows(tables, most_bytes, hand_on)
        for batches in rows:
            collected.add(batches)
        for name in by_name:
            if collected.waits(name):
                collected.flush(name)
        sender.check()
        database.commit()
    return PartSent(dict(collected.rows), {name: list(each) for name, each in collected.values.items()})


def take_over(
    connection: Connection,
    made: CreateTables,
    schema: str,
    created: Iterable[str],
    names: Sequence[str],
    run: Callable[[str], int],
) -> None:
    """Take rows over from staging tables, in the transaction of a load.

    A table that the load has made itself gives way to the one that is filled; into others rows are copied.

    Args:
        connection: The connection with the transaction.
        made: The tables.
        schema: The schema of the staging tables.
        created: Those that the load has made, which are empty.
        names: Those with rows.
        run: Runs a statement.
    """
    quoted, new = made.dialect.quoted, set(created)
    target = made.schema or str(connection.exec_driver_sql("SELECT current_schema()").scalar())
    for table in made.tables:
        if table.name not in names:
            continue
        staged = f"{quoted(schema)}.{quoted(table.name)}"
        if table.name in new:
            run(f"DROP TABLE {made.name(table.name)}")
            run(f"ALTER TABLE {staged} SET SCHEMA {quoted(target)}")
        else:
            columns = ", ".join(map(quoted, table.arrow_schema().names))
            run(f"INSERT INTO {made.name(table.name)} ({columns}) SELECT {columns} FROM {staged}")


def _not(mask: ArrowRows) -> ArrowRows:
    import pyarrow.compute as pc

    return pc.invert(mask)
