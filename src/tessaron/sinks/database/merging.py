"""Records that come again: their rows are taken out of all tables, before those that replace them go in.

Beside the records' table stands one that says of each record who it is and what its rows hold, as hashes; so
one scan of that tells what has changed, and time follows the change.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.errors import TargetError
from tessaron.core.base.naming import shorten
from tessaron.core.layout.table_set import Column, Table
from tessaron.core.types.column_types import INTEGER
from tessaron.sinks.ddl.create_tables import CreateTables

if TYPE_CHECKING:
    from sqlalchemy import Connection

Words = npt.NDArray[np.uint64]
_COLUMNS = ("who_1", "who_2", "content")
_AT_ONCE = 100_000
_GONE = "tessaron_gone"


def state_table(top: Table) -> Table:
    """Return the table that knows the records of another: their keys, who they are, what they hold."""
    columns = tuple(Column(name, (name,), INTEGER) for name in _COLUMNS)
    return Table(
        shorten(f"tessaron_records_{top.name}"),
        (),
        None,
        top.row_key,
        None,
        None,
        columns,
        key_type=top.key_type,
    )


def state_rows(keys: Any, states: Words, table: Table) -> ArrowRows:
    """Return the rows of that table for records with these keys."""
    arrays = [keys, *(pa.array(column.view(np.int64)) for column in np.ascontiguousarray(states.T))]
    return pa.RecordBatch.from_arrays(arrays, schema=table.arrow_schema())


class Merging:
    """Takes rows of records out of tables.

    Args:
        connection: The database, with the transaction.
        made: The tables, that of the records' states among them.
        top: The records' table.
        run: Runs a statement, and returns how many rows it changed.
        put: Puts a `pyarrow.Table` of rows into a table.

    Attributes:
        state: The table of the records' states.
        removed: How many rows were taken out of each table.
    """

    def __init__(
        self,
        connection: Connection,
        made: CreateTables,
        top: Table,
        run: Callable[[str], int],
        put: Callable[[Table, ArrowRows], None],
    ):
        self._connection, self._made, self._top, self._run, self._put = connection, made, top, run, put
        self.state = state_table(top)
        self._quoted = made.dialect.quoted
        self.removed = {table.name: 0 for table in made.tables}
        self._last: int | str | None = None
        self._below = [table for table in made.tables if table.parents() and not table.once]

    def known(self, rows_there: int, has_states: bool) -> Words:
        """Return what is known of the records that are there: a line of three words for each.

        Args:
            rows_there: Rows of the records' table.
            has_states: Whether the table of their states was there.

        Raises:
            TargetError: When there are records of which nothing is known, and nothing can be.
        """
        states = self._states() if has_states else np.empty((0, 3), np.uint64)
        if len(states) == rows_there:
            return states
        if self._top.key_type == "text":
            return self._of_digests(states)
        raise TargetError(
            f"{self._top.name}: {rows_there:,} rows, and {self.state.name} knows of {len(states):,}: "
            "they were loaded in another mode, with keys that only count; replace them, with --keys digest"
        )

    def note_last(self, table: Table, rows: ArrowRows) -> None:
        """Take in that these rows of a table are sent: of the records' table the last is asked for."""
        if table.name == self._top.name:
            self._last = rows.column(table.row_key)[-1].as_py()

    def of_last(self, question: str) -> str:
        """Return the part of a query of `joining` that is of the last record; empty where none was sent."""
        if self._last is None:
            return ""
        value = self._made.dialect.text(self._last) if isinstance(self._last, str) else self._last
        return f"{question}\nWHERE t1.{self._quoted(self._top.row_key)} = {value}"

    def index(self) -> str:
        """Return the statement for the index by which records are looked up."""
        name = self._quoted(shorten(f"{self.state.name}_who"))
        return f"CREATE INDEX {name} ON {self._made.name(self.state.name)} ({self._quoted(_COLUMNS[0])})"

    def replace_values(self, table: Table, rows: str) -> None:
        """Let rows of a table in which values have one row each replace those of the same values.

        Args:
            table: The table.
            rows: The temporary table with the rows, which is dropped.
        """
        name = self._made.name(table.name)
        same = " AND ".join(f"s.{self._quoted(each)} = t.{self._quoted(each)}" for each in table.once)
        # An alias in DELETE is not known everywhere; a query inside is.
        key = self._quoted(table.row_key)
        found = f"SELECT t.{key} FROM {name} AS t JOIN {rows} AS s ON {same}"
        self.removed[table.name] += self._run(f"DELETE FROM {name} WHERE {key} IN ({found})")
        self._run(f"INSERT INTO {name} SELECT * FROM {rows}")
        self._run(f"DROP TABLE {rows}")

    def remove(self, who: Words) -> None:
        """Take records out, with all their rows."""
        for start in range(0, len(who), _AT_ONCE):
            self._remove(who[start : start + _AT_ONCE])

    def _remove(self, who: Words) -> None:
        if not len(who):
            return
        self._fill_gone(who)
        key, state = self._quoted(self._top.row_key), self._made.name(self.state.name)
        on = " AND ".join(f"s.{self._quoted(name)} = g.{self._quoted(name)}" for name in _COLUMNS[:2])
        gone = {
            self._top.name: self._temporary(
                0, f"SELECT s.{key} AS k FROM {state} AS s JOIN {_GONE} AS g ON {on}"
            )
        }
        for number, table in enumerate(self._below, 1):
            gone[table.name] = self._temporary(number, self._rows_below(table, gone))
        for table in reversed(self._below):
            self._delete(table, gone[table.name])
        for table in (self.state, self._top):
            self._delete(table, gone[self._top.name])
        for name in (*gone.values(), _GONE):
            self._run(f"DROP TABLE {name}")

    def _rows_below(self, table: Table, gone: dict[str, str]) -> str:
        """Return the query for the keys of a table's rows that belong to rows that go."""
        key, above = self._quoted(table.row_key), self._quoted(str(table.parent_key))
        parts = []
        for parent in table.parents():
            if parent not in gone:
                continue
            places = [place.path for place in table.places if place.parent == parent]
            where = ""
            if places and table.refers_by_place():
                listed = ", ".join(map(self._made.dialect.text, places))
                where = f" WHERE c.{self._quoted(str(table.place_key))} IN ({listed})"
            parts.append(
                f"SELECT c.{key} AS k FROM {self._made.name(table.name)} AS c "
                f"JOIN {gone[parent]} AS p ON c.{above} = p.k{where}"
            )
        return " UNION ALL ".join(parts)

    def _delete(self, table: Table, gone: str) -> None:
        key, name = self._quoted(table.row_key), self._made.name(table.name)
        count = self._run(f"DELETE FROM {name} WHERE {key} IN (SELECT k FROM {gone})")
        self.removed[table.name] += count

    def _temporary(self, number: int, query: str) -> str:
        name = f"{_GONE}_{number}"
        self._run(f"CREATE TEMPORARY TABLE {name} AS {query}")
        if self._connection.dialect.name == "postgresql":
            # Without counts the planner would scan whole tables for a few rows.
            self._run(f"ANALYZE {name}")
        return name

    def _fill_gone(self, who: Words) -> None:
        columns = ", ".join(f"{self._quoted(name)} BIGINT" for name in _COLUMNS[:2])
        self._run(f"CREATE TEMPORARY TABLE {_GONE} ({columns})")
        values = who.view(np.int64).tolist()
        raw: Any = self._connection.connection.dbapi_connection
        if self._connection.dialect.driver == "psycopg":
            with raw.cursor() as cursor, cursor.copy(f"COPY {_GONE} FROM STDIN") as copy:
                for pair in values:
                    copy.write_row(pair)
            return
        mark = "?" if self._connection.dialect.paramstyle == "qmark" else "%s"
        cursor = raw.cursor()
        cursor.executemany(f"INSERT INTO {_GONE} VALUES ({mark}, {mark})", values)
        cursor.close()

    def _states(self) -> Words:
        names = ", ".join(map(self._quoted, _COLUMNS))
        query = f"SELECT {names} FROM {self._made.name(self.state.name)}"
        return _words(self._rows(query), len(_COLUMNS))

    def _of_digests(self, states: Words) -> Words:
        """Return states for all rows by their keys, which say who they are, but not what they hold.

        Those that are not known yet are put beside the others, so that their rows can be found.
        """
        key, found = self._quoted(self._top.row_key), [states]
        for rows in self._rows(f"SELECT {key} FROM {self._made.name(self._top.name)}"):
            keys = pa.array([row[0] for row in rows], pa.large_string())
            who = digest_of_columns(pa.RecordBatch.from_arrays([keys], ["k"]), ("k",))
            is_new = ~np.isin(who[:, 0], states[:, 0])
            made = np.column_stack((who, np.zeros(len(who), np.uint64)))[is_new]
            if len(made):
                batch = state_rows(keys.filter(pa.array(is_new)), made, self.state)
                self._put(self.state, pa.Table.from_batches([batch]))
            found.append(made)
        return np.concatenate(found)

    def _rows(self, query: str) -> Iterator[Sequence[Sequence[Any]]]:
        """Yield the rows of a query, some thousand at a time."""
        raw: Any = self._connection.connection.dbapi_connection
        named = {"name": "tessaron_states"} if self._connection.dialect.driver == "psycopg" else {}
        cursor = raw.cursor(**named)
        try:
            cursor.execute(query)
            while rows := cursor.fetchmany(_AT_ONCE):
                yield rows
        finally:
            cursor.close()


def _words(parts: Iterator[Sequence[Sequence[int]]], width: int) -> Words:
    found = [np.array(rows, np.int64) for rows in parts]
    return np.concatenate(found).view(np.uint64) if found else np.empty((0, width), np.uint64)
