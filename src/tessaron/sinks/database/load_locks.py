"""One load at a time: a second one into the same place waits until the first is done."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import TargetError
from tessaron.sinks.lock_owners import shown_age, told_owner

if TYPE_CHECKING:
    from sqlalchemy import Connection

WAITS_SECONDS = 600.0
_UNDER_WAY = "another load into this database is under way"
_WAITING = "waiting until it is done"
_DID_NOT_END = "it did not end; try again once it is done"
_LONGEST_NAME = 63
_LOCK = 0x7465_7373
"""The first of the two numbers of the lock in PostgreSQL; the second is made of the schema."""


def begin_alone(
    connection: Connection, schema: str, say: Callable[[str], None], seconds: float = WAITS_SECONDS
) -> None:
    """Begin a transaction, once no other load is under way; the lock goes with the transaction.

    Args:
        connection: The database.
        schema: The schema of the tables; loads into others do not wait.
        say: Is told when it has to wait.
        seconds: How long it may wait.

    Raises:
        TargetError: When the other load does not end.
    """
    if connection.dialect.name == "sqlite":
        _begin_sqlite(connection, say, seconds)
    elif connection.dialect.name == "postgresql":
        _begin_postgresql(connection, schema, say, seconds)
    elif connection.dialect.name in ("mysql", "mariadb"):
        _begin_mariadb(connection, schema, say, seconds)


def _begin_postgresql(
    connection: Connection, schema: str, say: Callable[[str], None], seconds: float
) -> None:
    from sqlalchemy import text
    from sqlalchemy.exc import OperationalError

    own = text("SELECT set_config('application_name', :name, false)")
    connection.execute(own, {"name": f"tessaron: {told_owner()}"[:_LONGEST_NAME]})
    lock = f"advisory_xact_lock({_LOCK}, hashtext(:schema))"
    if connection.execute(text(f"SELECT pg_try_{lock}"), {"schema": schema}).scalar():
        return
    who = f"{_UNDER_WAY}{_holder_in_postgresql(connection, schema)}"
    if seconds <= 0:
        raise TargetError(f"{who}; try again once it is done")
    say(f"{who}; {_WAITING}")
    connection.execute(
        text("SELECT set_config('lock_timeout', :most, true)"), {"most": str(int(seconds * 1_000))}
    )
    try:
        connection.execute(text(f"SELECT pg_{lock}"), {"schema": schema})
    except OperationalError as error:
        if "lock timeout" not in str(error.orig):
            raise
        raise TargetError(f"{who}; {_DID_NOT_END}") from error
    connection.execute(text("SELECT set_config('lock_timeout', '0', true)"))


def _holder_in_postgresql(connection: Connection, schema: str) -> str:
    """Return who has the lock, and for how long, in words."""
    from sqlalchemy import text

    query = text(
        "SELECT a.application_name, extract(epoch FROM now() - a.xact_start) FROM pg_locks AS l "
        "JOIN pg_stat_activity AS a ON a.pid = l.pid WHERE l.locktype = 'advisory' AND l.granted "
        "AND l.classid = :lock AND l.objid = (hashtext(:schema)::bigint & 4294967295)::oid"
    )
    row = connection.execute(query, {"lock": _LOCK, "schema": schema}).first()
    if row is None or not row[0]:
        return ""
    return f" ({str(row[0]).removeprefix('tessaron: ')}, since {shown_age(float(row[1] or 0))})"


def _begin_mariadb(connection: Connection, schema: str, say: Callable[[str], None], seconds: float) -> None:
    from sqlalchemy import text

    # Its locks have one name for all databases of a server; they go with the connection.
    lock = text("SELECT GET_LOCK(concat('tessaron.', md5(coalesce(:schema, database()))), :seconds)")
    if connection.execute(lock, {"schema": schema or None, "seconds": 0}).scalar():
        return
    say(f"{_UNDER_WAY}; {_WAITING}")
    if not connection.execute(lock, {"schema": schema or None, "seconds": int(seconds)}).scalar():
        raise TargetError(f"{_UNDER_WAY}; {_DID_NOT_END}")
    # What it has done since this one began is to be seen.
    connection.exec_driver_sql("COMMIT")


def _begin_sqlite(connection: Connection, say: Callable[[str], None], seconds: float) -> None:
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
        _wait_when_busy(connection, seconds)
        connection.exec_driver_sql("BEGIN IMMEDIATE")
    else:
        # Who reads at the end makes the commit wait too.
        _wait_when_busy(connection, seconds)


def _wait_when_busy(connection: Connection, seconds: float) -> None:
    connection.exec_driver_sql(f"PRAGMA busy_timeout = {int(seconds * 1_000)}")
