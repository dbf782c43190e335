"""Tables in a database as target: made, filled and checked in one transaction, so all is there or nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from types import TracebackType
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import Table
from tessaron.core.types.column_types import ColumnType
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.database.load_target import RowsThere
from tessaron.sinks.database.merging import Merging, Words, state_table
from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.sinks.database.refused_rows import CarefulSender
from tessaron.sinks.database.row_writers import ReadyRows, writer_for
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.database.staging import take_over
from tessaron.sinks.database.standing_tables import StandingTables
from tessaron.sinks.database.table_keys import TableKeys
from tessaron.sinks.ddl.create_tables import CreateTables, joining
from tessaron.sinks.ddl.known_dialects import dialect_named
from tessaron.sinks.ddl.sql_dialects import SqlDialect, check_tables
from tessaron.sinks.load_modes import LoadMode

if TYPE_CHECKING:
    from sqlalchemy import Connection


class DatabaseTarget:
    """A context with one transaction; what is not committed leaves no trace.

    Args:
        database: The database.
        mode: What becomes of tables that are there: `create` refuses them, `append` adds rows, `replace`
            empties them or makes them anew, `merge` replaces records that come again.
        is_lenient: Whether tables that are there may differ as far as they take the rows.
        grows: Whether tables that are there get the columns and wider types that they lack.

    Attributes:
        name: What it is called in messages: without its password.
        dialect: Its dialect of SQL.
        merging: What takes rows of records out, where these are merged.

    Raises:
        TargetError: When it cannot be reached.
    """

    def __init__(self, database: OpenDatabase, mode: LoadMode, is_lenient: bool = False, grows: bool = False):
        self._database, self.name = database, database.name
        self.dialect: SqlDialect = dialect_named(database.dialect_name)
        self._mode, self._schema = mode, database.schema
        self._is_lenient, self._grows = is_lenient, grows
        self._thread = ThreadPoolExecutor(1, "tessaron-load")
        self._written: Future[None] | None = None
        self._created: set[str] = set()
        self._before: dict[str, int] = {}
        self.merging: Merging | None = None
        self._gone: list[Words] = []

    def __enter__(self) -> DatabaseTarget:
        self._database.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._thread.shutdown(cancel_futures=True)
        if kind is not None and self.dialect.commits_tables:
            self._take_away()
        self._database.__exit__(kind, error, trace)

    def _take_away(self) -> None:
        """Take away the tables that a load has made which failed, where no transaction does so."""
        with suppress(Exception):
            self.connection.rollback()
            made = self.made.tables if self._created else []
            for each in self.made.drop(t.name for t in reversed(made) if t.name in self._created):
                self._run(each)

    @property
    def kind(self) -> str:
        """What receipts call it: the dialect."""
        return self.dialect.name

    @property
    def connection(self) -> Connection:
        """The connection, with the transaction in it."""
        return self._database.connection

    def loaded_before(self) -> dict[str, str]:
        """Return the tables of records that runs have loaded, with the layout of the last run of each."""
        with self._told():
            runs = self._database.past_runs
            found = {top: runs.last(top) for top in runs.tops()}
            if not self._database.is_alone:
                # What follows begins a transaction of its own.
                self.connection.rollback()
        return {top: record.layout for top, record in found.items() if record is not None}

    def begin(self, tables: Sequence[Table], required: frozenset[str], most_bytes: int) -> None:
        """Begin the transaction, once no other load is under way, and make what is lacking.

        Args:
            tables: The tables.
            required: As in `CreateTables`.
            most_bytes: As in `CollectedRows`.

        Raises:
            TargetError: When tables are there that may not be, or do not take the rows, and why.
            UsageError: When the database would not take such tables.
        """
        check_tables(self.dialect, tables)
        self.made = CreateTables(self.dialect, tables, self._schema, required)
        with self._told():
            self._database.begin_alone()
            self.runs = self._database.past_runs
            if self.dialect.checks_late:
                self._run("SET SESSION foreign_key_checks = 0")
            standing = StandingTables(
                self.connection, self.made, self.runs, self._run, self.name, self._is_lenient, self._grows
            )
            there = standing.after(self._mode)
            # Merging counts at the end only: its time is to follow the change.
            self._before = {name: 0 if self._mode == "merge" else self._count(name) for name in there}
            self._keys = TableKeys(self.connection, self.made, self._run, self._number, self.name)
            for table in self.made.tables:
                if table.name not in self._before:
                    self._run(self.made.create(table, not self._keys.are_late))
                    self._created.add(table.name)
            self._writer = writer_for(self.connection)
            self._sender = CarefulSender(self._writer, self.connection, self.name)
        order = {table.name: place for place, table in enumerate(self.made.tables)}
        before = {
            table.name: [
                other
                for other in dict.fromkeys(name for _, name in table.references())
                if order.get(other, order[table.name]) < order[table.name]
            ]
            for table in tables
        }
        self._tables = {table.name: table for table in tables}
        self.collected = CollectedRows(tables, most_bytes, self._hand_on, before)

    def merge(self, top: Table) -> Words:
        """Let records replace those that are there; return what is known of these: see `Merging.known`."""
        self.merging = Merging(self.connection, self.made, top, self._run, self._put)
        state = state_table(top).name
        with self._told():
            there = self._count(top.name) if top.name in self._before else 0
            return self.merging.known(there, state not in self._created)

    def take_out(self, who: Words) -> None:
        """Take records out with all their rows, before anything else is sent."""
        if len(who):
            self._gone.append(who)

    @property
    def removed(self) -> Mapping[str, int]:
        """How many rows were taken out of each table."""
        return {} if self.merging is None else self.merging.removed

    def can_widen(self, before: ColumnType, after: ColumnType) -> bool:
        """Say yes: where a database cannot, it is said what to change there."""
        return True

    def last_keys(self) -> dict[str, int]:
        """Return the largest key of each table that was there and stays, so that keys go on."""
        found = {}
        with self._told():
            for name in self._before:
                table = self._tables[name]
                if table.key_type == "integer" and name not in self._created:
                    key = self.dialect.quoted(table.row_key)
                    found[name] = self._number(f"SELECT max({key}) FROM {self.made.name(name)}")
        return found

    def write(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in rows of tables, to be sent when there are enough.

        Raises:
            TargetError: When the database does not take a row.
        """
        self.collected.add(batches)

    def take_staged(self, schema: str, sent: Mapping[str, int], values: Mapping[str, Sequence[int]]) -> None:
        """Take rows over that others have put into staging tables.

        Args:
            schema: The schema of these.
            sent: The rows of each table.
            values: The values, null aside, in each of its columns.
        """
        names = [name for name, count in sent.items() if count]
        # What staged rows refer to is there first.
        self._flush()
        with self._told():
            take_over(self.connection, self.made, schema, self._created, names, self._run)
        for name in names:
            self.collected.rows[name] += sent[name]
            for index, count in enumerate(values[name]):
                self.collected.values[name][index] += count

    def finish(self) -> dict[str, RowsThere]:
        """Send what is left, add keys and references, and check them; return how many rows there are.

        Raises:
            TargetError: When keys or references do not hold, or rows are lacking.
        """
        self._flush()
        self._sender.check()
        with self._told():
            self._keys.add(self._created)
            if self.merging is not None and self.merging.state.name in self._created:
                self._run(self.merging.index())
            self._keys.check()
            return {table.name: self._rows_of(table) for table in self.made.tables}

    def _flush(self) -> None:
        """Send what waits."""
        for table in self.made.tables:
            if self.collected.waits(table.name):
                self.collected.flush(table.name)
        self._take_out()
        self._wait()

    def commit(
        self, record: RunRecord, rejects: Iterator[Mapping[str, Any]], also: Callable[[RunRecord], None]
    ) -> None:
        """Record the run and what it has rejected, and make it all visible at once.

        Args:
            record: The run.
            rejects: What it has rejected.
            also: Does what else belongs to the transaction, given the run.
        """
        with self._told():
            self.runs.add(record)
            self.runs.add_rejects(record.run, rejects)
            also(record)
            self.connection.commit()
            self._created.clear()

    def next_number(self) -> int:
        """Return the number of the next run."""
        with self._told():
            return self.runs.next_number()

    def answer(self, tables: Sequence[Table]) -> tuple[str, int]:
        """Return a query that joins tables by their keys, and how many rows it returns.

        Where records were merged it asks for the rows of the last of them.
        """
        question = joining(tables, self.made)
        if question and self.merging is not None:
            question = self.merging.of_last(question)
        if not question:
            return "", 0
        with self._told():
            return question, self._number(question)

    def _rows_of(self, table: Table) -> RowsThere:
        after = self._count(table.name)
        if self.merging is not None:
            # What was sent is known to have gone in.
            put_in, removed = self.collected.rows[table.name], self.merging.removed[table.name]
            return RowsThere(after - put_in + removed, after)
        return RowsThere(0 if self._mode == "replace" else self._before.get(table.name, 0), after)

    # -- how it is spoken to ----------------------------------------------------------------------------

    def _hand_on(self, name: str, rows: ArrowRows) -> None:
        """Send rows in a thread of its own, so that what comes next is made meanwhile."""
        self._take_out()
        table = self._tables[name]
        if self.merging is not None and rows.num_rows:
            self.merging.note_last(table, rows)
        if self.merging is not None and table.once and name not in self._created:
            self._put_in_place(table, rows)
        elif rows.num_rows:
            for group in self._writer.groups(table, self.made.name(name), self._fit(table, rows)):
                self._wait()
                self._written = self._thread.submit(self._send, group)

    def _fit(self, table: Table, rows: ArrowRows) -> ArrowRows:
        """Return rows without those that the database cannot hold, which end the load later."""
        bad = None
        for reason, found in self._writer.unfit(rows):
            self._wait()
            new = found if bad is None else pc.and_not(found, bad)
            self._sender.note(table, reason, rows.filter(new).column(table.row_key).to_pylist())
            bad = found if bad is None else pc.or_(found, bad)
        return rows if bad is None else rows.filter(pc.invert(bad))

    def _put(self, table: Table, rows: ArrowRows) -> None:
        for group in self._writer.groups(table, self.made.name(table.name), rows):
            self._writer.send(group)

    def _take_out(self) -> None:
        """Take out the records that are to go, before those that replace them are sent."""
        if self._gone and self.merging is not None:
            self._wait()
            gone, self._gone = np.concatenate(self._gone), []
            with self._told():
                self.merging.remove(gone)

    def _put_in_place(self, table: Table, rows: ArrowRows) -> None:
        """Let rows of values replace those that the same values have."""
        assert self.merging is not None
        self._wait()
        with self._told():
            empty = f"SELECT * FROM {self.made.name(table.name)} WHERE 1 = 0"
            self._run(f"CREATE TEMPORARY TABLE tessaron_values AS {empty}")
            for group in self._writer.groups(table, "tessaron_values", rows):
                self._writer.send(group)
            self.merging.replace_values(table, "tessaron_values")

    def _send(self, group: ReadyRows) -> None:
        with self._told():
            self._sender.send(group)

    def _wait(self) -> None:
        if self._written is not None:
            written, self._written = self._written, None
            written.result()

    def _run(self, statement: str) -> int:
        """Run a statement; return the number of rows that it changed."""
        return int(self.connection.exec_driver_sql(self._plain(statement)).rowcount)

    def _number(self, query: str) -> int:
        return int(self.connection.exec_driver_sql(self._plain(query)).scalar() or 0)

    def _plain(self, statement: str) -> str:
        # What stands behind a percent sign would be a parameter.
        is_format = self.connection.dialect.paramstyle in ("format", "pyformat")
        return statement.replace("%", "%%") if is_format else statement

    def _count(self, name: str) -> int:
        return self._number(f"SELECT count(*) FROM {self.made.name(name)}")

    def _told(self) -> Any:
        return self._database.told()
