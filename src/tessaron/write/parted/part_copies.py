"""Rows of parts copied by workers into staging tables of a database, all at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import TableSet
from tessaron.write.parted.part_writing import PartSums


@dataclass(frozen=True, slots=True)
class StagingPlace:
    """Staging tables in a database that all workers reach.

    Attributes:
        url: The database.
        password: Where the password stands, at the worker: as in `load`.
        schema: The schema of the staging tables.
        most_bytes: As in `CollectedRows`.
    """

    url: str
    password: str | None
    schema: str
    most_bytes: int

    def write(self, number: int, tables: TableSet, rows: Iterator[dict[str, ArrowRows]]) -> PartSums:
        """Copy the rows of one part; see `PartPlace`.

        Raises:
            TargetError: When the database does not take them.
        """
        from tessaron.sinks.database.open_database import OpenDatabase
        from tessaron.sinks.database.staging import send_part
        from tessaron.sources.web.secret_values import secret_of

        secret = None if self.password is None else secret_of(self.password)
        database = OpenDatabase(self.url, password=secret)
        sent = send_part(database, self.schema, number, tables.tables, rows, self.most_bytes)
        return PartSums(sent.rows, sent.values)
