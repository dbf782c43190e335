"""Rows of tables in which each value of a column has one row, over the whole run: the first that comes."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.digests import hex_of
from tessaron.core.base.text_lane import Bools
from tessaron.core.layout.table_set import Table

_Words = npt.NDArray[np.uint64]


@dataclass
class OnceRows:
    """Knows the values that have a row in one table, and what stands in it.

    Attributes:
        table: The table.
    """

    table: Table
    _keys: _Words = field(default_factory=lambda: np.empty(0, np.uint64))
    _told: _Words = field(default_factory=lambda: np.empty(0, np.uint64))
    _hashes: tuple[Any, _Words, _Words] | None = None

    def conflicts(self, batch: ArrowRows) -> Bools:
        """Return which rows have something else beside their value than the row that it has."""
        keys, told = self._hashed(batch)
        self._hashes = batch, keys, told
        first, at = self._firsts(keys, told)
        return np.asarray(first[at] != told)

    def new_rows(self, batch: ArrowRows) -> ArrowRows:
        """Return the rows whose value has none yet, numbered on, and remember them."""
        keys, told = self._hashed(batch)
        self._hashes = None
        _, index = np.unique(keys, return_index=True)
        index = np.sort(index[~np.isin(keys[index], self._keys)])
        order = np.argsort(np.concatenate((self._keys, keys[index])), kind="stable")
        self._keys = np.concatenate((self._keys, keys[index]))[order]
        self._told = np.concatenate((self._told, told[index]))[order]
        new = batch.take(array_of(index))
        if self.table.key_type == "integer":
            own = array_of(np.arange(1, len(index) + 1, dtype=np.int64))
        else:
            # The same for the same value, whichever record brings it first.
            own = hex_of(digest_of_columns(new, self.table.once))
        return new.set_column(0, new.schema.field(0), own)

    def _hashed(self, batch: ArrowRows) -> tuple[_Words, _Words]:
        """Return digests of the values and of what stands beside them, kept from a look for conflicts."""
        if self._hashes is not None and self._hashes[0] is batch:
            return self._hashes[1:]
        others = tuple(column.name for column in self.table.columns if column.name not in self.table.once)
        keys = digest_of_columns(batch, self.table.once)[:, 0]
        return keys, digest_of_columns(batch, others)[:, 0] if others else np.zeros(len(keys), np.uint64)

    def _firsts(self, keys: _Words, told: _Words) -> tuple[_Words, ArrowArray]:
        """Return what stands beside each value first, here or before, and which of them each row has."""
        values, index, at = np.unique(keys, return_index=True, return_inverse=True)
        first = told[index]
        if len(self._keys):
            place = np.minimum(np.searchsorted(self._keys, values), len(self._keys) - 1)
            known = self._keys[place] == values
            first = np.where(known, self._told[place], first)
        return first, at
