"""Databases as sources: the rows of a query or table, with JSON documents in their columns.

Read through SQLAlchemy (extra `sql`), streamed, in a transaction that only reads.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any, BinaryIO, cast
from weakref import finalize

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.lines.python_rows import batch_of
from tessaron.core.lines.row_records import LineStream, RecordLines, RowForm
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.database.row_streams import Row, RowStream, streamed

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine, Executable

_FIRST_ROWS = 1_000


class _Begun:
    """A query that is being read.

    Args:
        rows: Gives its rows, and closes them.

    Attributes:
        rows: What has not been read yet.
        first: The rows that have been.
        open: Closes it.
    """

    def __init__(self, rows: AbstractContextManager[RowStream]):
        self.open = ExitStack()
        self.rows = self.open.enter_context(rows)
        self.first: list[Row] = []
        # It may never be read on, as when only its columns are asked for.
        finalize(self, self.open.close)


class QueryRows:
    """The rows of a query, as lines of JSON.

    Args:
        query: What is read.

    Attributes:
        name: What it is called in messages: without its password.
        said: What was found out about it, in words.

    Raises:
        SourceError: When the database cannot be reached or does not take the query.
        UsageError: When the URL cannot be right, or a column that is named is not there.
    """

    def __init__(self, query: DatabaseQuery):
        self._query = query
        self._engine, self.name = _engine_of(query)
        self._lines: RecordLines | None = None
        self._begun: _Begun | None = _Begun(self._rows())
        rows = self._begun.rows
        self._names, typed = rows.names, rows.documents
        with self._told():
            first = self._begun.first = rows.take(_FIRST_ROWS)
        self._check_names()
        with self._named():
            found = RowForm.of(batch_of(self._names, first), True, query.documents)
        documents = found.documents | (typed if not query.documents else frozenset())
        self._form = replace(found, documents=documents)
        shown = ", ".join(sorted(self._form.documents))
        self.said = (
            f"rows are records, with the documents of {shown} in them"
            if shown
            else "no column holds documents"
        )

    @contextmanager
    def open(self) -> Iterator[BinaryIO]:
        """Open the rows from where they begin; the first time those go on that are open already."""
        begun, self._begun = self._begun or _Begun(self._rows()), None
        with begun.open:
            self._lines = RecordLines(self._batches(begun), self._form)
            yield cast("BinaryIO", LineStream(iter(self._lines)))

    def after(self) -> str:
        """Return what was found out while the rows were read, in words."""
        return "" if self._lines is None else self._lines.said()

    def _check_names(self) -> None:
        twice = [name for name in self._names if self._names.count(name) > 1]
        if twice:
            raise UsageError(
                f"two columns of the query are called {in_quotes(twice[0])}; name one otherwise (AS)"
            )

    @contextmanager
    def _named(self) -> Iterator[None]:
        try:
            yield
        except UsageError as error:
            raise UsageError(f"{self.name}: {error}") from None

    def _batches(self, begun: _Begun) -> Iterator[ArrowRows]:
        if begun.first:
            yield batch_of(self._names, begun.first)
        with self._told():
            for rows in begun.rows.batches():
                yield batch_of(self._names, rows)

    @contextmanager
    def _rows(self) -> Iterator[RowStream]:
        with (
            self._told(),
            self._engine.connect() as connection,
            streamed(_in_order(_only_reading(connection), self._query), self._statement()) as rows,
        ):
            yield rows

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Turn what a database says into an error that names it, in one line."""
        from sqlalchemy.exc import DBAPIError, SQLAlchemyError

        try:
            yield
        except DBAPIError as error:
            raise self._said(error.orig or error) from error
        except SQLAlchemyError as error:
            raise self._said(error) from error
        except self._engine.dialect.loaded_dbapi.Error as error:
            raise self._said(error) from error

    def _said(self, error: BaseException) -> SourceError:
        return SourceError(f"{self.name}: {str(error).strip().splitlines()[0]}")

    def _statement(self) -> Executable:
        from sqlalchemy import literal_column, select, table, text

        if self._query.text is not None:
            # What follows a colon is no parameter: there are none.
            return text(self._query.text.replace(":", r"\:"))
        schema, _, name = str(self._query.table).rpartition(".")
        return select(literal_column("*")).select_from(table(name, schema=schema or None))


def _engine_of(query: DatabaseQuery) -> tuple[Engine, str]:
    try:
        from sqlalchemy import create_engine, event
        from sqlalchemy.engine import make_url
        from sqlalchemy.exc import ArgumentError, NoSuchModuleError
        from sqlalchemy.pool import NullPool
    except ImportError as error:
        raise UsageError("databases need SQLAlchemy: pip install 'tessaron[sql]'") from error
    try:
        url = make_url(query.url)
        if url.drivername in ("postgresql", "postgres"):
            url = url.set(drivername="postgresql+psycopg")
        shown = url.set(drivername=url.get_backend_name()).render_as_string(hide_password=True)
        if url.get_backend_name() == "sqlite":
            _check_file(url.database, shown)
        engine = create_engine(url, poolclass=NullPool)
    except (ArgumentError, NoSuchModuleError) as error:
        raise UsageError(f"expected the URL of a database, such as sqlite:///file.db: {error}") from None
    except ImportError as error:
        raise UsageError(
            f"{shown}: its driver is not installed ({error.name}): pip install 'tessaron[sql]'"
        ) from None
    event.listen(engine, "connect", _keep_json)
    return engine, f"{shown} {query.table or 'query'}"


def _check_file(path: str | None, shown: str) -> None:
    """Check that the file of a database is there: opening it would make it."""
    from pathlib import Path

    if path and path != ":memory:" and not path.startswith("file:") and not Path(path).is_file():
        raise SourceError(f"{shown}: there is no such file")


def _keep_json(connection: Any, record: object) -> None:
    """Let JSON come as the text that it is in the database, where the driver would parse it."""
    if type(connection).__module__.partition(".")[0] == "psycopg":
        from psycopg.types.json import set_json_loads

        set_json_loads(lambda data: data.decode() if isinstance(data, bytes) else data, connection)


def _only_reading(connection: Connection) -> Connection:
    if connection.dialect.name == "postgresql":
        return connection.execution_options(postgresql_readonly=True)
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql("PRAGMA query_only = ON")
    return connection


def _in_order(connection: Connection, query: DatabaseQuery) -> Connection:
    """Let a table come in the same order each time: verify compares row with row.

    PostgreSQL begins where another scan of a large table is just then, and several workers read it in turns.
    """
    if connection.dialect.name == "postgresql":
        connection.exec_driver_sql("SET synchronize_seqscans = off")
        if query.table is not None:
            connection.exec_driver_sql("SET max_parallel_workers_per_gather = 0")
    return connection
