"""Where the records of a fragment stand in their source, for any row of any level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from tessaron.core.base.text_lane import Int64s
from tessaron.core.tape.fragment import LEVEL_ROLES, Fragment, Role


@dataclass(frozen=True, slots=True)
class RecordPlaces:
    """The source of the records, and their lines.

    Attributes:
        source: Its name.
        lines: The line where each record begins, from 1; empty where that is not known.
        sources: The source of each record, where they are of several.
    """

    source: str = ""
    lines: Int64s | None = None
    sources: tuple[str, ...] = ()

    def locators(self, fragment: Fragment) -> list[Callable[[int], tuple[str, int | None]]]:
        """Return for each node a function from a row of its level to the source and line of the record."""
        levels: list[int] = []
        for index, node in enumerate(fragment.nodes):
            levels.append(index if node.role in LEVEL_ROLES else levels[node.parent])
        return [partial(self._locate, fragment, levels, level) for level in levels]

    def _locate(self, fragment: Fragment, levels: list[int], level: int, row: int) -> tuple[str, int | None]:
        while fragment.nodes[level].role is not Role.RECORD:
            node = fragment.nodes[level]
            row, level = int(node.parent_rows[row]), levels[node.parent]
        if self.lines is None or row >= len(self.lines):
            return self.source, None
        return self.sources[row] if self.sources else self.source, int(self.lines[row])
