"""What of the rows of a feed stands in tables of its own: parts of rows, and what several places share."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from tessaron.core.model.parting import RowPart, Spared
from tessaron.core.model.sharing import SharedStructure


@dataclass(frozen=True, slots=True)
class Division:
    """How the levels of a settled shape are divided into tables.

    Attributes:
        parts: What is taken off the rows of its level.
        shared: The structures that have one table for all their places.
    """

    parts: Sequence[RowPart] = ()
    shared: Sequence[SharedStructure] = ()


UNDIVIDED = Division()
"""Every level is one table."""


def spared_by(shared: Iterable[SharedStructure]) -> Spared:
    """Return what stays as it is of shared structures, where rows are divided into parts."""
    levels: set[int] = set()
    members: set[int] = set()
    for each in shared:
        for node in each.nodes:
            found = {id(below) for below in node.walk()}
            if each.by:
                members |= found - {id(node.at(path)) for path in each.by}
            else:
                levels |= found
    return Spared(levels, members)
