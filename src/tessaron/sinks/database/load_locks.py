"""One load at a time: a second one into the same place waits until the first is done."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import TargetError

if TYPE_CHECKING:
    from sqlalchemy import Connection

_WAITS_MS = 600_000
_UNDER_WAY = "another load into this database is under way; waiting until it is done"
_LOCK = 0x7465_7373
"""The first of the two numbers of the lock in PostgreSQL; the second is made of the schema."""


def begin_alone(connection: Connection, schema: str, say: Callable[[str], None]) -> None:
    """Begin a transaction, once no other load is under way; the lock goes with the transaction.

    Args:
        connection: The database.
        schema: The schema of the tables; loads into others do not wait.
        say: Is told when it has to wait.

    Raises:
        TargetError: When the other load does not end.
    """
    if connection.dialect.name == "sqlite":
        _begin_sqlite(connection, say)
    elif connection.dialect.name == "postgresql":
        _begin_postgresql(connection, schema, say)
    elif connection.dialect.name in ("mysql", "mariadb"):
        _begin_mariadb(connection, schema, say)


def _begin_postgresql(connection: Connection, schema: str, say: Callable[[str], None]) -> None:
    from sqlalchemy import text

    lock = f"advisory_xact_lock({_LOCK}, hashtext(:schema))"
    if not connection.execute(text(f"SELECT pg_try_{lock}"), {"schema": schema}).scalar():
        say(_UNDER_WAY)
        connection.execute(text(f"SELECT pg_{lock}"), {"schema": schema})


def _begin_mariadb(connection: Connection, schema: str, say: Callable[[str], None]) -> None:
    from sqlalchemy import text

    # Its locks have one name for all databases of a server; they go with the connection.
    lock = text("SELECT GET_LOCK(concat('tessaron.', md5(coalesce(:schema, database()))), :seconds)")
    if connection.execute(lock, {"schema": schema or None, "seconds": 0}).scalar():
        return
    say(_UNDER_WAY)
    if not connection.execute(lock, {"schema": schema or None, "seconds": _WAITS_MS // 1_000}).scalar():
        raise TargetError("another load into this database did not end; try again once it is done")
    # What it has done since this one began is to be seen.
    connection.exec_driver_sql("COMMIT")


def _begin_sqlite(connection: Connection, say: Callable[[str], None]) -> None:
    from sqlalchemy.exc import OperationalError

    raw: Any = connection.connection.dbapi_connection
    # Else the driver begins and ends transactions by its own rules.
    raw.isolation_level = None
    connection.exec_driver_sql("PRAGMA busy_timeout = 0")
    connection.exec_driver_sql("PRAGMA cache_size = -65536")
    try:
        connection.exec_driver_sql("BEGIN IMMEDIATE")
    except OperationalError as error:
        if "locked" not in str(error.orig):
            raise
        say("another program is writing into this database; waiting until it is done")
        _wait_when_busy(connection)
        connection.exec_driver_sql("BEGIN IMMEDIATE")
    else:
        # Who reads at the end makes the commit wait too.
        _wait_when_busy(connection)


def _wait_when_busy(connection: Connection) -> None:
    connection.exec_driver_sql(f"PRAGMA busy_timeout = {_WAITS_MS}")
