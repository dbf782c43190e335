"""Databases as sources: the rows of a query or table, with JSON documents in their columns.

Read through SQLAlchemy, streamed, in a transaction that only reads.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any, BinaryIO, cast
from weakref import finalize

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.lines.python_rows import batch_of
from tessaron.core.lines.row_records import LineStream, RecordLines, RowForm
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.database.engines import engine_of, told_by
from tessaron.sources.database.row_streams import Row, RowStream, streamed

if TYPE_CHECKING:
    from sqlalchemy import Connection, Executable

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
        self._engine, shown = engine_of(query.url)
        self.name = f"{shown} {query.table or 'query'}"
        self._lines: RecordLines | None = None
        self._begun: _Begun | None = _Begun(self._rows())
        rows = self._begun.rows
        self._names, typed = rows.names, rows.documents
        self._largest: Any = None
        self._is_whole = False
        self._has_rows = False
        with self._told():
            first = self._begun.first = rows.take(_FIRST_ROWS)
            self._has_rows = bool(first)
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
            if self._query.so_far is not None and not self._has_rows:
                # Beyond a mark there may be nothing; that is no empty source.
                self._is_whole = True
                yield io.BytesIO(b"[]")
                return
            self._lines = RecordLines(self._batches(begun), self._form)
            yield cast("BinaryIO", LineStream(iter(self._lines)))

    def after(self) -> str:
        """Return what was found out while the rows were read, in words."""
        return "" if self._lines is None else self._lines.said()

    def mark(self) -> str | int | None:
        """Return how far the rows came, once all are read; None where nothing tells it."""
        if not self._is_whole or self._largest is None:
            return self._query.so_far
        value = self._largest
        return value if isinstance(value, (str, int)) else str(value)

    def _note_mark(self, rows: Sequence[Row]) -> None:
        if self._query.mark is None:
            return
        index = self._names.index(self._query.mark)
        values: list[Any] = [row[index] for row in rows if row[index] is not None]
        if values:
            most = max(values)
            self._largest = most if self._largest is None else max(self._largest, most)

    def _check_names(self) -> None:
        twice = [name for name in self._names if self._names.count(name) > 1]
        if twice:
            raise UsageError(
                f"two columns of the query are called {in_quotes(twice[0])}; name one otherwise (AS)"
            )
        mark = self._query.mark
        if mark is not None and mark not in self._names:
            there = ", ".join(self._names)
            raise UsageError(
                f"{self.name}: no column {in_quotes(mark)} to mark how far it came; there are {there}"
            )

    @contextmanager
    def _named(self) -> Iterator[None]:
        try:
            yield
        except UsageError as error:
            raise UsageError(f"{self.name}: {error}") from None

    def _batches(self, begun: _Begun) -> Iterator[ArrowRows]:
        if begun.first:
            self._note_mark(begun.first)
            yield batch_of(self._names, begun.first)
        with self._told():
            for rows in begun.rows.batches():
                self._note_mark(rows)
                yield batch_of(self._names, rows)
        self._is_whole = True

    @contextmanager
    def _rows(self) -> Iterator[RowStream]:
        with (
            self._told(),
            self._engine.connect() as connection,
            streamed(_in_order(_only_reading(connection), self._query), self._statement()) as rows,
        ):
            yield rows

    def _told(self) -> AbstractContextManager[None]:
        return told_by(self._engine, self.name)

    def _statement(self) -> Executable:
        from sqlalchemy import column, literal_column, select, table, text

        query = self._query
        if query.text is not None:
            # What follows a colon is no parameter: there are none.
            plain = query.text.replace(":", r"\:")
            if query.so_far is None:
                return text(plain)
            whole: Any = text(f"({plain}) AS tessaron_rows")
        else:
            schema, _, name = str(query.table).rpartition(".")
            whole = table(name, schema=schema or None)
        found: Any = select(literal_column("*")).select_from(whole)
        if query.so_far is None:
            return cast("Executable", found)
        by: Any = column(str(query.mark))
        found = found.where(by >= query.so_far if query.again else by > query.so_far)
        return cast("Executable", found)


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
