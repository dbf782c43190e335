"""The levels of a rearranged fragment: their rows, and how those of one stand to those of another."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from tessaron.core.base.paths import Origin, Path, level_of
from tessaron.core.base.text_lane import Int64s
from tessaron.core.tape.fragment import Fragment, Node


class Levels:
    """The nodes of a fragment by their path, and its levels.

    Args:
        fragment: In the form that the layout supposes.
        typed: Columns that are typed already, by `ColumnPlan.fit_key`.
    """

    def __init__(self, fragment: Fragment, typed: Mapping[Any, Any] | None = None):
        self.typed = typed or {}
        self.nodes: dict[Path, Node] = dict(zip(fragment.paths(), fragment.nodes, strict=True))
        self._rows_up: dict[tuple[Path, Path], Int64s] = {}

    def row_count(self, level: Path) -> int:
        """Return how many rows a level has; 0 where the fragment has nothing there."""
        node = self.nodes.get(level)
        return 0 if node is None else node.row_count

    def above(self, level: Path) -> Path:
        """Return the next level above."""
        return level_of(level[:-1])

    def rows_up(self, level: Path, upper: Path) -> Int64s:
        """Return for each row of a level the row of a level above it (or itself)."""
        key = (level, upper)
        if key not in self._rows_up:
            self._rows_up[key] = self._climb(level, upper)
        return self._rows_up[key]

    def _climb(self, level: Path, upper: Path) -> Int64s:
        if level == upper:
            return np.arange(self.row_count(level))
        node = self.nodes.get(level)
        if node is None:
            return np.empty(0, np.int64)
        parents = node.parent_rows.astype(np.int64)
        next_level = self.above(level)
        return parents if next_level == upper else self.rows_up(next_level, upper)[parents]

    def ordinals(self, level: Path, parent: Path) -> Int64s:
        """Return the position of each row among those of a level above: its own in the array, or counted."""
        node = self.nodes.get(level)
        if node is None:
            return np.empty(0, np.int64)
        if self.above(level) == parent:
            return node.ordinals.astype(np.int64)
        rows = self.rows_up(level, parent)
        return np.arange(len(rows)) - np.searchsorted(rows, rows) + 1

    def chain(self, level: Path) -> list[Path]:
        """Return the levels from the record down to this one."""
        found = [level]
        while found[-1]:
            found.append(self.above(found[-1]))
        return found[::-1]

    def within(self, level: Path) -> Int64s | None:
        """Return for each row the row of the same level it stands in, -1 for none; None if none can."""
        node = self.nodes.get((*level, Origin.WITHIN))
        if node is None:
            return None
        found = np.full(node.row_count, -1, np.int64)
        found[node.rows_present()] = node.integers
        return found
