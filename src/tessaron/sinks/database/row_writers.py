"""How rows get into a table of a database: by COPY into PostgreSQL, by statements for many rows elsewhere."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain
from typing import TYPE_CHECKING, Any, Protocol, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.csv_rows import iter_csv_rows
from tessaron.sinks.file_writers import in_shown_units
from tessaron.sources.database.engines import first_line, name_quoting

if TYPE_CHECKING:
    from sqlalchemy import Connection

_AT_ONCE = 20_000
"""So many rows become Python objects at once."""
_MOST_BOUND = 32_000
"""Values of one statement for SQLite, unless its limit is lower."""


class RefusedRowsError(TargetError):
    """A database does not take rows because of what is in them.

    Attributes:
        reason: What it says.
        row: Which of the rows that were sent together is the first, from 0; None where it does not say.
    """

    def __init__(self, reason: str, row: int | None = None):
        super().__init__(f"{reason}; nothing was loaded")
        self.reason, self.row = reason, row


@dataclass(frozen=True, slots=True)
class ReadyRows:
    """Rows of one table on their way, in the form in which they are sent.

    Attributes:
        table: The table.
        name: How SQL calls it.
        rows: The rows, as a `pyarrow.Table`.
        ready: The same as the driver takes them.
    """

    table: Table
    name: str
    rows: ArrowRows
    ready: Any


class RowWriter(Protocol):
    """Puts rows into tables, inside of a transaction; rows are made ready while others are sent."""

    def unfit(self, rows: ArrowRows) -> Iterator[tuple[str, ArrowArray]]:
        """Yield why the database could not hold some of these rows, with a mask of them."""

    def groups(self, table: Table, name: str, rows: ArrowRows) -> Iterator[ReadyRows]:
        """Yield the rows of a `pyarrow.Table` in groups that are ready to be sent."""

    def send(self, group: ReadyRows) -> None:
        """Append a group to its table.

        Raises:
            RefusedRowsError: When the database does not take rows because of what is in them.
            TargetError: When it does not take them for other reasons.
        """


def writer_for(connection: Connection) -> RowWriter:
    """Return what is quickest into this database."""
    if connection.dialect.name == "postgresql" and connection.dialect.driver == "psycopg":
        return CopiedRows(connection)
    if connection.dialect.name == "sqlite":
        return BoundRows(connection)
    return InsertedRows(connection)


class CopiedRows:
    """By COPY, as CSV: null is nothing, a text stands in quotes; so the rows are those of CSV files."""

    def __init__(self, connection: Connection):
        self._raw: Any = connection.connection.dbapi_connection

    def unfit(self, rows: ArrowRows) -> Iterator[tuple[str, ArrowArray]]:
        """Yield the rows with a text that has the character NUL in it, column by column."""
        for name, column in zip(rows.schema.names, rows.columns, strict=True):
            if pa.types.is_large_string(column.type) and _has_nul(column):
                # A letter of several bytes has no NUL in it.
                found = pc.fill_null(pc.match_substring(column, "\0"), False)
                yield f"{name} has the character NUL in it, which PostgreSQL cannot hold{_WITHOUT_NUL}", found

    def groups(self, table: Table, name: str, rows: ArrowRows) -> Iterator[ReadyRows]:
        """Yield all rows, as lines of CSV that are made while they are sent."""
        yield ReadyRows(table, name, rows, iter_csv_rows(in_shown_units(rows, table)))

    def send(self, group: ReadyRows) -> None:
        """Append rows to a table of PostgreSQL."""
        from psycopg import DataError, Error, IntegrityError
        from psycopg.errors import ProgramLimitExceeded, RaiseException

        columns = ", ".join(map(_quoted, group.rows.schema.names))
        with self._raw.cursor() as cursor:
            try:
                with cursor.copy(f"COPY {group.name} ({columns}) FROM STDIN WITH (FORMAT csv)") as copy:
                    for lines in group.ready:
                        copy.write(lines)
                count = cursor.rowcount
            except (DataError, IntegrityError, ProgramLimitExceeded, RaiseException) as error:
                raise RefusedRowsError(_reason_of(error), _row_of(group, error)) from error
            except Error as error:
                raise TargetError(f"{group.table.name}: {first_line(error)}; nothing was loaded") from error
        _check_count(group, count)


_WITHOUT_NUL = '; with a layout, replace = { "\\u0000" = "" } takes it out'


def _reason_of(error: BaseException) -> str:
    reason = first_line(error)
    if "row is too big" in reason:
        reason += (
            " (a row has to fit a page of PostgreSQL: leave columns out or make two tables, in a layout)"
        )
    return reason


def _row_of(group: ReadyRows, error: BaseException) -> int | None:
    """Return which row it is that an error of COPY tells of, from 0."""
    said = str(error).strip().splitlines()
    line = next((_line_of(each) for each in said if each.startswith("CONTEXT:")), None)
    return line - 1 if line is not None and 0 < line <= group.rows.num_rows else None


def _check_count(group: ReadyRows, count: int) -> None:
    """Check that all rows of a group went in, as far as the driver knows: something there may hold them back.

    Raises:
        TargetError: When they did not.
    """
    if count not in (-1, group.rows.num_rows):
        raise TargetError(
            f"{group.table.name}: {count:,} of {group.rows.num_rows:,} rows went in; something there "
            "holds the others back, perhaps a trigger; nothing was loaded"
        )


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _has_nul(column: ArrowArray) -> bool:
    for chunk in column.chunks if isinstance(column, pa.ChunkedArray) else [column]:
        _, offsets, data = chunk.buffers()
        if data is None or not len(chunk):
            continue
        bounds = np.frombuffer(offsets, np.int64)[[chunk.offset, chunk.offset + len(chunk)]]
        letters = np.frombuffer(data, np.uint8)[bounds[0] : bounds[1]]
        if len(letters) and letters.min() == 0:
            return True
    return False


def _line_of(said: str) -> int | None:
    digits = said.partition("line ")[2].partition(",")[0].partition(":")[0]
    return int(digits) if digits.isdigit() else None


class BoundRows:
    """By prepared statements for SQLite, which has texts for all that is no integer, double or boolean."""

    def __init__(self, connection: Connection):
        self._raw: Any = connection.connection.dbapi_connection

    def unfit(self, rows: ArrowRows) -> Iterator[tuple[str, ArrowArray]]:
        """Yield nothing: SQLite holds any value."""
        return iter(())

    def groups(self, table: Table, name: str, rows: ArrowRows) -> Iterator[ReadyRows]:
        """Yield the rows as values one after the other, some thousand rows at a time."""
        for part in _parts(in_shown_units(rows, table)):
            columns = [sqlite_values(column) for column in part.columns]
            yield ReadyRows(table, name, part, [*chain.from_iterable(zip(*columns, strict=True))])

    def send(self, group: ReadyRows) -> None:
        """Append rows to a table of SQLite.

        A statement takes many rows: after each this thread stands in line for the interpreter again.
        """
        import sqlite3

        width = len(group.rows.schema.names)
        limit = min(_MOST_BOUND, self._raw.getlimit(sqlite3.SQLITE_LIMIT_VARIABLE_NUMBER))
        step = max(1, limit // width) * width
        whole = len(group.ready) // step * step
        rows = (group.ready[place : place + step] for place in range(0, whole, step))
        try:
            self._raw.executemany(_insertion(group, step // width), rows)
            if rest := group.ready[whole:]:
                self._raw.execute(_insertion(group, len(rest) // width), rest)
        except (sqlite3.IntegrityError, sqlite3.DataError) as error:
            raise RefusedRowsError(first_line(error)) from error
        except sqlite3.Error as error:
            raise TargetError(f"{group.table.name}: {first_line(error)}; nothing was loaded") from error


def _insertion(group: ReadyRows, rows: int) -> str:
    names = group.rows.schema.names
    marks = f"({', '.join('?' * len(names))})"
    return f"INSERT INTO {group.name} ({', '.join(map(_quoted, names))}) VALUES {', '.join([marks] * rows)}"


def sqlite_values(column: ArrowArray) -> list[object]:
    """Return a column as SQLite takes it."""
    if pa.types.is_boolean(column.type):
        column = column.cast(pa.int8())
    is_number = pa.types.is_integer(column.type) or pa.types.is_floating(column.type)
    if pa.types.is_timestamp(column.type) and column.type.tz == "UTC":
        # Arrow takes ten times as long for a moment of a zone.
        texts = column.cast(pa.timestamp(column.type.unit)).cast(pa.string())
        column = pc.binary_join_element_wise(texts, "Z", "")
    elif not is_number and not pa.types.is_large_string(column.type):
        column = column.cast(pa.string())
    if is_number and not column.null_count:
        return cast("list[object]", column.to_numpy().tolist())
    return cast("list[object]", column.to_pylist())


class InsertedRows:
    """By SQLAlchemy's INSERT for many rows, with values of Python, as other drivers take them."""

    def __init__(self, connection: Connection):
        self._connection = connection

    def unfit(self, rows: ArrowRows) -> Iterator[tuple[str, ArrowArray]]:
        """Yield nothing: what a database does not hold it says itself."""
        return iter(())

    def groups(self, table: Table, name: str, rows: ArrowRows) -> Iterator[ReadyRows]:
        """Yield the rows as parameters, some thousand at a time."""
        for part in _parts(rows):
            values = zip(*(column.to_pylist() for column in part.columns), strict=True)
            bound = [{f"v{number}": value for number, value in enumerate(row)} for row in values]
            yield ReadyRows(table, name, part, bound)

    def send(self, group: ReadyRows) -> None:
        """Append rows to a table."""
        from sqlalchemy import text
        from sqlalchemy.exc import DataError, DBAPIError, IntegrityError

        names = group.rows.schema.names
        columns = ", ".join(map(name_quoting(self._connection.dialect), names))
        marks = ", ".join(f":v{number}" for number in range(len(names)))
        # What stands behind a colon in a name would be a parameter.
        into = f"{group.name} ({columns})".replace(":", "\\:")
        statement = text(f"INSERT INTO {into} VALUES ({marks})")
        try:
            self._connection.execute(statement, group.ready)
        except (DataError, IntegrityError) as error:
            raise RefusedRowsError(first_line(error.orig or error)) from error
        except DBAPIError as error:
            said = first_line(error.orig or error)
            raise TargetError(f"{group.table.name}: {said}; nothing was loaded") from error


def _parts(rows: ArrowRows) -> Iterator[ArrowRows]:
    """Yield rows, some thousand at a time."""
    for start in range(0, rows.num_rows, _AT_ONCE):
        yield rows.slice(start, _AT_ONCE).combine_chunks()
