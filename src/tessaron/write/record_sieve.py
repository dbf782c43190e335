"""Which records of a run a database has already, just as they are: these need not be written again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.core.rebuild.record_contents import record_contents
from tessaron.core.tables.laid import Laid

Words = npt.NDArray[np.uint64]


class KnownRecords:
    """What a database has of each record: who it is, in two words, and a hash of all its rows.

    Args:
        states: A line of three for each record: both words, and the hash; 0 where that is not known.

    Attributes:
        seen: Which of them came again.
    """

    def __init__(self, states: Words):
        order = np.argsort(states[:, 0])
        self._states = states[order]
        self.seen = np.zeros(len(states), np.bool_)

    def __len__(self) -> int:
        return len(self._states)

    def find(self, identities: Words) -> npt.NDArray[np.int64]:
        """Return where each of some records stands, -1 for those that are not known."""
        first = self._states[:, 0]
        at = np.searchsorted(first, identities[:, 0])
        found = np.full(len(identities), -1, np.int64)
        # Where two records share the first word, the second tells.
        for _ in range(_MOST_ALIKE):
            inside = at < len(first)
            spot = np.where(inside, at, 0)
            fits = inside & (first[spot] == identities[:, 0]) if len(first) else np.zeros(len(at), np.bool_)
            same = fits & (self._states[spot, 1] == identities[:, 1]) if len(first) else fits
            found[same & (found < 0)] = spot[same & (found < 0)]
            if not (fits & ~same).any():
                break
            at = at + 1
        return found

    def contents(self, at: npt.NDArray[np.int64]) -> Words:
        """Return the hashes of the rows of known records."""
        return np.asarray(self._states[at, 2])

    def identities(self, at: Any) -> Words:
        """Return who known records are."""
        return np.asarray(self._states[at, :2])

    def unseen(self) -> Words:
        """Return who did not come again."""
        return self.identities(~self.seen)


_MOST_ALIKE = 8
"""So many records, at most, may share the first word of who they are: two in 2^64 do."""


@dataclass
class RecordSieve:
    """Takes the records out of a run that a database has just as they are.

    Args:
        tables: The tables of the records.
        top: The one with a row for each.
        columns: Its columns that say who a record is.
        known: What the database has.

    Attributes:
        states: Of the records that are left of the last chunk, in the order of their rows: who each is, and
            the hash of its rows.
        replaced: Who among them the database has otherwise.
        counts: How many were `new`, `changed` or `unchanged`.
    """

    tables: TableSet
    top: Table
    columns: tuple[str, ...]
    known: KnownRecords
    states: Words = field(default_factory=lambda: np.empty((0, 3), np.uint64))
    replaced: Words = field(default_factory=lambda: np.empty((0, 2), np.uint64))
    _owners: Int64s = field(default_factory=lambda: np.empty(0, np.int64))
    _replacing: Int64s = field(default_factory=lambda: np.empty(0, np.int64))
    counts: dict[str, int] = field(default_factory=lambda: {"new": 0, "changed": 0, "unchanged": 0})

    def unchanged(self, laid: Laid) -> Bools:
        """Return which records of a chunk the database has just as they are.

        Raises:
            DataError: When a record comes twice.
        """
        batch, own = laid.batches[self.top.name], laid.records[self.top.name]
        identities = digest_of_columns(batch, self.columns) if batch.num_rows else np.empty((0, 2), np.uint64)
        contents = record_contents(laid.batches, laid.records, laid.record_count, self.tables.tables)[own]
        at = self.known.find(identities)
        is_known = at >= 0
        self._check_once(at[is_known], batch, np.flatnonzero(is_known))
        is_same = is_known.copy()
        is_same[is_known] = self.known.contents(at[is_known]) == contents[is_known]
        self.known.seen[at[is_known]] = True
        changed = is_known & ~is_same
        self.replaced, self._replacing = self.known.identities(at[changed]), own[changed]
        self.states, self._owners = np.column_stack((identities, contents))[~is_same], own[~is_same]
        for name, mask in (("new", ~is_known), ("changed", changed), ("unchanged", is_same)):
            self.counts[name] += int(mask.sum())
        dropped = np.zeros(laid.record_count, np.bool_)
        dropped[own[is_same]] = True
        return dropped

    def keep(self, records: Int64s) -> None:
        """Take in that only these records of the chunk are left, as others were rejected."""
        self.states = self.states[np.isin(self._owners, records)]
        self.replaced = self.replaced[np.isin(self._replacing, records)]

    def _check_once(self, at: npt.NDArray[np.int64], batch: Any, rows: npt.NDArray[np.int64]) -> None:
        again = self.known.seen[at]
        if not again.any():
            values, first = np.unique(at, return_index=True)
            if len(values) == len(at):
                return
            again = np.ones(len(at), np.bool_)
            again[first] = False
        row = int(rows[np.flatnonzero(again)[0]])
        who = ", ".join(f"{name} = {batch.column(name)[row].as_py()}" for name in self.columns)
        reason = f"{who}: this record comes twice, and merge takes each once; leave one of them out"
        raise DataError(reason, Place("the whole run"), Code.UNIQUE)


def identity_of(top: Table, natural_key: tuple[str, ...]) -> tuple[str, ...]:
    """Return the columns that say who a record is: its digest key, its natural key, or none."""
    return (top.row_key,) if top.key_type == "text" else natural_key


def values_of(batches: Mapping[str, Any]) -> dict[str, int]:
    """Return how many rows there are by table, and values by `table.column`."""
    found: dict[str, int] = {}
    for name, batch in batches.items():
        found[name] = batch.num_rows
        for column, values in zip(batch.schema.names, batch.columns, strict=True):
            found[f"{name}.{column}"] = len(values) - values.null_count
    return found
