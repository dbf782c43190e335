"""Tables in a database as target: made, filled and checked in one transaction, so all is there or nothing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from types import TracebackType
from typing import TYPE_CHECKING, Any

import numpy as np

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.database.create_tables import CreateTables, joining
from tessaron.sinks.database.existing_tables import ExistingTables, listed
from tessaron.sinks.database.known_dialects import dialect_named
from tessaron.sinks.database.load_locks import begin_alone
from tessaron.sinks.database.load_target import LoadMode, RowsThere
from tessaron.sinks.database.merging import Merging, Words, state_table
from tessaron.sinks.database.row_writers import ReadyRows, writer_for
from tessaron.sinks.database.run_records import RunRecord, RunRecords
from tessaron.sinks.database.sql_dialects import SqlDialect, check_tables
from tessaron.sources.database.engines import engine_of, told_by

if TYPE_CHECKING:
    from sqlalchemy import Connection


class DatabaseTarget:
    """A context with one transaction; what is not committed leaves no trace.

    Args:
        url: The database, as SQLAlchemy spells it.
        mode: What becomes of tables that are there: `create` refuses them, `append` adds rows, `replace`
            empties them or makes them anew, `merge` replaces records that come again.
        schema: The schema that the tables stand in; None for the one that the database takes by itself.
        runs_schema: The schema of the table of runs; else that of the tables.
        is_lenient: Whether tables that are there may differ as far as they take the rows.
        password: The password, where it does not stand in the URL.
        say: Is told what is worth telling meanwhile.

    Attributes:
        name: What it is called in messages: without its password.
        dialect: Its dialect of SQL.
        merging: What takes rows of records out, where these are merged.

    Raises:
        TargetError: When it cannot be reached.
        UsageError: When the URL cannot be right.
    """

    def __init__(
        self,
        url: str,
        mode: LoadMode,
        schema: str | None = None,
        runs_schema: str | None = None,
        is_lenient: bool = False,
        password: str | None = None,
        say: Callable[[str], None] = lambda _: None,
    ):
        self._engine, self.name = engine_of(url, password, must_exist=False)
        self.dialect: SqlDialect = dialect_named(self._engine.dialect.name)
        self._mode, self._schema, self._is_lenient, self._say = mode, schema, is_lenient, say
        self._runs_schema = runs_schema if runs_schema is not None else schema
        self._connection: Connection | None = None
        self._thread = ThreadPoolExecutor(1, "tessaron-load")
        self._written: Future[None] | None = None
        self._created: set[str] = set()
        self._before: dict[str, int] = {}
        self.merging: Merging | None = None
        self._gone: list[Words] = []

    def __enter__(self) -> DatabaseTarget:
        with self._told():
            self._connection = self._engine.connect()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._thread.shutdown(cancel_futures=True)
        if kind is not None and self.dialect.commits_tables:
            self._take_away()
        if self._connection is not None:
            # What is not committed goes when the connection does, also where it was lost.
            self._connection.invalidate() if kind is not None else self._connection.close()

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
        assert self._connection is not None
        return self._connection

    def loaded_before(self) -> dict[str, str]:
        """Return the tables of records that runs have loaded, with the layout of the last run of each."""
        with self._told():
            runs = RunRecords(self.connection, self._runs_schema)
            found = {top: runs.last(top) for top in runs.tops()}
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
        if self._schema is not None and self.dialect.name == "sqlite":
            raise UsageError("sqlite has no schemas; leave --schema-name out, or take another file")
        check_tables(self.dialect, tables)
        self.made = CreateTables(self.dialect, tables, self._schema, required)
        with self._told():
            begin_alone(self.connection, self._schema or "", self._say)
            if self._schema is not None and self.dialect.has_schemas:
                self._run(f"CREATE SCHEMA IF NOT EXISTS {self.dialect.quoted(self._schema)}")
            self.runs = RunRecords(self.connection, self._runs_schema)
            if self._checks_late:
                self._run("SET SESSION foreign_key_checks = 0")
            there = self._tables_there()
            self._before = {name: self._count(name) for name in there}
            self._create(there)
            self._writer = writer_for(self.connection)
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
            return self.merging.known(self._before.get(top.name, 0), state not in self._created)

    def take_out(self, who: Words) -> None:
        """Take records out with all their rows, before anything else is sent."""
        if len(who):
            self._gone.append(who)

    @property
    def removed(self) -> Mapping[str, int]:
        """How many rows were taken out of each table."""
        return {} if self.merging is None else self.merging.removed

    def last_keys(self) -> dict[str, int]:
        """Return the largest key of each table that was there and stays, so that keys go on."""
        found = {}
        with self._told():
            for name in self._before:
                table = self._tables[name]
                if table.key_type == "integer" and name not in self._created:
                    key = self.dialect.quoted(table.row_key)
                    found[name] = int(self._scalar(f"SELECT max({key}) FROM {self.made.name(name)}") or 0)
        return found

    def write(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in rows of tables, to be sent when there are enough.

        Raises:
            TargetError: When the database does not take a row.
        """
        self.collected.add(batches)

    def finish(self) -> dict[str, RowsThere]:
        """Send what is left, add keys and references, and check them; return how many rows there are.

        Raises:
            TargetError: When keys or references do not hold, or rows are lacking.
        """
        for table in self.made.tables:
            if self.collected.waits(table.name):
                self.collected.flush(table.name)
        self._take_out()
        self._wait()
        with self._told():
            if self.dialect.name == "postgresql":
                # No key can be added while checks are due.
                self._run("SET CONSTRAINTS ALL IMMEDIATE")
            self._add_keys()
            self._check_references()
            return {table.name: self._rows_of(table) for table in self.made.tables}

    def commit(self, record: RunRecord, rejects: Iterator[Mapping[str, Any]]) -> None:
        """Record the run and what it has rejected, and make it all visible at once."""
        with self._told():
            self.runs.add(record)
            self.runs.add_rejects(record.run, rejects)
            self.connection.commit()
            self._created.clear()

    def next_number(self) -> int:
        """Return the number of the next run."""
        with self._told():
            return self.runs.next_number()

    def answer(self, tables: Sequence[Table]) -> tuple[str, int]:
        """Return a query that joins tables by their keys, and how many rows it returns."""
        question = joining(tables, self.made)
        if not question:
            return "", 0
        with self._told():
            return question, int(self._scalar(question))

    # -- what is there ----------------------------------------------------------------------------------

    def _tables_there(self) -> list[str]:
        """Return the tables that are there and stay, after what the mode does with them."""
        existing = ExistingTables(self.connection, self.made)
        if existing.views:
            raise TargetError(
                f"{self.name}: {', '.join(sorted(existing.views))}: is a view; choose another name"
            )
        if self._mode == "replace":
            return self._emptied(existing)
        if not existing.names:
            return []
        if self._mode == "create":
            other = "" if self.dialect.name == "sqlite" else ", or another --schema-name"
            raise TargetError(
                f"{self.name}: {_named(existing.names)} there already; say what becomes of it: "
                f"--mode append, merge or replace{other}"
            )
        differences = [
            each
            for table in self.made.tables
            if table.name in existing.names
            for each in existing.differences(table, self._is_lenient)
        ]
        if differences:
            hint = "; --as-before loads by the layout of the last run"
            hint += "" if self._is_lenient else ", --into-existing into tables that take the rows, if no more"
            raise TargetError(
                f"{self.name}: tables there differ from those to load{hint}:{listed(differences)}"
            )
        return existing.names

    def _emptied(self, existing: ExistingTables) -> list[str]:
        """Empty tables, or take them away where they are to be others; return those that stay.

        What the last run of the same records has loaded beside them goes, too: it would be of other data.
        """
        ours = [table.name for table in self.made.tables if table.name in existing.names]
        beside = [name for name in self._loaded_with(ours) if existing.has(name)]
        is_other = any(existing.differences(table, self._is_lenient) for table in self._own(ours))
        if is_other or set(beside) - set(ours):
            # Those behind refer to those before.
            gone = dict.fromkeys((*reversed(beside), *reversed(ours)))
            for each in self.made.drop(gone):
                self._run(each)
            return []
        if ours and self.dialect.name == "postgresql":
            self._run(f"TRUNCATE {', '.join(map(self.made.name, ours))}")
            return ours
        for name in reversed(ours):
            self._run(f"DELETE FROM {self.made.name(name)}")
        return ours

    def _own(self, names: Sequence[str]) -> list[Table]:
        return [table for table in self.made.tables if table.name in names]

    def _loaded_with(self, names: Sequence[str]) -> list[str]:
        """Return the tables of the last runs whose records' table is among these, parents first."""
        runs = filter(None, (self.runs.last(top) for top in self.runs.tops() if top in names))
        found = [table["name"] for record in runs for table in record.receipt["tables"]]
        # What is known of merged records holds no more.
        return [*found, *(state_table(table).name for table in self._own(names))]

    def _create(self, there: list[str]) -> None:
        has_keys = not self._adds_keys
        for table in self.made.tables:
            if table.name not in there:
                self._run(self.made.create(table, has_keys))
                self._created.add(table.name)

    @property
    def _adds_keys(self) -> bool:
        """Whether keys and references are added once tables are full: then rows go in quicker."""
        return self.dialect.name == "postgresql"

    def _add_keys(self) -> None:
        created = [table for table in self.made.tables if table.name in self._created]
        if self._adds_keys:
            # All primary keys first: references need them.
            for statements in zip(*(self._key_statements(table) for table in created), strict=True):
                for each in (one for some in statements for one in some):
                    self._run(each)
        else:
            for each in (one for table in created for one in self.made.late_references(table)):
                self._run(each)
        for table in created:
            for each in (*self.made.indexes(table), *self.made.comments(table)):
                self._run(each)
            if self.merging is not None and table.name == self.merging.state.name:
                self._run(self.merging.index())

    def _key_statements(self, table: Table) -> tuple[list[str], list[str]]:
        first, *others = self.made.keys(table)
        return [first], others

    @property
    def _checks_late(self) -> bool:
        """Whether references wait for `_check_references`: MariaDB has no other way for those in a ring."""
        return self.dialect.name in ("mysql", "mariadb")

    def _check_references(self) -> None:
        """Check references where the database has not done so itself."""
        for table in self.made.tables:
            for other, count in self._lacking(table):
                if count:
                    lost = (
                        f"1 row of {table.name} refers to a row of {other} that is not there"
                        if count == 1
                        else f"{count:,} rows of {table.name} refer to rows of {other} that are not there"
                    )
                    raise TargetError(f"{self.name}: {lost}; nothing was loaded")

    def _lacking(self, table: Table) -> Iterator[tuple[str, int]]:
        if self.dialect.name == "sqlite":
            pragma = f"PRAGMA foreign_key_check({self.dialect.quoted(table.name)})"
            found = self.connection.exec_driver_sql(pragma).fetchall()
            yield from Counter(other for _, _, other, _ in found).items()
        elif self._checks_late:
            for other, query in self.made.lacking(table):
                yield other, int(self._scalar(query))

    def _rows_of(self, table: Table) -> RowsThere:
        before = self._before.get(table.name, 0)
        if self._mode == "replace":
            before = 0
        return RowsThere(before, self._count(table.name))

    # -- how it is spoken to ----------------------------------------------------------------------------

    def _hand_on(self, name: str, rows: ArrowRows) -> None:
        """Send rows in a thread of its own, so that what comes next is made meanwhile."""
        self._take_out()
        table = self._tables[name]
        if self.merging is not None and table.once and name not in self._created:
            self._put_in_place(table, rows)
        elif rows.num_rows:
            for group in self._writer.groups(table, self.made.name(name), rows):
                self._wait()
                self._written = self._thread.submit(self._send, group)

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
            self._writer.send(group)

    def _wait(self) -> None:
        if self._written is not None:
            written, self._written = self._written, None
            written.result()

    def _run(self, statement: str) -> int:
        """Run a statement; return the number of rows that it changed."""
        return int(self.connection.exec_driver_sql(self._plain(statement)).rowcount)

    def _scalar(self, statement: str) -> Any:
        return self.connection.exec_driver_sql(self._plain(statement)).scalar()

    def _plain(self, statement: str) -> str:
        # What stands behind a percent sign would be a parameter.
        is_format = self.connection.dialect.paramstyle in ("format", "pyformat")
        return statement.replace("%", "%%") if is_format else statement

    def _count(self, name: str) -> int:
        return int(self._scalar(f"SELECT count(*) FROM {self.made.name(name)}"))

    def _told(self) -> Any:
        return told_by(self._engine, self.name, TargetError)


def _named(names: Sequence[str]) -> str:
    shown = ", ".join(names[:5]) + (f" and {len(names) - 5:,} more" if len(names) > 5 else "")
    return f"{shown} {'is' if len(names) == 1 else 'are'}"
