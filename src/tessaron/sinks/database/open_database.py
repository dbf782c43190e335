"""A database that is open: its connection, the lock of one load, and the runs that have loaded before."""

from __future__ import annotations

from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.sinks.database.load_locks import WAITS_SECONDS, begin_alone
from tessaron.sinks.database.run_records import RunRecords
from tessaron.sources.database.engines import engine_of, told_by

if TYPE_CHECKING:
    from sqlalchemy import Connection


class OpenDatabase:
    """A context with one transaction; what is not committed leaves no trace. It may be entered again inside.

    Args:
        url: The database, as SQLAlchemy spells it.
        schema: The schema that the tables stand in; None for the one that the database takes by itself.
        runs_schema: The schema of the table of runs; else that of the tables.
        password: The password, where it does not stand in the URL.
        say: Is told what is worth telling meanwhile.
        must_exist: Whether the file of a database has to be there.

    Attributes:
        name: What it is called in messages: without its password.
        schema, runs_schema: As given.
        is_alone: Whether no other load is under way.
        wait: Seconds to wait for another load to end.

    Raises:
        TargetError: When it cannot be reached.
        UsageError: When the URL cannot be right.
    """

    def __init__(
        self,
        url: str,
        schema: str | None = None,
        runs_schema: str | None = None,
        password: str | None = None,
        say: Callable[[str], None] = lambda _: None,
        must_exist: bool = False,
    ):
        self._engine, self.name = engine_of(url, password, must_exist)
        if schema is not None and self.dialect_name == "sqlite":
            raise UsageError("sqlite has no schemas; leave --schema-name out, or take another file")
        self._say, self.schema, self.is_alone = say, schema, False
        self.wait = WAITS_SECONDS
        self.runs_schema = runs_schema if runs_schema is not None else schema
        self._connection: Connection | None = None
        self._entered = 0

    def __enter__(self) -> OpenDatabase:
        self._entered += 1
        if self._connection is None:
            with self.told():
                self._connection = self._engine.connect()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._entered -= 1
        if self._connection is not None and not self._entered:
            # What is not committed goes when the connection does, also where it was lost.
            self._connection.invalidate() if kind is not None else self._connection.close()

    @property
    def dialect_name(self) -> str:
        """The dialect, as SQLAlchemy calls it."""
        return self._engine.dialect.name

    @property
    def connection(self) -> Connection:
        """The connection, with the transaction in it."""
        assert self._connection is not None
        return self._connection

    @property
    def past_runs(self) -> RunRecords:
        """The runs that have loaded before."""
        return RunRecords(self.connection, self.runs_schema)

    def begin_alone(self) -> None:
        """Begin the transaction, once no other load is under way: what is read from now on stays true.

        The schemas are there from then on.
        """
        if not self.is_alone:
            with self.told():
                begin_alone(self.connection, self.schema or "", self._say, self.wait)
                self._make_schemas()
            self.is_alone = True

    def _make_schemas(self) -> None:
        wanted = {name for name in (self.schema, self.runs_schema) if name is not None}
        if not wanted:
            return
        from sqlalchemy import inspect
        from sqlalchemy.schema import CreateSchema

        from tessaron.sinks.ddl.known_dialects import dialect_named

        if dialect_named(self.dialect_name).has_schemas:
            # To make one takes a right that those who fill it need not have.
            for name in sorted(wanted - set(inspect(self.connection).get_schema_names())):
                self.connection.execute(CreateSchema(name, if_not_exists=True))

    def commit(self) -> None:
        """Make visible what was written."""
        self.connection.commit()

    def told(self) -> Any:
        """Return a context in which what the database says becomes an error that names it."""
        return told_by(self._engine, self.name, TargetError)
