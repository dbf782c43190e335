"""Databases as sources: the rows of a query or table, with JSON documents in their columns.

Read through SQLAlchemy (extra `sql`), streamed with a cursor of the server, in a transaction that only reads.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from typing import TYPE_CHECKING, Any, BinaryIO, cast

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.lines.row_records import LineStream, RowForm, record_lines
from tessaron.sources.database_query import DatabaseQuery

if TYPE_CHECKING:
    from sqlalchemy import Connection, CursorResult, Engine, Executable

_BATCH_ROWS = 5_000
_JSON_TYPES = frozenset((114, 3802))
"""The numbers of json and jsonb in PostgreSQL."""
_FIRST_ROWS = 1_000


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
        with ExitStack() as stack:
            result = stack.enter_context(self._result())
            self._names = list(result.keys())
            typed = _json_columns(result)
            first = next(result.partitions(_FIRST_ROWS), None) or ()
        self._check_names()
        found = RowForm.of(_batch_of(self._names, list(first)), True, query.documents)
        self._form = RowForm(found.documents | (typed if not query.documents else frozenset()))
        shown = ", ".join(sorted(self._form.documents))
        self.said = (
            f"rows are records, with the documents of {shown} in them"
            if shown
            else "no column holds documents"
        )

    @contextmanager
    def open(self) -> Iterator[BinaryIO]:
        """Open the rows from where they begin."""
        with ExitStack() as stack:
            result = stack.enter_context(self._result())
            yield cast("BinaryIO", LineStream(record_lines(self._batches(result), self._form)))

    def _check_names(self) -> None:
        twice = [name for name in self._names if self._names.count(name) > 1]
        if twice:
            raise UsageError(
                f"two columns of the query are called {in_quotes(twice[0])}; name one otherwise (AS)"
            )
        missing = [name for name in self._query.documents if name not in self._names]
        if missing:
            raise UsageError(
                f"no column {in_quotes(missing[0])} in {self.name}; there are {', '.join(self._names)}"
            )

    def _batches(self, result: CursorResult[Any]) -> Iterator[ArrowRows]:
        with _told(self.name):
            for rows in result.partitions(_BATCH_ROWS):
                yield _batch_of(self._names, rows)

    @contextmanager
    def _result(self) -> Iterator[CursorResult[Any]]:
        with _told(self.name), self._engine.connect() as connection:
            streaming = _only_reading(connection).execution_options(
                stream_results=True, yield_per=_BATCH_ROWS
            )
            result = streaming.execute(self._statement())
            try:
                yield result
            finally:
                result.close()

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


def _json_columns(result: CursorResult[Any]) -> frozenset[str]:
    described = result.cursor.description if result.cursor is not None else ()
    return frozenset(str(each[0]) for each in described or () if each[1] in _JSON_TYPES)


@contextmanager
def _told(name: str) -> Iterator[None]:
    """Turn what a database says into an error that names it, in one line."""
    from sqlalchemy.exc import DBAPIError, SQLAlchemyError

    try:
        yield
    except DBAPIError as error:
        said = str(error.orig or error).strip().splitlines()[0]
        raise SourceError(f"{name}: {said}") from error
    except SQLAlchemyError as error:
        raise SourceError(f"{name}: {str(error).splitlines()[0]}") from error


def _batch_of(names: Sequence[str], rows: Sequence[Sequence[object]]) -> ArrowRows:
    columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
    return pa.RecordBatch.from_arrays([_column_of(values) for values in columns], list(names))


def _column_of(values: Sequence[object]) -> ArrowArray:
    """Return values of one column; what Arrow has no type for as the text that Python writes."""
    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError):
        return pa.array([None if value is None else str(value) for value in values], pa.large_string())
