"""Rows of tables with the record that each belongs to, some records at a time, told by their keys alone."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of, joined_batches
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table
from tessaron.core.rebuild.row_groups import finder_of
from tessaron.core.tables.numbering import rows_by_parent


@dataclass(slots=True)
class OwnedRows:
    """Some records with all their rows.

    Attributes:
        batches: The rows of each table, as record batches.
        records: For each table the record of each row, from 0 and never falling.
        record_count: Records.
    """

    batches: dict[str, Any]
    records: dict[str, Int64s]
    record_count: int


@dataclass
class _Taken:
    """Rows of one table that belong to the records at hand."""

    table: Table
    batches: list[Any] = field(default_factory=list)
    records: list[Int64s] = field(default_factory=list)

    def add(self, batch: ArrowRows, records: Int64s) -> None:
        """Take in rows, each with its record."""
        self.batches.append(batch)
        self.records.append(records)

    @property
    def last(self) -> int:
        """The record of the last row; 0 where there is none."""
        return int(self.records[-1][-1]) if self.records else 0

    def owners(self, keys: ArrowArray) -> Int64s:
        """Return the records of the rows with some keys, -1 for rows that are not here."""
        if not self.batches:
            return np.full(len(keys), -1, np.int64)
        known, records = self._keys()
        places = finder_of(known)(keys)
        return np.where(places >= 0, records[places], -1)

    def _keys(self) -> tuple[ArrowArray, Int64s]:
        arrays = [batch.column(self.table.row_key) for batch in self.batches]
        if len(arrays) == 1:
            return arrays[0], self.records[0]
        return pa.concat_arrays(arrays), np.concatenate(self.records)

    def joined(self) -> tuple[ArrowRows, Int64s]:
        """Return all rows as one record batch, and their records."""
        rows = joined_batches(self.batches, self.table.arrow_schema())
        return rows, np.concatenate([np.empty(0, np.int64), *self.records])


class RecordOwners:
    """Takes rows from tables whose rows stand in the order of their records, as those of an export do.

    Args:
        top: The table with a row for each record.
        below: The tables whose rows belong to these, parents before children as far as they can.
        batches: The rows of each table; of the top table those that are to come together.
    """

    def __init__(self, top: Table, below: Sequence[Table], batches: Mapping[str, Iterator[ArrowRows]]):
        self._top, self._below, self._batches = top, below, batches
        self._waiting: dict[str, Any] = {}
        self._taken_before = dict.fromkeys((table.name for table in below), 0)
        place = {table.name: number for number, table in enumerate((top, *below))}
        # Of tables that stand in each other one comes before rows that its own belong to.
        self._have_rings = any(
            place[parent] > place[table.name] for table in below for parent in table.parents()
        )

    def __iter__(self) -> Iterator[OwnedRows]:
        """Yield all rows.

        Raises:
            DataError: When a row belongs to none of the records, or stands out of order.
        """
        for batch in self._batches[self._top.name]:
            if batch.num_rows:
                yield self._with_below(batch)
        for table in self._below:
            if self._next(table) is not None:
                raise self._out_of_order(table)

    def _out_of_order(self, table: Table) -> DataError:
        row = self._taken_before[table.name] + 1
        reason = f"row {row:,} belongs to a row that is not there, or stands out of its order"
        return DataError(reason, Place(table.name), Code.ORDER)

    def _with_below(self, batch: ArrowRows) -> OwnedRows:
        found = {table.name: _Taken(table) for table in (self._top, *self._below)}
        found[self._top.name].add(batch, np.arange(batch.num_rows))
        while sum(self._take(table, found) for table in self._below) and self._have_rings:
            pass
        joined = {name: taken.joined() for name, taken in found.items()}
        return OwnedRows(
            {name: rows for name, (rows, _) in joined.items()},
            {name: records for name, (_, records) in joined.items()},
            batch.num_rows,
        )

    def _next(self, table: Table) -> ArrowRows:
        """Return the next rows of a table; None at the end."""
        if (kept := self._waiting.pop(table.name, None)) is not None:
            return kept
        return next((batch for batch in self._batches[table.name] if batch.num_rows), None)

    def _take(self, table: Table, found: Mapping[str, _Taken]) -> int:
        """Take the next rows of a table as long as they belong to the records at hand; return how many."""
        count = 0
        while (batch := self._next(table)) is not None:
            records = _owners(batch, table, found)
            known = records >= 0
            here = len(known) if known.all() else int(np.argmin(known))
            # Rows of one record stand together, those of the next behind them.
            falls = np.flatnonzero(np.diff(records[:here], prepend=found[table.name].last) < 0)
            if len(falls):
                self._taken_before[table.name] += count + int(falls[0])
                raise self._out_of_order(table)
            if here:
                found[table.name].add(batch.slice(0, here), records[:here])
                count += here
            if here < batch.num_rows:
                self._waiting[table.name] = batch.slice(here)
                break
        self._taken_before[table.name] += count
        return count


def _owners(batch: ArrowRows, table: Table, found: Mapping[str, _Taken]) -> Int64s:
    """Return the record of each row, -1 where it is none of those at hand."""
    above = batch.column(str(table.parent_key))
    if not table.refers_by_place():
        return found[table.parents()[0]].owners(above)
    records = np.full(batch.num_rows, -1, np.int64)
    own: Bools | None = None
    for parent, mask in rows_by_parent(batch, table):
        records[mask] = found[parent].owners(above.filter(array_of(mask)))
        own = mask if parent == table.name else own
    while own is not None:
        # Rows that stand in rows of their own table, which may be among these.
        here = _Taken(table)
        here.add(batch.filter(array_of(records >= 0)), records[records >= 0])
        open_ = own & (records < 0)
        records[open_] = here.owners(above.filter(array_of(open_)))
        if not (records[open_] >= 0).any():
            break
    return records
