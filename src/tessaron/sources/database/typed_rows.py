"""Tables of a database, read back as record batches with the types that a layout says."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from datetime import datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowSchema, ArrowType
from tessaron.core.lines.row_records import LineStream
from tessaron.sources.database.engines import name_quoting
from tessaron.sources.exported.file_readers import csv_batches, from_texts, with_moments

if TYPE_CHECKING:
    from sqlalchemy import Connection

_AT_ONCE = 20_000


class TypedRows:
    """Reads tables of a database.

    Args:
        connection: The database.
    """

    def __init__(self, connection: Connection):
        self._connection = connection
        self._quote = name_quoting(connection.dialect)

    def batches(self, table: str, schema: ArrowSchema, order: Sequence[str]) -> Iterator[ArrowRows]:
        """Yield the rows of a table.

        Args:
            table: How SQL calls it.
            schema: Its columns, with their types.
            order: The columns that they are sorted by.

        Raises:
            pyarrow.ArrowException: When a value is not of its type.
        """
        if self._connection.dialect.driver == "psycopg":
            return self._copied(table, schema, order)
        return self._fetched(table, schema, order)

    def _copied(self, table: str, schema: ArrowSchema, order: Sequence[str]) -> Iterator[ArrowRows]:
        columns = ", ".join(self._shown(field.name, field.type) for field in schema)
        # Texts by their letters, as other languages would sort the same digests otherwise.
        by = ", ".join(
            self._quote(name) + (' COLLATE "C"' if pa.types.is_large_string(schema.field(name).type) else "")
            for name in order
        )
        query = f"SELECT {columns} FROM {table} ORDER BY {by}"
        raw: Any = self._connection.connection.dbapi_connection
        with raw.cursor() as cursor:
            # What is quoted is no null.
            copied = f"COPY ({query}) TO STDOUT WITH (FORMAT csv, HEADER true, FORCE_QUOTE *)"
            with cursor.copy(copied) as copy:
                stream = _Pieces(LineStream(iter(copy)))
                yield from csv_batches(stream, schema, _AT_ONCE)

    def _shown(self, name: str, kind: ArrowType) -> str:
        quoted = self._quote(name)
        if pa.types.is_timestamp(kind) and kind.tz is not None:
            return f"({quoted} AT TIME ZONE 'UTC')::text || 'Z' AS {quoted}"
        return quoted

    def _fetched(self, table: str, schema: ArrowSchema, order: Sequence[str]) -> Iterator[ArrowRows]:
        columns = ", ".join(map(self._quote, schema.names))
        query = f"SELECT {columns} FROM {table} ORDER BY {', '.join(map(self._quote, order))}"
        raw: Any = self._connection.connection.dbapi_connection
        cursor = raw.cursor()
        try:
            cursor.execute(query)
            while rows := cursor.fetchmany(_AT_ONCE):
                values = zip(*rows, strict=True)
                arrays = [_array(list(each), field.type) for each, field in zip(values, schema, strict=True)]
                yield with_moments(pa.RecordBatch.from_arrays(arrays, names=schema.names), schema).cast(
                    schema
                )
        finally:
            cursor.close()


class _Pieces(io.RawIOBase):
    """A stream as a file of Python, which Arrow reads."""

    def __init__(self, stream: LineStream):
        self._stream = stream

    def readable(self) -> bool:
        """Say that it can be read."""
        return True

    def read(self, size: int = -1) -> bytes:
        """Return at most so many bytes; none at the end."""
        return self._stream.read(size)


def _array(values: list[Any], kind: ArrowType) -> ArrowArray:
    """Return values as a driver gives them as an array of a type; moments with a zone as texts."""
    if pa.types.is_boolean(kind):
        return pa.array([None if each is None else bool(each) for each in values], kind)
    if pa.types.is_decimal(kind):
        return pa.array([_decimal(each, kind.scale) for each in values], kind)
    if pa.types.is_timestamp(kind) and kind.tz is not None:
        return pa.array([None if each is None else _moment(each) for each in values], pa.string())
    if pa.types.is_temporal(kind):
        values = [_time(each) if isinstance(each, timedelta) else each for each in values]
        if any(isinstance(each, str) for each in values):
            return from_texts(pa.array(values, pa.string()), kind)
        return pa.array(values, kind)
    if pa.types.is_floating(kind):
        return pa.array([None if each is None else float(each) for each in values], kind)
    return pa.array(values, kind)


def _moment(value: Any) -> str:
    """Return a moment with its zone: UTC where the database knows none, as loading writes it there."""
    is_bare = isinstance(value, datetime) and value.tzinfo is None
    return f"{value}Z" if is_bare else str(value)


def _time(since_midnight: timedelta) -> time:
    """Return a time of day, which MariaDB has as a length of time."""
    return (datetime.min + since_midnight).time()


def _decimal(value: Any, scale: int) -> Decimal | None:
    if value is None or isinstance(value, Decimal):
        return value
    # What a double holds of at most 15 digits, it gives back.
    return Decimal(value if isinstance(value, str) else f"{value:.{scale}f}")
