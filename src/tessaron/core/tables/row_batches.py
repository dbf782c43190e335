"""The rows of tables as record batches: keys first, then the columns of the data."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.digest_keys import digest_of_columns, places_among, salt_of
from tessaron.core.base.digests import Digests, digest_texts, digest_words, hex_of
from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table
from tessaron.core.plan.plan import TablePlan
from tessaron.core.tables.columns import Columns
from tessaron.core.tables.row_sets import RowSet


class RowBatches:
    """Makes the record batches of the tables."""

    def __init__(self, columns: Columns, dropped: Bools):
        self._columns = columns
        self._levels = columns.levels
        self._dropped = dropped
        self._sets: dict[str, RowSet] = {}
        self._digests: dict[str, Digests] = {}

    def rows(self, table: TablePlan) -> RowSet:
        """Return the rows of a table."""
        if table.name not in self._sets:
            self._sets[table.name] = RowSet(self._columns, table, self._dropped)
        return self._sets[table.name]

    def records(self, table: TablePlan) -> Int64s:
        """Return the record of each row of a table."""
        return self.rows(table).at(())

    def batch(self, table: TablePlan) -> ArrowRows:
        """Return the rows of a table as a record batch, keys first."""
        written, rows = table.table, self.rows(table)
        assert written is not None
        arrays = self._keys(table, written, rows)
        for (other, name), column in zip(table.output, written.columns, strict=True):
            values = self._columns.values(other, name)
            level = self._columns.plan.table(other).level
            taken, wanted = rows.take(values, level), column.type.arrow_type()
            arrays.append(taken if taken.type == wanted else taken.cast(wanted))
        return pa.RecordBatch.from_arrays(arrays, schema=written.arrow_schema())

    def _keys(self, table: TablePlan, written: Table, rows: RowSet) -> list[ArrowArray]:
        plan = self._columns.plan
        keys = [self._own_keys(table, rows)]
        if written.parent is not None and written.parent_key is not None:
            parent = plan.table(written.parent)
            keys.append(self._keys_at(parent, rows.at(parent.level)))
        for origin, name, target in (
            (Origin.WITHIN, written.within_key, written.name),
            (Origin.THROUGH, written.through_key, written.through),
        ):
            if name is not None:
                found = self._referred(table, rows, origin)
                keys.append(self._keys_at(plan.table(str(target)), found))
        if written.ordinal is not None and written.parent is not None:
            ordinals = self._levels.ordinals(table.level, plan.table(written.parent).level)
            keys.append(rows.take(array_of(ordinals), table.level))
        return keys

    def _own_keys(self, table: TablePlan, rows: RowSet) -> ArrowArray:
        if not self._columns.plan.has_digest_keys:
            return array_of(np.arange(1, rows.count + 1, dtype=np.int64))
        if rows.is_plain:
            return hex_of(self._digests_of(table)[rows.at(table.level)])
        record = self._digests_of(self._top())[rows.at(())]
        salt = np.full(rows.count, salt_of(table.level), np.uint64)
        places = places_among(rows.at(()))
        return hex_of(digest_words([record[:, 0], record[:, 1], salt, places]))

    def _keys_at(self, table: TablePlan, level_rows: Int64s) -> ArrowArray:
        """Return the keys of rows of a table, given as rows of its level, -1 for none."""
        kept, count = self.rows(table).at(table.level), self._levels.row_count(table.level)
        if len(kept) == count:
            found = level_rows + 1
        else:
            numbers = np.zeros(count + 1, np.int64)
            numbers[kept] = np.arange(1, len(kept) + 1)
            found = numbers[level_rows]
        # A row that is none, -1, may be among those kept, where what has no row here is kept too.
        missing = (level_rows < 0) | (found == 0)
        is_null = missing if missing.any() else None
        if self._columns.plan.has_digest_keys:
            return hex_of(self._digests_of(table)).take(array_of(level_rows, is_null))
        return array_of(found, is_null)

    def _referred(self, table: TablePlan, rows: RowSet, origin: Origin) -> Int64s:
        """Return the rows that rows of a structure that contains itself refer to, -1 for none."""
        node = self._levels.nodes.get((*table.level, origin))
        # Rows that stand for none of the level, -1, find what is behind the last.
        found = np.full(self._levels.row_count(table.level) + 1, -1, np.int64)
        if node is not None:
            found[node.rows_present()] = node.integers
        return found[rows.at(table.level)]

    def _top(self) -> TablePlan:
        return next(table for table in self._columns.plan.tables if not table.level)

    def _digests_of(self, table: TablePlan) -> Digests:
        """Return the digest of each row of a table's level."""
        if table.name not in self._digests:
            self._digests[table.name] = self._make_digests(table)
        return self._digests[table.name]

    def _make_digests(self, table: TablePlan) -> Digests:
        plan = self._columns.plan
        if not table.level:
            return self._of_records()
        parent = plan.table(table.parent) if table.parent is not None else None
        if parent is not None and parent.level == table.level:
            return self._digests_of(parent)
        upper = parent.level if parent is not None else ()
        parents = self._levels.rows_up(table.level, upper)
        is_contained = (*table.level, Origin.DEPTH) in self._levels.nodes
        places = places_among(parents) if is_contained else self._levels.ordinals(table.level, upper)
        above = (self._of_records() if parent is None else self._digests_of(parent))[parents]
        salt = np.full(len(parents), salt_of(table.level), np.uint64)
        return digest_words([above[:, 0], above[:, 1], salt, places])

    def _of_records(self) -> Digests:
        plan = self._columns.plan
        if plan.natural_key:
            top = self._top().name
            arrays = [self._columns.values(top, name) for name in plan.natural_key]
            return digest_of_columns(pa.RecordBatch.from_arrays(arrays, plan.natural_key), plan.natural_key)
        node = self._levels.nodes.get((Origin.CONTENT,))
        return np.empty((0, 2), np.uint64) if node is None else digest_texts(node.texts)
