"""The tables of a run, held in memory."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from types import MappingProxyType
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import UsageError
from tessaron.core.base.shown_forms import Figured
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table, TableSet


class Tables(Mapping[str, Any], Figured):
    """A read-only mapping of table name to `pyarrow.Table`, parents before children, with the keys known.

    Attributes:
        layout: The tables, columns, keys and types that were made.
        record_count: Records read.
        notes: What was recognised in the structure, as (path, text).
        rejects: Records that were left out, with place and reason.
        candidate_keys: Columns of the top table that are never null and have every value once.
        is_partial: Whether only the first records were read, and there are more.
        key_check: How the natural key stood the test of being unique; None if none was given.
        findings: With a layout: what did not hold, by column.
        filtered: With a layout: rows that its filters took away, by table.
        unmet: With a layout: tables and columns whose path stood nowhere.
    """

    def __init__(
        self,
        tables: Mapping[str, ArrowRows],
        layout: TableSet,
        record_count: int,
        notes: Iterable[tuple[str, str]] = (),
        rejects: Iterable[Any] = (),
        candidate_keys: Iterable[str] = (),
        key_check: Any = None,
        is_partial: bool = False,
        findings: Iterable[Any] = (),
        filtered: Mapping[str, int] | None = None,
        unmet: Iterable[str] = (),
    ):
        self._tables = MappingProxyType(dict(tables))
        self._plans = {table.name: table for table in layout.tables}
        self.layout = layout
        self.record_count = record_count
        self.notes = tuple(notes)
        self.rejects = tuple(rejects)
        self.candidate_keys = tuple(candidate_keys)
        self.key_check = key_check
        self.is_partial = is_partial
        self.findings = tuple(findings)
        self.filtered = dict(filtered or {})
        self.unmet = tuple(unmet)

    def __getitem__(self, name: str) -> ArrowRows:
        return self._tables[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._tables)

    def __len__(self) -> int:
        return len(self._tables)

    def __repr__(self) -> str:
        sizes = ", ".join(f"{name}: {table.num_rows:,} rows" for name, table in self.items())
        return f"Tables({sizes})"

    def primary_key(self, name: str) -> tuple[str, ...]:
        """Return the names of the columns that identify a row of the table.

        Raises:
            UsageError: When there is no table of that name.
        """
        return (self._plan(name).row_key,)

    def foreign_key(self, name: str) -> tuple[str, ...]:
        """Return the names of the columns that hold the primary key of the parent's row; empty at the top.

        Raises:
            UsageError: When there is no table of that name.
        """
        key = self._plan(name).parent_key
        return () if key is None else (key,)

    def parent(self, name: str) -> str | None:
        """Return the name of the table that the rows of this table belong to.

        Returns:
            None for the top table, and where it depends on the place of a row; see `parents`.

        Raises:
            UsageError: When there is no table of that name.
        """
        return self._plan(name).only_parent()

    def parents(self, name: str) -> tuple[str, ...]:
        """Return the names of the tables that the rows of a table belong to: several where it is shared.

        Raises:
            UsageError: When there is no table of that name.
        """
        return tuple(self._plan(name).parents())

    def _plan(self, name: str) -> Table:
        if name not in self._plans:
            raise UsageError(f"no table {in_quotes(name)}; there are {', '.join(self._plans)}")
        return self._plans[name]
