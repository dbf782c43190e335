"""Rows of tables in which each value of a column has one row, over the whole run: the first that comes."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from tessaron.core.base.arrays import ArrowRows, array_of
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.digests import hex_of
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table

_Words = npt.NDArray[np.uint64]


@dataclass(frozen=True, slots=True)
class OnceDigests:
    """Of rows of such a table: digests of the values, and of what stands beside each."""

    keys: _Words
    told: _Words

    @classmethod
    def of(cls, table: Table, batch: ArrowRows) -> OnceDigests:
        """Return those of the rows of a batch."""
        others = tuple(column.name for column in table.columns if column.name not in table.once)
        keys = digest_of_columns(batch, table.once)[:, 0]
        told = digest_of_columns(batch, others)[:, 0] if others else np.zeros(len(keys), np.uint64)
        return cls(keys, told)

    def left(self, kept: Bools) -> OnceDigests:
        """Return those of the rows that are kept."""
        return OnceDigests(self.keys[kept], self.told[kept])


@dataclass
class OnceRows:
    """Knows the values that have a row in one table, and what stands in it.

    Attributes:
        table: The table.
    """

    table: Table
    _keys: _Words = field(default_factory=lambda: np.empty(0, np.uint64))
    _told: _Words = field(default_factory=lambda: np.empty(0, np.uint64))

    def conflicts(self, rows: OnceDigests) -> Bools:
        """Return which rows have something else beside their value than the row that it has."""
        values, index, at = np.unique(rows.keys, return_index=True, return_inverse=True)
        first = rows.told[index]
        if len(self._keys):
            place = np.minimum(np.searchsorted(self._keys, values), len(self._keys) - 1)
            known = self._keys[place] == values
            first = np.where(known, self._told[place], first)
        return np.asarray(first[at] != rows.told)

    def new(self, rows: OnceDigests) -> Int64s:
        """Return the rows whose value has none yet, and remember them."""
        _, index = np.unique(rows.keys, return_index=True)
        index = np.sort(index[~np.isin(rows.keys[index], self._keys)])
        order = np.argsort(np.concatenate((self._keys, rows.keys[index])), kind="stable")
        self._keys = np.concatenate((self._keys, rows.keys[index]))[order]
        self._told = np.concatenate((self._told, rows.told[index]))[order]
        return np.asarray(index, np.int64)


def new_rows(table: Table, batch: ArrowRows, index: Int64s) -> ArrowRows:
    """Return the rows of a batch whose value has none yet, numbered from 1.

    Args:
        table: The table.
        batch: Rows of it.
        index: Which they are.
    """
    new = batch.take(array_of(index))
    if table.key_type == "integer":
        own = array_of(np.arange(1, len(index) + 1, dtype=np.int64))
    else:
        # The same for the same value, whichever record brings it first.
        own = hex_of(digest_of_columns(new, table.once))
    return new.set_column(0, new.schema.field(0), own)
