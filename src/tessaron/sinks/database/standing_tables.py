"""What becomes of tables that are there when a load begins: they are refused, kept, emptied or taken away."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.database.existing_tables import ExistingTables, listed
from tessaron.sinks.database.growing_tables import GrowingTables
from tessaron.sinks.database.merging import state_table
from tessaron.sinks.database.run_records import RunRecords
from tessaron.sinks.ddl.create_tables import CreateTables
from tessaron.sinks.load_modes import LoadMode

if TYPE_CHECKING:
    from sqlalchemy import Connection


class StandingTables:
    """The tables of a load that a database has already.

    Args:
        connection: The database, with the transaction.
        made: The tables of the load.
        runs: The runs that have loaded before.
        run: Runs a statement.
        name: What the database is called in messages.
        is_lenient: Whether tables may differ as far as they take the rows.
        grows: Whether tables get the columns and wider types that they lack.
    """

    def __init__(
        self,
        connection: Connection,
        made: CreateTables,
        runs: RunRecords,
        run: Callable[[str], object],
        name: str,
        is_lenient: bool,
        grows: bool = False,
    ):
        self._connection, self._made, self._runs, self._run = connection, made, runs, run
        self._name, self._is_lenient = name, is_lenient
        self._existing = ExistingTables(connection, made)
        self._growing = GrowingTables(connection, self._existing, made, run, name) if grows else None

    def after(self, mode: LoadMode) -> list[str]:
        """Do with them what a mode says; return those that stay.

        Raises:
            TargetError: When they may not be there, or do not take the rows, and why.
        """
        existing = self._existing
        if existing.views:
            raise TargetError(
                f"{self._name}: {', '.join(sorted(existing.views))}: is a view; choose another name"
            )
        if mode == "replace":
            return self._emptied()
        if not existing.names:
            return []
        if mode == "create":
            other = "" if self._made.dialect.name == "sqlite" else ", or another --schema-name"
            raise TargetError(
                f"{self._name}: {_named(existing.names)} there already; say what becomes of it: "
                f"--mode append, merge or replace{other}"
            )
        if self._growing is not None:
            for table in self._own(existing.names):
                self._growing.grow(table)
            existing = self._existing = ExistingTables(self._connection, self._made)
        differences = [
            each
            for table in self._made.tables
            if table.name in existing.names
            for each in existing.differences(table, self._is_lenient)
        ]
        if differences:
            hint = "; --as-before loads by the layout of the last run"
            hint += "" if self._is_lenient else ", --into-existing into tables that take the rows, if no more"
            raise TargetError(
                f"{self._name}: tables there differ from those to load{hint}:{listed(differences)}"
            )
        return existing.names

    def _emptied(self) -> list[str]:
        """Empty tables, or take them away where they are to be others; return those that stay.

        What the last run of the same records has loaded beside them goes, too: it would be of other data.
        """
        existing = self._existing
        ours = [table.name for table in self._made.tables if table.name in existing.names]
        beside = [name for name in self._loaded_with(ours) if existing.has(name)]
        is_other = any(existing.differences(table, self._is_lenient) for table in self._own(ours))
        if is_other or set(beside) - set(ours):
            # Those behind refer to those before.
            gone = dict.fromkeys((*reversed(beside), *reversed(ours)))
            for each in self._made.drop(gone):
                self._run(each)
            return []
        if ours and self._made.dialect.name == "postgresql":
            self._run(f"TRUNCATE {', '.join(map(self._made.name, ours))}")
            return ours
        for name in reversed(ours):
            self._run(f"DELETE FROM {self._made.name(name)}")
        return ours

    def _own(self, names: Sequence[str]) -> list[Table]:
        return [table for table in self._made.tables if table.name in names]

    def _loaded_with(self, names: Sequence[str]) -> list[str]:
        """Return the tables of the last runs whose records' table is among these, parents first."""
        runs = filter(None, (self._runs.last(top) for top in self._runs.tops() if top in names))
        found = [table["name"] for record in runs for table in record.receipt["tables"]]
        # What is known of merged records holds no more.
        return [*found, *(state_table(table).name for table in self._own(names))]


def _named(names: Sequence[str]) -> str:
    shown = ", ".join(names[:5]) + (f" and {len(names) - 5:,} more" if len(names) > 5 else "")
    return f"{shown} {'is' if len(names) == 1 else 'are'}"
