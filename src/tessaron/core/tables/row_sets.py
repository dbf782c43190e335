"""The rows of a table: those of its level, also repeated, paired with others, or without anything below."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.paths import Path
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.plan.plan import TablePlan
from tessaron.core.tables.columns import Columns


class RowSet:
    """The rows of one table in their order, with the row of each level that every one of them belongs to.

    Args:
        columns: The fragment's columns.
        table: The table.
        dropped: Which records are left out.
    """

    def __init__(self, columns: Columns, table: TablePlan, dropped: Bools):
        self._columns = columns
        self._levels = columns.levels
        self._dropped = dropped
        self._at: dict[Path, Int64s] = {}
        base = np.flatnonzero(self._kept(table))
        if not table.is_flat:
            self._base, self._level = base, table.level
            self.count = len(base)
            self.is_plain = True
            return
        self.is_plain = False
        self._level = table.level
        segments = [(table.level, base)]
        if table.with_empty:
            segments += self._empties(table, base)
        self._lay_out(table.level, segments)
        for other in table.multiply:
            self._pair(columns.plan.table(other), table.with_empty)
        self.count = len(self._at[()])

    def _kept(self, table: TablePlan) -> Bools:
        kept = self._columns.kept(table.name)
        if not self._dropped.any():
            return kept
        return kept & ~self._dropped[self._levels.rows_up(table.level, ())]

    def _kept_at(self, level: Path) -> Bools:
        """Return the rows of a level that are kept, by the tables on it and above."""
        for table in self._columns.plan.tables:
            if table.level == level:
                return self._kept(table)
        above = self._levels.above(level)
        return self._kept_at(above)[self._levels.rows_up(level, above)]

    def _empties(self, table: TablePlan, base: Int64s) -> list[tuple[Path, Int64s]]:
        """Return, level by level, the rows above that have nothing kept one level below."""
        chain = self._levels.chain(table.level)
        found = []
        for level, below in pairwise(chain):
            kept_below = self._kept_at(below) if below != table.level else self._kept(table)
            parents = self._levels.rows_up(below, level)[kept_below]
            counts = np.bincount(parents, minlength=self._levels.row_count(level))
            found.append((level, np.flatnonzero(self._kept_at(level) & (counts == 0))))
        return found

    def _lay_out(self, level: Path, segments: list[tuple[Path, Int64s]]) -> None:
        for each in self._levels.chain(level):
            parts = [
                self._levels.rows_up(at, each)[rows] if each == at[: len(each)] else np.full(len(rows), -1)
                for at, rows in segments
            ]
            self._at[each] = np.concatenate(parts).astype(np.int64)
        order = np.lexsort([self._at[each] for each in reversed(self._levels.chain(level))])
        self._at = {each: rows[order] for each, rows in self._at.items()}

    def _pair(self, other: TablePlan, with_empty: bool) -> None:
        """Pair every row with each row of another table that has the same row above."""
        common = self._common(other.level)
        mine = self._at[common]
        rows = np.flatnonzero(self._kept(other))
        theirs = self._levels.rows_up(other.level, common)[rows]
        start, stop = np.searchsorted(theirs, mine, "left"), np.searchsorted(theirs, mine, "right")
        counts = np.where(mine >= 0, stop - start, 0)
        times = np.maximum(counts, 1) if with_empty else counts
        index = np.repeat(np.arange(len(mine)), times)
        offset = np.arange(len(index)) - np.repeat(np.cumsum(times) - times, times)
        found = counts[index] > 0
        at = np.where(found, start[index] + offset, 0)
        chosen = np.where(found, rows[at] if len(rows) else -1, -1)
        self._at = {each: values[index] for each, values in self._at.items()}
        for each in self._levels.chain(other.level):
            if each not in self._at:
                up = self._levels.rows_up(other.level, each)
                self._at[each] = np.where(found, up[np.maximum(chosen, 0)] if len(up) else -1, -1)

    def _common(self, level: Path) -> Path:
        for each in reversed(self._levels.chain(level)):
            if each in self._at:
                return each
        return ()

    def at(self, level: Path) -> Int64s:
        """Return for each row the row of a level that it belongs to; -1 for none."""
        if self.is_plain:
            return self._levels.rows_up(self._level, level)[self._base]
        return self._at[level]

    def take(self, values: ArrowArray, level: Path) -> ArrowRows:
        """Return a column of a level, with its value, or null, for each row."""
        rows = self.at(level)
        if self.is_plain and level == self._level and len(rows) == len(values):
            return values
        return values.take(array_of(rows, None if self.is_plain else rows < 0))
