"""Tables in a database that get columns they lack, and wider types; nothing is renamed or taken away."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.database.existing_tables import ColumnThere, ExistingTables, alike
from tessaron.sinks.ddl.create_tables import CreateTables

if TYPE_CHECKING:
    from sqlalchemy import Connection


class GrowingTables:
    """Gives tables that are there what is lacking.

    Args:
        connection: The database, with the transaction.
        existing: The tables there.
        made: Ours.
        run: Runs a statement.
        name: What the database is called in messages.
    """

    def __init__(
        self,
        connection: Connection,
        existing: ExistingTables,
        made: CreateTables,
        run: Callable[[str], object],
        name: str,
    ):
        self._connection, self._existing, self._made = connection, existing, made
        self._run, self._name = run, name

    def grow(self, table: Table) -> None:
        """Add the columns that a table lacks, and widen the types of those that are there.

        Raises:
            TargetError: When the database cannot widen a type.
        """
        there = {column.name: column for column in self._existing.columns(table.name)}
        declared = dict(self._made.declared(table))
        for name, spelled in declared.items():
            if name not in there:
                column = f"{self._made.dialect.quoted(name)} {spelled}"
                self._run(f"ALTER TABLE {self._made.name(table.name)} ADD {column}")
        wider = {
            name: spelled
            for name, spelled in declared.items()
            if name in there and not alike(there[name].type, spelled.upper())
        }
        if wider:
            self._widen(table, wider, there)

    def _widen(self, table: Table, wider: Mapping[str, str], there: Mapping[str, ColumnThere]) -> None:
        dialect, whole = self._made.dialect, self._made.name(table.name)
        if dialect.name == "sqlite":
            self._made_anew(table, list(there))
            return
        statements = {
            "postgresql": "ALTER TABLE {} ALTER COLUMN {} TYPE {}",
            "mysql": "ALTER TABLE {} MODIFY {} {}",
            "mariadb": "ALTER TABLE {} MODIFY {} {}",
        }
        for name, spelled in wider.items():
            if dialect.name not in statements:
                raise TargetError(
                    f"{self._name}: {table.name}.{name} is {there[name].type}, {spelled} is needed; "
                    f"change it there, then load again"
                )
            self._run(statements[dialect.name].format(whole, dialect.quoted(name), spelled))

    def _made_anew(self, table: Table, before: list[str]) -> None:
        """Make a table of SQLite anew, with all its rows: its columns have one type for ever."""
        dialect, whole = self._made.dialect, self._made.name(table.name)
        aside = dialect.quoted(f"tessaron_{table.name}_before")
        # What refers to the table goes on referring to this name.
        self._run("PRAGMA legacy_alter_table = ON")
        indexes = [
            str(row[0])
            for row in self._connection.exec_driver_sql(
                "SELECT sql FROM sqlite_master WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL",
                (table.name,),
            )
        ]
        names = [name for name, _ in self._made.declared(table)]
        also = [name for name in before if name not in names]
        if also:
            raise TargetError(
                f"{self._name}: {table.name} has columns of its own ({', '.join(also)}), and another type is "
                "needed for one of ours; SQLite cannot do both"
            )
        self._run(f"ALTER TABLE {whole} RENAME TO {aside}")
        self._run(self._made.create(table))
        columns = ", ".join(map(dialect.quoted, names))
        self._run(f"INSERT INTO {whole} ({columns}) SELECT {columns} FROM {aside}")
        self._run(f"DROP TABLE {aside}")
        for statement in indexes:
            self._run(statement)
