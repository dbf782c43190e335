"""Rows of many tables on their way out: collected, and handed on in groups that are worth writing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import Table

_GROUP_ROWS = 131_072
_GROUP_CELLS = 16777216
_LEAST_GROUP_ROWS = 1_024


class CollectedRows:
    """Collects the rows of tables.

    Groups have a size that depends on the columns alone; when many large rows come together, the largest goes
    earlier, so that memory stays bounded.

    Args:
        tables: The tables.
        most_bytes: Bytes of rows, all tables together, before the largest group goes early.
        hand_on: Is given the name of a table and a group of its rows.
        before: Tables whose rows have to go before those of a table.

    Attributes:
        rows: The rows of each table so far.
        values: The values, null aside, in each of its columns.
    """

    def __init__(
        self,
        tables: Iterable[Table],
        most_bytes: int,
        hand_on: Callable[[str, ArrowRows], None],
        before: Mapping[str, Sequence[str]] | None = None,
    ):
        self._schemas = {table.name: table.arrow_schema() for table in tables}
        self.rows = dict.fromkeys(self._schemas, 0)
        self.values = {name: [0] * len(schema) for name, schema in self._schemas.items()}
        self._hand_on, self._before, self._most_bytes = hand_on, before or {}, most_bytes
        self._group_rows = {name: _group_rows(len(schema)) for name, schema in self._schemas.items()}
        self._collected: dict[str, list[Any]] = {name: [] for name in self._schemas}
        self._waiting_rows = dict.fromkeys(self._schemas, 0)
        self._waiting_bytes = dict.fromkeys(self._schemas, 0)

    def add(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in a record batch of each table named."""
        for name, batch in batches.items():
            if batch.num_rows:
                self.rows[name] += batch.num_rows
                for index, column in enumerate(batch.columns):
                    self.values[name][index] += len(column) - column.null_count
                self._collected[name].append(batch)
                self._waiting_rows[name] += batch.num_rows
                self._waiting_bytes[name] += batch.get_total_buffer_size()
        for name in batches:
            self._hand_on_full_groups(name)
        while sum(self._waiting_bytes.values()) > self._most_bytes:
            self.flush(max(self._waiting_bytes, key=self._waiting_bytes.__getitem__))

    def waits(self, name: str) -> bool:
        """Say whether rows of a table wait."""
        return self._waiting_rows[name] > 0

    def flush(self, name: str) -> None:
        """Hand on what waits of a table, be it nothing, and before it what has to go before."""
        for other in self._before.get(name, ()):
            if self.waits(other):
                self.flush(other)
        rows = pa.Table.from_batches(self._collected[name], self._schemas[name])
        self._keep(name, rows.slice(rows.num_rows))
        self._hand_on(name, rows)

    def _hand_on_full_groups(self, name: str) -> None:
        group = self._group_rows[name]
        if self._waiting_rows[name] >= group and any(map(self.waits, self._before.get(name, ()))):
            self.flush(name)
        while self._waiting_rows[name] >= group:
            rows = pa.Table.from_batches(self._collected[name], self._schemas[name])
            self._keep(name, rows.slice(group))
            self._hand_on(name, rows.slice(0, group))

    def _keep(self, name: str, rows: ArrowRows) -> None:
        self._collected[name] = rows.to_batches() if rows.num_rows else []
        self._waiting_rows[name] = rows.num_rows
        self._waiting_bytes[name] = rows.nbytes


def _group_rows(column_count: int) -> int:
    return max(_LEAST_GROUP_ROWS, min(_GROUP_ROWS, _GROUP_CELLS // max(column_count, 1)))
