"""Where the rows of a chunk stand in the run: what is decided about them, applied wherever the rows are."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.numbering import RowNumbers, moved_keys, renumber
from tessaron.write.across.once_rows import new_rows


@dataclass(frozen=True, slots=True)
class ChunkPlacing:
    """What is decided about the rows of one chunk.

    Attributes:
        records_before: Records of the same source before it, where its rows count them from 1.
        lines_before, documents_before: Line ends and documents before it, where it counts these from 0.
        dropped: The records that are left out late; None for none.
        once: Of tables with one row for a value, the rows whose value has none yet, of those that are left.
    """

    records_before: int = 0
    lines_before: int = 0
    documents_before: int = 0
    dropped: Bools | None = None
    once: Mapping[str, Int64s] = field(default_factory=dict)


@dataclass(frozen=True)
class ChunkPlacer:
    """Applies what is decided about chunks to their rows.

    Attributes:
        plan: What made the rows.
        last_keys: As in `moved_keys`.
    """

    plan: LayingPlan
    last_keys: Mapping[str, int] = field(default_factory=dict)

    @cached_property
    def _origins(self) -> tuple[tuple[str, int, Origin], ...]:
        return tuple(_origin_columns(self.plan))

    def left(self, laid: Laid, placing: ChunkPlacing) -> Laid:
        """Return the rows that are left, with what counts on from chunk to chunk."""
        before = {
            Origin.RECORD: placing.records_before,
            Origin.LINE: placing.lines_before,
            Origin.NUMBER: placing.documents_before,
        }
        for table, index, origin in self._origins:
            if before[origin]:
                batch = laid.batches[table]
                numbers = pc.add(batch.column(index), before[origin])
                laid.batches[table] = batch.set_column(index, batch.schema.field(index), numbers)
        if placing.documents_before:
            self._count_documents_on(laid, placing.documents_before)
        if placing.dropped is None:
            return laid
        left = renumber(laid, self.plan, placing.dropped)
        _count_dropped(laid, left)
        return left

    def numbered(self, left: Laid, placing: ChunkPlacing, numbers: RowNumbers) -> dict[str, ArrowRows]:
        """Return the rows as they are written."""
        tables = self.plan.written()
        by_name = {table.name: table for table in tables.tables}
        for name, index in placing.once.items():
            left.batches[name] = new_rows(by_name[name], left.batches[name], index)
        batches = numbers.number(left.batches, tables)
        if not self.last_keys:
            return batches
        return {table.name: moved_keys(batches[table.name], table, self.last_keys) for table in tables.tables}

    def _count_documents_on(self, laid: Laid, count: int) -> None:
        for table in self.plan.written().tables:
            batch = laid.batches[table.name]
            if table.document_key is None or table.key_type == "text" or not batch.num_rows:
                continue
            index = batch.schema.get_field_index(table.document_key)
            moved = pc.add(batch.column(index), count)
            laid.batches[table.name] = batch.set_column(index, batch.schema.field(index), moved)


def _origin_columns(plan: LayingPlan) -> Iterator[tuple[str, int, Origin]]:
    """Yield the written columns that count on: their table, their place in it, and what they count."""
    counting = (Origin.RECORD, Origin.LINE, Origin.NUMBER)
    numbers: dict[tuple[str, str], Any] = {
        (column.table, column.name): column.source.path[-1]
        for table in plan.tables
        for column in table.columns
        if column.source is not None and column.source.path[-1:] and column.source.path[-1] in counting
    }
    for table in plan.tables if numbers else ():
        for index, column in enumerate(table.output if table.table is not None else ()):
            if column in numbers:
                assert table.table is not None
                yield table.name, len(table.table.key_columns()) + index, numbers[column]


def _count_dropped(laid: Laid, left: Laid) -> None:
    """Count the rows and values of records that were dropped late."""
    for name, batch in laid.batches.items():
        if name not in laid.read:
            continue
        left.gone[name] += batch.num_rows - left.batches[name].num_rows
        for column, values in zip(batch.schema.names, batch.columns, strict=True):
            kept = left.batches[name].column(column)
            if f"{name}.{column}" in laid.read:
                left.gone[f"{name}.{column}"] += len(values.drop_null()) - len(kept.drop_null())
