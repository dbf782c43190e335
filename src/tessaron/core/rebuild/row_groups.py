"""Rows that belong together: some records with all that stands in them, taken from tables in key order."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.text_lane import Int64s
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import written_name
from tessaron.core.rebuild.places import TablePlaces


@dataclass(slots=True)
class RowGroup:
    """Some rows of a table, with the rows that stand in them.

    Attributes:
        rows: The rows, as a record batch.
        above: For each the row of the group above that it stands in, from 0 and never falling.
        below: The groups of the tables below, by table.
    """

    rows: Any
    above: Int64s
    below: dict[str, RowGroup] = field(default_factory=dict)


class OutOfOrderError(DataError):
    """Rows of a table do not stand in the order of the rows they belong to."""


def finder_of(keys: ArrowArray) -> Callable[[ArrowArray], Int64s]:
    """Return what finds keys among some: the place of each, -1 for one that is not there."""
    if pa.types.is_integer(keys.type) and len(keys) and not keys.null_count:
        numbers = keys.to_numpy()
        first, count = int(numbers[0]), len(numbers)
        if int(numbers[-1]) == first + count - 1 and (np.diff(numbers) == 1).all():
            return lambda wanted: _counted_from(first, count, wanted)
    return lambda wanted: _filled(pc.index_in(wanted, keys))


def _counted_from(first: int, count: int, wanted: ArrowArray) -> Int64s:
    places: Int64s = _filled(wanted, first - 1) - first
    return np.where((places >= 0) & (places < count), places, -1)


def _filled(numbers: ArrowArray, otherwise: int = -1) -> Int64s:
    filled = pc.fill_null(numbers, otherwise) if numbers.null_count else numbers
    return np.asarray(filled.to_numpy(zero_copy_only=False)).astype(np.int64)


class _Rows:
    """The rows of one table, taken in their order."""

    def __init__(self, name: str, batches: Iterator[ArrowRows], parent_key: str | None):
        self._name, self._batches, self._parent_key = name, batches, parent_key
        self._kept: Any = None
        self.taken = 0

    def next_batch(self) -> ArrowRows:
        """Return the next rows; None at the end."""
        if self._kept is not None:
            kept, self._kept = self._kept, None
            return kept
        for batch in self._batches:
            if batch.num_rows:
                return batch
        return None

    def take(self, keys: ArrowArray) -> tuple[ArrowRows, Int64s]:
        """Return the next rows as long as they belong to rows with these keys, and to which of them."""
        found: list[Any] = []
        places: list[Int64s] = []
        last = -1
        find = finder_of(keys)
        while (batch := self.next_batch()) is not None:
            index = find(batch.column(self._parent_key))
            known = index >= 0
            count = len(known) if known.all() else int(np.argmin(known))
            at = index[:count]
            if count and (at[0] < last or (at[1:] < at[:-1]).any()):
                raise OutOfOrderError(
                    "its rows do not stand in the order of the rows they belong to",
                    Place(written_name(self._name)),
                    Code.ORDER,
                )
            if count:
                found.append(batch.slice(0, count))
                places.append(at)
                last = int(at[-1])
            if count < batch.num_rows:
                self._kept = batch.slice(count)
                break
        self.taken += sum(batch.num_rows for batch in found)
        if not found:
            return None, np.empty(0, np.int64)
        joined = (
            found[0] if len(found) == 1 else pa.Table.from_batches(found).combine_chunks().to_batches()[0]
        )
        return joined, np.concatenate(places)


class GroupReader:
    """Joins tables to groups of records, in one pass over each.

    Args:
        places: The top table with all below it.
        batches: The rows of each table, in the order of the rows they belong to.
        above: The column and the keys by which the top table's rows are taken, if it has a table above.
    """

    def __init__(self, places: TablePlaces, batches: Mapping[str, Iterator[ArrowRows]]):
        self._places = places
        self._rows = {
            each.table.name: _Rows(each.table.name, iter(batches[each.table.name]), each.table.parent_key)
            for each in places.all()
        }

    def __iter__(self) -> Iterator[RowGroup]:
        top = self._rows[self._places.table.name]
        while (batch := top.next_batch()) is not None:
            top.taken += batch.num_rows
            yield self._with_below(self._places, RowGroup(batch, np.zeros(batch.num_rows, np.int64)))
        self._check_all_taken()

    def _with_below(self, places: TablePlaces, group: RowGroup) -> RowGroup:
        pending = [(places, group)]
        while pending:
            above, rows = pending.pop()
            keys = rows.rows.column(above.table.row_key)
            for each in above.below():
                batch, index = self._rows[each.table.name].take(keys)
                if batch is not None:
                    rows.below[each.table.name] = RowGroup(batch, index)
                    pending.append((each, rows.below[each.table.name]))
        return group

    def _check_all_taken(self) -> None:
        """Check that nothing is left over: rows whose parent is nowhere, or stood further up."""
        for each in self._places.all():
            left = self._rows[each.table.name].next_batch()
            if left is not None and each.table.parent_key is not None:
                key = left.column(each.table.parent_key)[0].as_py()
                taken = self._rows[each.table.name].taken
                raise OutOfOrderError(
                    f"row {taken + 1:,} belongs to {written_name(str(each.table.parent))} {in_quotes(key)}, "
                    "which is not there or stands further up",
                    Place(written_name(each.table.name)), Code.FOREIGN_KEY,
                )  # fmt: skip
