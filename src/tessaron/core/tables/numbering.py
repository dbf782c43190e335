"""Keys that go on from chunk to chunk: each counts its rows from 1."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.tables.laid import Laid


@dataclass
class RowNumbers:
    """Numbers the rows of a run.

    Attributes:
        rows: The rows of each table so far.
    """

    rows: dict[str, int] = field(default_factory=dict)

    def number(self, batches: Mapping[str, ArrowRows], tables: TableSet) -> dict[str, ArrowRows]:
        """Return the rows of the next chunk with keys that go on after those before.

        Args:
            batches: A record batch for each table, sequence keys counted from 1.
            tables: The tables.
        """
        numbered = {table.name: self._numbered(batches[table.name], table) for table in tables.tables}
        for name, batch in numbered.items():
            self.rows[name] = self.rows.get(name, 0) + batch.num_rows
        return numbered

    def _numbered(self, batch: ArrowRows, table: Table) -> ArrowRows:
        if table.key_type == "text":
            return batch
        for column, others in references(table):
            before = {other: self.rows.get(other, 0) for other in others}
            if len(before) > 1:
                batch = _replaced(batch, column, self._plus_by_place(batch, column, table))
            elif (count := sum(before.values())) and batch.num_rows:
                batch = _replaced(batch, column, _plus(batch.column(column), count))
        return batch

    def _plus_by_place(self, batch: ArrowRows, column: str, table: Table) -> ArrowRows:
        keys = batch.column(column)
        before = np.zeros(batch.num_rows, np.int64)
        for parent, rows in rows_by_parent(batch, table):
            before[rows] = self.rows.get(parent, 0)
        return pc.add(keys, array_of(before))


def references(table: Table) -> Iterator[tuple[str, list[str]]]:
    """Yield the columns with keys of rows, each with the tables that these rows may be of."""
    found = (
        (table.row_key, [table.name]),
        (table.parent_key, table.parents()),
        (table.within_key, [table.name]),
        (table.through_key, [table.through]),
    )
    for column, others in found:
        known = [other for other in others if other is not None]
        if column is not None and known:
            yield column, known


def rows_by_parent(batch: ArrowRows, table: Table) -> Iterator[tuple[str, Bools]]:
    """Yield the tables that rows of a shared table belong to, each with a mask of those rows."""
    spelled = pa.array([place.path for place in table.places], pa.large_string())
    numbers = pc.index_in(batch.column(str(table.place_key)), spelled).fill_null(len(table.places)).to_numpy()
    parents = table.parents()
    number_of = {parent: number for number, parent in enumerate(parents)}
    of_place = np.array([*(number_of.get(str(place.parent), -1) for place in table.places), -1])
    of_row = of_place[numbers]
    for number, parent in enumerate(parents):
        yield parent, of_row == number


def _replaced(batch: ArrowRows, column: str, values: ArrowArray) -> ArrowRows:
    index = batch.schema.get_field_index(column)
    return batch.set_column(index, batch.schema.field(index), values)


def _plus(keys: ArrowArray, before: int) -> ArrowRows:
    if keys.null_count:
        return pc.add(keys, before)
    return array_of(keys.to_numpy() + before)


def moved_keys(batch: ArrowRows, table: Table, last: Mapping[str, int]) -> ArrowRows:
    """Return rows whose keys go on after those of rows that are elsewhere already.

    Args:
        batch: Rows of a table, with sequence keys of a run; digest keys stay as they are.
        table: The table.
        last: The largest key that each table has there.
    """
    if table.key_type == "text" or not batch.num_rows:
        return batch
    outer = ((table.document_key, table.documents), (table.enclosing_key, table.enclosing))
    around = [(column, [other]) for column, other in outer if column is not None and other is not None]
    for column, others in (*references(table), *around):
        counts = [last.get(other, 0) for other in others]
        if len(others) == 1:
            made = _plus(batch.column(column), counts[0])
        else:
            before = np.zeros(batch.num_rows, np.int64)
            for parent, rows in rows_by_parent(batch, table):
                before[rows] = last.get(parent, 0)
            made = pc.add(batch.column(column), array_of(before))
        if any(counts):
            batch = _replaced(batch, column, made)
    return batch


def renumber(laid: Laid, plan: LayingPlan, dropped: Bools) -> Laid:
    """Return what became of a fragment without some of its records, keys counted anew from 1."""
    batches: dict[str, Any] = {}
    numbers: dict[str, Int64s] = {}
    records: dict[str, Int64s] = {}
    for table in plan.written().tables:
        batch = laid.batches[table.name]
        kept = ~dropped[laid.records[table.name]]
        records[table.name] = laid.records[table.name][kept]
        numbers[table.name] = np.where(kept, np.cumsum(kept), 0)
        batches[table.name] = batch.filter(array_of(kept))
    if not plan.has_digest_keys:
        for table in plan.written().tables:
            batches[table.name] = with_numbers(batches[table.name], table, numbers)
    return replace(laid, batches=batches, records=records)


def with_numbers(batch: ArrowRows, table: Table, numbers: Mapping[str, Int64s]) -> ArrowRows:
    """Return a batch in which the keys of rows of some tables, counted from 1, are others.

    Args:
        batch: Rows of a table.
        table: The table.
        numbers: By table the new key of each row.
    """
    for column, others in references(table):
        if not batch.num_rows or all(other not in numbers for other in others):
            continue
        keys = batch.column(column)
        known = keys.is_valid().to_numpy(zero_copy_only=False)
        rows = keys.fill_null(1).to_numpy() - 1
        if len(others) == 1:
            made = numbers[others[0]][rows]
        else:
            made = np.zeros(len(rows), np.int64)
            for parent, mask in rows_by_parent(batch, table):
                made[mask] = numbers[parent][rows[mask]]
        batch = _replaced(batch, column, array_of(made, ~known if not known.all() else None))
    return batch
