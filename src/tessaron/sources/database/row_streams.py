"""Results that are streamed: through SQLAlchemy, or by the driver itself where that is quicker.

Of PostgreSQL psycopg streams rows as the server sends them, a few hundred at a time. A cursor of the server,
as SQLAlchemy has it, makes both wait for each other: it takes three times as long.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from contextlib import closing, contextmanager
from itertools import chain, islice
from typing import TYPE_CHECKING, Any, cast

if TYPE_CHECKING:
    from sqlalchemy import ClauseElement, Connection, Executable

Row = Sequence[object]
BATCH_ROWS = 5_000
_AT_ONCE = 500
_JSON_TYPES = frozenset((114, 3802))
"""The numbers of json and jsonb in PostgreSQL."""
_XML_TYPE = 142


class RowStream:
    """The rows of a result, which are read once.

    Args:
        names: The names of the columns.
        documents: Those whose type says that they hold documents.
        rows: The rows.
    """

    def __init__(self, names: Sequence[str], documents: frozenset[str], rows: Iterator[Row]):
        self.names, self.documents = list(names), documents
        self._rows = rows

    def take(self, count: int) -> list[Row]:
        """Return so many more rows, as far as there are any."""
        return list(islice(self._rows, count))

    def batches(self) -> Iterator[list[Row]]:
        """Yield the rows that are left, some thousand at a time."""
        while rows := self.take(BATCH_ROWS):
            yield rows


@contextmanager
def streamed(connection: Connection, statement: Executable) -> Iterator[RowStream]:
    """Execute a statement, and yield its rows as they come."""
    if connection.dialect.name == "sqlite":
        with closing(_raw(connection).execute(_text_of(statement, connection))) as cursor:
            yield RowStream([each[0] for each in cursor.description], frozenset(), iter(cursor))
            return
    if connection.dialect.driver == "psycopg":
        with _from_psycopg(connection, statement) as rows:
            if rows is not None:
                yield rows
                return
    options = {"stream_results": True, "yield_per": BATCH_ROWS}
    result = connection.execution_options(**options).execute(statement)
    try:
        found = chain.from_iterable(result.partitions(BATCH_ROWS))
        yield RowStream(list(result.keys()), frozenset(), cast("Iterator[Row]", found))
    finally:
        result.close()


@contextmanager
def _from_psycopg(connection: Connection, statement: Executable) -> Iterator[RowStream | None]:
    """Yield the rows as the server sends them; None for none, as then nothing tells of the columns."""
    # What follows a percent sign is no parameter: there are none.
    text = _text_of(statement, connection).replace("%%", "%")
    with _raw(connection).cursor() as cursor, closing(_chunked(cursor, text)) as rows:
        first = next(rows, None)
        if first is None:
            yield None
            return
        described = [(each.name, each.type_code) for each in cursor.description]
        documents = frozenset(name for name, kind in described if kind in (*_JSON_TYPES, _XML_TYPE))
        yield RowStream([name for name, _ in described], documents, chain((first,), rows))


def _raw(connection: Connection) -> Any:
    return connection.connection.dbapi_connection


def _text_of(statement: Executable, connection: Connection) -> str:
    compiled = cast("ClauseElement", statement).compile(connection, compile_kwargs={"literal_binds": True})
    return str(compiled)


def _chunked(cursor: Any, text: str) -> Generator[Row, None, None]:
    from psycopg import NotSupportedError

    try:
        yield from cursor.stream(text, size=_AT_ONCE)
    except NotSupportedError:
        # An older libpq has them one by one only.
        yield from cursor.stream(text)
