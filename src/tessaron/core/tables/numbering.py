"""Keys that go on from chunk to chunk: each counts its rows from 1."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow.compute as pc

from tessaron.core.base.arrays import array_of
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

    def number(self, batches: Mapping[str, Any], tables: TableSet) -> dict[str, Any]:
        """Return the rows of the next chunk with keys that go on after those before.

        Args:
            batches: A record batch for each table, sequence keys counted from 1.
            tables: The tables.
        """
        numbered = {table.name: self._numbered(batches[table.name], table) for table in tables.tables}
        for name, batch in numbered.items():
            self.rows[name] = self.rows.get(name, 0) + batch.num_rows
        return numbered

    def _numbered(self, batch: Any, table: Table) -> Any:
        if table.key_type == "text":
            return batch
        references = [(table.row_key, table.name), (table.parent_key, table.parent)]
        references += [(table.within_key, table.name), (table.through_key, table.through)]
        for column, other in references:
            before = self.rows.get(other, 0) if other is not None else 0
            if column is not None and before:
                index = batch.schema.get_field_index(column)
                keys = _plus(batch.column(index), before)
                batch = batch.set_column(index, batch.schema.field(index), keys)
        return batch


def _plus(keys: Any, before: int) -> Any:
    if keys.null_count:
        return pc.add(keys, before)
    return array_of(keys.to_numpy() + before)


def renumber(laid: Laid, plan: LayingPlan, dropped: Bools) -> Laid:
    """Return what became of a fragment without some of its records, keys counted anew from 1."""
    batches: dict[str, Any] = {}
    numbers: dict[str, Int64s] = {}
    for table in plan.written().tables:
        batch = laid.batches[table.name]
        kept = ~dropped[laid.records[table.name]]
        numbers[table.name] = np.where(kept, np.cumsum(kept), 0)
        batches[table.name] = batch.filter(array_of(kept))
    if not plan.has_digest_keys:
        for table in plan.written().tables:
            batches[table.name] = _with_numbers(batches[table.name], table, numbers)
    return replace(laid, batches=batches)


def _with_numbers(batch: Any, table: Table, numbers: dict[str, Int64s]) -> Any:
    pairs = [(table.row_key, table.name), (table.parent_key, table.parent)]
    pairs += [(table.within_key, table.name), (table.through_key, table.through)]
    for column, other in pairs:
        if column is None or other is None or not batch.num_rows:
            continue
        index = batch.schema.get_field_index(column)
        old = batch.column(index)
        known = old.is_valid().to_numpy(zero_copy_only=False)
        places = old.fill_null(1).to_numpy() - 1
        new = array_of(numbers[other][places], ~known if not known.all() else None)
        batch = batch.set_column(index, batch.schema.field(index), new)
    return batch
