"""Rows of one level, as expressions see them."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.paths import Path
from tessaron.core.base.text_lane import Int64s
from tessaron.core.tables.columns import Columns


class LevelScope:
    """Rows of one level, all or some, as expressions see them.

    Attributes:
        row_count: How many.
    """

    def __init__(self, columns: Columns, level: Path, rows: Int64s | None = None):
        self._columns = columns
        self._level = level
        self._rows = rows
        self.row_count = columns.levels.row_count(level) if rows is None else len(rows)

    def column(self, table: str, name: str) -> ArrowArray:
        """Return a column of this level or one above, a value for each row here."""
        values = self._columns.values(table, name)
        level = self._columns.plan.table(table).level
        if level == self._level and self._rows is None:
            return values
        rows = self._columns.levels.rows_up(self._level, level)
        return values.take(pa.array(rows if self._rows is None else rows[self._rows]))

    def below(self, table: str) -> tuple[LevelScope, Int64s]:
        """Return the kept rows of a table below, and for each the row here, never falling."""
        levels, level = self._columns.levels, self._columns.plan.table(table).level
        above = levels.rows_up(level, self._level)
        kept = np.ones(len(above), np.bool_)
        for other in self._columns.plan.with_filters:
            between = other.level == level[: len(other.level)] and len(other.level) > len(self._level)
            own = self._columns.own_keep(other) if between else None
            if own is not None and (other.level != level or other.name == table):
                kept &= own[levels.rows_up(level, other.level)]
        kept = self._columns.with_contained(kept, level)
        if self._rows is not None:
            places = np.full(levels.row_count(self._level), -1, np.int64)
            places[self._rows] = np.arange(len(self._rows))
            above = places[above]
            kept &= above >= 0
        rows = np.flatnonzero(kept)
        return LevelScope(self._columns, level, rows), above[rows]
