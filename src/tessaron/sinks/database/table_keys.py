"""Keys and references of tables that a load makes: added when it is quickest, and checked at the end."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator
from typing import TYPE_CHECKING

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.ddl.create_tables import CreateTables

if TYPE_CHECKING:
    from sqlalchemy import Connection


class TableKeys:
    """The keys of the tables of a load.

    Args:
        connection: The database, with the transaction.
        made: The tables.
        run: Runs a statement.
        number: Runs a query for one number.
        name: What the database is called in messages.
    """

    def __init__(
        self,
        connection: Connection,
        made: CreateTables,
        run: Callable[[str], object],
        number: Callable[[str], int],
        name: str,
    ):
        self._connection, self._made, self._run, self._number, self._name = (
            connection,
            made,
            run,
            number,
            name,
        )

    @property
    def are_late(self) -> bool:
        """Whether keys and references are added once tables are full: then rows go in quicker."""
        return self._made.dialect.name == "postgresql"

    def add(self, created: Collection[str]) -> None:
        """Give the tables that were made what they lack: keys, references, indexes and comments."""
        if self.are_late:
            # No key can be added while checks are due.
            self._run("SET CONSTRAINTS ALL IMMEDIATE")
        tables = [table for table in self._made.tables if table.name in created]
        for each in self._late_statements(tables):
            self._run(each)
        for table in tables:
            for each in (*self._made.indexes(table), *self._made.comments(table)):
                self._run(each)

    def _late_statements(self, tables: list[Table]) -> Iterator[str]:
        if not self.are_late:
            for table in tables:
                yield from self._made.late_references(table)
            return
        statements = [self._made.keys(table) for table in tables]
        # All primary keys first: references need them.
        yield from (first for first, *_ in statements)
        yield from (other for _, *others in statements for other in others)

    def check(self) -> None:
        """Check references where the database has not done so itself.

        Raises:
            TargetError: When a row refers to one that is not there.
        """
        for table in self._made.tables:
            for other, count in self._lacking(table):
                if count:
                    lost = (
                        f"1 row of {table.name} refers to a row of {other} that is not there"
                        if count == 1
                        else f"{count:,} rows of {table.name} refer to rows of {other} that are not there"
                    )
                    raise TargetError(f"{self._name}: {lost}; nothing was loaded")

    def _lacking(self, table: Table) -> Iterator[tuple[str, int]]:
        if self._made.dialect.name == "sqlite":
            pragma = f"PRAGMA foreign_key_check({self._made.dialect.quoted(table.name)})"
            found = self._connection.exec_driver_sql(pragma).fetchall()
            yield from Counter(other for _, _, other, _ in found).items()
        elif self._made.dialect.checks_late:
            for other, query in self._made.lacking(table):
                yield other, self._number(query)
